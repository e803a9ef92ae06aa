"""The tidewarden's clips: by formula, with feet that stay where they stand."""
import numpy as np

from quiver.demo.motion import FRAME_RATE, Motion, eased, smooth

LEGS = tuple(f"leg_{{}}_{letter}" for letter in "lr")
SIDES = (("l", 1.0), ("r", -1.0))


def clips(builder):
    """All clips as (name, tracks)."""
    makers = {"walk": _walk, "wave down": _wave, "leap ashore": _leap, "idle": _idle}
    return [(name, make(builder).tracks()) for name, make in makers.items()]


def _arms(motion, swing, bend=18.0, lift=6.0):
    """Let the arms hang a little away from the coat and swing: swing {letter: degrees forwards}."""
    for letter, side in SIDES:
        motion.turn(f"arm_upper_{letter}", roll=-side * (24.0 - lift), pitch=-swing[letter])
        motion.turn(f"arm_lower_{letter}", pitch=-bend - 0.35 * np.maximum(swing[letter], 0.0))


def _walk(builder):
    motion = Motion(builder, 28)
    phase = motion.seconds * FRAME_RATE / 27.0
    turn = 2 * np.pi * phase
    motion.shift("hips", y=-0.062 + 0.016 * np.cos(2 * turn + 0.4), x=0.016 * np.sin(turn))
    motion.turn("hips", yaw=7.0 * np.sin(turn + 0.3), roll=-2.6 * np.sin(turn), pitch=3.0 + 1.2 * np.sin(2 * turn))
    motion.turn("spine_1", yaw=-5.0 * np.sin(turn + 0.2), roll=1.6 * np.sin(turn))
    motion.turn("spine_2", yaw=-5.0 * np.sin(turn + 0.1), pitch=1.0 * np.sin(2 * turn + 1.0))
    motion.turn("chest", yaw=-4.0 * np.sin(turn), roll=1.2 * np.sin(turn - 1.0), pitch=2.0)
    motion.turn("head", pitch=-5.0 - 1.6 * np.sin(2 * turn + 2.0), yaw=4.0 * np.sin(turn))
    _arms(motion, {letter: 24.0 * side * np.sin(turn + 0.25) for letter, side in SIDES})
    for leg, start in zip(LEGS, (0.0, 0.5), strict=True):
        step = (phase + start) % 1.0
        stance, swing = step / 0.58, np.clip((step - 0.58) / 0.42, 0.0, 1.0)
        is_swing = step >= 0.58
        z = np.where(is_swing, -0.25 + 0.50 * smooth(swing), 0.25 - 0.50 * stance)
        y = np.where(is_swing, 0.12 * np.sin(np.pi * swing) ** 0.8, 0.0)
        pitch = np.where(is_swing, 38.0 * np.sin(np.pi * swing) * (1 - 1.5 * swing), 0.0)
        motion.plant(leg, np.stack([np.zeros_like(z), y, z], 1), pitch)
    return motion


def _wave(builder):
    motion = Motion(builder, 73)
    t = motion.seconds
    up = eased(t, (0.25, 0.0), (0.75, 1.0), (2.2, 1.0), (2.75, 0.0))
    wag = up * np.sin(2 * np.pi * 1.9 * (t - 0.7))
    down = eased(t, (0.0, 0.0), (0.4, 1.0), (2.3, 1.0), (2.9, 0.0))
    motion.shift("hips", x=0.02 * down, y=-0.012 * down)
    motion.turn("hips", roll=2.0 * down, yaw=-4.0 * down)
    motion.turn("spine_2", roll=-4.0 * up + 1.5 * wag, pitch=5.0 * down)
    motion.turn("chest", roll=-3.0 * up + 2.0 * wag, yaw=6.0 * up)
    motion.turn("head", pitch=14.0 * down - 3.0 * up, roll=4.0 * up, yaw=-5.0 * down)
    motion.turn("shoulder_l", roll=14.0 * up)
    motion.turn("arm_upper_l", roll=-18.0 + 118.0 * up + 8.0 * wag, pitch=-12.0 * up)
    motion.turn("arm_lower_l", roll=16.0 * up + 30.0 * wag, pitch=-18.0 * (1 - up))
    motion.turn("arm_upper_r", roll=18.0, pitch=-4.0 * down)
    motion.turn("arm_lower_r", pitch=-18.0)
    for leg in LEGS:
        motion.plant(leg, np.zeros((len(t), 3)))
    return motion


