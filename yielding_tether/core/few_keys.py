"""Few keys: the fewest keys, and slopes at them, with which a motion stays within a tolerance at the joints.

Keys are chosen, not inserted: dynamic programming over the frames with several slopes tried at each (see 'kernels.few').
Every channel has key times of its own beside those that are fixed. How far a channel may stray comes from how far it moves
the joints; what all channels together do is measured at the joints, at every frame and halfway between, and the channels
are held tighter until that is within the tolerance.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .cores import shared
from .curves import STEPPED, Curve, sample
from .kernels.few import Dense, fewest_keys
from .transforms import Floats, Ints

Flags = NDArray[np.bool_]

#: Slopes tried at each key on top of the motion's own, in tolerances a frame.
BENDS = (0.0, -0.3, 0.3, -0.8, 0.8)
#: Most frames between two keys.
LONGEST = 120
#: Rounds with the motion's own slopes alone, and then with others before what strays too far has dense keys: each holds some
#: channels tighter.
OWN_ROUNDS, ROUNDS = 4, 8
#: Share of what a channel may stray alone that it starts with, and what of it stays once slopes are chosen too.
LOOSE, HANDED_OVER = 0.65, 0.85
#: What a time that strays too far is brought to; the share of the most that a channel strays from which on it is held.
AIM, PART = 0.85, 0.1
#: By how much more than the dense keys the joints may stray where those are beyond the tolerance.
DENSE = 1.001
#: Where channels are held this tight in vain, keys are what helps.
HELPLESS = 0.02
#: Radians, metres or shares by which a channel may move and yet counts as one that does not.
IDLE = 1e-9
#: Keys on both sides of what changes that are chosen anew with it.
BESIDE = 3
#: How many times on both sides are held tighter with one that strays.
SPREAD = 1
#: How often each key is tried at the end; the share of those tried which can go from which on more are.
TURNS = 2
SPARE = 0.1


class _Thin(NamedTuple):
    """A thinned curve: which of the dense keys it has (K,), and which of the slopes tried (K,) each of them; how far the channel
    might stray (F,), and which keys had to stay (F,)."""

    chosen: Ints
    bent: Ints
    tolerance: Floats
    stay: Flags

    def curve(self, dense: Curve, bends: Floats, sharp: Flags) -> Curve:
        """sharp (F,): times at which slopes are the motion's own."""
        kept = dense.numbers[self.chosen].copy()
        kept[:, 3:] += (bends[self.bent] * np.where(sharp, 0.0, self.tolerance)[self.chosen])[:, None]
        return Curve(kept, dense.marks[self.chosen])


def thinned(
    dense: Curve, middles: Floats, fixed: np.ndarray, tolerance: Floats, bends: Sequence[float] = BENDS
) -> Curve:
    """A curve with the fewest of the keys of a dense one, its slopes chosen among some near its own.

    dense: smooth keys at F times; middles (F - 1,): the motion halfway between them; fixed (F,) bool: keys that stay;
    tolerance (F,); bends: what is tried on top of the motion's own slope, which (0) is among them.
    """
    tried, sharp = np.array(bends), _sharp(dense)
    return _thinned(dense, middles, fixed, tolerance, tried, sharp).curve(dense, tried, sharp)


def _sharp(dense: Curve) -> Flags:
    """(F,) where a curve has one value as time arrives and another as it leaves: there its slopes pass on a speed."""
    found: Flags = dense.numbers[:, 1] != dense.numbers[:, 2]
    return found


def _thinned(dense: Curve, middles: Floats, fixed: Flags, tolerance: Floats, bends: Floats, sharp: Flags) -> _Thin:
    """The same; sharp (F,): keys at which no slopes are tried, as where any channel of the part is split. At both ends the slope is
    the motion's own, so that it meets what lies outside without a kink."""
    numbers = dense.numbers
    stay = fixed | _sharp(dense)
    stay[[0, -1]] = True
    own = int(np.flatnonzero(bends == 0.0)[0])
    chosen, bent = _fewest(numbers, middles, stay, tolerance, bends, own, own, sharp)
    return _Thin(chosen, bent, tolerance, fixed)


