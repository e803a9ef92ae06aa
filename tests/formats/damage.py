"""A generator of damaged glTF files, the same ones every time: values of other types and sizes, bytes turned, files cut and swollen.

``python -m tests.formats.damage [COUNT]`` reads them all and says what came of it.
"""

import copy
import json
import random
import resource
import struct
import sys
import time

from quiver.errors import QuiverError
from quiver.formats.gltf.reading import read_character
from quiver.picture import picture
from tests.formats.makers import arm, glb_bytes

COUNT = 2000
ODD_VALUES = (
    *(None, True, False, "", "x", "data:,", "../../etc/passwd", "\ud800", "a" * 100_000, [], {}, [[]], [None], {"a": {}}),
    *(
        -1,
        0,
        1,
        3,
        255,
        65_536,
        2**31,
        2**53,
        2**63,
        2**64,
        10**400,
        -(10**400),
        0.5,
        -0.0,
        1e-300,
        1e300,
        1e39,
        5126,
        5121,
        "VEC3",
        "MAT4",
    ),
    *([0, 0, 0, 0], [1e300] * 3, [0.0] * 3, [-1, 1, 1], [1] * 16, list(range(1000)), {"bufferView": 0, "componentType": 5123}),
)


def damaged(seed):
    """The damaged file of a number, as bytes."""
    chance = random.Random(seed)
    options = {"byte_weights": chance.random() < 0.3, "z_up": chance.random() < 0.3}
    good = glb_bytes(arm(**options))
    return _MAKERS[seed % len(_MAKERS)](good, chance)


def _split(glb):
    length = struct.unpack_from("<I", glb, 12)[0]
    return json.loads(glb[20 : 20 + length]), glb[20 + length + 8 :]


def _joined(tree, binary):
    text = json.dumps(tree).encode()
    text += b" " * (-len(text) % 4)
    size = 12 + 8 + len(text) + 8 + len(binary)
    head = struct.pack("<III", 0x46546C67, 2, size) + struct.pack("<II", len(text), 0x4E4F534A)
    return head + text + struct.pack("<II", len(binary), 0x004E4942) + binary


def _positions(value, path=()):
    yield path
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, each in items:
        yield from _positions(each, (*path, key))


def _put(tree, path, value):
    for key in path[:-1]:
        tree = tree[key]
    tree[path[-1]] = value


def _odd_values(good, chance):
    tree, binary = _split(good)
    for _ in range(chance.choice((1, 1, 1, 3, 10))):
        _put(tree, chance.choice([place for place in _positions(tree) if place]), copy.deepcopy(chance.choice(ODD_VALUES)))
    return _joined(tree, binary)


def _swapped_numbers(good, chance):
    tree, binary = _split(good)
    for _ in range(chance.choice((1, 2, 5))):
        number = chance.choice((chance.randrange(0, 40), chance.randrange(0, 10**6), -chance.randrange(1, 9), chance.uniform(-1e6, 1e6)))
        _put(tree, chance.choice([place for place in _positions(tree) if place and isinstance(place[-1], int | str)]), number)
    return _joined(tree, binary)


def _removed(good, chance):
    tree, binary = _split(good)
    for _ in range(chance.choice((1, 2, 4))):
        path = chance.choice([place for place in _positions(tree) if place])
        holder = tree
        for key in path[:-1]:
            holder = holder[key]
        del holder[path[-1]]
    return _joined(tree, binary)


def _turned_bytes(good, chance):
    data = bytearray(good)
    for _ in range(chance.choice((1, 4, 64))):
        data[chance.randrange(len(data))] = chance.randrange(256)
    return bytes(data)


def _turned_numbers(good, chance):
    """Only in the arrays: not a number, without end, huge, negative."""
    tree, binary = _split(good)
    data = bytearray(binary)
    for _ in range(chance.choice((1, 8, 64))):
        value = chance.choice((float("nan"), float("inf"), 3e38, -1.0, 1e-40))
        struct.pack_into("<f", data, 4 * chance.randrange(len(data) // 4), value)
    return _joined(tree, bytes(data))


def _cut(good, chance):
    return good[: chance.randrange(len(good))]


def _swollen(good, chance):
    """Many of what there is one of, or counts that the bytes do not have."""
    tree, binary = _split(good)
    what = chance.choice(("accessors", "nodes", "animations", "count", "channels", "shared"))
    if what == "count":
        for accessor in tree["accessors"]:
            accessor["count"] = chance.choice((10**6, 10**9, 2**40))
            if chance.random() < 0.7:
                accessor.pop("bufferView", None)
    elif what == "nodes":
        tree["nodes"] += [{"name": chance.choice(("n", "m"))} for _ in range(8000)]
    elif what == "animations":
        tree["animations"] *= 2000
    elif what == "channels":
        tree["animations"][0]["channels"] *= 30_000
    elif what == "shared":
        shown = next(node for node in tree["nodes"] if "mesh" in node)
        tree["nodes"] += [{key: shown[key] for key in ("mesh", "skin") if key in shown} for _ in range(3000)]
    else:
        tree["accessors"] *= 500
    return _joined(tree, binary)


def _headers(good, chance):
    data = bytearray(good)
    struct.pack_into("<I", data, chance.choice((0, 4, 8, 12, 16)), chance.choice((0, 1, 2**31, 2**32 - 1, len(good) + 4)))
    return bytes(data)


_MAKERS = (_odd_values, _odd_values, _swapped_numbers, _removed, _turned_bytes, _turned_numbers, _cut, _swollen, _headers, _odd_values)


def read(data):
    """What comes of reading a file and drawing its picture: "read", or what it is refused with. Anything else is raised."""
    try:
        character, _ = read_character(data, "damaged")
        picture(character, 60, 40)
        json.dumps([finding.as_dict() for finding in character.findings]).encode()
    except QuiverError as error:
        str(error).encode()
        return "refused"
    return "read"


def main(count=COUNT):
    """Read them all: prints how many were read and refused, the slowest, and the memory that the process took at most."""
    outcomes, slowest = {}, (0.0, 0)
    for seed in range(count):
        began = time.perf_counter()
        try:
            outcome = read(damaged(seed))
        except Exception as error:
            outcome = f"{type(error).__name__} {error}"[:90]
            print(seed, outcome)  # noqa: T201
            outcome = "traceback"
        outcomes[outcome] = outcomes.get(outcome, 0) + 1
        slowest = max(slowest, (time.perf_counter() - began, seed))
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20
    print(f"{outcomes}; slowest {slowest[0]:.2f} s (number {slowest[1]}); {memory:.2f} GB")  # noqa: T201
    return outcomes.get("traceback", 0)


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1]) if len(sys.argv) > 1 else COUNT) > 0)
