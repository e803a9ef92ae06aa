"""A triangular matrix by panels of sixteen rows, times three coordinates at once: what the solves of a sheet spend their time in.

Values are rows of sixteen, one for each column that a panel has outside of its own square; points are rows of a matrix (M, 4). Pointers
instead of arrays in the inner loops, and sums that do not wait for each other: three times as quick as the same in plain Numba, for a
sheet of 1,024 particles.
"""

import numpy as np
from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic, overload

from quiver.kernels.lanes import LANES, lanes_type

TOGETHER = 4
"""Columns of one round; every second of them goes to the same sum."""
_VECTOR, _FLOAT, _I32, _I64 = ir.VectorType(ir.FloatType(), LANES), ir.FloatType(), ir.IntType(32), ir.IntType(64)


def _data(context, builder, sig, args, number):
    return context.make_array(sig.args[number])(context, builder, args[number]).data


def _everywhere(builder, pointer, offset):
    """The number ``offset`` places after a pointer, in every lane."""
    value = builder.load(builder.gep(pointer, [_I64(offset)]))
    one = builder.insert_element(ir.Constant(_VECTOR, ir.Undefined), value, _I32(0))
    return builder.shuffle_vector(one, one, ir.Constant(ir.VectorType(_I32, LANES), [0] * LANES))


def _row(builder, values, number):
    return builder.load(builder.bitcast(builder.gep(values, [builder.mul(number, _I64(LANES))]), _VECTOR.as_pointer()), align=4)


def _fused(builder, *args):
    return builder.call(
        cgutils.get_or_insert_function(builder.module, ir.FunctionType(_VECTOR, [_VECTOR] * 3), "llvm.fmuladd.v16f32"), args
    )


@intrinsic
def _sum_of_columns(typing, first, end, ind, value, w):
    """Three rows of sixteen: the sum of values first..end-1 times the rows of w (M, 4) that ``ind`` names."""

    def generate(context, builder, sig, args):
        indices, values, rows = (_data(context, builder, sig, args, k) for k in (2, 3, 4))
        nothing = ir.Constant(_VECTOR, [0.0] * LANES)

        def with_column(at, sums):
            number = builder.zext(builder.load(builder.gep(indices, [at])), _I64)
            point, row = builder.gep(rows, [builder.mul(number, _I64(4))]), _row(builder, values, at)
            return [_fused(builder, row, _everywhere(builder, point, axis), sums[axis]) for axis in range(3)]

        begun = builder.block
        head, body, tail, more, out = (builder.append_basic_block(name) for name in ("head", "body", "tail", "more", "out"))
        builder.branch(head)
        builder.position_at_end(head)
        at, sums = builder.phi(_I64), [builder.phi(_VECTOR) for _ in range(6)]
        ahead = builder.add(at, _I64(TOGETHER))
        builder.cbranch(builder.icmp_signed("<=", ahead, args[1]), body, tail)
        builder.position_at_end(body)
        halves = [sums[:3], sums[3:]]
        for k in range(TOGETHER):
            halves[k % 2] = with_column(builder.add(at, _I64(k)), halves[k % 2])
        for phi, start, then in zip([at, *sums], [args[0], *[nothing] * 6], [ahead, *halves[0], *halves[1]], strict=True):
            phi.add_incoming(start, begun)
            phi.add_incoming(then, body)
        builder.branch(head)
        builder.position_at_end(tail)
        one, rest = builder.phi(_I64), [builder.phi(_VECTOR) for _ in range(3)]
        builder.cbranch(builder.icmp_signed("<", one, args[1]), more, out)
        builder.position_at_end(more)
        then = [builder.add(one, _I64(1)), *with_column(one, rest)]
        for phi, start, last in zip([one, *rest], [at, *sums[:3]], then, strict=True):
            phi.add_incoming(start, head)
            phi.add_incoming(last, more)
        builder.branch(tail)
        builder.position_at_end(out)
        return context.make_tuple(builder, sig.return_type, [builder.fadd(rest[axis], sums[3 + axis]) for axis in range(3)])

    return types.UniTuple(lanes_type, 3)(types.int64, types.int64, ind, value, w), generate


@intrinsic
def _times_square(typing, squares, panel, x, y, z):
    """Three rows of sixteen times a panel's square, which is stored column by column."""

    def generate(context, builder, sig, args):
        values, first = _data(context, builder, sig, args, 0), builder.mul(args[1], _I64(LANES))
        room = cgutils.alloca_once(builder, ir.ArrayType(_VECTOR, 3))
        # Through memory: from there a number is in every lane at no cost.
        for axis in range(3):
            builder.store(args[2 + axis], builder.gep(room, [_I32(0), _I32(axis)]))
        numbers = builder.bitcast(room, _FLOAT.as_pointer())
        sums = [[ir.Constant(_VECTOR, [0.0] * LANES)] * 2 for _ in range(3)]
        for column in range(LANES):
            row = _row(builder, values, builder.add(first, _I64(column)))
            for axis in range(3):
                factor = _everywhere(builder, numbers, LANES * axis + column)
                sums[axis][column % 2] = _fused(builder, row, factor, sums[axis][column % 2])
        return context.make_tuple(builder, sig.return_type, [builder.fadd(*each) for each in sums])

    return types.UniTuple(lanes_type, 3)(squares, types.int64, x, y, z), generate


def sum_of_columns(first, end, ind, value, w):
    """Three rows of sixteen: the sum of values (T, 16) first..end-1 times the rows of w (M, 4) that ``ind`` names."""
    total = value[first:end].T @ w[ind[first:end], :3]
    return total[:, 0], total[:, 1], total[:, 2]


def times_square(squares, panel, x, y, z):
    """Three rows of sixteen times the square of a panel, squares (16 P, 16) being stored column by column."""
    total = squares[LANES * panel : LANES * (panel + 1)].T @ np.stack([x, y, z], 1)
    return total[:, 0], total[:, 1], total[:, 2]


@overload(sum_of_columns, inline="always")
def _compiled_sum_of_columns(first, end, ind, value, w):
    return lambda first, end, ind, value, w: _sum_of_columns(np.int64(first), np.int64(end), ind, value, w)


@overload(times_square, inline="always")
def _compiled_times_square(squares, panel, x, y, z):
    return lambda squares, panel, x, y, z: _times_square(squares, np.int64(panel), x, y, z)
