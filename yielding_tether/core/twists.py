"""Which twist the helper joints of a limb's segments share, and how much of it: from the motion, or from where they lie."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from .skeleton import Skeleton
from .transforms import Floats, inverse, multiply, rotate

#: A joint twists if it does so by more than this, and a helper shares a twist if it is nowhere off by more; radians.
TWISTS, OFF = np.radians(3.0), np.radians(1.0)


class Sharing(NamedTuple):
    """A helper joint, the joint `of` whose twist it shares, the unit `axis` of that in the joint it hangs from, and the share."""

    helper: int
    of: int
    axis: tuple[float, float, float]
    share: float


def sharings(
    skeleton: Skeleton, path: Sequence[int], helpers: Sequence[int], rotations: Floats | None
) -> list[Sharing]:
    """What those of the `helpers` share that hang from the segments of a limb along `path`; rotations: (S, J, 4) local ones of
    some motion. A helper that stands still while its segment twists, or moves by itself, shares nothing and is left out."""
    found = []
    for helper in helpers:
        a = skeleton.parents[helper]
        if a not in path[:-1]:
            continue
        b = path[path.index(a) + 1]
        end, at = (np.array(skeleton.joints[j].offset) for j in (b, helper))
        length = float(np.linalg.norm(end))
        if length < 1e-6:
            continue
        axis = end / length
        along = float(np.clip(at @ axis / length, 0.0, 1.0))
        # Next to the body a helper holds back from the turn of its segment; further on it goes along with what turns at its end.
        of, share = (a, along - 1.0) if a == path[0] else (b, along)
        if rotations is not None:
            said = _measured(skeleton, rotations, helper, a, b, axis)
            if said is not None:
                of, share = said
        if abs(share) > 1e-3:
            found.append(Sharing(helper, of, (float(axis[0]), float(axis[1]), float(axis[2])), share))
    return found


def _measured(
    skeleton: Skeleton, rotations: Floats, helper: int, a: int, b: int, axis: Floats
) -> tuple[int, float] | None:
    """Whose twist a helper shares in a motion, and how much of it: nothing (0) if none explains it; None if nobody twists."""
    own, aside = _twist(skeleton, rotations, helper, a, axis)
    twists = {j: _twist(skeleton, rotations, j, a, axis)[0] for j in (a, b)}
    able = {j: t for j, t in twists.items() if float(np.abs(t).max()) > TWISTS}
    if not able:
        return None if float(np.abs(own).max()) < OFF else (a, 0.0)
    best = (a, 0.0, float(np.abs(own).max()))
    for j, t in able.items():
        share = float(t @ own / (t @ t))
        off = float(np.abs(own - share * t).max())
        if off < best[2]:
            best = (j, share, off)
    return (best[0], best[1]) if max(best[2], aside) < OFF else (a, 0.0)


def _twist(skeleton: Skeleton, rotations: Floats, joint: int, a: int, axis: Floats) -> tuple[Floats, float]:
    """(S,) twist of a joint from its rest about an axis that is given in a, which it is or hangs from, radians; and the most by
    which it turns otherwise."""
    rest = np.array(skeleton.joints[joint].rest)
    turn = multiply(inverse(rest), rotations[:, joint])
    about = axis if joint == a else rotate(inverse(rest), axis)
    along = turn[:, :3] @ about
    sign = np.where(turn[:, 3] < 0.0, -1.0, 1.0)
    aside = np.linalg.norm(turn[:, :3] - along[:, None] * about, axis=1)
    return 2.0 * np.arctan2(sign * along, sign * turn[:, 3]), float(2.0 * np.arcsin(np.clip(aside, 0.0, 1.0)).max())
