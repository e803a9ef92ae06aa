"""Point caches: the positions of a mesh's vertices, frame by frame, as PC2 and MDD files. Both are written as frames come.

PC2: "POINTCACHE2\\0", int32 version 1, int32 points, float32 start, float32 sample rate, int32 samples; then float32 x y z,
little-endian. MDD: int32 frames, int32 points, float32 seconds of each frame; then float32 x y z, big-endian.
"""

import struct

import numpy as np

from quiver.errors import BadFormat

PC2_HEAD = struct.Struct("<12siiffi")


def pc2_head(points, first_frame, frames, step=1):
    """The file's beginning; each frame then follows as `pc2_frame`, ``step`` frames after the one before."""
    return PC2_HEAD.pack(b"POINTCACHE2\0", 1, points, float(first_frame), float(step), frames)


def pc2_frame(positions):
    """One frame of positions (V, 3)."""
    return np.ascontiguousarray(positions, "<f4").tobytes()


def mdd_head(points, seconds):
    """The file's beginning, with the ``seconds`` of all frames; each frame then follows as `mdd_frame`."""
    return struct.pack(">ii", len(seconds), points) + np.asarray(seconds, ">f4").tobytes()


def mdd_frame(positions):
    """One frame of positions (V, 3)."""
    return np.ascontiguousarray(positions, ">f4").tobytes()


def read_pc2(data):
    """(first frame, frames from sample to sample, positions float32 (F, V, 3)). Raises BadFormat."""
    if len(data) < PC2_HEAD.size:
        raise BadFormat(f"expected a PC2 file of at least {PC2_HEAD.size} bytes, got {len(data)}")
    name, version, points, start, step, frames = PC2_HEAD.unpack_from(data)
    body = data[PC2_HEAD.size :]
    if name != b"POINTCACHE2\0" or version != 1 or points < 0 or frames < 0 or len(body) != frames * points * 12:
        raise BadFormat(f"expected a PC2 file of version 1 with {frames} x {points} points, got {len(body)} bytes of them")
    return start, step, np.frombuffer(body, "<f4").reshape(frames, points, 3)


def read_mdd(data):
    """(seconds (F,), positions float32 (F, V, 3)). Raises BadFormat."""
    frames, points = struct.unpack_from(">ii", data) if len(data) >= 8 else (-1, -1)
    if frames < 0 or points < 0 or len(data) != 8 + 4 * frames + 12 * frames * points:
        raise BadFormat(f"expected an MDD file with {frames} x {points} points, got {len(data)} bytes")
    return np.frombuffer(data, ">f4", frames, 8), np.frombuffer(data, ">f4", -1, 8 + 4 * frames).reshape(frames, points, 3)
