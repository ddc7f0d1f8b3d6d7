"""How far long work is, and whether it is still wanted.

Whoever starts the work watches it (`watched`); the work says in stages and steps how far it is. Who watches may end it by raising
`Cancelled`: what was worked out so far is dropped, and nothing is half done. Where nobody watches, this costs next to nothing.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field, replace
from typing import Protocol


class Cancelled(Exception):
    """Nobody wants this work any more."""


class Tell(Protocol):
    def __call__(self, done: float, doing: str) -> None:
        """`done`: the share that is behind, 0 to 1; `doing`: what is at work, as a person reads it. May raise Cancelled."""


@dataclass(frozen=True)
class _Watch:
    tell: Tell
    first: float = 0.0
    last: float = 1.0
    doing: str = ""
    #: The share that was told last, by all stages of one work.
    at: list[float] = field(default_factory=lambda: [0.0])


_watch: ContextVar[_Watch | None] = ContextVar("progress", default=None)


@contextmanager
def watched(tell: Tell) -> Iterator[None]:
    """All work within is told of."""
    token = _watch.set(_Watch(tell))
    try:
        yield
    finally:
        _watch.reset(token)


@contextmanager
def stage(doing: str, first: float, last: float) -> Iterator[None]:
    """What is within is this share of the work around it, `first` to `last` of 0 to 1; without words of its own it is told by those
    of that."""
    around = _watch.get()
    if around is None:
        yield
        return
    span = around.last - around.first
    token = _watch.set(
        replace(around, first=around.first + span * first, last=around.first + span * last, doing=doing or around.doing)
    )
    try:
        advance(0.0)
        yield
    finally:
        _watch.reset(token)


def advance(share: float) -> None:
    """This share of the present stage is behind; raises Cancelled if nobody wants the rest."""
    watch = _watch.get()
    if watch is not None:
        watch.at[0] = max(watch.at[0], watch.first + (watch.last - watch.first) * min(share, 1.0))
        watch.tell(watch.at[0], watch.doing)


def still_wanted() -> None:
    """Raises Cancelled if nobody wants this work any more."""
    watch = _watch.get()
    if watch is not None:
        watch.tell(watch.at[0], watch.doing)
