"""Marl, the deckhand: a cap with a band, a beard, long bones."""

from __future__ import annotations

from ..core.cast import Member, Shape
from .people import Build, ball, person, ring


def marl() -> Member:
    """Marl."""
    return person(Build("marl", "Marl", _head))


def _head() -> list[Shape]:
    return [
        ball("head", "cap", (0.0, 0.165, -0.004), 0.121, 0.098, 0.126),
        ring("head", "capband", (0.0, 0.150, -0.002), (0.0, 1.0, -0.08), 0.112, 0.02),
        ball("head", "capband", (0.0, 0.272, -0.01), 0.03, 0.03, 0.03),
        ball("head", "beard", (0.0, 0.025, 0.068), 0.085, 0.06, 0.062),
    ]
