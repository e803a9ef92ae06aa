"""A gate: where the threads of one crew wait for each other in the middle of a kernel."""

from llvmlite import ir
from numba import types
from numba.extending import intrinsic, register_jitable

SPINS = 4000
"""Looks before a waiting thread lets others have its core."""
_yield_core = types.ExternalFunction("sched_yield", types.int32())


@intrinsic
def _count_in(typing, gate):
    """Add one to the gate's counter; returns what it was."""

    def generate(context, builder, sig, args):
        pointer = context.make_array(sig.args[0])(context, builder, args[0]).data
        return builder.atomic_rmw("add", pointer, ir.Constant(ir.IntType(64), 1), "seq_cst")

    return types.int64(gate), generate


@intrinsic
def _counted(typing, gate):
    """The gate's counter, as all threads see it."""

    def generate(context, builder, sig, args):
        pointer = context.make_array(sig.args[0])(context, builder, args[0]).data
        return builder.load_atomic(pointer, "seq_cst", 8)

    return types.int64(gate), generate


@register_jitable
def meet(gate, crew):
    """Wait until all ``crew`` threads have come here. ``gate`` int64 (1,), zero at the start, is their common counter."""
    if crew == 1:
        return
    wanted = (_count_in(gate) // crew + 1) * crew
    spins = 0
    while _counted(gate) < wanted:
        spins += 1
        if spins > SPINS:
            _yield_core()
