"""What muscles hold on to: joints, and bones, which are meshes that move with one joint."""

import numpy as np

from quiver.errors import BadInput
from quiver.kernels.nearest import vertex_normals
from quiver.mesh.nearest import NearestOn
from quiver.rig import transforms
from quiver.rig.character import Mesh
from quiver.rig.pose import rest_matrices
from quiver.rig.skinning import skinned_positions, skinned_through
from quiver.setup.model import Attachment

FRAMES = 5
"""Frames along a muscle, between the two that hold its ends."""
NEAR_BONE, ALONGSIDE, FEW = 0.3, 0.02, 4
"""A bone within this share of a muscle's length of its tip is what it sits on; how much less likely a joint is that runs along it; and as
many are looked at for each tip."""
MADE = "muscle:"
"""What the names of meshes begin with that are muscles made by hand: they are no bones."""
FLAT = 1e-18
"""A placement that squeezes volumes to such a share has no way back."""


def bones_of(character):
    """{name of a mesh: node that alone moves it}, of the meshes that move rigidly."""
    found = {}
    for mesh in character.meshes:
        carriers = mesh.carriers
        if len(carriers) == 1 and len(mesh.triangles) and not mesh.name.startswith(MADE):
            found.setdefault(mesh.name, carriers[0])
    return found


def bones_mesh(character, names):
    """Some bones as one mesh in the rest pose, each moved by its own node. Raises BadInput where one is no bone."""
    known, rest = bones_of(character), rest_matrices(character.skeleton)
    wrong = [name for name in names if name not in known]
    if wrong:
        raise BadInput(f"expected a mesh that moves with one joint for a bone, got “{wrong[0]}”")
    nodes = np.unique([known[name] for name in names]).astype(np.int32)
    positions, triangles, joints, begin = [], [], [], 0
    for name in names:
        mesh = character.mesh(name)
        positions.append(skinned_positions(mesh, rest))
        triangles.append(mesh.triangles + begin)
        joints.append(np.full(len(mesh.positions), known[name], np.int32))
        begin += len(mesh.positions)
    joints = np.stack([np.concatenate(joints)] * 4, axis=1)
    weights = np.zeros(joints.shape, np.float32)
    weights[:, 0] = 1.0
    binds = np.linalg.inv(_square(rest[nodes]))[:, :3]
    middle = np.concatenate(positions).mean(0)
    binds[:, :, 3] += binds[:, :, :3] @ middle
    points = np.float32(np.concatenate(positions) - middle)
    return Mesh("bones", int(nodes[0]), points, np.concatenate(triangles).astype(np.int32), None, joints, weights, 0, nodes, binds)


def node_of(character, end, name):
    """The node that an Attachment of a muscle of that name rides on. Raises BadInput."""
    if end.bone:
        bones = bones_of(character)
        if end.bone not in bones:
            raise BadInput(f"{name}: expected a mesh that moves with one joint to be attached to, got “{end.bone}”")
        return bones[end.bone]
    if end.joint not in character.skeleton:
        raise BadInput(f"{name}: expected a joint of this character to be attached to, got “{end.joint}”")
    return character.skeleton.index(end.joint)


def distances_to(character, end, points):
    """How far points (N, 3) are from what an Attachment sits on, in the rest pose, (N,): a bone's surface, or the way from a joint to those
    below it. All in units of the file.
    """
    rest = rest_matrices(character.skeleton)
    if end.bone:
        mesh = character.mesh(end.bone)
        surface = skinned_positions(mesh, rest)
        tree = NearestOn(surface, mesh.triangles)
        found, weights = tree.find(points, np.inf)
        return np.linalg.norm(points - np.einsum("nc,nck->nk", weights, surface[mesh.triangles[found]]), axis=1)
    return joint_distances(character.skeleton, rest, character.skeleton.index(end.joint), points)


def under_skin(character, mesh, numbers, depth):
    """Points so deep [file units] below some vertices of a mesh in the rest pose, (K, 3), and the mean direction out of it there (3,)."""
    surface = skinned_positions(mesh, rest_matrices(character.skeleton)).astype(float)
    normals = np.empty_like(surface)
    vertex_normals(surface, np.ascontiguousarray(mesh.triangles, np.int32), normals)
    out = normals[numbers]
    mean = out.mean(0)
    mean = mean / np.linalg.norm(mean) if np.linalg.norm(mean) > 1e-6 else out[0]
    return surface[numbers] - depth * out, mean


def joint_distances(skeleton, rest, node, points):
    """The same of a joint, by its node: (N,)."""
    begin = rest[node, :, 3]
    below = np.flatnonzero(skeleton.parents == node)
    best = np.linalg.norm(points - begin, axis=1)
    for child in below:
        way = rest[child, :, 3] - begin
        share = np.clip((points - begin) @ way / max(float(way @ way), 1e-30), 0.0, 1.0)
        best = np.minimum(best, np.linalg.norm(points - begin - share[:, None] * way, axis=1))
    return best


