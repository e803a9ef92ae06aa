"""Sixteen float32 numbers that move as one: the vector type the kernels are written with.

A kernel written with `load`, `store`, `splat`, `sqrt`, `fused`, `larger`, `smaller`, `where_less`, `any_less`, `less_bits`, `least`,
`total_of`, `gather`, `scatter`, `load_points`, `store_points` and the operators + - * / runs two ways from the same source:

* compiled by Numba, each value is one LLVM vector ``<16 x float>``. LLVM splits it for narrower processors, so the
  same source runs on 4-, 8- and 16-wide hardware, x86 or not;
* as plain Python (``kernel.py_func``), each value is a NumPy row of any width. That is the slow reference copy.

No fast-math flag is set: an expression like ``a*b - b*a`` is exactly zero, which keeps a still character still to the bit.
Where that does not matter, `fused` multiplies and adds in one instruction if the processor has one: quicker, rounded once less.
"""

import math
import operator

import numpy as np
from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.core.typing.templates import AbstractTemplate, infer_global, signature
from numba.extending import lower_builtin, models, overload, register_model

LANES = 16
"""Chains, or fans of tetrahedra, in one block."""

_VECTOR = ir.VectorType(ir.FloatType(), LANES)
_INT32 = ir.IntType(32)


class LanesType(types.Type):
    """The Numba type of one lane vector."""

    def __init__(self):
        super().__init__(name=f"lanes{LANES}")


lanes_type = LanesType()


@register_model(LanesType)
class _LanesModel(models.PrimitiveModel):
    def __init__(self, dmm, fe_type):
        super().__init__(dmm, fe_type, _VECTOR)


def _broadcast(context, builder, value, value_type):
    """Turn a scalar of any number type into a vector; a vector stays as it is."""
    if value_type is lanes_type:
        return value
    scalar = context.cast(builder, value, value_type, types.float32)
    empty = ir.Constant(_VECTOR, ir.Undefined)
    first = builder.insert_element(empty, scalar, ir.Constant(_INT32, 0))
    return builder.shuffle_vector(first, empty, ir.Constant(ir.VectorType(_INT32, LANES), [0] * LANES))


def load(array, row):
    """Read row ``row`` of a float32 array of shape (rows, LANES)."""
    return array[row].copy()


def store(array, row, value):
    """Write a lane vector to row ``row`` of a float32 array of shape (rows, LANES)."""
    array[row] = value


def splat(value):
    """The same number in every lane."""
    return np.float32(value)


def sqrt(value):
    """Square root, lane by lane; the argument is not negative."""
    return np.sqrt(value)


def fused(left, right, more):
    """left * right + more, lane by lane."""
    return left * right + more


def larger(left, right):
    """The larger of two, lane by lane."""
    return where_less(left, right, right, left)


def smaller(left, right):
    """The smaller of two, lane by lane."""
    return where_less(left, right, left, right)


def where_less(left, right, yes, no):
    """``yes`` in the lanes where left < right, ``no`` in the others."""
    return np.where(np.less(left, right), yes, no).astype(np.float32)


def gather(points, indices, row):
    """The points (N, 4) that the indices of a row name, one for each lane, as four vectors x, y, z, w."""
    found = points[indices[row]]
    return found[:, 0], found[:, 1], found[:, 2], found[:, 3]


def scatter(points, indices, row, x, y, z, w):
    """Write four vectors to the points that the indices of a row name; a point named twice must get the same twice."""
    where = indices[row]
    points[where, 0], points[where, 1], points[where, 2], points[where, 3] = x, y, z, w


def load_points(points, row):
    """Sixteen points that follow each other, of points (16 R, 4), as four vectors x, y, z, w."""
    found = points[LANES * row : LANES * (row + 1)]
    return found[:, 0].copy(), found[:, 1].copy(), found[:, 2].copy(), found[:, 3].copy()


def store_points(points, row, x, y, z, w):
    """Write four vectors to sixteen points that follow each other."""
    rows = points[LANES * row : LANES * (row + 1)]
    rows[:, 0], rows[:, 1], rows[:, 2], rows[:, 3] = x, y, z, w


