"""Mudwick's clips: gaits by formula, with feet that stay where they stand."""
import numpy as np

from quiver.demo.motion import FRAME_RATE, Motion, eased, smooth

LEGS = tuple(f"{leg}_{{}}_{letter}" for leg in ("fore", "hind") for letter in "lr")


def clips(builder):
    """All clips as (name, tracks)."""
    makers = {"walk": _walk, "hop and land": _hop, "shake dry": _shake, "idle": _idle}
    return [(name, make(builder).tracks()) for name, make in makers.items()]


def _walk(builder):
    motion = Motion(builder, 28)
    phase = motion.seconds * FRAME_RATE / 27.0
    turn = 2 * np.pi * phase
    motion.shift("hips", y=-0.026 + 0.018 * np.cos(2 * turn + 0.5), x=0.018 * np.sin(turn))
    motion.turn("hips", pitch=1.6 * np.sin(2 * turn), yaw=4.5 * np.sin(turn + 0.3), roll=-3.6 * np.sin(turn))
    motion.turn("spine_1", yaw=-3.0 * np.sin(turn + 0.3), roll=1.8 * np.sin(turn))
    motion.turn("spine_2", yaw=-3.0 * np.sin(turn + 0.1), roll=1.6 * np.sin(turn - 0.6), pitch=1.2 * np.sin(2 * turn + 1.0))
    motion.turn("chest", yaw=-2.0 * np.sin(turn), roll=2.4 * np.sin(turn - 1.2), pitch=2.0 * np.sin(2 * turn + 1.9))
    motion.turn("neck", pitch=2.5 * np.sin(2 * turn + 2.6), yaw=2.2 * np.sin(turn - 0.4))
    motion.turn("head", pitch=-4.0 * np.sin(2 * turn + 2.3), yaw=2.0 * np.sin(turn - 0.9), roll=-2.5 * np.sin(turn - 1.0))
    motion.turn("jaw", pitch=1.5 + 1.5 * np.sin(2 * turn + 3.4))
    for leg, start in zip(LEGS, (0.25, 0.75, 0.0, 0.5), strict=True):
        step = (phase + start) % 1.0
        stance, swing = step / 0.62, (step - 0.62) / 0.38
        stride, middle = (0.28, -0.045) if "fore" in leg else (0.30, 0.0)
        is_swing = step >= 0.62
        z = np.where(is_swing, -stride / 2 + stride * smooth(swing), stride / 2 - stride * stance)
        y = np.where(is_swing, (0.145 if "fore" in leg else 0.11) * np.sin(np.pi * np.clip(swing, 0, 1)) ** 0.8, 0.0)
        pitch = np.where(is_swing, 34.0 * np.sin(np.pi * np.clip(swing, 0, 1)) * (1 - 1.3 * np.clip(swing, 0, 1)), 0.0)
        motion.plant(leg, np.stack([np.zeros_like(z), y, z + middle], 1), pitch)
    return motion


