"""Which unit of a run comes when: what carries or drives another unit is simulated before it; a circle is refused with its path."""

import itertools
from dataclasses import dataclass, field
from graphlib import CycleError, TopologicalSorter

from quiver.errors import BadInput


@dataclass
class Stage:
    """Units that can be simulated at the same time, grouped by those simulated together; ``is_needed``: a later one follows them.

    groups  lists of units, in the order of the setup's layers
    """

    level: int
    is_needed: bool
    groups: list = field(default_factory=list)


def stages(skeleton, units):
    """The Stages of some units, in order. Raises BadInput where units follow each other in a circle."""
    drivers = {node: index for index, unit in enumerate(units) for node in unit.drives}
    needs = {index: _needs(skeleton, units, index, drivers) for index in range(len(units))}
    levels = _levels(needs, units)
    needed = set().union(*needs.values())
    found = {}
    for index, unit in enumerate(units):
        # Soft bodies come last in their level: whatever follows them is in a later one anyway.
        is_needed = index in needed and not unit.is_soft
        stage = found.setdefault((levels[index], not is_needed), Stage(levels[index], is_needed))
        key = unit.joins()
        for group in stage.groups:
            if key is not None and group[0].joins() == key:
                group.append(unit)
                break
        else:
            stage.groups.append([unit])
    return [found[key] for key in sorted(found)]


def _needs(skeleton, units, index, drivers):
    """The units that one waits for."""
    unit = units[index]
    nodes = {above for node in (*unit.follows, *unit.met_nodes) for above in (int(node), *skeleton.ancestors(int(node)))}
    found = {drivers[node] for node in nodes if node in drivers}
    # What a chain's own joints do to itself is its own affair.
    found -= {index} if not unit.is_soft and not _meets_itself(skeleton, unit) else set()
    found |= {other for other, each in enumerate(units) if any(each is before for before in unit.after)}
    if unit.ride:
        found |= {other for other, body in enumerate(units) if any(body is carrier for carrier in unit.ride.carriers)}
    return found


def _meets_itself(skeleton, unit):
    """Whether a collider that a unit meets rides on what it drives."""
    above = {above for node in unit.met_nodes for above in (int(node), *skeleton.ancestors(int(node)))}
    return any(node in above for node in unit.drives)


def _levels(needs, units):
    """How many units stand before each. Raises BadInput for a circle."""
    sorter = TopologicalSorter(needs)
    try:
        order = list(sorter.static_order())
    except CycleError as error:
        names = [units[index].layer.name for index in reversed(error.args[1])]
        circle = [name for at, name in enumerate(names) if at == 0 or name != names[at - 1]]
        circle = circle if len(circle) > 1 else circle * 2
        raise BadInput(f"layers follow each other in a circle: {_in_words(circle)}. Detach one of them") from error
    levels = {}
    for index in order:
        levels[index] = max((levels[other] + 1 for other in needs[index]), default=0)
    return levels


def _in_words(circle):
    return ", ".join(f"“{above}” follows “{below}”" for above, below in itertools.pairwise(circle))
