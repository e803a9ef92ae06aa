"""Setups that travel: onto another character, or onto the same one after its model was revised.

Joints and meshes are matched by their names, and where those differ by how alike name, side and place in the rest pose are; regions and
points go to the nearest place on the rest surface. What finds nothing is left out and listed, never refused.
"""

import re
from dataclasses import dataclass, field, replace
from difflib import SequenceMatcher

import numpy as np
from scipy.optimize import linear_sum_assignment
from scipy.spatial import cKDTree

from quiver.kernels.nearest import vertex_normals
from quiver.mesh import regions
from quiver.mesh.nearest import NearestOn
from quiver.rig.pose import rest_matrices
from quiver.rig.skinning import rest_box, skinned_positions
from quiver.setup.model import FOLLOWER, LAYER

LIKELY, BY_NAME = 0.62, 0.6
"""How alike two joints must be, 0..1, and how much of that is by their names; the rest is by their places."""
FAR, AROUND = 0.03, 0.25
"""A vertex that is so far from the other surface, as a share of its size, is unsure; and places of joints are alike within such a share of
the character's height."""
SIDES = (("left", "right"), ("l", "r"), ("lft", "rgt"))


@dataclass
class Journey:
    """The ``setup`` that came over: joints and meshes {old name: new name, "" for none}, what was ``left_out`` [(what, why)], ``remarks``,
    and where regions are ``unsure``: {region id: bool (V,) of its mesh's vertices}."""

    setup: object
    joints: dict
    meshes: dict
    left_out: list = field(default_factory=list)
    remarks: list = field(default_factory=list)
    unsure: dict = field(default_factory=dict)


def travelled(setup, source, target, joints=None, meshes=None):
    """The Journey of a Setup from one Character to another; joints and meshes {old: new} are what was matched by hand."""
    wanted = sorted(joints_of(setup))
    known = [name for name in wanted if name in source.skeleton]
    matched = matched_joints(known, source, target) | dict.fromkeys(sorted(set(wanted) - set(known)), "") | (joints or {})
    matched = {old: new if new in target.skeleton else "" for old, new in matched.items()}
    used = sorted(meshes_of(setup))
    pairs = matched_names(used, [mesh.name for mesh in target.meshes]) | (meshes or {})
    there = {mesh.name for mesh in target.meshes}
    pairs = {old: new if new in there else "" for old, new in pairs.items()}
    return _Traveller(setup, source, target, matched, pairs).journey()


def joints_of(setup):
    """The names of all joints that a setup speaks of."""
    found = {name for layer in setup.layers for chain in layer.chains for name in chain.names}
    found |= {collider.joint for collider in setup.colliders}
    for layer in setup.layers:
        for muscle in layer.muscles:
            found |= {muscle.origin.joint, muscle.insertion.joint}
            found |= {driver.of for driver in muscle.drivers if driver.by == "angle"}
    return found - {""}


def meshes_of(setup):
    """The names of all meshes that a setup speaks of."""
    found = {region.mesh for region in setup.regions} | {collider.mesh for collider in setup.colliders}
    found |= {follower.mesh for follower in setup.followers}
    for layer in setup.layers:
        found |= set(layer.bones)
        for muscle in layer.muscles:
            found |= {muscle.mesh, muscle.origin.bone, muscle.insertion.bone}
    return found - {""}


def words_of(name):
    """(the words of a name without its side, its side: -1 left, 1 right, 0 none): “Arm_L.001” and “leftArm1” say the same."""
    spaced = re.sub(r"([a-z0-9])([A-Z])", r"\1 \2", name.rsplit(":", 1)[-1])
    words = [word for word in re.split(r"[^A-Za-z0-9]+|(?<=[A-Za-z])(?=[0-9])", spaced) if word]
    side, kept = 0, []
    for word in (word.lower() for word in words):
        own = next((-1 if word == left else 1 for left, right in SIDES if word in (left, right)), 0)
        side = side or own
        if not own:
            kept.append(word.lstrip("0") or "0" if word.isdigit() else word)
    return " ".join(kept), side


def alike(a, b):
    """How alike two names are, 0..1; nothing where their sides differ."""
    (one, left), (other, right) = words_of(a), words_of(b)
    return 0.0 if left != right else SequenceMatcher(None, one, other).ratio()


