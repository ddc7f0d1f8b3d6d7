"""Reading vectors and rotations from arrays, frames first, as tuples."""

from __future__ import annotations

from .scalars import inlined


@inlined
def load3(array, f, n):  # type: ignore[no-untyped-def]
    return (array[f, n, 0], array[f, n, 1], array[f, n, 2])


@inlined
def load4(array, f, n):  # type: ignore[no-untyped-def]
    return (array[f, n, 0], array[f, n, 1], array[f, n, 2], array[f, n, 3])


@inlined
def line3(array, n):  # type: ignore[no-untyped-def]
    return (array[n, 0], array[n, 1], array[n, 2])


@inlined
def line4(array, n):  # type: ignore[no-untyped-def]
    return (array[n, 0], array[n, 1], array[n, 2], array[n, 3])