def _hop(builder):
    motion = Motion(builder, 61)
    t = motion.seconds
    leave, touch = 0.58, 1.12
    air = np.clip((t - leave) / (touch - leave), 0.0, 1.0)
    lift = 4 * 0.42 * air * (1 - air)
    forward = 0.75 * eased(t, (0.42, 0.0), (0.60, 0.10), (1.12, 0.96), (1.35, 1.0))
    before = ((0, 0.0), (0.40, -0.17), (0.56, 0.05), (0.75, 0.0))
    after = ((1.10, 0.03), (1.26, -0.20), (1.55, 0.03), (1.85, -0.012), (2.2, 0.0))
    crouch = eased(t, *before, *after)
    motion.shift("root", z=forward, y=lift)
    motion.shift("hips", y=crouch)
    pitch = eased(t, (0, 0), (0.40, 5), (0.58, -15), (0.85, 0), (1.10, 13), (1.28, 4), (1.6, -2), (2.0, 0))
    motion.turn("hips", pitch=pitch)
    arch = eased(t, (0, 0), (0.40, 5), (0.62, -7), (1.0, 3), (1.26, 8), (1.6, -3), (2.0, 0))
    for joint in ("spine_1", "spine_2"):
        motion.turn(joint, pitch=arch)
    motion.turn("chest", pitch=-arch * 1.1)
    motion.turn("neck", pitch=eased(t, (0, 0), (0.40, 8), (0.62, -12), (1.08, -6), (1.27, 18), (1.6, -4), (2.0, 0)))
    motion.turn("head", pitch=eased(t, (0, 0), (0.42, -8), (0.66, 6), (1.10, -4), (1.31, 12), (1.65, -5), (2.1, 0)))
    motion.turn("jaw", pitch=eased(t, (0, 0), (0.6, 0), (1.2, 1), (1.30, 14), (1.6, 2), (2.0, 0)))
    tuck = eased(t, (0.50, 0.0), (0.80, 1.0), (1.10, 0.0))
    for leg in LEGS:
        late = 0.05 if "hind" in leg else 0.0
        back = eased(t, (leave - 0.06 + late, 0.0), (leave + 0.08 + late, -0.16), (touch - 0.12 + late, 0.10), (touch + 0.02 + late, 0.0))
        height = lift + 0.10 * tuck
        z = forward + back
        motion.plant(leg, np.stack([np.zeros_like(z), height, z], 1), 34.0 * tuck * np.where(back < 0, 1, -0.5))
    return motion


def _shake(builder):
    motion = Motion(builder, 73)
    t = motion.seconds
    strength = eased(t, (0.25, 0.0), (0.65, 1.0), (1.75, 1.0), (2.45, 0.0))
    wave = 2 * np.pi * 3.6 * t

    def roll(late, angle):
        # The shake runs from the head to the tail.
        return angle * np.interp(t - late, t, strength) * np.sin(wave - 2 * np.pi * 3.6 * late)

    motion.shift("hips", y=-0.05 * eased(t, (0.0, 0.0), (0.4, 1.0), (2.2, 1.0), (2.7, 0.0)))
    spine = (("chest", 0.05, 9.0), ("spine_2", 0.08, 6.0), ("spine_1", 0.11, 6.0), ("hips", 0.15, 8.0))
    for joint, late, angle in (("head", 0.0, 20.0), ("neck", 0.02, 12.0), *spine):
        swing = roll(late, angle)
        motion.turn(joint, roll=swing, yaw=0.5 * swing)
    lowered = eased(t, (0.0, 0.0), (0.4, 10.0), (1.9, 8.0), (2.5, -4.0), (2.9, 0.0))
    motion.turn("neck", pitch=lowered)
    for leg in LEGS:
        spread = 0.035 if leg.endswith("l") else -0.035
        open_ = eased(t, (0.0, 0.0), (0.3, 1.0), (2.5, 1.0), (2.8, 0.0))
        motion.plant(leg, np.stack([spread * open_, np.zeros_like(t), np.zeros_like(t)], 1))
    return motion


def _idle(builder):
    motion = Motion(builder, 121)
    t = motion.seconds
    breath = np.sin(2 * np.pi * t / 2.5)
    motion.shift("hips", y=0.006 * breath - 0.006, x=0.012 * np.sin(2 * np.pi * t / 5.0))
    motion.turn("hips", roll=-1.2 * np.sin(2 * np.pi * t / 5.0))
    motion.turn("spine_2", pitch=-0.9 * breath, roll=0.9 * np.sin(2 * np.pi * t / 5.0))
    motion.turn("chest", pitch=-0.8 * breath)
    look = eased(t, (0, 0), (0.9, 0), (1.35, 26), (2.5, 24), (2.85, -20), (3.9, -18), (4.4, 0))
    motion.turn("neck", yaw=0.45 * look, pitch=1.0 * breath)
    motion.turn("head", yaw=0.6 * look, roll=-0.18 * look, pitch=eased(t, (0, 0), (1.4, -6), (2.5, -5), (2.7, 7), (3.0, -2), (4.4, 0)))
    motion.turn("jaw", pitch=1.5 + 1.5 * breath)
    for leg in LEGS:
        motion.plant(leg, np.zeros((len(t), 3)))
    return motion
