"""Captured motion as a system: sampled joints, interpolated with continuous speed, exact at the samples."""

from __future__ import annotations

import math

from ..transforms import kernel


@kernel
def _blend(table, k, j, a, s, step_in, step_out, i0, i3):  # type: ignore[no-untyped-def]
    """Cubic Hermite between samples k and k + 1 of component a with slopes of central differences."""
    p0 = table[k, j, a]
    p1 = table[k + 1, j, a]
    d = p1 - p0
    m0 = (p1 - table[i0, j, a]) / step_in
    m1 = (table[i3, j, a] - p0) / step_out
    return p0 + s * (m0 + s * ((3.0 * d - 2.0 * m0 - m1) + s * (m0 + m1 - 2.0 * d)))


@kernel
def sample(offsets, rotations, first, step, at, out_off, out_rot):  # type: ignore[no-untyped-def]
    """Local transforms of a capture at the frames `at`.

    offsets (S, J, 3), rotations (S, J, 4): the samples, the first at frame `first`, then every `step` frames;
    out_off (F, J, 3), out_rot (F, J, 4). Constant beyond both ends.
    """
    count = offsets.shape[0]
    joints = offsets.shape[1]
    for f in range(len(at)):
        x = (at[f] - first) / step
        if x <= 0.0 or count == 1:
            k, s = 0, 0.0
        elif x >= count - 1:
            k, s = count - 1, 0.0
        else:
            k = int(math.floor(x))
            s = x - k
        if s == 0.0:
            for j in range(joints):
                for a in range(3):
                    out_off[f, j, a] = offsets[k, j, a]
                for a in range(4):
                    out_rot[f, j, a] = rotations[k, j, a]
            continue
        i0 = max(k - 1, 0)
        i3 = min(k + 2, count - 1)
        step_in = float(k + 1 - i0)
        step_out = float(i3 - k)
        for j in range(joints):
            for a in range(3):
                out_off[f, j, a] = _blend(offsets, k, j, a, s, step_in, step_out, i0, i3)
            size = 0.0
            for a in range(4):
                v = _blend(rotations, k, j, a, s, step_in, step_out, i0, i3)
                out_rot[f, j, a] = v
                size += v * v
            size = 1.0 / math.sqrt(size)
            for a in range(4):
                out_rot[f, j, a] *= size
