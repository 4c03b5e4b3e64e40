"""Asking for what will be read next: stars lie far apart in the memory, which takes longer to answer than a star takes to measure."""

from __future__ import annotations

from typing import Any

import numba
from llvmlite import ir
from numba.core import cgutils


@numba.extending.intrinsic
def _prefetch(typing: Any, address: Any) -> Any:
    """Start to read the 64 bytes about an address, without waiting for them; an address that there is not does no harm."""

    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        byte, number = ir.IntType(8).as_pointer(), ir.IntType(32)
        kind = ir.FunctionType(ir.VoidType(), [byte, number, number, number])
        function = cgutils.get_or_insert_function(builder.module, kind, "llvm.prefetch.p0i8")
        # To read, wanted soon, data.
        builder.call(function, [builder.inttoptr(arguments[0], byte), number(0), number(2), number(1)])
        return context.get_dummy_value()

    return numba.void(numba.types.intp), generate


def _ask_for(plane, x0, x1, y0, y1):
    """Ask for the pixels of rows `y0` to `y1` and columns `x0` to `x1`, the ends not included."""
    size = plane.itemsize
    for y in range(y0, y1):
        row = plane.ctypes.data + y * plane.strides[0]
        for at in range(row + size * x0, row + size * x1, 64):
            _prefetch(at)
        _prefetch(row + size * (x1 - 1))


def _ask_for_nothing(plane, x0, x1, y0, y1):
    """Stand in where nothing is compiled."""


ask_for = _ask_for_nothing if numba.config.DISABLE_JIT else numba.njit(nogil=True, cache=True)(_ask_for)
