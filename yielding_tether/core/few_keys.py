"""Few keys: the fewest keys, and slopes at them, with which a motion stays within a tolerance at the joints.

Keys are chosen, not inserted: dynamic programming over the frames with several slopes tried at each (see 'kernels.few').
Every channel has key times of its own beside those that are fixed. How far a channel may stray comes from how far it moves
the joints; what all channels together do is measured at the joints, at every frame and halfway between, and the channels
are held tighter until that is within the tolerance.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from .curves import STEPPED, Curve, sample
from .kernels.few import fewest_keys
from .transforms import Floats

#: Slopes tried at each key on top of the motion's own, in tolerances a frame.
BENDS = (0.0, -0.3, 0.3, -0.8, 0.8)
#: Most frames between two keys.
LONGEST = 120
#: Rounds with the motion's own slopes alone, and then at most with others: each holds some channels tighter.
OWN_ROUNDS, ROUNDS = 4, 12
#: Share of what a channel may stray alone that it starts with, and what of it stays once slopes are chosen too.
LOOSE, HANDED_OVER = 0.65, 0.85
#: What a time that strays too far is brought to; the share of the most that a channel strays from which on it is held.
AIM, PART = 0.9, 0.1
#: Rounds after the first that fits, in which channels are let go by as much where the joints are far from what they may stray,
#: over as many times on both sides.
MORE, LOOSER, AROUND = 2, 1.15, 4
#: Where channels are held this tight in vain, keys are what helps.
HELPLESS = 0.02
#: How many times on both sides are held tighter with one that strays.
SPREAD = 1


def thinned(
    dense: Curve, middles: Floats, fixed: np.ndarray, tolerance: Floats, bends: Sequence[float] = BENDS
) -> Curve:
    """A curve with the fewest of the keys of a dense one, its slopes chosen among some near its own.

    dense: smooth keys at F times; middles (F - 1,): the motion halfway between them; fixed (F,) bool: keys that stay;
    tolerance (F,); bends: what is tried on top of the motion's own slope, which (0) is among them.
    """
    numbers = dense.numbers
    size = len(numbers)
    if size < 3:
        return dense
    times, arriving, leaving, slopes_in, slopes_out = (np.ascontiguousarray(numbers[:, k]) for k in range(5))
    stay = fixed | (arriving != leaving)
    stay[[0, -1]] = True
    tried = np.array(bends)
    best, came = np.zeros((size, len(tried)), dtype=np.int64), np.zeros((size, len(tried)), dtype=np.int64)
    fewest_keys(
        times, arriving, leaving, slopes_in, slopes_out, np.ascontiguousarray(middles), stay.astype(np.int64), tolerance,
        tried, best, came, LONGEST,
    )  # fmt: skip
    # At both ends the slope is the motion's own, so that it meets what lies outside without a kink.
    own = np.flatnonzero(tried == 0.0)
    state = (size - 1) * len(tried) + int(own[np.argmin(best[-1, own])])
    states = []
    while state >= 0:
        states.append(state)
        state = int(came[divmod(state, len(tried))])
    chosen, bent = np.divmod(np.array(states[::-1]), len(tried))
    kept = numbers[chosen].copy()
    kept[:, 3:] += (tried[bent] * tolerance[chosen])[:, None]
    return Curve(kept, dense.marks[chosen])


def choose(
    dense: dict[str, Curve],
    middles: dict[str, Floats],
    fixed: dict[str, np.ndarray],
    reach: dict[str, Floats],
    measured: Callable[[dict[str, Curve]], Floats],
) -> dict[str, Curve]:
    """Thins several curves together, to few keys with which the joints stay where they may.

    `fixed`: which of its T keys each keeps; `reach`: how far each may stray alone, at each of the times; `measured`: (T,)
    how far the joints stray about each time, as a share of what is allowed. Where they stray too far the channels that
    stray there most are held tighter; where that does not help, the dense keys stay. Curves that step, and those without
    middles, are left as they are. The dense curves are the result where nothing fewer will do.
    """
    able = [n for n, c in dense.items() if n in middles and not np.any(c.marks[:-1, 0] == STEPPED)]
    if not able:
        return dense
    times = dense[able[0]].times
    half = 0.5 * (times[1:] + times[:-1])
    share = {n: np.full(len(times), LOOSE) for n in able}
    stay = np.zeros(len(times), dtype=bool)
    # How tight is found with the motion's own slopes, at a fraction of the cost; then slopes are chosen too, which use up
    # what the channels may stray and so need it a little tighter.
    bends: Sequence[float] = BENDS[:1]
    own, left, more = OWN_ROUNDS, ROUNDS, MORE
    best = dense
    while left and more:
        tried = dense | {n: thinned(dense[n], middles[n], stay | fixed[n], share[n] * reach[n], bends) for n in able}
        off = measured(tried)
        fits = off.max() <= 1.0
        if not own and fits and sum(map(len, tried.values())) < sum(map(len, best.values())):
            best = tried
        if not fits or best is not dense:
            tighter = np.clip(AIM / np.maximum(_most(off, SPREAD), 1e-3), 0.2, 1.0)
            used = {n: _strays(dense[n], middles[n], tried[n], times, half) / reach[n] for n in able}
            most = np.max(list(used.values()), axis=0)
            share = {n: np.where(used[n] >= PART * most, s * tighter, s) for n, s in share.items()}
        if best is not dense:
            # Something fits: where the joints stray less than they may, the channels are let go a little, and the fewest keys win.
            more -= 1
            looser = np.clip(AIM / np.maximum(_most(off, AROUND), 1e-3), 1.0, LOOSER)
            share = {n: np.minimum(s * looser, 1.0) for n, s in share.items()}
            continue
        if not fits:
            helpless = np.min(list(share.values()), axis=0) < HELPLESS
            stay |= _most(((off > 1.0) & helpless).astype(float), 1) > 0.0
        if not own:
            left -= 1
            if left <= ROUNDS // 2:
                stay |= off > 1.0
            continue
        own = 0 if fits else own - 1
        if not own:
            bends = BENDS
            share = {n: HANDED_OVER * s for n, s in share.items()}
    return best


def _strays(dense: Curve, middles: Floats, thin: Curve, times: Floats, half: Floats) -> Floats:
    """(T,) how far a thinned curve strays from the dense one about each of its T times."""
    between = np.abs(sample(thin, half) - middles)
    on = np.abs(sample(thin, times) - dense.numbers[:, 2])
    found: Floats = np.maximum(on, np.maximum(np.append(between, 0.0), np.append(0.0, between)))
    return _most(found, SPREAD)


def _most(values: Floats, around: int) -> Floats:
    """(T,) the most of each of T values and of so many of them on either side."""
    # Not with a start, which need not wait for it.
    from scipy.ndimage import maximum_filter1d

    return np.asarray(maximum_filter1d(values, 2 * around + 1))