def _leap(builder):
    motion = Motion(builder, 67)
    t = motion.seconds
    leave, touch = 0.62, 1.16
    air = np.clip((t - leave) / (touch - leave), 0.0, 1.0)
    lift = 4 * 0.36 * air * (1 - air)
    forward = 0.85 * eased(t, (0.40, 0.0), (0.64, 0.12), (1.16, 0.95), (1.40, 1.0))
    crouch = eased(t, (0, 0.0), (0.42, -0.20), (0.62, 0.01), (1.14, 0.0), (1.32, -0.24), (1.75, 0.0))
    motion.shift("root", y=lift, z=forward)
    motion.shift("hips", y=crouch)
    lean = eased(t, (0, 0), (0.42, 26), (0.66, -4), (1.05, -2), (1.32, 26), (1.85, 2), (2.2, 0))
    motion.turn("hips", pitch=0.45 * lean)
    for joint in ("spine_1", "spine_2", "chest"):
        motion.turn(joint, pitch=0.28 * lean)
    motion.turn("head", pitch=-0.7 * lean)
    fling = eased(t, (0, 0), (0.42, -38), (0.72, 60), (1.05, 46), (1.36, -16), (1.9, 0))
    wide = eased(t, (0.5, 0.0), (0.8, 1.0), (1.1, 1.0), (1.6, 0.0))
    for letter, side in SIDES:
        motion.turn(f"arm_upper_{letter}", roll=-side * (18.0 - 46.0 * wide), pitch=-fling)
        motion.turn(f"arm_lower_{letter}", pitch=-18.0 - 0.2 * np.abs(fling))
    tuck = eased(t, (0.55, 0.0), (0.86, 1.0), (1.12, 0.0))
    for leg, late in zip(LEGS, (0.05, 0.0), strict=True):
        trail = eased(t, (leave - 0.05 + late, 0.0), (leave + 0.12 + late, -0.20), (touch - 0.1 + late, 0.10), (touch + 0.02 + late, 0.0))
        z = forward + trail
        motion.plant(leg, np.stack([np.zeros_like(z), lift + 0.12 * tuck, z], 1), 26.0 * tuck * np.where(trail < 0, 1, -0.6))
    return motion


def _idle(builder):
    motion = Motion(builder, 121)
    t = motion.seconds
    breath, sway = np.sin(2 * np.pi * t / 2.5), np.sin(2 * np.pi * t / 5.0)
    motion.shift("hips", x=0.018 * sway, y=0.003 * breath - 0.008)
    motion.turn("hips", roll=-2.0 * sway, yaw=2.0 * sway)
    motion.turn("spine_2", roll=1.4 * sway, pitch=-1.0 * breath)
    motion.turn("chest", pitch=-1.2 * breath, roll=0.8 * sway)
    look = eased(t, (0, 0), (0.9, 0), (1.4, 34), (2.5, 32), (2.95, -26), (3.9, -24), (4.5, 0))
    motion.turn("neck", yaw=0.4 * look)
    motion.turn("head", yaw=0.6 * look, pitch=eased(t, (0, 0), (1.4, -5), (2.5, -4), (2.8, 5), (3.2, -2), (4.5, 0)))
    _arms(motion, {letter: 3.0 * sway * side for letter, side in SIDES}, bend=14.0)
    for leg in LEGS:
        motion.plant(leg, np.zeros((len(t), 3)))
    return motion
