"""Errors the core raises: each says what is wrong, where, and what to do."""

from __future__ import annotations


class CoreError(ValueError):
    """Something asked of the core can't be done; the message is meant for the animator."""


class LoopError(CoreError):
    """Parts that need one another at the same frames."""

    def __init__(self, members: list[str], first: float, last: float) -> None:
        self.members = members
        self.first = first
        self.last = last
        span = f"frame {first:g}" if first == last else f"frames {first:g} to {last:g}"
        super().__init__(
            f"At {span} these follow one another in a loop: {' → '.join([*members, members[0]])}. "
            "Take the weight of one of these tethers to zero there."
        )
