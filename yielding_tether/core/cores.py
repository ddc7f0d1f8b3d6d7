"""Work that is cut into parts which know nothing of one another, for the machine's cores to share."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

#: Cores that work is shared by: more of them wait for memory rather than work.
CORES = min(4, len(os.sched_getaffinity(0)))
_POOL = ThreadPoolExecutor(max(1, CORES - 1), "shared")

A = TypeVar("A")
B = TypeVar("B")


def shared(work: Callable[[A], B], given: Sequence[A]) -> list[B]:
    """What `work` returns for each of these. Only compiled work that lets others work meanwhile gets faster by this.

    Whoever asks works too, from the last on, and takes back what nobody has begun: so it waits for nobody who has other work.
    """
    if len(given) < 2 or CORES < 2:
        return [work(g) for g in given]
    try:
        begun = [_POOL.submit(work, g) for g in given[:-1]]
    except RuntimeError:
        # The program is about to end, and begins nothing beside any more.
        return [work(g) for g in given]
    try:
        mine = {len(begun): work(given[-1])}
        mine |= {k: work(given[k]) for k in reversed(range(len(begun))) if begun[k].cancel()}
        return [mine[k] if k in mine else begun[k].result() for k in range(len(given))]
    finally:
        for b in begun:
            b.cancel()
