"""New layers: on joints, of a region, of a mesh, and proxies of many regions at once."""

import numpy as np

from quiver import layers as registry
from quiver.bodies import picking
from quiver.errors import BadInput
from quiver.layers.kinds import JOINTS
from quiver.mesh import regions
from quiver.mesh.topology import topology
from quiver.run.parts.sheet import Sheet
from quiver.setup import edits
from studio.characters.services import joint_names, loaded
from studio.edits.services import edit


def kinds_of(made_of):
    """The kinds of layers that are made of joints, or of a region."""
    return [kind for kind in registry.kinds() if kind.made_of == made_of]


def add_layers(row, kind, names, ends=(), into="", is_apart=False):
    """Add layers of a kind that is made of joints, on named joints: a chain for each line of them, or one joint each for other kinds.

    ends      (root, tip) pairs, where a chain branches; ``into`` the id of a layer that takes them, else a new one
    is_apart  a layer for each instead of one for all

    Returns the Take or None, and the ids of the layers. Raises BadInput.
    """
    if kind not in [each.name for each in kinds_of(JOINTS)]:
        raise BadInput(f"expected one of {', '.join(each.label for each in kinds_of(JOINTS))}, got “{kind}”")
    label, picks = registry.kind_of(kind).label, _picks(row, kind, names, ends)
    character, begins = loaded(row.pk)[0], registry.kind_of(kind).begins

    def command(setup):
        if into:
            layer = setup.layer(into)
            if layer.kind != kind:
                own = registry.kind_of(layer.kind).label
                raise BadInput(f"expected a layer of the kind {label} to put it into, “{layer.name}” is of the kind {own}")
            for pick in picks:
                setup = edits.with_chain(setup, into, pick)
            return setup
        for pick in picks if is_apart else picks[:1]:
            setup = edits.with_new_chain(setup, pick, kind=kind)
            setup = edits.set_dials(setup, [setup.layers[-1].id], begins(character, pick))
        for pick in () if is_apart else picks[1:]:
            setup = edits.with_chain(setup, setup.layers[-1].id, pick)
        return setup

    said = f"{label} on {', '.join(map(str, picks))}"[:200]
    made = edit(row, command, said)
    new = made.setup.layers[-len(picks) if is_apart else -1 :]
    return made.take, [into] if into else [layer.id for layer in new]


def branches(row, names):
    """{root: [tip, ...]} of the chosen joints from which a chain could end at several. Raises BadInput."""
    character, _ = loaded(row.pk)
    open_ended = [pick.root for pick in picking.lines(character, joint_names(row, names)) if not pick.end]
    found = {root: picking.tips(character, root) for root in open_ended}
    return {root: ends for root, ends in found.items() if len(ends) > 1}


def _picks(row, kind, names, ends):
    listed = joint_names(row, names.strip())
    if not listed:
        raise BadInput("no joint is chosen: click one on the stage or in the tree, or type its name")
    if not registry.kind_of(kind).picks_many:
        return [edits.joint_pick(name) for name in listed]
    character, _ = loaded(row.pk)
    picks = []
    for pick in picking.lines(character, listed):
        wanted = [tip for root, tip in ends if root == pick.root] if not pick.end else []
        picks += picking.to_tips(character, pick.root, wanted) if wanted else [pick]
    return picks


def add_soft(row, kind, source, value):
    """Make a layer of a soft kind of a region (its id), of what joints move (their names), or of a whole mesh (its name).

    A volume of a mesh is a body for each of its closed pieces. Returns the Take or None, and the ids of the layers. Raises BadInput.
    """
    soft = [each.name for each in registry.kinds() if each.is_soft]
    if kind not in soft:
        raise BadInput(f"expected one of {', '.join(soft)}, got “{kind}”")
    label = registry.kind_of(kind).label
    if source == "region":
        made = edit(row, lambda setup: edits.with_new_soft(setup, kind, value), lambda setup: f"{label} of {setup.region(value).name}")
        return made.take, [made.setup.layers[-1].id]
    character, _ = loaded(row.pk)
    if source == "joints":
        mesh, levels = picking.moved_by(character, joint_names(row, value.strip()))
        name, options = value, {}
    elif source == "mesh":
        mesh = character.mesh(value)
        levels, name, options = np.full(len(mesh.positions), regions.IN_FULL, np.uint8), mesh.name, {}
        if kind == "volume":
            levels = regions.closed_pieces(topology(mesh.positions, mesh.triangles))
            name, options = f"Pieces of {mesh.name}", {"pieces": "apart"}
        if not regions.is_in(levels).any():
            raise BadInput(f"expected a mesh with closed pieces, “{mesh.name}” is open everywhere")
    else:
        raise BadInput(f"expected a region, joints or a mesh, got “{source}”")

    def command(setup):
        setup = edits.with_new_region(setup, name[:200], mesh.name, len(levels), regions.encode(levels))
        return edits.with_new_soft(setup, kind, setup.regions[-1].id, **options)

    made = edit(row, command, f"{label} of {name}"[:200])
    return made.take, [made.setup.layers[-1].id]


def make_proxies(row, wanted):
    """Make a sheet by a proxy of each wanted region: {region id: (triangles, preset)}; one run for all, one version.

    A region that has one already only gets another proxy: what was tuned by hand stays. Returns the Take or None, and {region's name: why
    it could not be made}.
    """
    setup, character, failed, good = row.setup, loaded(row.pk)[0], {}, {}
    for region_id, (triangles, preset) in wanted.items():
        try:
            changed = _with_proxy(setup, region_id, triangles, preset)
            layer = next(layer for layer in changed.layers if _is_proxy_of(layer, region_id))
            Sheet(character, layer, changed, [])
        except BadInput as error:
            name = next((region.name for region in setup.regions if region.id == region_id), region_id)
            failed[name] = str(error)
        else:
            good[region_id] = triangles, preset
    if not good:
        return None, failed

    def command(setup):
        for region_id, how in good.items():
            setup = _with_proxy(setup, region_id, *how)
        return setup

    return edit(row, command, f"{len(good)} prox{'y' if len(good) == 1 else 'ies'}").take, failed


def proxies_of(setup):
    """(region, its proxy's triangles, whether it has a proxy) for each region that can have one."""
    usual = registry.kind_of("sheet").dial("proxy_triangles").default
    rows = []
    for region in setup.regions:
        known = next((layer for layer in setup.layers if _is_proxy_of(layer, region.id)), None)
        if not region.is_final:
            rows.append((region, known.value("proxy_triangles") if known else usual, known is not None))
    return rows


def _is_proxy_of(layer, region_id):
    return layer.kind == "sheet" and layer.region == region_id and layer.value("made_of") in ("proxy", "shell")


def _with_proxy(setup, region_id, triangles, preset):
    region, kind = setup.region(region_id), registry.kind_of("sheet")
    count = kind.dial("proxy_triangles").checked(triangles)
    known = next((layer for layer in setup.layers if _is_proxy_of(layer, region_id)), None)
    if known:
        return edits.set_dial(setup, [known.id], "proxy_triangles", count)
    values = kind.preset(preset) if preset else kind.defaults
    return edits.with_new_soft(
        setup, "sheet", region_id, f"{region.name}, proxy"[:200], **values | {"made_of": "proxy", "proxy_triangles": count}
    )
