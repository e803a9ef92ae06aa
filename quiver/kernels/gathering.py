"""What a sparse row does to three coordinates at once: weighted sums of rows of a matrix (M, 4), four numbers at a time."""

import numpy as np
from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic, overload


def _gathering(is_apart):
    """Code for `gathered` and `gathered_apart`: four numbers at a time and four sums at once, so that none of them waits for another."""
    quad, i64, i32 = ir.VectorType(ir.FloatType(), 4), ir.IntType(64), ir.IntType(32)

    def generate(context, builder, sig, args):
        indices, values, rows = (context.make_array(sig.args[k])(context, builder, args[k]).data for k in (2, 3, 4))
        kind, four = ir.FunctionType(quad, [quad] * 3), ir.Constant(i64, 4)
        multiply_add = cgutils.get_or_insert_function(builder.module, kind, "llvm.fma.v4f32")

        def row_of(number):
            return builder.load(builder.bitcast(builder.gep(rows, [builder.mul(number, four)]), quad.as_pointer()), align=4)

        own = row_of(args[5]) if is_apart else None

        def term(at, total):
            row = row_of(builder.zext(builder.load(builder.gep(indices, [at])), i64))
            row = builder.fsub(row, own) if is_apart else row
            one = builder.insert_element(ir.Constant(quad, ir.Undefined), builder.load(builder.gep(values, [at])), i32(0))
            wide = builder.shuffle_vector(one, one, ir.Constant(ir.VectorType(i32, 4), [0] * 4))
            return builder.call(multiply_add, [wide, row, total])

        begun = builder.block
        head, body, tail, more, out = (builder.append_basic_block(name) for name in ("head", "body", "tail", "more", "out"))
        builder.branch(head)
        builder.position_at_end(head)
        at, sums = builder.phi(i64), [builder.phi(quad) for _ in range(4)]
        builder.cbranch(builder.icmp_signed("<=", builder.add(at, four), args[1]), body, tail)
        builder.position_at_end(body)
        ahead = [builder.add(at, four), *(term(builder.add(at, i64(k)), sums[k]) for k in range(4))]
        for phi, start, then in zip([at, *sums], [args[0], *[quad([0.0] * 4)] * 4], ahead, strict=True):
            phi.add_incoming(start, begun)
            phi.add_incoming(then, body)
        builder.branch(head)
        builder.position_at_end(tail)
        one, rest = builder.phi(i64), builder.phi(quad)
        builder.cbranch(builder.icmp_signed("<", one, args[1]), more, out)
        builder.position_at_end(more)
        for phi, start, then in ((one, at, builder.add(one, i64(1))), (rest, sums[0], term(one, rest))):
            phi.add_incoming(start, head)
            phi.add_incoming(then, more)
        builder.branch(tail)
        builder.position_at_end(out)
        total = builder.fadd(builder.fadd(rest, sums[1]), builder.fadd(sums[2], sums[3]))
        return context.make_tuple(builder, sig.return_type, [builder.extract_element(total, i32(k)) for k in range(3)])

    return generate


@intrinsic
def _gathered(typing, first, end, ind, value, w):
    return types.UniTuple(types.float32, 3)(types.int64, types.int64, ind, value, w), _gathering(False)


@intrinsic
def _gathered_apart(typing, first, end, ind, value, w, own):
    return types.UniTuple(types.float32, 3)(types.int64, types.int64, ind, value, w, types.int64), _gathering(True)


def gathered(first, end, ind, value, w):
    """The sum (3,) of values first..end-1 times rows of w (M, 4), which indices name: what a sparse row does to all three coordinates."""
    total = np.zeros(3, np.float32)
    for t in range(first, end):
        total += value[t] * w[ind[t], :3]
    return total[0], total[1], total[2]


def gathered_apart(first, end, ind, value, w, own):
    """`gathered` of the rows less the row ``own``: exactly nothing where all are moved alike."""
    total = np.zeros(3, np.float32)
    for t in range(first, end):
        total += value[t] * (w[ind[t], :3] - w[own, :3])
    return total[0], total[1], total[2]


@overload(gathered, inline="always")
def _compiled_gathered(first, end, ind, value, w):
    return lambda first, end, ind, value, w: _gathered(np.int64(first), np.int64(end), ind, value, w)


@overload(gathered_apart, inline="always")
def _compiled_gathered_apart(first, end, ind, value, w, own):
    return lambda first, end, ind, value, w, own: _gathered_apart(np.int64(first), np.int64(end), ind, value, w, np.int64(own))
