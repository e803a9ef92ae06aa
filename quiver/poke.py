"""Poke: a hand at a character while it simulates. It pulls, carries, drops, throws a ball, presses a plate; the setup never changes.

Everything that comes in and goes out is in file units and in the space of the stage.
"""

from dataclasses import replace

import numpy as np

from quiver.bodies.chain import GRAVITY
from quiver.bodies.fitting import size_of
from quiver.contact.posed import PosePair
from quiver.contact.skins import DEEP, surface_of
from quiver.errors import BadInput
from quiver.rig import transforms
from quiver.rig.pose import Pose, blended, jointed_world, world_matrices
from quiver.rig.skeleton import Skeleton
from quiver.rig.skinning import skinned_positions
from quiver.run.live import LiveRun
from quiver.setup import edits

BALL, PLATE = "(ball)", "(plate)"
"""Names of the joints that the hand's own things ride on; where a file has such names too, these mean the hand's."""
BALL_SHARE, PLATE_SHARE, PATCH_SHARE = 0.05, 0.22, 0.045
"""Radius of the ball, half the plate's side, and radius of what a hand takes hold of, as shares of the character's size."""
PARKED = 40.0
"""So many sizes up, the hand's things wait where they touch nothing."""
LIMB = 3
"""Joints that bend when a part that no layer drives is pulled."""
BENDS, BEND = 3, 0.2
"""Rounds in which joints are bent towards the hand in a frame, and the most that one bends in a round [rad]."""
COMES_BACK = 0.25
"""Share of the way back to its pose that what was let go makes in a frame."""
DROP_SHARE = 0.4
"""How high it is dropped from, as a share of its size."""
BOUNCE, SOFT_LANDING = 0.2, 0.8
"""Share of the speed that comes back from the ground, and the speed below which nothing does [m/s]."""
BALL_RATE, BALL_KEEP, BALL_BOUNCE, BALL_FRAMES = 5.0, 0.97, 0.55, 150
"""How quickly skin throws a ball back [Hz], what rolling leaves of its speed in a frame, its bounce on the ground, how long it stays."""
THROW, FASTEST = 7.0, 30.0
"""Speed at which a ball is thrown, and the most that one may be [m/s]."""
STEPS = 12


