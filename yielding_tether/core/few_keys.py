"""Few keys: the fewest keys, and slopes at them, with which a motion stays within a tolerance at the joints.

Keys are chosen, not inserted: dynamic programming over the frames with several slopes tried at each (see 'kernels.few').
Every channel has key times of its own beside those that are fixed. How far a channel may stray comes from how far it moves
the joints; what all channels together do is measured at the joints, at every frame and halfway between, and the channels
are held tighter until that is within the tolerance.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from scipy.ndimage import maximum_filter1d

from .curves import SMOOTH, STEPPED, Curve, Key, curve
from .kernels.few import fewest_keys
from .transforms import Floats

#: Slopes tried at each key on top of the motion's own, in tolerances a frame.
BENDS = (0.0, -0.3, 0.3, -0.8, 0.8)
#: Most frames between two keys.
LONGEST = 120
#: How often the channels are held tighter or looser.
ROUNDS = 12
#: How often it is tried with fewer once it will do.
MORE = 3
#: How many times on both sides are held tighter with one that strays.
SPREAD = 1


def thinned(
    dense: Curve, middles: Floats, fixed: np.ndarray, tolerance: Floats, bends: Sequence[float] = BENDS
) -> Curve:
    """A curve with the fewest of the keys of a dense one, its slopes chosen among some near its own.

    dense: smooth keys at F times; middles (F - 1,): the motion halfway between them; fixed (F,) bool: keys that stay;
    tolerance (F,).
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
    state = (size - 1) * len(tried) + int(np.argmin(best[-1]))
    keys: list[Key] = []
    while state >= 0:
        k, bend = divmod(state, len(tried))
        key = dense.key(k)
        more = float(tried[bend] * tolerance[k])
        keys.append(key._replace(slope_in=key.slope_in + more, slope_out=key.slope_out + more))
        state = int(came[k, bend])
    keys.reverse()
    # The sides that face what lies outside keep their slopes.
    keys[0] = keys[0]._replace(slope_in=float(slopes_in[0]))
    if dense.marks[-1, 0] != SMOOTH or numbers[-1, 2] != numbers[-1, 1]:
        keys[-1] = keys[-1]._replace(slope_out=float(slopes_out[-1]))
    return curve(keys)


def choose(
    dense: dict[str, Curve],
    middles: dict[str, Floats],
    fixed: dict[str, np.ndarray],
    reach: dict[str, Floats],
    measured: Callable[[dict[str, Curve]], Floats],
) -> dict[str, Curve]:
    """Thins several curves together, to the fewest keys with which the joints stay where they may.

    `fixed`: which of its T keys each keeps; `reach`: how far each may stray alone, at each of the times; `measured`: (T,)
    how far the joints stray about each time, as a share of what is allowed. Where they stray too far the channels are held
    tighter, where they need not be, looser; where nothing helps, the dense keys stay. Curves that step, and those without
    middles, are left as they are.
    """
    made, count, first = dense, sum(map(len, dense.values())), ROUNDS
    size = max(map(len, fixed.values()))
    share, stay = np.full(size, 0.7), np.zeros(size, dtype=bool)
    # How tight is found with the motion's own slopes, at a fraction of the cost; then slopes are chosen too.
    bends: Sequence[float] = BENDS[:1]
    for k in range(ROUNDS):
        tried = {
            n: thinned(c, middles[n], stay | fixed[n], share * reach[n], bends)
            if n in middles and not np.any(c.marks[:-1, 0] == STEPPED)
            else c
            for n, c in dense.items()
        }
        off = measured(tried)
        size = sum(map(len, tried.values()))
        if off.max() <= 1.0 and size < count:
            made, count, first = tried, size, min(first, k)
        if k >= first + MORE:
            break
        if off.max() <= 1.0 or k >= ROUNDS - MORE - 1:
            bends = BENDS
        # What a channel may stray at a time bounds what it does there: where joints stray too far, less will do.
        around = maximum_filter1d(off, 2 * SPREAD + 1)
        if k >= ROUNDS // 2 and made is dense:
            stay |= maximum_filter1d((off > 1.0).astype(float), 5) > 0.0
        loosest = 1.0 if off.max() > 1.0 else 1.15
        share *= np.clip(0.9 / np.maximum(around, 1e-3), 0.2, loosest)
    return made