def _thinned_anew(
    known: _Thin, dense: Curve, middles: Floats, fixed: Flags, tolerance: Floats, bends: Floats, sharp: Flags
) -> tuple[_Thin, Flags]:
    """A thinned curve chosen anew where it may stray otherwise, or other keys must stay, and a few keys around; what lies between
    is as it was. Also tells (F,) where that is."""
    changed = (tolerance != known.tolerance) | (fixed != known.stay)
    where = np.zeros(len(changed), dtype=bool)
    if not changed.any():
        return known, where
    edges = np.flatnonzero(np.diff(np.concatenate([[False], changed, [False]]).astype(np.int8)))
    first = np.maximum(np.searchsorted(known.chosen, edges[::2], side="left") - BESIDE, 0)
    last = np.minimum(np.searchsorted(known.chosen, edges[1::2] - 1, side="right") - 1 + BESIDE, len(known.chosen) - 1)
    for a, b in zip(first, last, strict=True):
        where[known.chosen[a] : known.chosen[b] + 1] = True
    stay = fixed | _sharp(dense)
    chosen, bent, done = [], [], 0
    ends = np.flatnonzero(np.diff(np.concatenate([[False], where, [False]]).astype(np.int8)))
    for a, b in zip(ends[::2], ends[1::2] - 1, strict=True):
        i, j = np.searchsorted(known.chosen, [a, b])
        some = slice(a, b + 1)
        there = stay[some].copy()
        there[[0, -1]] = True
        now, slopes = _fewest(
            dense.numbers[some],
            middles[a:b],
            there,
            tolerance[some],
            bends,
            int(known.bent[i]),
            int(known.bent[j]),
            sharp[some],
        )
        chosen += [known.chosen[done:i], a + now[:-1]]
        bent += [known.bent[done:i], slopes[:-1]]
        done = j
    chosen.append(known.chosen[done:])
    bent.append(known.bent[done:])
    return _Thin(np.concatenate(chosen), np.concatenate(bent), tolerance, fixed), where


def _fewest(
    numbers: Floats, middles: Floats, stay: Flags, tolerance: Floats, bends: Floats, begin: int, end: int, sharp: Flags
) -> tuple[Ints, Ints]:
    """Which keys are the fewest, and which of the slopes tried each of them has; the first and the last have given ones."""
    size, count = len(numbers), len(bends)
    still = all(np.ptp(x) <= IDLE for x in (numbers[:, 1:3], middles)) and np.abs(numbers[:, 3:]).max() <= IDLE
    if size < 3 or (still and bends[begin] == bends[end] == 0.0):
        # What does not move needs no choice.
        chosen = np.flatnonzero(stay)
        return chosen, np.full(len(chosen), begin)
    times, arriving, leaving, slopes_in, slopes_out = (np.ascontiguousarray(numbers[:, k]) for k in range(5))
    motion = Dense(
        times, arriving, leaving, slopes_in, slopes_out, np.where(sharp, 0.0, tolerance), 0.5 * (times[1:] + times[:-1]),
        np.ascontiguousarray(middles), np.minimum(tolerance[1:], tolerance[:-1]),
    )  # fmt: skip
    best, came = np.zeros((size, count), dtype=np.int64), np.zeros((size, count), dtype=np.int64)
    fewest_keys(motion, stay.astype(np.int64), bends, begin, best, came, np.zeros(size, dtype=np.int64), LONGEST)
    state = (size - 1) * count + end
    states = []
    while state >= 0:
        states.append(state)
        state = int(came[divmod(state, count)])
    chosen, bent = np.divmod(np.array(states[::-1]), count)
    return chosen, bent


