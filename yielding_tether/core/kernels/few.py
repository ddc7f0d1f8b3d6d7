"""Fewest keys of a curve: dynamic programming over frames, with candidate slopes at each."""

from __future__ import annotations

from typing import NamedTuple

from numpy import int64

from ..transforms import Floats
from .block import U
from .scalars import freely, inner

#: What stands for "not reached yet".
_NEVER = 1 << 30
#: By how much farther back a segment is tried to begin than the longest ones that fitted up to so many times before: how long one may
#: be grows and shrinks from time to time, but a time that nothing may pass stays.
PATIENCE = 3


class Dense(NamedTuple):
    """A motion at F times in order: values and slopes (F,) on both sides, how far it may be strayed from (F,), in its unit; between
    them (F - 1,) times halfway to the next, values there, and the smaller tolerance of both."""

    times: Floats
    arriving: Floats
    leaving: Floats
    slopes_in: Floats
    slopes_out: Floats
    tolerance: Floats
    halves: Floats
    middles: Floats
    smaller: Floats


@inner
def _fits(m, i, j, slope_out, slope_in):  # type: ignore[no-untyped-def]
    """Whether the cubic from i to j stays within the tolerances at all times and middles between."""
    t0 = m.times[i]
    n = m.times[j] - t0
    share = 1.0 / n
    v0 = m.leaving[i]
    v1 = m.arriving[j]
    a = n * slope_out
    b = n * slope_in
    c2 = 3.0 * (v1 - v0) - 2.0 * a - b
    c3 = 2.0 * (v0 - v1) + a + b
    for k in range(i, j):
        u = (m.halves[k] - t0) * share
        if abs(v0 + u * (a + u * (c2 + u * c3)) - m.middles[k]) > m.smaller[k]:
            return False
        if k > i:
            u = (m.times[k] - t0) * share
            value = v0 + u * (a + u * (c2 + u * c3))
            if abs(value - m.arriving[k]) > m.tolerance[k] or abs(value - m.leaving[k]) > m.tolerance[k]:
                return False
    return True


@inner
def _halfway(m, i, j, k, share):  # type: ignore[no-untyped-def]
    """How far the cubic from i to j, with the motion's own slopes, is from it halfway from k to the next time, what a slope of one
    tolerance at either end adds to that, and how far it may be; share: one by how long it is."""
    n = m.times[j] - m.times[i]
    u = (m.halves[k] - m.times[i]) * share
    w = 1.0 - u
    first, last = n * u * w * w, -n * u * u * w
    off = m.leaving[i] + (m.arriving[j] - m.leaving[i]) * u * u * (3.0 - 2.0 * u) - m.middles[k]
    off += first * m.slopes_out[i] + last * m.slopes_in[j]
    return off, first * m.tolerance[i], last * m.tolerance[j], m.smaller[k] * (1.0 + 1e-9) + 1e-15


@inner
def _able(halfway, slope_out, slope_in, more):  # type: ignore[no-untyped-def]
    """Whether the cubic is there where it may be with these slopes on top of the motion's own, or may be with up to so much more or
    less at the start."""
    off, first, last, allowed = halfway
    return abs(off + first * slope_out + last * slope_in) <= allowed + first * more


@freely
def fewest_keys(m, fixed, bends, begin, best, came, far, longest):  # type: ignore[no-untyped-def]
    """Chooses the fewest times, and a slope at each, so that cubics between them stay within the tolerance of a motion m (Dense).

    fixed (F,): 1 where a key must be; bends (K,): what is tried on top of the motion's slope, in tolerances a frame, of which
    the first time has that numbered `begin`; best (F, K), came (F, K) and far (F,): room; longest: most times that a segment may
    span. Fills `best` with the keys from the first time up to each, and `came` with the state (time * K + bend) before it. A
    segment from one time to the next is always allowed, whatever it leaves.
    """
    count = U(len(bends))
    steepest = 0.0
    for a in range(count):
        steepest = max(steepest, abs(bends[a]))
        best[0, a] = 1 if a == begin else _NEVER
        came[0, a] = -1
    far[0] = 0
    start = int64(0)
    for j in range(U(1), U(len(m.times))):
        for b in range(count):
            best[j, b] = _NEVER
        here = int64(j)
        if fixed[j - U(1)] != 0:
            start = here - 1
        low = here - 1
        for k in range(U(here - PATIENCE if here > PATIENCE else 0), j):
            low = far[k] if far[k] < low else low
        low -= PATIENCE
        low = here - longest if here - longest > low else low
        low = start if start > low else low
        far[j] = here - 1
        # The longest first. Where those that follow can't but take more keys they are not looked at: a slope that only more keys
        # lead to is of no use, since as many lead to the next time with any slope.
        least = _NEVER
        for i in range(U(low), j):
            above = _NEVER
            for a in range(count):
                above = best[i, a] if best[i, a] < above else above
            if above + 1 > least and i + U(1) < j:
                continue
            # Most are told by their middle, others by a quarter, for all slopes at the start at once.
            share = 1.0 / (m.times[j] - m.times[i])
            quarter = (j - i) >> U(2)
            middle = _halfway(m, i, j, (i + j) >> U(1), share)
            before = middle if count == 1 else _halfway(m, i, j, i + quarter, share)
            after = middle if count == 1 else _halfway(m, i, j, j - U(1) - quarter, share)
            for b in range(count):
                bend = bends[b]
                if above + 1 >= best[j, b] or (
                    i + U(1) < j
                    and not (
                        _able(middle, 0.0, bend, steepest)
                        and _able(before, 0.0, bend, steepest)
                        and _able(after, 0.0, bend, steepest)
                    )
                ):
                    continue
                for a in range(count):
                    if best[i, a] + 1 >= best[j, b]:
                        continue
                    if i + U(1) == j or (
                        _able(middle, bends[a], bend, 0.0)
                        and _able(before, bends[a], bend, 0.0)
                        and _able(after, bends[a], bend, 0.0)
                        and _fits(
                            m, i, j, m.slopes_out[i] + bends[a] * m.tolerance[i], m.slopes_in[j] + bend * m.tolerance[j]
                        )
                    ):
                        best[j, b] = best[i, a] + 1
                        came[j, b] = int64(i * count + a)
                        far[j] = int64(i) if int64(i) < far[j] else far[j]
                        least = best[j, b] if best[j, b] < least else least
