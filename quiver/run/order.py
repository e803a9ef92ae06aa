"""Which part of a stack comes when: what carries another part is simulated before it; a circle is refused with its path."""

import itertools
from dataclasses import dataclass, field

from quiver.errors import BadInput


@dataclass
class Group:
    """What can be simulated at the same time: indices of chain paths, of solids and of props.

    ``is_needed``: a later group hangs on its chains or props.
    """

    paths: list = field(default_factory=list)
    solids: list = field(default_factory=list)
    is_needed: bool = False
    props: list = field(default_factory=list)


def groups(skeleton, paths, path_layers, solids, met_by_paths, props=(), ridden=None):
    """The Groups in order. ``path_layers`` are the paths' layers; solids have a ``layer`` and ``carriers``, the nodes that carry them.

    met_by_paths  for each path the nodes that the colliders it meets ride on; solids and props have them as ``met_nodes``
    ridden        {layer id: indices of the solids that it rides on}

    Raises BadInput where parts hang on each other in a circle.
    """
    drivers = {int(node): ("path", index) for index, path in enumerate(paths) for node in path.drivers}
    drivers |= {prop.node: ("prop", index) for index, prop in enumerate(props)}
    ridden = {layer: {("solid", index) for index in indices} for layer, indices in (ridden or {}).items()}
    needs = {}
    for index, path in enumerate(paths):
        above = {drivers[node] for node in skeleton.ancestors(int(path.point_nodes[0])) if node in drivers} - {("path", index)}
        needs["path", index] = above | ridden.get(path_layers[index].id, set()) | _movers(skeleton, met_by_paths[index], drivers)
    for index, solid in enumerate(solids):
        needs["solid", index] = _movers(skeleton, [*solid.carriers, *solid.met_nodes], drivers)
    for index, prop in enumerate(props):
        above = _movers(skeleton, [*skeleton.ancestors(prop.node), *prop.met_nodes], drivers)
        needs["prop", index] = above | ridden.get(prop.layer.id, set())
    layers = {"path": path_layers, "solid": [solid.layer for solid in solids], "prop": [prop.layer for prop in props]}
    levels = _levels(needs, lambda part: layers[part[0]][part[1]].name)
    hung_on = set().union(*needs.values())
    out = []
    for level in range(max(levels.values(), default=-1) + 1):
        here = [part for part, own in levels.items() if own == level]
        for is_needed in (True, False):
            kinds = {kind: [index for each, index in here if each == kind and ((each, index) in hung_on) == is_needed] for kind in layers}
            # Solids come with what nothing hangs on: whatever hangs on them is in a later level anyway.
            solids_here = [] if is_needed else [index for kind, index in here if kind == "solid"]
            out.append(Group(kinds["path"], solids_here, is_needed, kinds["prop"]))
    return [group for group in out if group.paths or group.solids or group.props]


def _movers(skeleton, nodes, drivers):
    """The parts that move some nodes."""
    above = {above for node in nodes for above in (int(node), *skeleton.ancestors(int(node)))}
    return {drivers[node] for node in above if node in drivers}


def _levels(needs, name_of):
    """How many others stand before each part. Raises BadInput for a circle."""
    levels = {}

    def level_of(part, behind):
        if part in behind:
            names = [name_of(each) for each in [*behind[behind.index(part) :], part]]
            circle = [name for at, name in enumerate(names) if at == 0 or name != names[at - 1]]
            raise BadInput(f"expected parts that hang on each other in some order, but {_told(circle)}: a circle")
        if part not in levels:
            levels[part] = max((level_of(other, [*behind, part]) + 1 for other in sorted(needs[part])), default=0)
        return levels[part]

    for part in needs:
        level_of(part, [])
    return levels


def _told(circle):
    return ", ".join(f"“{above}” hangs on “{below}”" for above, below in itertools.pairwise(circle))