def matched_names(names, others):
    """{name: the one of others that is most like it, "" for none}, each of those once; the same name goes first."""
    found = {name: name for name in names if name in others}
    left, free = [name for name in names if name not in found], [name for name in others if name not in found.values()]
    return dict.fromkeys(names, "") | found | _assigned(left, free, np.array([[alike(a, b) for b in free] for a in left]))


def matched_joints(names, source, target):
    """{joint of one character: that of the other, "" for none} by name, and else by how alike name and place are."""
    there = target.skeleton.names
    found = {name: name for name in names if name in target.skeleton}
    left = [name for name in names if name not in found]
    free = [name for name in there if name not in found.values() and target.skeleton.is_joint[target.skeleton.index(name)]]
    if not left or not free:
        return dict.fromkeys(names, "") | found
    places = [_placed(character, own) for character, own in ((source, left), (target, free))]
    near = np.exp(-np.square(np.linalg.norm(places[0][:, None] - places[1], axis=2) / AROUND))
    named = np.array([[alike(a, b) for b in free] for a in left])
    sides = np.array([[words_of(a)[1] * words_of(b)[1] >= 0 for b in free] for a in left])
    return dict.fromkeys(names, "") | found | _assigned(left, free, sides * (BY_NAME * named + (1.0 - BY_NAME) * near))


def _assigned(left, free, likeness):
    if not left or not free:
        return {}
    rows, columns = linear_sum_assignment(-likeness)
    return {left[row]: free[column] for row, column in zip(rows, columns, strict=True) if likeness[row, column] >= LIKELY}


def _placed(character, names):
    """Where joints are in the rest pose, as shares of the character's height from the middle of its ground."""
    low, high = rest_box(character)
    origin = np.array([0.5 * (low[0] + high[0]), low[1], 0.5 * (low[2] + high[2])])
    world, skeleton = rest_matrices(character.skeleton), character.skeleton
    return (world[[skeleton.index(name) for name in names], :, 3] - origin) / max(float(high[1] - low[1]), 1e-9)


class _Surface:
    """A mesh in the rest pose: points (V, 3) and triangles."""

    def __init__(self, character, name):
        self.mesh = character.mesh(name)
        self.points = skinned_positions(self.mesh, rest_matrices(character.skeleton)).astype(float)
        self.triangles = np.ascontiguousarray(self.mesh.triangles, np.int32)
        self.normals = np.empty_like(self.points)
        vertex_normals(self.points, self.triangles, self.normals)


