"""What an artist, and the app, are told of a character: counts, names, a likely size."""

import numpy as np

from quiver.bodies.fitting import sides_of
from quiver.rig.cycles import is_cycle
from quiver.rig.frame_rates import keyed_rate
from quiver.rig.pose import rest_matrices

CENTIMETRES = 25.0
"""Joints that span more units than that are nearly always in centimetres."""


def facts_of(character):
    """Plain values: joints, vertices, triangles, meshes, clips with the rate that they are keyed at [1/s] and whether they are
    cycles, the size (3,) of the rest pose
    [file units], and nodes in the order of the file.
    """
    skeleton, sides = character.skeleton, sides_of(character)
    height = max(float(sides[1]), 1e-9)
    return {
        "joints": character.joint_count,
        "vertices": character.vertex_count,
        "triangles": sum(len(mesh.triangles) for mesh in character.meshes),
        "meshes": [{"name": mesh.name, "vertices": len(mesh.positions), "skinned": mesh.skin >= 0} for mesh in character.meshes],
        "clips": [
            {
                "name": clip.name,
                "seconds": clip.seconds,
                "keys": clip.key_count,
                "rate": keyed_rate(clip),
                "cycle": is_cycle(clip, skeleton, height),
            }
            for clip in character.clips
        ],
        "size": [float(side) for side in sides],
        "nodes": [
            {"name": name, "parent": int(parent), "joint": bool(is_joint)}
            for name, parent, is_joint in zip(skeleton.names, skeleton.parents, skeleton.is_joint, strict=True)
        ],
    }


def likely_frame_rate(character, usual):
    """The rate that the first clip with one is keyed at, else the usual one [1/s]."""
    return next(filter(None, map(keyed_rate, character.clips)), usual)


def likely_metres_per_unit(character):
    """0.01 for what spans so many units that they must be centimetres, else 1."""
    world = rest_matrices(character.skeleton)
    return 0.01 if float(np.ptp(world[:, :, 3], axis=0).max()) > CENTIMETRES else 1.0
