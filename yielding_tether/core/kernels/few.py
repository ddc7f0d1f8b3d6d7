"""Fewest keys of a curve: dynamic programming over frames, with candidate slopes at each."""

from __future__ import annotations

from .scalars import inner, kernel, written

#: What stands for "not reached yet".
_NEVER = 1 << 30
#: Lengths in a row that no slopes can do before longer ones are not tried: what fits grows and shrinks with the length.
PATIENCE = 6


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
    for step in range(j - i):
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


@written
def _hopeless(times, arriving, leaving, middles, i, j, slope_out, slope_in, tolerance, most):  # type: ignore[no-untyped-def]
    """Whether the cubic from i to j leaves its middle whatever is tried on top of its slopes, `most` tolerances at most."""
    n = times[j] - times[i]
    k = (i + j) // 2
    u = (0.5 * (times[k] + times[k + 1]) - times[i]) / n
    w = 1.0 - u
    first, last = n * u * w * w, -n * u * u * w
    value = (
        leaving[i] * w * w * (1.0 + 2.0 * u)
        + arriving[j] * u * u * (3.0 - 2.0 * u)
        + first * slope_out
        + last * slope_in
    )
    bent = most * (first * tolerance[i] - last * tolerance[j])
    least = tolerance[k] if tolerance[k] < tolerance[k + 1] else tolerance[k + 1]
    return abs(value - middles[k]) > (least + bent) * (1.0 + 1e-9) + 1e-15


@kernel
def fewest_keys(times, arriving, leaving, slopes_in, slopes_out, middles, fixed, tolerance, bends, best, came, longest):  # type: ignore[no-untyped-def]  # fmt: skip
    """Chooses the fewest times, and a slope at each, so that cubics between them stay within a tolerance.

    times (F,) in order; arriving, leaving, slopes_in, slopes_out (F,): the motion there on both sides; middles (F - 1,):
    halfway to the next time; fixed (F,): 1 where a key must be; tolerance (F,); bends (K,): what is tried on top of the
    motion's slope, in tolerances a frame; best (F, K) and came (F, K): room; longest: most times that a segment may span. Fills `best` with the keys
    from the first time up to each, and `came` with the state (time * K + bend) before it. A segment from one time to the
    next is always allowed, whatever it leaves.
    """
    count = len(bends)
    most = 0.0
    for a in range(count):
        most = abs(bends[a]) if abs(bends[a]) > most else most
        # Where it begins the motion's own slope stays: what lies before meets it.
        best[0, a] = 1 if bends[a] == 0.0 else _NEVER
        came[0, a] = -1
    for j in range(1, len(times)):
        for b in range(count):
            best[j, b] = _NEVER
        failed = 0
        for i in range(j - 1, j - longest - 1 if j > longest else -1, -1):
            some = False
            hopeless = i < j - 1 and _hopeless(
                times, arriving, leaving, middles, i, j, slopes_out[i], slopes_in[j], tolerance, most
            )
            for b in range(count):
                for a in range(count):
                    if best[i, a] + 1 >= best[j, b]:
                        # No better; it counts as fitting where a shorter one did.
                        some = some or best[j, b] < _NEVER
                        continue
                    if i == j - 1 or (not hopeless and _fits(
                        times, arriving, leaving, middles, i, j, slopes_out[i] + bends[a] * tolerance[i],
                        slopes_in[j] + bends[b] * tolerance[j], tolerance,
                    )):  # fmt: skip
                        best[j, b] = best[i, a] + 1
                        came[j, b] = i * count + a
                        some = True
            if fixed[i] != 0:
                break
            failed = 0 if some else failed + 1
            if failed >= PATIENCE:
                break
