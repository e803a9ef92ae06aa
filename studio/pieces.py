"""Big files in the database: compressed pieces, so that no row and no request holds the whole of one."""

import zlib

PIECE_BYTES = 4 * 2**20


def packed(parts):
    """Compressed pieces of a file that comes in parts of any size; holds little more than one piece at a time."""
    waiting = bytearray()
    for part in parts:
        waiting += part
        while len(waiting) >= PIECE_BYTES:
            yield zlib.compress(bytes(waiting[:PIECE_BYTES]), 1)
            del waiting[:PIECE_BYTES]
    if waiting:
        yield zlib.compress(bytes(waiting), 1)


def unpacked(piece):
    """The bytes of one piece."""
    return zlib.decompress(piece)
