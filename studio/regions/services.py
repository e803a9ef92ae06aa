"""Edits of a setup's regions: each stroke and each command is one version."""

from functools import lru_cache

import numpy as np

from quiver.errors import BadInput
from quiver.mesh import regions
from quiver.mesh.topology import topology
from quiver.setup import edits
from studio.characters.services import loaded
from studio.edits.services import edit

KEPT_TOPOLOGIES = 6
MOST_DABS = 2000
WHOLE_COMMANDS = {
    "fill": ("all in", lambda levels, top: regions.fill(levels)),
    "clear": ("all out", lambda levels, top: regions.nothing(len(levels))),
    "smooth": ("smoothed", lambda levels, top: regions.smooth(levels, top, 2)),
    "grow": ("grown", regions.grow),
    "shrink": ("shrunk", regions.shrink),
    "mirror": ("mirrored", regions.mirrored),
    "both": ("both sides", lambda levels, top: regions.union(levels, regions.mirrored(levels, top))),
}
"""Commands for a whole region: what the version is called, and the core's function."""


def add_region(row, name, mesh_name, joint):
    """A new region of a mesh: empty, or what a joint moves. Raises BadInput."""
    character, _ = loaded(row.pk)
    mesh = character.mesh(mesh_name)
    levels = regions.nothing(len(mesh.positions))
    if joint:
        if joint not in character.skeleton:
            raise BadInput(f"expected a joint of this character, got “{joint}”")
        levels = regions.from_joints(mesh, [character.skeleton.index(joint)])
        if not regions.is_in(levels).any():
            raise BadInput(f"“{joint}” moves nothing of “{mesh.name}”")
    name = name.strip()[:200] or joint or "Region"
    values = regions.encode(levels)
    return edit(row, lambda setup: edits.with_new_region(setup, name, mesh.name, len(levels), values), f"Region {name}", runs=False).take


def add_final_skin(row, mesh_name):
    """A final skin for a mesh: at first it shows everything that is simulated. Raises BadInput."""
    character, _ = loaded(row.pk)
    mesh = character.mesh(mesh_name)
    values = regions.encode(regions.fill(regions.nothing(len(mesh.positions))))
    name = f"Final skin of {mesh.name}"[:200]
    return edit(row, lambda setup: edits.with_new_region(setup, name, mesh.name, len(mesh.positions), values, True), name, runs=False).take


def change_region(row, region_id, command, name="", other=""):
    """Rename or remove a region, or do one of WHOLE_COMMANDS, or join with or take away another region. Raises BadInput."""
    if command == "remove":
        is_final = row.setup.region(region_id).is_final
        return edit(row, lambda setup: edits.without_region(setup, region_id), _named(region_id, "removed"), runs=is_final).take
    if command == "rename":
        return edit(row, lambda setup: edits.rename_region(setup, region_id, name), _named(region_id, "renamed"), runs=False).take
    if command in WHOLE_COMMANDS:
        label, function = WHOLE_COMMANDS[command]
        return _keep(row, region_id, lambda setup, levels, top: function(levels, top), label).take
    if command in ("union", "difference"):

        def joined(setup, levels, top):
            region, second = setup.region(region_id), setup.region(other)
            if second.mesh != region.mesh:
                raise BadInput(f"expected another region of “{region.mesh}”, “{second.name}” belongs to “{second.mesh}”")
            return getattr(regions, command)(levels, levels_of(second))

        return _keep(row, region_id, joined, f"{command} with {row.setup.region(other).name}").take
    raise BadInput(f"expected a command for a region, got “{command}”")


def _named(region_id, words):
    return lambda setup: f"{setup.region(region_id).name}: {words}"


