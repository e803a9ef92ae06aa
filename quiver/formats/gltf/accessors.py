"""Accessors of glTF 2.0: typed arrays in the buffers, dense or sparse, normalised or not."""

import numpy as np

from quiver.formats.gltf.container import refused

COMPONENT_DTYPES = {5120: np.int8, 5121: np.uint8, 5122: np.int16, 5123: np.uint16, 5125: np.uint32, 5126: np.float32}
COMPONENT_CODES = {np.dtype(dtype): code for code, dtype in COMPONENT_DTYPES.items()}
TYPE_WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}
ARRAY_TARGET, INDEX_TARGET = 34962, 34963
LARGE = 2**22
"""Bytes from which on an array is kept as it is instead of being copied."""


def read_accessor(document, index, what, widths=None):
    """The array of one accessor, shape (count, width); normalised integers become float32 in -1..1. It is shared: do not change it.

    ``what`` names the accessor's use in messages; ``widths`` limits the allowed widths. Raises BadFormat.
    """
    accessors = document.parts["accessors"]
    if index is None or index >= len(accessors):
        raise refused("missing-accessor", f"expected an accessor number below {len(accessors)}, got {index}", what)
    if index not in document.arrays:
        document.arrays[index] = _read(document, accessors[index], f"accessors[{index}] ({what})")
    values = document.arrays[index]
    if widths and values.shape[1] not in widths:
        raise refused("wrong-type", f"got {accessors[index].type!r}", f"accessors[{index}] ({what})")
    return values


def _read(document, accessor, where):
    count, width = accessor.count, TYPE_WIDTHS.get(accessor.type)
    dtype = COMPONENT_DTYPES.get(accessor.component_type)
    if dtype is None or width is None:
        raise refused("wrong-type", f"got {accessor.type!r} of component {accessor.component_type}", where)
    if accessor.type.startswith("MAT") and np.dtype(dtype).itemsize < 4:
        raise refused("wrong-type", "matrices of small integers are not read", where)
    # Whatever a file says, there are no more elements than it has bytes: what is left out is zero, and must not fill the memory.
    if count > document.byte_count:
        raise refused("absurd-size", f"expected at most {document.byte_count} elements, as many as the file has bytes, got {count}", where)
    if accessor.buffer_view is not None:
        values = _view(document, accessor.buffer_view, accessor.byte_offset, count, width, np.dtype(dtype), where)
    else:
        values = np.zeros((count, width), dtype)
    if accessor.sparse:
        values = _with_sparse(document, accessor.sparse, values, where)
    if accessor.normalized:
        values = _as_fractions(values)
    values.flags.writeable = False
    return values


def _with_sparse(document, sparse, values, where):
    kind = COMPONENT_DTYPES.get(sparse.indices.component_type)
    if kind is None or np.dtype(kind).kind != "u":
        raise refused("broken-sparse", f"expected sparse indices of unsigned integers, got {sparse.indices.component_type}", where)
    rows = _view(document, sparse.indices.buffer_view, sparse.indices.byte_offset, sparse.count, 1, np.dtype(kind), where)[:, 0]
    width = values.shape[1]
    new = _view(document, sparse.values.buffer_view, sparse.values.byte_offset, sparse.count, width, values.dtype, where)
    if rows.max(initial=0) >= len(values):
        raise refused("broken-sparse", f"a sparse index {rows.max()} is beyond {len(values)} elements", where)
    values = values.copy()
    values[rows] = new
    return values


def _as_fractions(values):
    if values.dtype.kind == "f":
        return values
    return np.maximum(values.astype(np.float32) / np.iinfo(values.dtype).max, -1.0)


def _view(document, view_index, offset, count, width, dtype, where):
    views = document.parts["bufferViews"]
    if view_index >= len(views):
        raise refused("missing-bytes", f"expected a buffer view below {len(views)}, got {view_index}", where)
    view = views[view_index]
    element = width * dtype.itemsize
    stride = view.byte_stride or element
    if view.buffer >= len(document.buffers):
        raise refused("missing-bytes", "the buffer view does not describe bytes of this file", where)
    if stride < element:
        raise refused("wrong-type", f"a stride of {stride} bytes is shorter than one element of {element}", where)
    end = offset + stride * (count - 1) + element
    buffer = document.buffers[view.buffer]
    if end > view.byte_length or view.byte_offset + end > len(buffer):
        there = max(min(view.byte_length, len(buffer) - view.byte_offset), 0)
        raise refused("missing-bytes", f"expected {end} bytes in the buffer view, it has {there}", where)
    raw = np.frombuffer(buffer, np.uint8, end - offset, view.byte_offset + offset)
    rows = np.lib.stride_tricks.as_strided(raw, (count, element), (stride, 1))
    return np.ascontiguousarray(rows).view(dtype.newbyteorder("<")).astype(dtype, copy=True)


def append_bytes(document, values):
    """Add an array's bytes to the document's first buffer and return where they begin.

    A large array is not copied: it must stay as it is until the document is written, and cannot be read back before.
    """
    if not document.buffers:
        document.buffers.append(bytearray())
        document.tree["buffers"] = [{"byteLength": 0}]
    if not isinstance(document.buffers[0], bytearray):
        document.buffers[0] = bytearray(document.buffers[0])
    padding = b"\0" * (-document.length_of(0) % 4)
    start = document.length_of(0) + len(padding)
    added = memoryview(np.ascontiguousarray(values)).cast("B") if values.size else b""
    if document.tail or len(added) > LARGE:
        document.tail += [padding, added]
    else:
        document.buffers[0] += padding
        document.buffers[0] += added
    document.tree["buffers"][0]["byteLength"] = document.length_of(0)
    return start


def append_accessor(document, values, kind, bounds=False, target=None):
    """Add an array (count, width) to the document's first buffer and return the new accessor's number.

    ``kind`` is glTF's type name. ``bounds`` writes min and max, which animation inputs and positions must have.
    """
    values = np.ascontiguousarray(values)
    start = append_bytes(document, values)
    view = {"buffer": 0, "byteOffset": start, "byteLength": values.nbytes}
    if target:
        view["target"] = target
    views = document.tree.setdefault("bufferViews", [])
    views.append(view)
    accessor = {
        "bufferView": len(views) - 1,
        "componentType": COMPONENT_CODES[values.dtype],
        "count": len(values),
        "type": kind,
    }
    if bounds:
        flat = values.reshape(len(values), -1)
        accessor["min"], accessor["max"] = flat.min(0).tolist(), flat.max(0).tolist()
    accessors = document.tree.setdefault("accessors", [])
    accessors.append(accessor)
    return len(accessors) - 1
