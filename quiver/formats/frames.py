"""The stream of frames that the stage reads: length-prefixed messages, little-endian.

message   u32 length of what follows, u32 kind
kind 0    JSON: the header (nodes, rate, bound) or the ending (state)
kind 1    u32 first frame, u32 frames F, then int16 rotations (F, K, 4) as fractions of 32767,
          padded to four bytes, float32 translations (F, M, 3), float32 scales (F, N, 3),
          float32 step, int16 offsets (F, R, 3) of moved vertices in steps [file units], padded to four bytes
"""

import json
import struct

import numpy as np

STEPS = 32767
TURN_BOUND_DEGREES = float(np.degrees(2.0 * 2.0 * 0.5 / STEPS))
"""The most that rounding a quaternion's four parts can turn a joint: twice the length of the error vector."""


OFFSET_STEP = 1e-4
"""[m]: offsets of vertices are rounded to multiples of it, so they are off by at most half of it."""


def quantised(offsets, step):
    """Offsets as int16 multiples of a step, and the step: a larger one where some offset does not fit."""
    largest = float(np.abs(offsets).max(initial=0.0))
    step = max(step, largest / STEPS)
    return np.round(offsets / step).astype("<i2"), step


def header(rotated, translated, scaled, frame_rate, first_frame, frame_count, moved=None, names=None):
    """The first message: which nodes the chunks speak of, and which vertices {mesh index: [vertex, ...]}; ``names`` {mesh index: name} of
    meshes that are not the file's.
    """
    names = names or {}
    return _json_message(
        {
            "rotated": [int(node) for node in rotated],
            "translated": [int(node) for node in translated],
            "scaled": [int(node) for node in scaled],
            "frameRate": frame_rate,
            "firstFrame": first_frame,
            "frames": frame_count,
            "boundDegrees": TURN_BOUND_DEGREES,
            "moved": [
                {"mesh": int(mesh), "vertices": [int(v) for v in vertices], "name": names.get(int(mesh), "")}
                for mesh, vertices in (moved or {}).items()
            ],
        }
    )


def chunk(first_frame, rotations, translations, scales=None, offsets=None, step=0.0):
    """A chunk message of rotations (F, K, 4), translations (F, M, 3), scales (F, N, 3) and int16 offsets (F, R, 3) in steps."""
    packed = np.round(np.asarray(rotations, float) * STEPS).astype("<i2").tobytes()
    packed += b"\0" * (-len(packed) % 4)
    scales = np.zeros((len(rotations), 0, 3)) if scales is None else scales
    offsets = np.zeros((len(rotations), 0, 3), "<i2") if offsets is None else np.asarray(offsets, "<i2")
    rest = np.asarray(translations, "<f4").tobytes() + np.asarray(scales, "<f4").tobytes()
    rest += struct.pack("<f", step) + offsets.tobytes()
    rest += b"\0" * (-len(rest) % 4)
    body = struct.pack("<II", first_frame, len(rotations)) + packed + rest
    return struct.pack("<II", len(body), 1) + body


def ending(facts):
    """The last message: how it ended."""
    return _json_message({"end": True, **facts})


def read_messages(data):
    """Read a stream back, as (header, [(first frame, rotations, translations, scales, offsets)], ending or None)."""
    at, head, chunks, end = 0, None, [], None
    while at < len(data):
        length, kind = struct.unpack_from("<II", data, at)
        body = data[at + 8 : at + 8 + length]
        at += 8 + length
        if kind == 0:
            value = json.loads(body)
            head, end = (head, value) if value.get("end") else (value, end)
            continue
        chunks.append(_read_chunk(head, body))
    return head, chunks, end


def _read_chunk(head, body):
    first, count = struct.unpack_from("<II", body)
    at = 8

    def take(dtype, shape):
        nonlocal at
        values = np.frombuffer(body, dtype, int(np.prod(shape)), at).reshape(shape)
        at += values.nbytes + (-values.nbytes % 4)
        return values

    rotations = take("<i2", (count, len(head["rotated"]), 4)) / STEPS
    translations, scales = take("<f4", (count, len(head["translated"]), 3)), take("<f4", (count, len(head["scaled"]), 3))
    step = take("<f4", (1,))[0]
    return first, rotations, translations, scales, take("<i2", (count, sum(len(each["vertices"]) for each in head["moved"]), 3)) * step


def _json_message(value):
    body = json.dumps(value).encode()
    return struct.pack("<II", len(body), 0) + body
