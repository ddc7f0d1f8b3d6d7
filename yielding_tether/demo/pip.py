"""Pip, the apprentice: shorter than Marl, with longer arms for the size, no collarbones, a smock and a kerchief; a root on the
floor carries her body's centre."""

from __future__ import annotations

from ..core.cast import Member, Shape
from .people import Build, ball, person, ring

#: Times Marl's, by what a bone leads to and by where a girth is.
BONES = {
    "": 0.8, "hips": 0.8, "spine": 0.76, "chest": 0.76, "neck": 0.85, "head": 0.8, "upperarm": 0.74, "forearm": 0.97, "hand": 0.99,
    "thumb": 0.9, "finger": 0.9, "palm": 0.9, "thigh": 0.82, "shin": 0.74, "foot": 0.74, "toe": 0.84,
}  # fmt: skip
GIRTHS = {
    "": 0.84,
    "hips": 0.86,
    "spine": 0.83,
    "chest": 0.78,
    "neck": 0.8,
    "head": 0.93,
    "hand": 0.9,
    "palm": 0.9,
    "foot": 0.86,
}
TONES = {
    "jersey": "smock", "trousers": "breeches", "scarf": "smocktrim", "belt": "smocktrim", "boot": "clog", "skin": "skin2",
}  # fmt: skip


def pip() -> Member:
    """Pip."""
    return person(Build("pip", "Pip", _head, BONES, GIRTHS, TONES, collars=False, root=True))


def _head() -> list[Shape]:
    return [
        ball("head", "kerchief", (0.0, 0.145, -0.012), 0.112, 0.088, 0.115),
        ring("head", "kerchief", (0.0, 0.128, -0.004), (0.0, 1.0, -0.3), 0.104, 0.014),
        ball("head", "kerchief", (0.0, 0.115, -0.125), 0.026, 0.022, 0.03),
        ball("head", "hair", (0.0, 0.07, -0.075), 0.085, 0.055, 0.05),
        ball("head", "hair", (0.055, 0.15, 0.078), 0.04, 0.026, 0.032),
    ]
