"""The tape: all rows that the kernels read, laid end to end as integers and floats."""

from __future__ import annotations

from collections.abc import Iterable
from threading import Lock
from typing import NamedTuple

import numpy as np

from .transforms import EULER_SIGNS, ORDERS, Floats, Ints


class Run(NamedTuple):
    """Rows of one kind: where they begin among the integers and the floats, and how many there are."""

    kind: int
    ints: int
    floats: int
    rows: int


def signs_of(order: str) -> list[float]:
    """The signs by which the kernels know a rotation order."""
    found: list[float] = EULER_SIGNS[ORDERS.index(order)].tolist()
    return found


class Tape:
    """Rows are added as they are first needed, by one thread while others read: whoever was given a row finds it in `arrays`."""

    def __init__(self) -> None:
        self._lock = Lock()
        self._ints: list[int] = []
        self._floats: list[float] = []
        self._made: tuple[Ints, Floats] | None = None
        #: Euler channels: the kernels want half their sines and cosines.
        self.turning: set[int] = set()

    def add(self, kind: int, ints: Iterable[int], floats: Iterable[float], turns: Iterable[int] = ()) -> Run:
        """One row; `turns`: the first of each three Euler channels it reads."""
        with self._lock:
            run = Run(kind, len(self._ints), len(self._floats), 1)
            self._ints += [int(x) for x in ints]
            self._floats += [float(x) for x in floats]
            for c in turns:
                self.turning |= {int(c), int(c) + 1, int(c) + 2}
            self._made = None
        return run

    @staticmethod
    def joined(runs: list[Run], ints: int, floats: int) -> list[Run]:
        """Rows of this many integers and floats that follow one another as one run."""
        found: list[Run] = []
        for run in runs:
            last = found[-1] if found else None
            if (
                last is not None
                and last.kind == run.kind
                and last.ints + last.rows * ints == run.ints
                and last.floats + last.rows * floats == run.floats
            ):
                found[-1] = last._replace(rows=last.rows + run.rows)
            else:
                found.append(run)
        return found

    @property
    def arrays(self) -> tuple[Ints, Floats]:
        """Integers and floats as the kernels read them."""
        with self._lock:
            if self._made is None:
                self._made = np.array(self._ints, dtype=np.int64), np.array(self._floats)
            return self._made

    @property
    def angles(self) -> Ints:
        """Euler channels whose sines and cosines some row wants."""
        with self._lock:
            return np.fromiter(self.turning, dtype=np.int64, count=len(self.turning))
