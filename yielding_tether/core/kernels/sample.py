"""Sampling curves with split keys."""

from __future__ import annotations

from .block import BLOCK, U, value_slot, wave_slot
from .scalars import inner, kernel, sine_cosine

#: What leads from a key to the next: nothing, a line, a cubic.
LEADS = STEPPED, _, SMOOTH = 0, 1, 2


@kernel
def disorder(numbers):  # type: ignore[no-untyped-def]
    """0 where keys (n, 5) of a curve are sound, 1 where a number is not finite, 2 where a key is not after the one before it."""
    found = 0
    for k in range(len(numbers)):
        for c in range(numbers.shape[1]):
            # What is not finite is not zero times, either.
            if numbers[k, c] * 0.0 != 0.0:
                return 1
        if k and numbers[k, 0] <= numbers[k - 1, 0]:
            found = 2
    return found


@kernel
def cubics_of(numbers, marks, cubics):  # type: ignore[no-untyped-def]
    """Fills cubics (n, 7), as `curves.Packed` has them, of the keys (n, 5) of a curve with marks (n, 4)."""
    for k in range(len(numbers)):
        kind = marks[k, 0]
        cubics[k, 0] = numbers[k, 0]
        cubics[k, 1] = numbers[k, 2]
        cubics[k, 2] = 0.0
        cubics[k, 3] = 0.0
        cubics[k, 4] = 0.0
        cubics[k, 5] = numbers[k, 1]
        cubics[k, 6] = 0.0 if kind == STEPPED else 1.0
        if kind != STEPPED and k + 1 < len(numbers):
            h = numbers[k + 1, 0] - numbers[k, 0]
            d = (numbers[k + 1, 1] - numbers[k, 2]) / h
            cubics[k, 2] = d
            if kind == SMOOTH:
                m0 = numbers[k, 4]
                m1 = numbers[k + 1, 3]
                cubics[k, 2] = m0
                cubics[k, 3] = (3.0 * d - 2.0 * m0 - m1) / h
                cubics[k, 4] = (m0 + m1 - 2.0 * d) / (h * h)


@inner
def _before(cubics, lo, hi, t, arriving):  # type: ignore[no-untyped-def]
    """Index of the last key in rows lo…hi-1 at or before t (strictly before, when arriving), or lo - 1."""
    a = lo
    b = hi
    while a < b:
        m = (a + b) >> 1
        if cubics[m, 0] < t or (arriving == 0 and cubics[m, 0] == t):
            a = m + 1
        else:
            b = m
    return a - 1


@inner
def sample_row(lo, hi, cubics, times, arriving, count, rising, out, o):  # type: ignore[no-untyped-def]
    """Fills out[o : o + count] with the curve in rows lo…hi-1 of packed cubics at times[:count], each on its side;
    `rising`: no time is before the one that it follows.

    Times mostly come in order, and all times within one segment are worked together.
    """
    i = lo - 1
    b = 0
    while b < count:
        t = times[b]
        late = arriving[b]
        # The last key at or before t (before it, where it arrives): mostly the one met last, or the next.
        if i < lo or not (cubics[i, 0] < t or (late == 0 and cubics[i, 0] == t)):
            i = _before(cubics, lo, hi, t, late)
        else:
            near = i + 3
            while i + 1 < hi and (cubics[i + 1, 0] < t or (late == 0 and cubics[i + 1, 0] == t)):
                i += 1
                if i == near:
                    i = _before(cubics, lo, hi, t, late)
                    break
        if i < lo:
            out[o + U(b)] = cubics[lo, 5]
        elif i == hi - 1:
            p = cubics[i, 1]
            if rising and t > cubics[i, 0]:
                # Behind the last key it stays as it is.
                for k in range(U(b), U(count)):
                    out[o + k] = p
                return
            out[o + U(b)] = p
        elif t == cubics[i + 1, 0]:
            # A stepped segment holds its value until the key has passed.
            out[o + U(b)] = cubics[i + 1, 5] if cubics[i, 6] != 0.0 else cubics[i, 1]
        else:
            t0 = cubics[i, 0]
            t1 = cubics[i + 1, 0]
            # At its first key, too, it is what the key leaves with.
            end = b + 1
            if rising and end < count and times[end] > t0:
                # Eight at a stride: where times only rise, the last of them answers for all.
                while end + 8 <= count and times[end + 7] < t1:
                    end += 8
            while end < count and t0 < times[end] < t1:
                end += 1
            p = cubics[i, 1]
            c1 = cubics[i, 2]
            c2 = cubics[i, 3]
            c3 = cubics[i, 4]
            for k in range(U(b), U(end)):
                s = times[k] - t0
                out[o + k] = p + s * (c1 + s * (c2 + s * c3))
            b = end
            continue
        b += 1


@inner
def in_order(times, count):  # type: ignore[no-untyped-def]
    """Whether no time is before the one that it follows."""
    for k in range(1, count):
        if times[k] < times[k - 1]:
            return False
    return count > 0


@kernel
def sample_packed(starts, cubics, at, side, out):  # type: ignore[no-untyped-def]
    """Samples many curves at many times.

    starts: (C + 1,) first row of each curve in cubics (n, 7), each with at least one row; at: (F,) frames; side:
    (F,) 0 leaving, 1 arriving; out: (C * F,), curve by curve.
    """
    rising = in_order(at, len(at))
    for c in range(len(starts) - 1):
        sample_row(starts[c], starts[c + 1], cubics, at, side, len(at), rising, out, U(c * len(at)))


@kernel
def halve(values, turning, first, last, size, waves):  # type: ignore[no-untyped-def]
    """Fills waves with sine and cosine of half of the values of the channels turning[first:last]."""
    for k in range(first, last):
        v = value_slot(turning[k])
        o = wave_slot(turning[k])
        for b in range(U(size)):
            s, c = sine_cosine(0.5 * values[v + b])
            waves[o + b] = s
            waves[o + U(BLOCK) + b] = c
