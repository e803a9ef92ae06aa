"""USD out: meshes with points over time, and the skeleton with its animation beside them. Needs the optional extra ``usd``."""

import importlib.util

import numpy as np

from quiver.errors import BadInput
from quiver.rig import transforms
from quiver.rig.pose import rest_matrices

FRAMES_IN_MEMORY = 48
"""So many frames are gathered before they go into the file."""


def is_there():
    """Whether the USD libraries are installed."""
    return importlib.util.find_spec("pxr") is not None


def write(path, character, name, frame_rate, frames, metres_per_unit, scenes):
    """Write a .usdc file.

    frames (F,) whole numbers; ``scenes`` yields for each (Pose of all nodes (J,), [positions float32 (V, 3) of each mesh]) in
    the file's units. Raises BadInput where the libraries are missing.
    """
    if not is_there():
        raise BadInput("expected the USD libraries, which are not installed: pip install usd-core")
    from pxr import Gf, Kind, Sdf, Usd, UsdGeom, UsdSkel, Vt  # noqa: PLC0415  (an optional extra)

    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, metres_per_unit)
    stage.SetTimeCodesPerSecond(frame_rate)
    stage.SetFramesPerSecond(frame_rate)
    stage.SetStartTimeCode(float(frames[0]))
    stage.SetEndTimeCode(float(frames[-1]))
    root = UsdGeom.Xform.Define(stage, f"/{identifier(name, [])}")
    stage.SetDefaultPrim(root.GetPrim())
    Usd.ModelAPI(root).SetKind(Kind.Tokens.component)
    UsdGeom.Scope.Define(stage, root.GetPath().AppendChild("Meshes"))
    meshes, taken = [], []
    for mesh in character.meshes:
        taken.append(identifier(mesh.name, taken))
        made = UsdGeom.Mesh.Define(stage, root.GetPath().AppendPath(f"Meshes/{taken[-1]}"))
        made.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
        made.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(mesh.triangles), 3, np.int32)))
        made.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(np.ascontiguousarray(mesh.triangles.ravel(), np.int32)))
        if mesh.colours is not None:
            colours = Vt.Vec3fArray.FromNumpy(mesh.colours.astype(np.float32) / 255.0)
            made.CreateDisplayColorPrimvar(UsdGeom.Tokens.vertex).Set(colours)
        meshes.append((made.CreatePointsAttr(), made.CreateExtentAttr()))
    skeleton = character.skeleton
    paths = joint_paths(skeleton)
    skel_root = UsdSkel.Root.Define(stage, root.GetPath().AppendChild("Rig"))
    skel = UsdSkel.Skeleton.Define(stage, skel_root.GetPath().AppendChild("Skeleton"))
    order = [int(node) for node in skeleton.order]
    skel.CreateJointsAttr([paths[node] for node in order])
    rest = np.zeros((len(order), 4, 4))
    rest[:, :, 3] = [0.0, 0.0, 0.0, 1.0]
    world = rest_matrices(skeleton)
    bind = _usd_matrices(world)[order]
    parents = skeleton.parents[order]
    inverse = np.linalg.inv(_usd_matrices(world))
    rest = np.array([bind[k] @ inverse[parent] if parent >= 0 else bind[k] for k, parent in enumerate(parents)])
    skel.CreateBindTransformsAttr(Vt.Matrix4dArray([Gf.Matrix4d(*m.ravel().tolist()) for m in bind]))
    skel.CreateRestTransformsAttr(Vt.Matrix4dArray([Gf.Matrix4d(*m.ravel().tolist()) for m in rest]))
    animation = UsdSkel.Animation.Define(stage, skel_root.GetPath().AppendChild("Animation"))
    animation.CreateJointsAttr([paths[node] for node in order])
    moves, rotations, scales = animation.CreateTranslationsAttr(), animation.CreateRotationsAttr(), animation.CreateScalesAttr()
    UsdSkel.BindingAPI.Apply(skel.GetPrim()).CreateAnimationSourceRel().SetTargets([Sdf.Path(animation.GetPath())])
    for number, (frame, (pose, positions)) in enumerate(zip(frames, scenes, strict=True), 1):
        time = Usd.TimeCode(float(frame))
        moves.Set(Vt.Vec3fArray.FromNumpy(pose.translations[order].astype(np.float32)), time)
        rotations.Set(Vt.QuatfArray.FromNumpy(transforms.normalised(pose.rotations[order]).astype(np.float32)), time)
        scales.Set(Vt.Vec3hArray.FromNumpy(pose.scales[order].astype(np.float16)), time)
        for (points, extent), own in zip(meshes, positions, strict=True):
            points.Set(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(own, np.float32)), time)
            extent.Set(Vt.Vec3fArray.FromNumpy(np.stack([own.min(0), own.max(0)]).astype(np.float32)), time)
        if number % FRAMES_IN_MEMORY == 0:
            stage.GetRootLayer().Save()
    stage.GetRootLayer().Save()


def _usd_matrices(world):
    """Row-vector matrices (J, 4, 4) from placements (J, 3, 4)."""
    full = np.zeros((len(world), 4, 4))
    full[:, :3, :3] = np.swapaxes(world[:, :, :3], 1, 2)
    full[:, 3, :3], full[:, 3, 3] = world[:, :, 3], 1.0
    return full


def identifier(name, taken):
    """A name that USD allows, different from those that are taken."""
    plain = "".join(letter if letter.isascii() and (letter.isalnum() or letter == "_") else "_" for letter in name) or "_"
    plain = f"_{plain}" if plain[0].isdigit() else plain
    free, number = plain, 2
    while free in taken:
        free, number = f"{plain}_{number}", number + 1
    return free


def joint_paths(skeleton):
    """Each node's path from its root, of names that USD allows."""
    paths, taken = [""] * len(skeleton.names), {}
    for node in skeleton.order:
        parent = int(skeleton.parents[node])
        own = identifier(skeleton.names[node], taken.setdefault(parent, []))
        taken[parent].append(own)
        paths[node] = f"{paths[parent]}/{own}" if parent >= 0 else own
    return paths