def aligned(shape):
    """Float32 zeros (..., LANES) whose rows begin where the processor reads them fastest."""
    size = math.prod(shape)
    room = np.zeros(size + LANES, np.float32)
    start = -(room.__array_interface__["data"][0] // 4) % LANES
    return room[start : start + size].reshape(shape)


def copied(rows):
    """A copy of rows, aligned likewise."""
    out = aligned(rows.shape)
    out[:] = rows
    return out


def any_less(left, right):
    """Whether left < right in at least one lane: a plain truth value, to pass over work that no lane needs."""
    return bool(np.any(np.less(left, right)))


def less_bits(left, right):
    """The lanes where left < right as the bits of a number, the first lane the lowest."""
    return int(np.dot(np.broadcast_to(np.less(left, right), LANES), 1 << np.arange(LANES)))


def least(value):
    """The least of the lanes."""
    return np.min(value)


def total_of(value):
    """The sum of the lanes, from the first to the last, in float64."""
    return float(sum(np.broadcast_to(value, LANES).astype(float)))


def lowest(bits):
    """The number of the lowest bit that is set."""
    return (bits & -bits).bit_length() - 1


def _teach(function, count, generate, accepts=None):
    """Teach Numba the vector form of a function of ``count`` vectors or scalars, at least one of them a vector."""

    def accepts_numbers(args):
        return (lanes_type in args or function is splat) and all(a is lanes_type or isinstance(a, types.Number) for a in args)

    @infer_global(function)
    class _Template(AbstractTemplate):
        def generic(self, args, kws):
            if len(args) == count and (accepts or accepts_numbers)(args):
                return signature(_RESULTS.get(function, lanes_type), *args)
            return None

    @lower_builtin(function, *[types.Any] * count)
    def _lower(context, builder, sig, args):
        if accepts is None:
            args = [_broadcast(context, builder, value, kind) for value, kind in zip(args, sig.args, strict=True)]
        return generate(context, builder, sig, args)


def _is_row_access(args):
    array, row = args[:2]
    is_rows = isinstance(array, types.Array) and array.ndim == 2 and array.layout == "C" and array.dtype == types.float32
    return is_rows and isinstance(row, types.Integer) and (len(args) == 2 or args[2] is lanes_type)


def _row_pointer(context, builder, sig, args):
    data = context.make_array(sig.args[0])(context, builder, args[0]).data
    row = context.cast(builder, args[1], sig.args[1], types.intp)
    first = builder.mul(row, ir.Constant(row.type, LANES))
    return builder.bitcast(builder.gep(data, [first]), _VECTOR.as_pointer())


def _generate_load(context, builder, sig, args):
    return builder.load(_row_pointer(context, builder, sig, args), align=4)


def _generate_store(context, builder, sig, args):
    builder.store(args[2], _row_pointer(context, builder, sig, args), align=4)
    return context.get_dummy_value()


def _generate_sqrt(context, builder, sig, args):
    kind = ir.FunctionType(_VECTOR, [_VECTOR])
    function = cgutils.get_or_insert_function(builder.module, kind, f"llvm.sqrt.v{LANES}f32")
    return builder.call(function, args)


def _generate_fused(context, builder, sig, args):
    kind = ir.FunctionType(_VECTOR, [_VECTOR] * 3)
    return builder.call(cgutils.get_or_insert_function(builder.module, kind, f"llvm.fmuladd.v{LANES}f32"), args)


def _generate_choice(pick):
    def generate(context, builder, sig, args):
        less = builder.fcmp_ordered("<", args[0], args[1])
        yes, no = pick(args)
        return builder.select(less, yes, no)

    return generate


def _generate_instruction(name):
    return lambda context, builder, sig, args: getattr(builder, name)(*args)


def _generate_any_less(context, builder, sig, args):
    less = builder.bitcast(builder.fcmp_ordered("<", args[0], args[1]), ir.IntType(LANES))
    return builder.icmp_unsigned("!=", less, ir.Constant(less.type, 0))


def _generate_less_bits(context, builder, sig, args):
    less = builder.bitcast(builder.fcmp_ordered("<", args[0], args[1]), ir.IntType(LANES))
    return builder.zext(less, ir.IntType(64))


def _generate_least(context, builder, sig, args):
    (value,), width = args, LANES
    while width > 1:
        width //= 2
        other = _shuffled(builder, value, value, [(lane + width) % LANES for lane in range(LANES)])
        value = builder.select(builder.fcmp_ordered("<", other, value), other, value)
    return builder.extract_element(value, ir.Constant(_INT32, 0))


def _generate_total(context, builder, sig, args):
    total = ir.Constant(ir.DoubleType(), 0.0)
    for lane in range(LANES):
        number = builder.extract_element(args[0], ir.Constant(_INT32, lane))
        total = builder.fadd(total, builder.fpext(number, ir.DoubleType()))
    return total


def _generate_lowest(context, builder, sig, args):
    bits = context.cast(builder, args[0], sig.args[0], types.int64)
    return builder.cttz(bits, ir.Constant(ir.IntType(1), 1))


_QUAD = ir.VectorType(ir.FloatType(), 4)


def _shuffled(builder, left, right, pattern):
    return builder.shuffle_vector(left, right, ir.Constant(ir.VectorType(_INT32, len(pattern)), list(pattern)))


def _transposed(builder, rows):
    """Transpose four vectors in each group of four lanes: x y z w of four points become four x, four y, four z, four w."""

    def everywhere(pattern):
        return [place + group for group in range(0, LANES, 4) for place in pattern]

    low, high = everywhere([0, LANES, 1, LANES + 1]), everywhere([2, LANES + 2, 3, LANES + 3])
    pairs = [_shuffled(builder, a, b, half) for half in (low, high) for a, b in ((rows[0], rows[1]), (rows[2], rows[3]))]
    first, second = everywhere([0, 1, LANES, LANES + 1]), everywhere([2, 3, LANES + 2, LANES + 3])
    return [_shuffled(builder, pairs[k], pairs[k + 1], half) for k in (0, 2) for half in (first, second)]


def _point_pointers(context, builder, sig, args):
    points = context.make_array(sig.args[0])(context, builder, args[0]).data
    indices = context.make_array(sig.args[1])(context, builder, args[1]).data
    row = context.cast(builder, args[2], sig.args[2], types.intp)
    first = builder.mul(row, ir.Constant(row.type, LANES))
    pointers = []
    for lane in range(LANES):
        index = builder.load(builder.gep(indices, [builder.add(first, ir.Constant(row.type, lane))]))
        place = builder.mul(builder.sext(index, row.type), ir.Constant(row.type, 4))
        pointers.append(builder.bitcast(builder.gep(points, [place]), _QUAD.as_pointer()))
    return pointers


def _generate_gather(context, builder, sig, args):
    quads = [builder.load(pointer, align=4) for pointer in _point_pointers(context, builder, sig, args)]
    rows = []
    for k in range(4):
        # Row k holds points k, k + 4, k + 8, k + 12, so that after the transposition the lanes are in order.
        low, high = (_shuffled(builder, quads[k + a], quads[k + a + 4], range(8)) for a in (0, 8))
        rows.append(_shuffled(builder, low, high, range(16)))
    return context.make_tuple(builder, sig.return_type, _transposed(builder, rows))


def _generate_scatter(context, builder, sig, args):
    pointers = _point_pointers(context, builder, sig, args)
    rows = _transposed(builder, args[3:7])
    for k in range(4):
        for group in range(4):
            quad = _shuffled(builder, rows[k], rows[k], range(4 * group, 4 * group + 4))
            builder.store(quad, pointers[k + 4 * group], align=4)
    return context.get_dummy_value()


_IN_ORDER = [4 * (lane % 4) + lane // 4 for lane in range(LANES)]
"""Four rows of four points each, transposed, hold point 4 j + g in lane 4 g + j; likewise the other way."""


def _row_pointers(context, builder, sig, args):
    points = context.make_array(sig.args[0])(context, builder, args[0]).data
    row = context.cast(builder, args[1], sig.args[1], types.intp)
    first = builder.mul(row, ir.Constant(row.type, 4 * LANES))
    places = [builder.add(first, ir.Constant(row.type, LANES * k)) for k in range(4)]
    return [builder.bitcast(builder.gep(points, [place]), _VECTOR.as_pointer()) for place in places]


def _generate_load_points(context, builder, sig, args):
    rows = [builder.load(pointer, align=4) for pointer in _row_pointers(context, builder, sig, args)]
    return context.make_tuple(builder, sig.return_type, [_shuffled(builder, row, row, _IN_ORDER) for row in _transposed(builder, rows)])


def _generate_store_points(context, builder, sig, args):
    rows = _transposed(builder, [_shuffled(builder, row, row, _IN_ORDER) for row in args[2:6]])
    for pointer, row in zip(_row_pointers(context, builder, sig, args), rows, strict=True):
        builder.store(row, pointer, align=4)
    return context.get_dummy_value()


def _are_points(points):
    return isinstance(points, types.Array) and points.ndim == 2 and points.layout == "C" and points.dtype == types.float32


def _is_points_row(args):
    return _are_points(args[0]) and isinstance(args[1], types.Integer) and all(value is lanes_type for value in args[2:])


def _is_point_access(args):
    points, indices, row = args[:3]
    is_rows = isinstance(indices, types.Array) and indices.ndim == 2 and indices.layout == "C" and indices.dtype == types.int32
    return _are_points(points) and is_rows and isinstance(row, types.Integer) and all(value is lanes_type for value in args[3:])


_RESULTS = {
    store: types.void,
    scatter: types.void,
    store_points: types.void,
    any_less: types.boolean,
    less_bits: types.int64,
    least: types.float32,
    total_of: types.float64,
    lowest: types.int64,
    gather: types.UniTuple(lanes_type, 4),
    load_points: types.UniTuple(lanes_type, 4),
}
_teach(gather, 3, _generate_gather, _is_point_access)
_teach(scatter, 7, _generate_scatter, _is_point_access)
_teach(load_points, 2, _generate_load_points, _is_points_row)
_teach(store_points, 6, _generate_store_points, _is_points_row)
_teach(any_less, 2, _generate_any_less)
_teach(less_bits, 2, _generate_less_bits)
_teach(least, 1, _generate_least)
_teach(total_of, 1, _generate_total)
_teach(lowest, 1, _generate_lowest, lambda args: isinstance(args[0], types.Integer))
_teach(operator.add, 2, _generate_instruction("fadd"))
_teach(operator.sub, 2, _generate_instruction("fsub"))
_teach(operator.mul, 2, _generate_instruction("fmul"))
_teach(operator.truediv, 2, _generate_instruction("fdiv"))
_teach(operator.neg, 1, _generate_instruction("fneg"))
_teach(load, 2, _generate_load, _is_row_access)
_teach(store, 3, _generate_store, _is_row_access)
_teach(splat, 1, lambda context, builder, sig, args: args[0])
_teach(sqrt, 1, _generate_sqrt)
_teach(fused, 3, _generate_fused)
_teach(larger, 2, _generate_choice(lambda args: (args[1], args[0])))
_teach(smaller, 2, _generate_choice(lambda args: (args[0], args[1])))
_teach(where_less, 4, _generate_choice(lambda args: (args[2], args[3])))


def _are_numbers(*kinds):
    return all(isinstance(kind, types.Number) for kind in kinds)


# The same words for plain numbers, so that a formula can be compiled for a single point too.


@overload(larger)
def _larger_number(left, right):
    return (lambda left, right: left if left > right else right) if _are_numbers(left, right) else None


@overload(smaller)
def _smaller_number(left, right):
    return (lambda left, right: left if left < right else right) if _are_numbers(left, right) else None


@overload(where_less)
def _number_where_less(left, right, yes, no):
    return (lambda left, right, yes, no: yes if left < right else no) if _are_numbers(left, right, yes, no) else None


@overload(any_less)
def _is_number_less(left, right):
    return (lambda left, right: left < right) if _are_numbers(left, right) else None


@overload(sqrt)
def _sqrt_of_number(value):
    return (lambda value: math.sqrt(value)) if _are_numbers(value) else None