def choose(
    dense: dict[str, Curve],
    middles: dict[str, Floats],
    fixed: dict[str, np.ndarray],
    reach: dict[str, Floats],
    farther: dict[str, Floats],
    measured: Callable[[dict[str, Curve], Flags], Floats],
) -> dict[str, Curve]:
    """Thins several curves together, to few keys with which the joints stay where they may.

    `fixed`: which of its T keys each keeps; `reach`: how far each may stray alone, at each of the times, `farther`: to the side to
    which joints follow it less; `measured`: (T,) how far the joints stray about those of the times that are asked for, as a share
    of what is allowed. Where they stray too far the channels that stray there most are held tighter; where that does not help, the
    dense keys stay. At the end the keys go that can go one by one. Curves that step, and
    those without middles, are left as they are.
    """
    able = [n for n, c in dense.items() if n in middles and not np.any(c.marks[:-1, 0] == STEPPED)]
    if not able:
        return dense
    times = dense[able[0]].times
    half = 0.5 * (times[1:] + times[:-1])
    everywhere = np.ones(len(times), dtype=bool)
    # Where one channel is split, speed passes on only with the slopes that all of them have.
    split = np.any([_sharp(dense[n]) for n in able], axis=0)
    # Where the dense keys stray too far themselves, as where a limb snaps through straight within a frame, fewer can't do better.
    floor = allowed(measured(dense, everywhere))
    thin: dict[str, _Thin] = {}
    curves: dict[str, Curve] = {}
    off = floor

    def attempt(share: dict[str, Floats], stay: Flags, bends: Sequence[float], anew: bool = False) -> dict[str, Curve]:
        """The curves with channels held as tight as this; how far the joints stray then, in what they may, is in `off`."""
        nonlocal off
        tried, where = np.array(bends), np.zeros(len(times), dtype=bool)
        sharp = {n: split & (stay | fixed[n] | _sharp(dense[n])) for n in able}

        def one(n: str) -> tuple[_Thin, Flags]:
            given = dense[n], middles[n], stay | fixed[n], share[n] * reach[n], tried, sharp[n]
            return (_thinned(*given), everywhere) if anew else _thinned_anew(thin[n], *given)

        # Channels know nothing of one another here, and the search is compiled: cores share them.
        for n, (made, there) in zip(able, shared(one, able), strict=True):
            if made is not thin.get(n):
                # What is as it was stays the same curve, and is not sampled again.
                thin[n], curves[n] = made, made.curve(dense[n], tried, sharp[n])
            where |= there
        found = dense | curves
        off = np.where(where, measured(found, where) / floor, off)
        return found

    def tighter(share: dict[str, Floats], tried: dict[str, Curve]) -> dict[str, Floats]:
        """Channels held tighter where the joints stray too far, those that stray there most."""
        by = np.clip(AIM / np.maximum(_most(off, SPREAD), 1e-3), 0.2, 1.0)
        there = _most((by < 1.0).astype(float), 1 + SPREAD) > 0.0
        used = {n: _strays(dense[n], middles[n], tried[n], times, half, there) / reach[n] for n in able}
        most = np.max(list(used.values()), axis=0)
        return {n: np.where((by < 1.0) & (used[n] >= PART * most), s * by, s) for n, s in share.items()}

    # How tight is found with the motion's own slopes, at a fraction of the cost; then slopes are chosen too, which use up
    # what the channels may stray and so need it a little tighter.
    share = {n: np.full(len(times), LOOSE) for n in able}
    stay = np.zeros(len(times), dtype=bool)
    for k in range(OWN_ROUNDS):
        tried = attempt(share, stay, BENDS[:1], anew=k == 0)
        if off.max() <= 1.0:
            break
        share = tighter(share, tried)
    share = {n: HANDED_OVER * s for n, s in share.items()}
    rounds = 0
    while True:
        tried = attempt(share, stay, BENDS, anew=rounds == 0)
        if off.max() <= 1.0:
            break
        rounds += 1
        share = tighter(share, tried)
        helpless = np.min(list(share.values()), axis=0) < HELPLESS
        # In the end the dense keys stay there and beside it, and so it ends.
        stay |= _most(((off > 1.0) & (helpless | (rounds > ROUNDS // 2))).astype(float), int(rounds > ROUNDS)) > 0.0
    stays = {n: fixed[n] | stay for n in able}
    return _without_spare(tried, stays, farther, times, floor, measured)


def allowed(dense: Floats) -> Floats:
    """How far the joints may stray where with the dense keys they stray as far as this, both in tolerances."""
    return np.where(dense > 1.0, DENSE * dense, 1.0)


def _without_spare(
    curves: dict[str, Curve], stays: Mapping[str, Flags], reach: Mapping[str, Floats], times: Floats, most: Floats,
    measured: Callable[[dict[str, Curve], Flags], Floats],
) -> dict[str, Curve]:  # fmt: skip
    """Curves without the keys that can go one by one: where several channels were held tighter together, some need not have been.

    stays (T,) by channel: times whose keys do not go; reach (T,): how far each may stray alone; most (T,): what the joints may
    stray at most; measured: how far they do. Tried at once are keys, of whichever channels, between whose neighbours no other of
    them is, those first without which their channel strays least; and a second time, since others that went make room."""
    found = dict(curves)
    off = measured(found, np.ones(len(times), dtype=bool))
    for _ in range(TURNS):
        tried = {n: stays[n].copy() for n in stays}
        while asked_for := _disjoint(found, tried, reach, times, most + off):
            where = np.zeros(len(times), dtype=bool)
            for one in asked_for:
                where[one.span] = True
                tried[one.name][one.at] = True
            seen = measured(found | _cut(found, asked_for), where)
            able = [one for one in asked_for if np.all(seen[one.span] <= most[one.span])]
            found |= _cut(found, able)
            for one in able:
                off[one.span] = seen[one.span]
            if len(able) < SPARE * len(asked_for):
                break
    return found


class _Key(NamedTuple):
    """A key of a channel, by its place among them; which of all times it is at, and those between its neighbours, with these."""

    strays: float
    name: str
    place: int
    at: int
    span: slice


def _disjoint(
    curves: Mapping[str, Curve], tried: Mapping[str, Flags], reach: Mapping[str, Floats], times: Floats, room: Floats
) -> list[_Key]:
    """Keys between whose neighbours no other of them is, those first without which their channel strays least; none at times that
    were tried (T,), or without which it would stray by more than the room (T,) that there is."""
    keys: list[_Key] = []
    for n, done in tried.items():
        at, x = np.searchsorted(times, curves[n].times), curves[n].numbers
        # A key whose two sides are apart is a change: nothing else can be that.
        k = np.flatnonzero(~done[at[1:-1]] & (x[1:-1, 1] == x[1:-1, 2])) + 1
        strays = np.abs(_between(x[k - 1], x[k + 1], x[k, 0]) - x[k, 2]) / reach[n][at[k]]
        k, strays = (v[strays <= room[at[k]]].tolist() for v in (k, strays))
        keys += [_Key(s, n, i, int(at[i]), slice(at[i - 1], at[i + 1] + 1)) for s, i in zip(strays, k, strict=True)]
    free, found = np.ones(len(times), dtype=bool), []
    for key in sorted(keys, key=lambda k: k.strays):
        if free[key.span].all():
            free[key.span] = False
            found.append(key)
    return found


def _between(before: Floats, after: Floats, at: Floats) -> Floats:
    """(K,) values of cubics from keys (K, 5) to others at times between them."""
    n = after[:, 0] - before[:, 0]
    u, rise = (at - before[:, 0]) / n, after[:, 1] - before[:, 2]
    a, b = n * before[:, 4], n * after[:, 3]
    values: Floats = before[:, 2] + u * (a + u * (3.0 * rise - 2.0 * a - b + u * (a + b - 2.0 * rise)))
    return values


def _cut(curves: Mapping[str, Curve], keys: Sequence[_Key]) -> dict[str, Curve]:
    """Those of the curves that have some of these keys, without them."""
    kept: dict[str, Flags] = {}
    for one in keys:
        kept.setdefault(one.name, np.ones(len(curves[one.name]), dtype=bool))[one.place] = False
    return {n: Curve(curves[n].numbers[k], curves[n].marks[k]) for n, k in kept.items()}


def _strays(dense: Curve, middles: Floats, thin: Curve, times: Floats, half: Floats, there: Flags) -> Floats:
    """(T,) how far a thinned curve strays from the dense one about those of its T times that are `there`; elsewhere zero."""
    found = np.zeros(len(times))
    on, between = np.flatnonzero(there), np.flatnonzero(there[1:] | there[:-1])
    found[on] = np.abs(sample(thin, times[on]) - dense.numbers[on, 2])
    off = np.abs(sample(thin, half[between]) - middles[between])
    found[between] = np.maximum(found[between], off)
    found[between + 1] = np.maximum(found[between + 1], off)
    return _most(found, SPREAD)


def _most(values: Floats, around: int) -> Floats:
    """(T,) the most of each of T values and of so many of them on either side."""
    # Not with a start, which need not wait for it.
    from scipy.ndimage import maximum_filter1d

    return np.asarray(maximum_filter1d(values, 2 * around + 1))