class Between:
    """Nodes (N, 3) [m] of Q muscles, each of which two nodes of the character carry: FRAMES frames along each muscle's middle line
    go from what the first does to what the second does, without thinning where the joint between them bends.

    carriers   (Q, 2) nodes of the character; lines (Q, FRAMES, 3) where the frames are in the rest pose
    muscle     int (N,) whose each node is; shares (N,) how far along the line, 0..1
    scale      metres in a unit of the file, in which node matrices are

    Raises BadInput where a node of the character has no size in the rest pose.
    """

    def __init__(self, nodes, muscle, shares, carriers, lines, rest_world, scale):
        rest = rest_world[carriers]
        if (np.abs(np.linalg.det(rest[..., :3])) < FLAT).any():
            raise BadInput("a muscle is attached to a joint that is scaled to nothing in the rest pose")
        self.carriers, self.lines, self.scale = carriers, lines, scale
        self._unbound = np.linalg.inv(_square(rest))
        self._unbound[..., :3, 3] *= scale
        at = np.clip(shares, 0.0, 1.0) * (FRAMES - 1)
        first = np.minimum(at.astype(int), FRAMES - 2)
        slots = np.stack([first, first + 1], 1) + FRAMES * muscle[:, None]
        weights = np.stack([first + 1 - at, at - first], 1).astype(np.float32)
        binds = np.tile(np.eye(3, 4), (FRAMES * len(carriers), 1, 1))
        middle = nodes.mean(0)
        # Their own space begins in their middle: far from it float32 is coarse.
        binds[:, :, 3] = middle - lines.reshape(-1, 3)
        positions, none = (nodes - middle).astype(np.float32), np.zeros((0, 3), np.int32)
        self._mesh = Mesh(
            "muscles", 0, positions, none, None, slots.astype(np.int32), weights, 0, np.arange(len(binds), dtype=np.int32), binds
        )

    def positions(self, world):
        """Where the nodes are, (S, N, 3) [m], in node matrices (S, J, 3, 4)."""
        carried = _square(world[:, self.carriers])
        carried[..., :3, 3] *= self.scale
        moved = (carried @ self._unbound)[..., :3, :]
        share = np.linspace(0.0, 1.0, FRAMES)
        places = self.lines[:, None] @ np.swapaxes(moved[..., :3], -1, -2) + moved[..., None, :, 3]
        places = (1.0 - share)[:, None] * places[:, :, 0] + share[:, None] * places[:, :, 1]
        rotations, volumes = transforms.pure_rotations(moved[..., :3]), np.linalg.det(moved[..., :3])
        flips = np.where(volumes < 0.0, -1.0, 1.0)[..., None, None]
        turns = transforms.from_matrices(rotations * flips)
        begins, ends = (np.repeat(turns[:, :, end : end + 1], FRAMES, axis=2) for end in (0, 1))
        turns = transforms.slerp(begins, ends, np.broadcast_to(share, begins.shape[:-1]).copy())
        sizes = np.cbrt(np.abs(volumes))
        sizes = sizes[:, :, :1] + share * (sizes[:, :, 1:] - sizes[:, :, :1])
        linear = transforms.to_matrices(turns) * (sizes[..., None, None] * flips[:, :, :1])
        # The ends go just as what carries them.
        linear[:, :, 0], linear[:, :, -1] = moved[:, :, 0, :, :3], moved[:, :, 1, :, :3]
        frames = np.concatenate([linear, places[..., None]], axis=-1)
        return skinned_through(self._mesh, frames.reshape(len(world), -1, 3, 4))


def _square(matrices):
    """Matrices (..., 3, 4) as (..., 4, 4)."""
    out = np.zeros((*matrices.shape[:-2], 4, 4))
    out[..., :3, :], out[..., 3, 3] = matrices, 1.0
    return out


def proposed(character, piece, line, scale):
    """The Attachments of a Piece whose middle line is ``line`` (N, 3) [m]: (its origin, its insertion), by what is near its two tips.

    A bone where one is near, else a joint; the origin is the one above the other. ``scale`` [m] is one unit of the file.
    """
    tips, middle = np.array([line[0], line[-1]]) / scale, line[len(line) // 2] / scale
    ways = np.diff(line, axis=0)
    near = NEAR_BONE * float(np.linalg.norm(ways, axis=1).sum()) / scale
    found = [_candidates(character, piece.mesh, tip, middle, near) for tip in tips]
    # Two that differ, where there are such: else it would never shorten.
    pairs = [(a, b) for a in found[0] for b in found[1]]
    best = min(pairs, key=lambda pair: pair[0][0] + pair[1][0] + (near if pair[0][1] == pair[1][1] else 0.0))
    above = [len(character.skeleton.ancestors(node)) for _, node, _ in best]
    first, second = best if above[0] <= above[1] else best[::-1]
    return first[2], second[2]


def _candidates(character, own_mesh, tip, middle, near):
    """[(how far, node, Attachment)] of the few things near a tip."""
    skeleton, rest = character.skeleton, rest_matrices(character.skeleton)
    largest = max(character.meshes, key=lambda mesh: float(np.linalg.norm(np.ptp(mesh.positions, axis=0))))
    # The largest mesh is the skin, whatever moves it.
    bones = [(name, node) for name, node in bones_of(character).items() if name not in (own_mesh, largest.name)]
    found = []
    for name, node in bones:
        end = Attachment(skeleton.names[node], bone=name)
        away = float(distances_to(character, end, tip[None])[0])
        if away < near:
            found.append((away, node, end))
    if not found:
        for node in np.flatnonzero(skeleton.is_joint) if skeleton.is_joint.any() else range(len(skeleton)):
            away, beside = (float(joint_distances(skeleton, rest, node, point[None])[0]) for point in (tip, middle))
            # Of two joints that meet at a tip, the one that does not run along the muscle holds it.
            found.append((away + ALONGSIDE * max(near - beside, 0.0), int(node), Attachment(skeleton.names[node])))
    return sorted(found, key=lambda each: each[0])[:FEW]