class _Traveller:
    """One journey: from places of the source to those of the target by a size and a shift, found from the joints that both have."""

    def __init__(self, setup, source, target, joints, meshes):
        self.setup, self.source, self.target, self.out = setup, source, target, Journey(setup, joints, meshes)
        self.rest = rest_matrices(source.skeleton)[:, :, 3], rest_matrices(target.skeleton)[:, :, 3]
        both = [(old, new) for old, new in joints.items() if new]
        both += [(name, name) for name in source.skeleton.names if name in target.skeleton and name not in joints]
        here = self.rest[0][[source.skeleton.index(old) for old, _ in both]]
        there = self.rest[1][[target.skeleton.index(new) for _, new in both]]
        self.size, self.shift = _fitted(here, there) if len(both) > 1 else _fitted(rest_box(source), rest_box(target))
        self._surfaces = {}

    def moved(self, places):
        """Places of the source on the target."""
        return self.size * np.asarray(places, float) + self.shift

    def moved_with(self, joint, place):
        """A place of the source that belongs to a joint."""
        new = self.out.joints.get(joint, "")
        if not new:
            return tuple(self.moved(place).tolist())
        here, there = self.rest[0][self.source.skeleton.index(joint)], self.rest[1][self.target.skeleton.index(new)]
        return tuple(float(each) for each in there + self.size * (np.asarray(place, float) - here))

    def surfaces(self, name):
        """The two _Surfaces of a mesh of the source and what it became."""
        if name not in self._surfaces:
            self._surfaces[name] = _Surface(self.source, name), _Surface(self.target, self.out.meshes[name])
        return self._surfaces[name]

    def journey(self):
        setup, out = self.setup, self.out
        areas = [self._region(region) for region in setup.regions]
        out.setup = replace(setup, regions=tuple(area for area in areas if area))
        followers = [self._follower(follower) for follower in setup.followers]
        colliders = [self._collider(collider) for collider in setup.colliders]
        out.setup = replace(out.setup, followers=tuple(filter(None, followers)), colliders=tuple(filter(None, colliders)))
        layers = [self._layer(layer) for layer in setup.layers]
        out.setup = replace(out.setup, layers=tuple(filter(None, layers)))
        out.setup = self._without_loose_ends(out.setup)
        clips = {clip.name for clip in self.target.clips}
        kept = {layer.id for layer in out.setup.layers}
        overrides = tuple(each for each in setup.overrides if each.clip in clips and each.layer in kept)
        out.setup = replace(out.setup, cycles=tuple(name for name in setup.cycles if name in clips), overrides=overrides)
        return out

    def _leave(self, name, why):
        self.out.left_out.append((name, why))

    def _has_mesh(self, what, mesh):
        if self.out.meshes.get(mesh) and any(each.name == mesh for each in self.source.meshes):
            return True
        self._leave(what, f"no mesh like “{mesh}”")
        return False

    def _region(self, region):
        if not self._has_mesh(region.name, region.mesh):
            return None
        here, there = self.surfaces(region.mesh)
        levels = regions.decode(region.values, region.vertices)
        levels, unsure = self._levels(levels, here, there)
        if unsure.any():
            self.out.unsure[region.id] = unsure
            self.out.remarks.append(
                f"{region.name}: unsure at {int(unsure.sum())} of {len(unsure)} vertices, which lie off the old surface"
            )
        if not regions.is_in(levels).any():
            self._leave(region.name, "none of it is near to the other surface")
            return None
        return replace(region, mesh=there.mesh.name, vertices=len(levels), values=regions.encode(levels))

    def _levels(self, levels, here, there):
        """Levels (V,) of the target's vertices by the nearest place on the source, and which of those are unsure."""
        before = self.moved(here.points)
        if before.shape == there.points.shape and np.abs(before - there.points).max() < 1e-6 * np.ptp(there.points):
            return levels, np.zeros(len(levels), bool)
        found, shares = NearestOn(before, here.triangles).find(there.points, np.inf)
        corners = here.triangles[found]
        # In or out is what the nearest corner is; the influence is that of the corners that are in.
        is_in = regions.is_in(levels[corners]) * shares
        inside = regions.is_in(levels[corners[np.arange(len(corners)), shares.argmax(1)]])
        mixed = np.einsum("vc,vc->v", is_in, levels[corners].astype(float)) / np.maximum(is_in.sum(1), 1e-12)
        out = np.where(inside, np.round(mixed), regions.OUT).astype(np.uint8)
        spots = np.einsum("vc,vck->vk", shares, before[corners])
        looks = np.einsum("vc,vck->vk", shares, here.normals[corners])
        off, far = np.linalg.norm(there.points - spots, axis=1), FAR * np.linalg.norm(np.ptp(there.points, axis=0))
        unsure = (off > far) | (np.einsum("vk,vk->v", looks, there.normals) < 0.0)
        if unsure.any() and regions.is_in(out).any():
            # What is farther from the region than twice as far as it is off the surface is outside of it, whatever it lies on.
            apart, _ = cKDTree(there.points[regions.is_in(out)]).query(there.points[unsure])
            unsure[unsure] = apart <= 2.0 * np.maximum(off[unsure], far)
        return out, unsure

    def _vertex(self, mesh, vertex):
        """The vertex that is nearest to where one of the source went."""
        here, there = self.surfaces(mesh)
        return int(np.linalg.norm(there.points - self.moved(here.points[vertex]), axis=1).argmin())

    def _follower(self, follower):
        if not self._has_mesh(follower.name, follower.mesh):
            return None
        vertices = sorted({self._vertex(follower.mesh, vertex) for vertex in follower.vertices})
        return replace(follower, mesh=self.out.meshes[follower.mesh], vertices=tuple(vertices))

    def _collider(self, collider):
        if collider.joint and not self.out.joints.get(collider.joint):
            return self._leave(collider.name, f"no joint like “{collider.joint}”")
        if collider.mesh and not self._has_mesh(collider.name, collider.mesh):
            return None
        size = tuple(self.size * each for each in collider.size)
        place = self.moved_with(collider.joint, collider.place)
        mesh = self.out.meshes.get(collider.mesh, "")
        return replace(collider, joint=self.out.joints.get(collider.joint, ""), place=place, size=size, mesh=mesh)

    def _layer(self, layer):
        name, kept = layer.name, {area.id for area in self.out.setup.regions}
        if layer.region and layer.region not in kept:
            return self._leave(name, "its region did not come over")
        chains = tuple(filter(None, (self._chain(name, chain) for chain in layer.chains)))
        if layer.chains and not chains:
            return self._leave(name, "none of its joints is there")
        muscles = tuple(filter(None, (self._muscle(muscle) for muscle in layer.muscles)))
        if layer.muscles and not muscles:
            return self._leave(name, "none of its muscles is there")
        if layer.built:
            self.out.remarks.append(f"{name}: to be built again from its mesh")
        bones = tuple(self.out.meshes[bone] for bone in layer.bones if self.out.meshes.get(bone))
        clips = {clip.name for clip in self.target.clips}
        rests = layer.rests if layer.rests and layer.rests[0] in clips else None
        return replace(layer, chains=chains, muscles=muscles, built="", bones=bones, rests=rests, form=self._form(layer.form))

    def _chain(self, layer, chain):
        gone = [name for name in chain.names if not self.out.joints.get(name)]
        if gone:
            return self._leave(f"{layer}: {chain}", f"no joint like “{gone[0]}”")
        new = self.out.joints
        picked = tuple(new[name] for name in chain.picked)
        return replace(chain, root=new.get(chain.root, ""), end=new.get(chain.end, ""), picked=picked)

    def _form(self, form):
        if form is None:
            return None
        return replace(form, place=tuple(self.moved(form.place).tolist()), size=tuple(self.size * each for each in form.size))

    def _muscle(self, muscle):
        ends = {}
        for end in ("origin", "insertion"):
            own = getattr(muscle, end)
            joint, bone = self.out.joints.get(own.joint, ""), self.out.meshes.get(own.bone, "") if own.bone else ""
            if not joint or (own.bone and not bone):
                return self._leave(muscle.name, f"nothing like “{own.bone or own.joint}” to be attached to")
            ends[end] = replace(own, joint=joint, bone=bone)
        drivers = tuple(replace(driver, of=self.out.joints.get(driver.of, driver.of)) for driver in muscle.drivers)
        if muscle.form:
            size = self.size
            points = tuple(tuple(self.moved(point).tolist()) for point in muscle.form.points)
            form = replace(muscle.form, points=points, width=size * muscle.form.width, thickness=size * muscle.form.thickness)
            return replace(muscle, form=form, drivers=drivers, **ends)
        if not self._has_mesh(muscle.name, muscle.mesh):
            return None
        at = self._vertex(muscle.mesh, muscle.at)
        return replace(muscle, mesh=self.out.meshes[muscle.mesh], at=at, drivers=drivers, **ends)

    def _without_loose_ends(self, setup):
        """Nothing speaks any more of what was left out."""
        areas, layers = {area.id for area in setup.regions}, {layer.id for layer in setup.layers}
        followers = {f"{FOLLOWER}:{follower.id}" for follower in setup.followers}
        known = areas | layers | followers | {f"{LAYER}:{each}" for each in layers}

        def tidy(layer):
            loose = {name: "" for name in ("rides", "other", "fat", "clings", "leaves_out") if getattr(layer, name) not in known}
            return replace(layer, **loose)

        def met(collider):
            return replace(
                collider, **{name: tuple(each for each in getattr(collider, name) if each in layers) for name in ("meets", "spares")}
            )

        return replace(setup, layers=tuple(map(tidy, setup.layers)), colliders=tuple(map(met, setup.colliders)))


def _fitted(here, there):
    """(size, shift) that bring places (N, 3) nearest to others; just 1 and 0 where they are the same."""
    if here.shape == there.shape and np.abs(here - there).max() < 1e-6 * max(float(np.ptp(there)), 1e-12):
        return 1.0, np.zeros(3)
    a, b = here - here.mean(0), there - there.mean(0)
    size = float(np.sqrt((b * b).sum() / max(float((a * a).sum()), 1e-30)))
    return size, there.mean(0) - size * here.mean(0)