class Poke:
    """The character in the pose of a clip at a frame, live. Raises BadInput where the setup cannot be simulated."""

    def __init__(self, character, setup, clip_name, frame, threads=None):
        self.scale, self.rate = setup.metres_per_unit, setup.frame_rate
        self.size = size_of(character)
        self.nodes = len(character.skeleton)
        self.run = LiveRun(_with_things(character, self.size), _with_colliders(setup, self.size), clip_name, frame, threads)
        # With the muscles that the setup makes.
        self.character = self.run.plan.spec.character
        # The stage does not know the joints of the ball and the plate.
        plan = self.run.plan
        self.run.plan = replace(plan, rotated=plan.rotated[: self.nodes], translated=plan.translated[plan.translated < self.nodes])
        self.base = self.run.pose_at(frame)
        self.pose = self.base.copy()
        self.run.begin(self.pose)
        self.low = float(min(skinned_positions(mesh, self._world())[:, 1].min() for mesh in character.meshes)) if character.meshes else 0.0
        self.hold, self.ball, self.plate = None, None, None
        self.out = [False, False]
        self.lift, self.fall, self.jumps = 0.0, 0.0, False

    def _world(self):
        return world_matrices(self.run.skeleton, self.pose.repeated(1))[0]

    @property
    def sizes(self):
        """What the stage is told once: radius of the ball and half sides of the plate [file units]."""
        return {"ball": BALL_SHARE * self.size, "plate": _plate_size(self.size)}

    def obey(self, wish):
        """Take a wish of the hand: a dict with "do", one of `WISHES`, and what that takes. Raises BadInput."""
        kind = wish.get("do") if isinstance(wish, dict) else None
        if not isinstance(kind, str) or kind not in WISHES:
            raise BadInput(f"expected one of {', '.join(WISHES)} to do, got {str(kind)[:40]!r}")
        WISHES[kind](self, wish)

    def grab(self, wish):
        """Take hold of a vertex (``mesh``, ``vertex``) ``at`` a place; with ``whole``, of the whole character."""
        mesh, vertex = wish.get("mesh"), wish.get("vertex")
        if not isinstance(mesh, int) or not isinstance(vertex, int) or not 0 <= mesh < len(self.character.meshes):
            raise BadInput("expected the mesh and the vertex to take hold of, as numbers")
        if not 0 <= vertex < len(self.character.meshes[mesh].positions):
            raise BadInput(f"expected a vertex of “{self.character.meshes[mesh].name}”, got {vertex}")
        self.let_go({})
        place = _place(wish, "at")
        if wish.get("whole"):
            self.hold = Carry(self, place)
            return
        soft = next((solid for solid in self.run.soft_bodies if solid.is_soft_at(mesh, vertex)), None)
        self.hold = Tug(self, soft, place) if soft else Bend(self, mesh, vertex, place)

    def move(self, wish):
        """The hand is here now (``to``)."""
        if self.hold:
            self.hold.to = _place(wish, "to")

    def let_go(self, wish):
        """Let go of what is held."""
        if self.hold:
            self.hold.end()
        self.hold = None

    def throw(self, wish):
        """Throw a ball ``from`` a place ``at`` another, at a ``speed`` [m/s]."""
        start, target, speed = _place(wish, "from"), _place(wish, "at"), wish.get("speed", THROW)
        if isinstance(speed, bool) or not isinstance(speed, int | float) or not 0.0 < speed <= FASTEST:
            raise BadInput(f"expected a speed of up to {FASTEST:g} m/s, got {str(speed)[:40]}")
        self.ball = Ball(self, start, target, speed)

    def drop(self, wish):
        """Lift the whole character up and let it fall."""
        self.lift, self.fall, self.jumps = DROP_SHARE * self.size, 0.0, True

    def press(self, wish):
        """Hold a plate here (``to``); without a place, take it away."""
        self.plate = _place(wish, "to") if "to" in wish else None

    def step(self):
        """Go on by one frame: (TakeChunk, things): where "ball" and "plate" are, None where they are not out. Raises Unstable."""
        pose = self.pose
        back = blended(pose, self.base, np.full(len(self.run.skeleton), COMES_BACK))
        roots = self.run.skeleton.parents < 0
        if self.lift > 0.0:
            self._fall()
            back.translations[roots] = self.base.translations[roots] + [0.0, self.lift, 0.0]
        self.pose = self.hold.posed(pose, back) if self.hold else back
        if self.ball and not self.ball.fly(self):
            self.ball = None
        positions = [self.ball.place if self.ball else None, self.plate]
        for k, place in enumerate(positions):
            self.pose.translations[self.nodes + k] = [0.0, PARKED * self.size, 0.0] if place is None else place
        out = [place is not None for place in positions]
        if out != self.out:
            self.run.appear([self.nodes + k for k in range(2) if out[k] != self.out[k]], self.pose)
        self.out = out
        chunk = self.run.advance(self.pose, self.jumps)
        self.jumps = False
        shown = {"ball": self.ball.place.tolist() if self.ball else None, "plate": None if self.plate is None else self.plate.tolist()}
        return chunk, shown

    def _fall(self):
        seconds = 1.0 / self.rate
        self.fall -= GRAVITY * seconds
        self.lift += self.fall * seconds / self.scale
        if self.lift <= 0.0:
            self.fall = -BOUNCE * self.fall if self.fall < -SOFT_LANDING else 0.0
            self.lift = 1e-6 if self.fall else 0.0


WISHES = {"grab": Poke.grab, "move": Poke.move, "release": Poke.let_go, "throw": Poke.throw, "drop": Poke.drop, "press": Poke.press}


class Carry:
    """The whole character goes where the hand goes."""

    def __init__(self, poke, place):
        self.start = self.to = place
        self.roots = np.flatnonzero(poke.run.skeleton.parents[: poke.nodes] < 0)
        self.base = poke.pose.translations[self.roots].copy()

    def posed(self, pose, back):
        """The next Pose (J,): from ``pose``, the one before, where it holds on, else ``back``, which it may change."""
        here = pose.translations[self.roots]
        back.translations[self.roots] = here + 0.5 * (self.base + self.to - self.start - here)
        return back

    def end(self):
        """Nothing is left of it."""


