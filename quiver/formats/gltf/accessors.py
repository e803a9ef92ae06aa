"""Accessors of glTF 2.0: typed arrays in the buffers, dense or sparse, normalised or not."""

import numpy as np

from quiver.formats.gltf.container import refused

COMPONENT_DTYPES = {5120: np.int8, 5121: np.uint8, 5122: np.int16, 5123: np.uint16, 5125: np.uint32, 5126: np.float32}
COMPONENT_CODES = {np.dtype(dtype): code for code, dtype in COMPONENT_DTYPES.items()}
TYPE_WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}
LARGEST_COUNT = 50_000_000
ARRAY_TARGET, INDEX_TARGET = 34962, 34963
LARGE = 2**22
"""Bytes from which on an array is kept as it is instead of being copied."""


def read_accessor(document, index, what, widths=None):
    """The array of one accessor, shape (count, width); normalised integers become float32 in -1..1.

    ``what`` names the accessor's use in messages; ``widths`` limits the allowed widths. Raises BadFormat.
    """
    accessors = document.items("accessors")
    where = f"accessors[{index}] ({what})"
    if not isinstance(index, int) or not 0 <= index < len(accessors):
        raise refused("missing-accessor", f"expected an accessor number below {len(accessors)}, got {index!r}", what)
    accessor = accessors[index]
    count, width = accessor.get("count"), TYPE_WIDTHS.get(accessor.get("type"))
    dtype = COMPONENT_DTYPES.get(accessor.get("componentType"))
    if dtype is None or width is None or (widths and width not in widths):
        raise refused("wrong-type", f"got {accessor.get('type')!r} of component {accessor.get('componentType')!r}", where)
    if not isinstance(count, int) or not 0 < count <= LARGEST_COUNT:
        raise refused("absurd-size", f"expected 1 to {LARGEST_COUNT} elements, got {count!r}", where)
    if accessor["type"].startswith("MAT") and np.dtype(dtype).itemsize < 4:
        raise refused("wrong-type", "matrices of small integers are not read", where)
    if "bufferView" in accessor:
        values = _view(document, accessor["bufferView"], accessor.get("byteOffset", 0), count, width, np.dtype(dtype), where)
    else:
        values = np.zeros((count, width), dtype)
    if "sparse" in accessor:
        values = _with_sparse(document, accessor["sparse"], values, where)
    if accessor.get("normalized"):
        values = _as_fractions(values)
    return values


def _with_sparse(document, sparse, values, where):
    try:
        count, indices, replaced = sparse["count"], sparse["indices"], sparse["values"]
        kind = np.dtype(COMPONENT_DTYPES[indices["componentType"]])
        places = _view(document, indices["bufferView"], indices.get("byteOffset", 0), count, 1, kind, where)[:, 0]
        width = values.shape[1]
        new = _view(document, replaced["bufferView"], replaced.get("byteOffset", 0), count, width, values.dtype, where)
    except (KeyError, TypeError) as error:
        raise refused("broken-sparse", f"the sparse part is not complete: {error!r}", where) from error
    if places.max(initial=0) >= len(values):
        raise refused("broken-sparse", f"a sparse index {places.max()} is beyond {len(values)} elements", where)
    values = values.copy()
    values[places] = new
    return values


def _as_fractions(values):
    if values.dtype.kind == "f":
        return values
    return np.maximum(values.astype(np.float32) / np.iinfo(values.dtype).max, -1.0)


def _view(document, view_index, offset, count, width, dtype, where):
    views = document.items("bufferViews")
    if not isinstance(view_index, int) or not 0 <= view_index < len(views):
        raise refused("missing-bytes", f"expected a buffer view below {len(views)}, got {view_index!r}", where)
    view = views[view_index]
    buffer_index, start, length = view.get("buffer"), view.get("byteOffset", 0), view.get("byteLength")
    element = width * dtype.itemsize
    stride = view.get("byteStride", element)
    numbers = (buffer_index, start, length, stride, offset)
    if not all(isinstance(n, int) and n >= 0 for n in numbers) or not isinstance(count, int) or buffer_index >= len(document.buffers):
        raise refused("missing-bytes", "the buffer view does not describe bytes of this file", where)
    if stride < element:
        raise refused("wrong-type", f"a stride of {stride} bytes is shorter than one element of {element}", where)
    end = offset + stride * (count - 1) + element
    buffer = document.buffers[buffer_index]
    if end > length or start + end > len(buffer):
        raise refused("missing-bytes", f"expected {end} bytes in the buffer view, it has {min(length, len(buffer) - start)}", where)
    raw = np.frombuffer(buffer, np.uint8, end - offset, start + offset)
    rows = np.lib.stride_tricks.as_strided(raw, (count, element), (stride, 1))
    return np.ascontiguousarray(rows).view(dtype.newbyteorder("<")).astype(dtype, copy=False)


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
