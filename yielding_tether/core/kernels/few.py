"""Fewest keys of a curve: dynamic programming over frames, with candidate slopes at each."""

from __future__ import annotations

from .scalars import freely, inner

#: What stands for "not reached yet".
_NEVER = 1 << 30
#: By how much farther back a segment is tried to begin than the longest ones that fitted up to so many times before: how long one may
#: be grows and shrinks from time to time, but a time that nothing may pass stays.
PATIENCE = 3


@inner
def _fits(times, arriving, leaving, middles, i, j, slope_out, slope_in, tolerance):  # type: ignore[no-untyped-def]
    """Whether the cubic from i to j stays within the tolerances at all times and middles between; the worst place first."""
    t0 = times[i]
    n = times[j] - t0
    share = 1.0 / n
    v0 = leaving[i]
    v1 = arriving[j]
    a = n * slope_out
    b = n * slope_in
    c2 = 3.0 * (v1 - v0) - 2.0 * a - b
    c3 = 2.0 * (v0 - v1) + a + b
    # From the middle outward: a cubic that leaves a motion mostly does so there.
    half = (i + j) // 2
    for step in range(j - i + 1):
        k = half + ((step + 1) // 2 if step % 2 else -(step // 2))
        if k < i or k >= j:
            continue
        u = (0.5 * (times[k] + times[k + 1]) - t0) * share
        least = tolerance[k] if tolerance[k] < tolerance[k + 1] else tolerance[k + 1]
        if abs(v0 + u * (a + u * (c2 + u * c3)) - middles[k]) > least:
            return False
        if k > i:
            u = (times[k] - t0) * share
            value = v0 + u * (a + u * (c2 + u * c3))
            if abs(value - arriving[k]) > tolerance[k] or abs(value - leaving[k]) > tolerance[k]:
                return False
    return True


@inner
def _middle(times, arriving, leaving, middles, i, j, slope_out, slope_in, tolerance):  # type: ignore[no-untyped-def]
    """How far the cubic from i to j, with these slopes, is from the motion in its middle, what a slope of one at either end adds to
    that, and how far it may be."""
    n = times[j] - times[i]
    k = (i + j) // 2
    u = (0.5 * (times[k] + times[k + 1]) - times[i]) / n
    w = 1.0 - u
    first, last = n * u * w * w, -n * u * u * w
    off = leaving[i] * w * w * (1.0 + 2.0 * u) + arriving[j] * u * u * (3.0 - 2.0 * u) - middles[k]
    least = tolerance[k] if tolerance[k] < tolerance[k + 1] else tolerance[k + 1]
    return off + first * slope_out + last * slope_in, first * tolerance[i], last * tolerance[j], least


@freely
def fewest_keys(times, arriving, leaving, slopes_in, slopes_out, middles, fixed, tolerance, bends, begin, best, came, far, longest):  # type: ignore[no-untyped-def]  # fmt: skip
    """Chooses the fewest times, and a slope at each, so that cubics between them stay within a tolerance.

    times (F,) in order; arriving, leaving, slopes_in, slopes_out (F,): the motion there on both sides; middles (F - 1,):
    halfway to the next time; fixed (F,): 1 where a key must be; tolerance (F,); bends (K,): what is tried on top of the
    motion's slope, in tolerances a frame, of which the first time has that numbered `begin`; best (F, K), came (F, K) and far (F,):
    room; longest: most times that a segment may span. Fills `best` with the keys from the first time up to each, and `came` with
    the state (time * K + bend) before it. A segment from one time to the next is always allowed, whatever it leaves.
    """
    count = len(bends)
    for a in range(count):
        best[0, a] = 1 if a == begin else _NEVER
        came[0, a] = -1
    far[0] = 0
    start = 0
    for j in range(1, len(times)):
        for b in range(count):
            best[j, b] = _NEVER
        if fixed[j - 1] != 0:
            start = j - 1
        low = j - 1
        for k in range(j - PATIENCE if j > PATIENCE else 0, j):
            low = far[k] if far[k] < low else low
        low -= PATIENCE
        low = j - longest if j - longest > low else low
        low = start if start > low else low
        far[j] = j - 1
        # The longest first. Where those that follow can't but take more keys they are not looked at: a slope that only more keys
        # lead to is of no use, since as many lead to the next time with any slope.
        least = _NEVER
        for i in range(low, j):
            above = _NEVER
            for a in range(count):
                above = best[i, a] if best[i, a] < above else above
            if above + 1 > least and i < j - 1:
                continue
            # Most are told by their middle alone.
            off, first, last, allowed = _middle(
                times, arriving, leaving, middles, i, j, slopes_out[i], slopes_in[j], tolerance
            )
            for b in range(count):
                for a in range(count):
                    if best[i, a] + 1 >= best[j, b]:
                        continue
                    if i < j - 1 and abs(off + first * bends[a] + last * bends[b]) > allowed * (1.0 + 1e-9) + 1e-15:
                        continue
                    if i == j - 1 or _fits(
                        times, arriving, leaving, middles, i, j, slopes_out[i] + bends[a] * tolerance[i],
                        slopes_in[j] + bends[b] * tolerance[j], tolerance,
                    ):  # fmt: skip
                        best[j, b] = best[i, a] + 1
                        came[j, b] = i * count + a
                        far[j] = i if i < far[j] else far[j]
                        least = best[j, b] if best[j, b] < least else least