class Bend:
    """Joints bend until what the hand took hold of is where the hand is (cyclic coordinate descent)."""

    def __init__(self, poke, mesh, vertex, place):
        self.skeleton, self.to = poke.run.skeleton, place
        held = poke.character.meshes[mesh]
        self.node = held.node if held.skin < 0 else int(held.joints[vertex][np.argmax(held.weights[vertex])])
        self.offset = _seen_from(poke._world()[self.node], place)
        self.joints = [self.node, *self.skeleton.ancestors(self.node)][: self._reach(poke)]

    def _reach(self, poke):
        """How many joints from the held one up bend: as far as its chain goes, or as a limb does."""
        for batch in poke.run.chains:
            for path in batch.paths:
                if self.node in path.point_nodes or self.node in path.drivers:
                    above = [self.node, *self.skeleton.ancestors(self.node)]
                    return above.index(int(path.drivers[0])) + 1
        return LIMB

    def posed(self, pose, back):
        """As `Carry.posed`."""
        for name in ("translations", "rotations", "scales"):
            getattr(back, name)[self.joints] = getattr(pose, name)[self.joints]
        for _ in range(BENDS):
            for joint in self.joints:
                world = world_matrices(self.skeleton, back.repeated(1))[0]
                held, pivot = jointed_world(world[self.node], self.offset), world[joint, :, 3]
                turn = transforms.shortest_turn(held - pivot, self.to - pivot)
                angle = 2.0 * np.arccos(np.clip(abs(turn[3]), 0.0, 1.0))
                share = np.array(min(1.0, BEND / max(angle, 1e-9)))
                turn = transforms.slerp(np.array(transforms.IDENTITY), turn, share)
                parent = self.skeleton.parents[joint]
                frame = transforms.pure_rotations(world[parent, :, :3]) if parent >= 0 else np.eye(3)
                turn = transforms.multiply(transforms.seen_in(turn, frame), back.rotations[joint])
                back.rotations[joint] = transforms.normalised(turn)
        return back

    def end(self):
        """Its joints come back by themselves."""


class Tug:
    """A patch of a soft body goes with the hand: each of its points is kept from falling behind it, as contact keeps things out.

    It stands among the skins that the body meets.
    """

    def __init__(self, poke, solid, place):
        self.to, self.start, self.scale = place, place, poke.scale
        touching = solid.within_reach()
        self.began, _ = touching.carried.look(solid.state, np.zeros_like(solid.state.positions), 0.0)
        away = np.linalg.norm(self.began - place * self.scale, axis=1)
        # However small the patch, there is a point in it.
        self.rows = np.flatnonzero(away <= max(PATCH_SHARE * poke.size * self.scale, away.min() + 1e-9))
        self.before, self.skins = self.began[self.rows], touching.skins
        self.skins.append(self)

    def ready(self, world, jumped, per_frame, looks=1):
        """What joints do does not matter to a hand."""
        self.looks = looks

    def surface_contacts(self, frame, points, travel, look=0, threads=1):
        """As `SkinContacts.surface_contacts`."""
        goals = self.began[self.rows] + (self.to - self.start) * self.scale
        # The rest of its way, in equal parts.
        goals = self.before + (goals - self.before) / (self.looks - look)
        ahead = goals - points[self.rows]
        lengths = np.linalg.norm(ahead, axis=1, keepdims=True)
        normals = ahead / np.maximum(lengths, 1e-9)
        surface_contacts = np.concatenate([self.before, goals, normals, normals], axis=1)
        self.before = goals
        count = np.zeros(len(goals))
        return self.rows, surface_contacts, count, count + 1.0

    def posed(self, pose, back):
        """As `Carry.posed`: no joint is held."""
        return back

    def end(self):
        """The body lets go of the hand."""
        self.skins.remove(self)


