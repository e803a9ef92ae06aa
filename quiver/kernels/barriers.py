"""A barrier: where the threads of one frame wait for each other in the middle of a kernel."""

from llvmlite import ir
from numba import types
from numba.extending import intrinsic, register_jitable

SPINS = 4000
"""Looks before a waiting thread lets others have its core."""
_yield_core = types.ExternalFunction("sched_yield", types.int32())


@intrinsic
def _count_in(typing, barrier):
    """Add one to the barrier's counter; returns what it was."""

    def generate(context, builder, sig, args):
        pointer = context.make_array(sig.args[0])(context, builder, args[0]).data
        return builder.atomic_rmw("add", pointer, ir.Constant(ir.IntType(64), 1), "seq_cst")

    return types.int64(barrier), generate


@intrinsic
def _counted(typing, barrier):
    """The barrier's counter, as all threads see it."""

    def generate(context, builder, sig, args):
        pointer = context.make_array(sig.args[0])(context, builder, args[0]).data
        return builder.load_atomic(pointer, "seq_cst", 8)

    return types.int64(barrier), generate


@register_jitable
def meet(barrier, thread_count):
    """Wait until all ``thread_count`` threads have come here. ``barrier`` int64 (1,), zero at the start, is their common counter."""
    if thread_count == 1:
        return
    wanted = (_count_in(barrier) // thread_count + 1) * thread_count
    spins = 0
    while _counted(barrier) < wanted:
        spins += 1
        if spins > SPINS:
            _yield_core()
