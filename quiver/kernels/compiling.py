"""How the kernels are compiled, and small arrays that live on the stack.

Numba counts who holds an array, in every function that is handed one; in functions of some hundred instructions that shows, and a call
from Python takes twice as long. Kernels are compiled without (``_nrt``, runtime off): what holds an array is the Python that calls. So a
kernel makes no arrays: it is handed its room, or takes a little from the stack by `on_stack`.
"""

import numpy as np
from llvmlite import ir
from numba import njit, types
from numba.core import cgutils
from numba.core.typing.templates import AbstractTemplate, infer_global, signature
from numba.extending import lower_builtin
from numba.np.arrayobj import populate_array
from numba.np.numpy_support import as_dtype

WIDEST = 64
"""Rows on the stack begin where the processor reads them fastest [bytes]."""
_options = {"nogil": True, "cache": True, "error_model": "numpy"}


def kernel(function=None, **more):
    """Compile a function that makes no arrays: it, and all it calls, borrow those that they are handed."""
    return njit(function, **_options, _nrt=False, **more)


def making_arrays(function):
    """Compile a function that makes arrays, or returns them."""
    return njit(function, **_options)


def on_stack(dtype, *shape):
    """An array of a constant shape of one or two numbers, nothing in it yet, that lasts as long as the function that asks for it."""
    return np.empty(shape, dtype)


@infer_global(on_stack)
class _OnStack(AbstractTemplate):
    prefer_literal = True

    def generic(self, args, kws):
        dtype, *sizes = args
        if all(isinstance(size, types.IntegerLiteral) for size in sizes):
            return signature(types.Array(dtype.dtype, len(sizes), "C"), *args)
        return None


@lower_builtin(on_stack, types.Any, types.IntegerLiteral)
@lower_builtin(on_stack, types.Any, types.IntegerLiteral, types.IntegerLiteral)
def _lower_on_stack(context, builder, sig, args):
    kind, shape = sig.return_type, [size.literal_value for size in sig.args[1:]]
    item = as_dtype(kind.dtype).itemsize
    room = cgutils.alloca_once(builder, ir.ArrayType(ir.IntType(8), int(np.prod(shape)) * item))
    room.align = WIDEST
    array = context.make_array(kind)(context, builder)
    strides = [int(np.prod(shape[k + 1 :])) * item for k in range(len(shape))]
    sizes, steps = ([context.get_constant(types.intp, each) for each in values] for values in (shape, strides))
    populate_array(array, builder.bitcast(room, array.data.type), sizes, steps, context.get_constant(types.intp, item), None)
    return array._getvalue()