def paint(row, region_id, stroke):
    """Paint one stroke, as the stage sends it; returns the region's new levels. Raises BadInput."""
    try:
        dabs = np.array(stroke["dabs"], float).reshape(-1, 3)
        radius, strength = float(stroke["radius"]), float(stroke["strength"])
        falloff, mode, is_mirrored = str(stroke["falloff"]), str(stroke["mode"]), bool(stroke.get("mirrored"))
    except (KeyError, TypeError, ValueError) as error:
        raise BadInput(f"expected a stroke with dabs, radius, strength, falloff and mode; could not read it: {error}") from error
    if not 0 < len(dabs) <= MOST_DABS:
        raise BadInput(f"expected 1 to {MOST_DABS} places of the brush, got {len(dabs)}")
    if is_mirrored:
        dabs = np.concatenate([dabs, dabs * [-1.0, 1.0, 1.0]])

    def painted(_, levels, top):
        allowed = _mask(stroke.get("seen"), len(levels), top if is_mirrored else None)
        return regions.brush(levels, top, dabs, radius, strength, falloff, mode, allowed)

    return levels_of(_keep(row, region_id, painted, mode).setup.region(region_id))


def spot(row, region_id, command, points, radius):
    """What is done from clicked positions: a soft spot around one, a gradient between two, flooding a piece.

    points (1 or 2, 3) and radius in the mesh's own space. Returns the region's new levels. Raises BadInput.
    """
    try:
        points = np.array(points, float).reshape(-1, 3)
    except (TypeError, ValueError) as error:
        raise BadInput(f"expected clicked places of three numbers each, could not read them: {error}") from error
    wanted = {"around": 1, "gradient": 2, "flood": 1}
    if command not in wanted or len(points) != wanted[command] or not np.isfinite(points).all():
        raise BadInput(f"expected one of {', '.join(wanted)} with its clicked places, got {command} with {len(points)}")
    if command == "around" and not 0.0 < radius < np.inf:
        raise BadInput(f"expected a radius above 0, got {radius:g}")
    functions = {
        "around": lambda _, levels, top: regions.around(levels, top, points[0], radius),
        "gradient": lambda _, levels, top: regions.gradient(levels, top, points[0], points[1]),
        "flood": lambda _, levels, top: regions.flood(levels, top, points[0]),
    }
    return levels_of(_keep(row, region_id, functions[command], command).setup.region(region_id))


def _keep(row, region_id, function, label):
    """Change the levels of a region by ``function`` (setup, levels, topology) → levels, of the region as it is when it is kept."""

    def command(setup):
        region = setup.region(region_id)
        levels = function(setup, levels_of(region), topology_of(row.pk, region.mesh))
        return edits.set_levels(setup, region_id, regions.encode(levels))

    region = row.setup.region(region_id)
    is_used = region.is_final or any(layer.is_on and region_id in (layer.region, layer.other) for layer in row.setup.layers)
    return edit(row, command, _named(region_id, label), runs=is_used)


def _mask(seen, count, mirrored_top):
    """The vertices that the stage saw: numbers as packed bits in base64; None for all."""
    if seen is None:
        return None
    allowed = regions.unpacked_bits(str(seen), count)
    if mirrored_top is not None:
        allowed = allowed | allowed[regions.mirror_partners(mirrored_top)]
    return allowed


def levels_of(region):
    """The levels uint8 (V,) of a region."""
    return regions.decode(region.values, region.vertices)


def facts_of(row, region):
    """What the panel says of a region: how many vertices are in, and how many of them are in other regions too."""
    inside = regions.is_in(levels_of(region))
    overlaps = []
    for other in row.setup.regions:
        if other.id != region.id and other.mesh == region.mesh and not (other.is_final or region.is_final):
            both = int((inside & regions.is_in(levels_of(other))).sum())
            if both:
                overlaps.append((other.name, both))
    return {"region": region, "count": int(inside.sum()), "overlaps": overlaps}


@lru_cache(maxsize=KEPT_TOPOLOGIES)
def topology_of(character_id, mesh_name):
    """The Topology of a character's mesh, in the mesh's own space."""
    character, _ = loaded(character_id)
    mesh = character.mesh(mesh_name)
    return topology(mesh.positions, mesh.triangles)