class Ball:
    """A ball that flies, bounces on the ground, and is thrown back by the skin as it is keyed, while soft parts give way to it."""

    def __init__(self, poke, start, target, speed):
        self.place, way = start, target - start
        self.velocity = way / max(float(np.linalg.norm(way)), 1e-9) * speed / poke.scale
        # Aimed a little higher, so that it falls onto what was aimed at.
        self.velocity[1] += 0.5 * GRAVITY / poke.scale * float(np.linalg.norm(way)) * poke.scale / speed
        self.radius, self.left = BALL_SHARE * poke.size, BALL_FRAMES
        character = poke.character
        largest = max(character.meshes, key=lambda mesh: len(mesh.triangles), default=None)
        self.skin = None
        if largest is not None and len(largest.triangles):
            self.skin = PosePair(surface_of(character, largest.name, poke.scale).posed)

    def fly(self, poke):
        """Go on by one frame; False once it has been out long enough."""
        self.left -= 1
        surface_contact, normal, distance = self._nearest(poke)
        dt, rate = 1.0 / (poke.rate * STEPS), (2.0 * np.pi * BALL_RATE) ** 2
        ground = poke.low + self.radius
        for _ in range(STEPS):
            self.velocity[1] -= GRAVITY / poke.scale * dt
            if surface_contact is not None:
                away = distance + float((self.place - surface_contact) @ normal)
                if away < self.radius:
                    self.velocity += rate * (self.radius - away) * dt * normal
            self.place = self.place + self.velocity * dt
            if self.place[1] < ground:
                self.place[1] = ground
                self.velocity[1] = -BALL_BOUNCE * self.velocity[1] if self.velocity[1] < -SOFT_LANDING / poke.scale else 0.0
                self.velocity[[0, 2]] *= BALL_KEEP
        return self.left > 0

    def _nearest(self, poke):
        """(where it is now, the skin's outside nearest to it, how far away [file units]), or nothing where it is far from the skin."""
        if self.skin is None:
            return None, None, 0.0
        self.skin.ready(world_matrices(poke.run.skeleton, poke.pose.repeated(1)))
        reach, place = 2.0 * self.radius + float(np.linalg.norm(self.velocity)) / poke.rate, self.place[None] * poke.scale
        _, found = self.skin.spots((0, 0), place, np.zeros(1), np.array([reach * poke.scale]), 0.0, DEEP)
        if not len(found):
            return None, None, 0.0
        spot, normal = found[0, :3], found[0, 6:9]
        return self.place.copy(), normal, float((place[0] - spot) @ normal) / poke.scale


def _plate_size(size):
    return [PLATE_SHARE * size, 0.03 * size, PLATE_SHARE * size]


def _with_things(character, size):
    """The character with two joints more, which the ball and the plate ride on."""
    old, away = character.skeleton, np.array([[0.0, PARKED * size, 0.0]] * 2)
    count = len(old)
    rest = Pose(
        np.concatenate([old.rest.translations, away]),
        np.concatenate([old.rest.rotations, [transforms.IDENTITY] * 2]),
        np.concatenate([old.rest.scales, np.ones((2, 3))]),
    )
    parents, order = np.append(old.parents, [-1, -1]), np.append(old.order, [count, count + 1])
    is_joint = np.append(old.is_joint, [False, False])
    skeleton = Skeleton((*old.names, BALL, PLATE), parents.astype(np.int32), order.astype(np.int32), is_joint, rest)
    return replace(character, skeleton=skeleton)


def _with_colliders(setup, size):
    """The setup with the ball and the plate as colliders that everything simulated meets."""
    place = (0.0, PARKED * size, 0.0)
    setup = edits.with_new_collider(setup, "ball", BALL, joint=BALL, place=place, size=(BALL_SHARE * size,))
    width, height, depth = (2.0 * side for side in _plate_size(size))
    return edits.with_new_collider(setup, "box", PLATE, joint=PLATE, place=place, size=(width, height, depth, 0.4 * height))


def _seen_from(placed, place):
    """A place in the space of a placement (3, 4)."""
    return np.linalg.lstsq(placed[:, :3], place - placed[:, 3], rcond=None)[0]


def _place(wish, name):
    """A place of a wish, (3,). Raises BadInput."""
    numbers = wish.get(name)
    is_right = isinstance(numbers, list) and len(numbers) == 3
    if not is_right or not all(isinstance(n, int | float) and not isinstance(n, bool) and abs(n) < 1e9 for n in numbers):
        raise BadInput(f"expected a place for “{name}” as three numbers, got {str(numbers)[:60]}")
    return np.array(numbers, float)
