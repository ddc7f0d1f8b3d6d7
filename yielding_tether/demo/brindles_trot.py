"""*Brindle's trot*: along the towpath, legs in diagonal pairs, the head level, ears and tail behind the rest. One cycle is twenty
frames; what the left legs do the right ones do half a cycle later. One fault is planted: a hind hoof pops off the path."""

from __future__ import annotations

from fractions import Fraction
from functools import cache

from ..core.cast import Member, Shape
from ..core.curves import Curve
from ..core.takes import Scene, Take, Tether
from .brindle import brindle
from .ferry import piece
from .posing import followed, keyed, nudge, steps, touching

#: Frames of a cycle and of a stance in it, cycles, metres a frame, and how much lower she trots than she stands.
CYCLE, STANCE, CYCLES, SPEED, LOW = 20, 10, 5, 0.7 / 24.0, 0.045
LAST = CYCLE * CYCLES
#: Where the hips are at the first frame, along the path.
START = -1.45
#: When in the cycle each leg comes down: diagonal pairs together.
DOWN = {"foreleg.L": 0, "hindleg.R": 0, "foreleg.R": 10, "hindleg.L": 10}
#: Where the hooves are at rest before the hips, and how high they swing.
_AHEAD = {"foreleg": 0.435, "hindleg": -0.05}
_SWING = {"foreleg": 0.085, "hindleg": 0.07}
#: When which hoof pops.
POP = 64


def towpath() -> Member:
    """A path of packed earth between kerbs, with a post for the tow rope."""
    slabs = [
        Shape("towpath", "block", "stone2" if n % 2 else "stone", (0.0, -0.05, -2.0 + 0.5 * n), size=(1.3, 0.1, 0.49))
        for n in range(9)
    ]
    kerbs = [
        Shape("towpath", "block", "hulltrim", (0.68 * side, -0.02, 0.0), size=(0.07, 0.12, 4.6)) for side in (-1.0, 1.0)
    ]
    post = [Shape("towpath", "capsule", "rail", (-0.95, -0.1, 0.6), (-0.95, 0.8, 0.6), (0.06, 0.05)),
            Shape("towpath", "ring", "iron", (-0.95, 0.62, 0.6), (0.0, 1.0, 0.0), (0.06, 0.014))]  # fmt: skip
    return piece("towpath", "Towpath", "set", (0.0, 0.0, 0.0), [*slabs, *kerbs, *post])


def trot_scene() -> Scene:
    """The cast of *Brindle's trot*."""
    return Scene("Towpath", (towpath(), brindle()))


def tethers() -> tuple[Tether, ...]:
    """The hooves stand on the path."""
    return tuple(Tether("path", "brindle", f"{leg}.ik", "towpath", "towpath") for leg in DOWN)


@cache
def brindles_trot() -> tuple[Scene, Take]:
    """The scene and its take."""
    take = Take("Brindle's trot", Fraction(24), 0, LAST, tethers=tethers())
    take = take.with_curves({**_body(), **_legs(), **_loose()})
    take = take.with_curves({f"brindle/{leg}.drive": steps((0, 1.0)) for leg in DOWN})
    for tether in tethers():
        take = take.with_curves(followed(tether, (0, 1.0)))
    rows = [
        (f"{'hoof' if leg.startswith('fore') else 'hind hoof'}.{leg[-1]}", "towpath", max(a, 0), min(b, LAST))
        for leg in DOWN for a, b in _stances(leg) if min(b, LAST) - max(a, 0) > 2
    ]  # fmt: skip
    return trot_scene(), nudge(touching(take, rows, "brindle"), "brindle/hindleg.L.ik.ty", float(POP), 0.018)


def _stances(leg: str) -> list[tuple[int, int]]:
    """When a hoof comes down and lifts off, from before the take to after it."""
    return [(CYCLE * k + DOWN[leg], CYCLE * k + DOWN[leg] + STANCE) for k in range(-1, CYCLES + 1)]


def _legs() -> dict[str, Curve]:
    """Each hoof on the path where its hips pass it in the middle of the stance, in an arc between; it hangs back as it lifts."""
    curves: dict[str, Curve] = {}
    for leg in DOWN:
        kind = leg.partition(".")[0]
        z: list[tuple[float, float]] = []
        y: list[tuple[float, float]] = []
        tilt: list[tuple[float, float]] = []
        for down, off in _stances(leg):
            ahead = START + 0.27 + SPEED * (down + off) / 2.0
            z += [(down, ahead), (off, ahead)]
            y += [(down, 0.0), (off, 0.0), (off + 4, _SWING[kind]), (off + 7, 0.7 * _SWING[kind])]
            tilt += [(down, 0.0), (off, 0.0), (off + 3, 46.0), (off + 7, 14.0)]
        curves |= keyed("brindle", {f"{leg}.ik.tz": z, f"{leg}.ik.ty": y, f"{leg}.ik.rx": tilt})
    return curves


def _wave(period: float, size: float, shift: float, level: float = 0.0) -> list[tuple[float, float]]:
    """Extremes of a wave, over the whole take and a little more on both sides."""
    half = period / 2.0
    count = int(LAST / half) + 4
    return [(round((n - 2) * half + shift), level + (size if n % 2 else -size)) for n in range(count)]


def _body() -> dict[str, Curve]:
    """Down in the middle of each stance and up between; hips and chest sway against one another, and the head keeps level."""
    half = CYCLE / 2.0
    return keyed("brindle", {
        "hips.tz": [(t, START + 0.27 + SPEED * t) for t in range(-2 * CYCLE, LAST + 2 * CYCLE + 1, 10)],
        "hips.ty": _wave(half, 0.012, 0.0, -LOW), "hips.rx": _wave(half, 1.2, 2.0), "hips.ry": _wave(CYCLE, 2.4, 5.0),
        "hips.rz": _wave(CYCLE, 2.6, 5.0), "spine.mid.ry": _wave(CYCLE, 2.2, 15.0), "chest.ry": _wave(CYCLE, 2.4, 15.0),
        "chest.rz": _wave(CYCLE, 2.2, 15.0), "neck.low.rx": _wave(half, 2.6, 1.0, -4.0), "neck.mid.rx": _wave(half, 2.2, 2.0, -2.0),
        "head.rx": _wave(half, 3.4, 4.0, 8.0), "head.ry": [(0, 0), (26, 3), (44, -9), (70, -6), (LAST, 2)],
    })  # fmt: skip


def _loose() -> dict[str, Curve]:
    """Ears and tail come after what they hang on."""
    half = CYCLE / 2.0

    def later(n: int) -> float:
        return 2.0 + 1.5 * n

    table = {f"tail{t}.ry": _wave(CYCLE, 9.0 + 5.0 * n, 5.0 + later(n)) for n, t in enumerate(("", ".mid", ".tip"))}
    table |= {f"tail{t}.rx": _wave(half, 5.0, later(n)) for n, t in enumerate(("", ".mid", ".tip"))}
    for letter, sign in (("L", 1.0), ("R", -1.0)):
        table |= {
            f"ear{t}.{letter}.rz": _wave(half, sign * (9.0 + 7.0 * n), 2.0 + later(n), sign * -8.0)
            for n, t in enumerate(("", ".tip"))
        }
    return keyed("brindle", table)
