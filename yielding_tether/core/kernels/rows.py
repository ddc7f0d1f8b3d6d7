"""Kinds of rows: what a kind's function is handed, and how it is called.

A kind is one function, compiled by itself and called through its address, once a run of rows and block of times. So a
new kind is one file, costs its own compiling and nobody else's, and no other file names it.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from typing import Any, NamedTuple

import numpy as np
from numba import njit, types
from numba.extending import intrinsic

from ..transforms import Floats, Ints
from .scalars import INNER


class Room(NamedTuple):
    """Room for a block of BLOCK times: `values` of all channels, `waves` sine and cosine of half of each that is an Euler
    angle, `work` place and rotation of all nodes, `captures` the same of captured joints; `inp`, `out`, `offsets`,
    `quats` (K, 4) and `shares` (2, K) for the rows' own use; `times` of the block and whether each arrives;
    `sizes` of bodies and of spaces, by slot, the first of which is one."""

    values: Floats
    waves: Floats
    work: Floats
    captures: Floats
    inp: Floats
    out: Floats
    offsets: Floats
    quats: Floats
    shares: Floats
    times: Floats
    late: Ints
    sizes: Floats


_ROW, _TABLE, _INTS = types.float64[::1], types.float64[:, ::1], types.int64[::1]
#: What a kind's function takes: where its rows begin among the integers and the floats, how many there are, how many times
#: the block has, the integers, the floats, the room.
_ARGUMENTS = (
    types.int64, types.int64, types.int64, types.int64, _INTS, _ROW,
    types.NamedTuple(  # type: ignore[no-untyped-call]
        (_ROW, _ROW, _ROW, _ROW, _ROW, _ROW, _ROW, _TABLE, _TABLE, _ROW, _INTS, _ROW), Room
    ),
)  # fmt: skip
SIGNATURE = types.void(*_ARGUMENTS)
_functions: list[Any] = []


def kind(function: Callable[..., None]) -> int:
    """Makes a function (first_i, first_f, count, size, ints, floats, room) a kind of row; returns the kind's number."""
    _functions.append(njit(**INNER)(function))
    return len(_functions) - 1


def count() -> int:
    """How many kinds there are."""
    return len(_functions)


def function_of(number: int) -> Any:
    """The compiled function of a kind, for reading its machine code."""
    made = _functions[number]
    made.compile(SIGNATURE)
    return made


def addresses() -> Ints:
    """(kinds,) addresses of all kinds' functions, compiled."""
    return _addresses(count())


@cache
def _addresses(kinds: int) -> Ints:
    found = []
    for number in range(kinds):
        made = function_of(number).overloads[_ARGUMENTS]
        found.append(made.library.get_pointer_to_function(made.fndesc.llvm_func_name))
    return np.array(found, dtype=np.int64)


@intrinsic
def call(typingctx, address, first_i, first_f, count, size, ints, floats, room):  # type: ignore[no-untyped-def]
    """Calls the kind's function at an address."""

    def codegen(context, builder, signature, args):  # type: ignore[no-untyped-def]
        convention = context.call_conv
        pointer = builder.inttoptr(args[0], convention.get_function_type(types.void, _ARGUMENTS).as_pointer())
        given = [context.cast(builder, a, old, new)
                 for a, old, new in zip(args[1:], signature.args[1:], _ARGUMENTS, strict=True)]  # fmt: skip
        convention.call_function(builder, pointer, types.void, _ARGUMENTS, given)
        return context.get_dummy_value()

    return types.void(types.int64, *_ARGUMENTS), codegen
