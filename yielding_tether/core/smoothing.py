"""Smoothing over time: a low pass without delay, what lies above the motion's own band, and where that band ends.

The filter is Butterworth's of fourth order, run forward and backward (SciPy's sosfiltfilt), so nothing comes later or earlier: a
wave of frequency f keeps 1 / (1 + (f / cutoff)^8) of its size, 98 % at 0.6 of the cutoff, 1 % at 1.8 of it.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from .transforms import Floats

#: Order of the filter that runs each way.
ORDER = 4
#: Where the cutoff lies over the end of the motion's band, which so keeps all but one or two per cent of its peaks.
OVER = 1.7
#: How far above the floor of noise a frequency must stand (in power) to be the motion's.
STANDS = 6.0
#: Hertz over which a spectrum is averaged: what lasts for a second has no finer detail.
BROAD = 0.75
#: The lowest cutoff, Hertz, and the highest, as a share of the frames a second.
LOWEST, HIGHEST = 0.75, 0.45
#: Frames on either side among which it is looked at what is usual.
AROUND = 10
#: A fall of this share of a spectrum's power from its low half to its high one says that there is no floor: no noise to take away.
CLEAN = 1e-9


def low_pass(values: Floats, rate: float, cutoff: float) -> Floats:
    """(F, ...) values at a rate (frames a second) without what is faster than a cutoff (Hertz), along the first axis."""
    # Takes a quarter of a second to import, and only smoothing wants it.
    from scipy.signal import butter, sosfiltfilt

    if len(values) < 4 or cutoff >= 0.5 * rate:
        return values.copy()
    sections = butter(ORDER, cutoff, fs=rate, output="sos")
    pad = min(len(values) - 1, int(np.ceil(3.0 * rate / cutoff)))
    found: Floats = sosfiltfilt(sections, values, axis=0, padtype="odd", padlen=pad)
    return found


def continuous(turns: Floats) -> Floats:
    """(F, ..., 4) the same rotations, each in the hemisphere of the one before."""
    flips = np.sum(turns[1:] * turns[:-1], axis=-1) < 0.0
    sign = np.where(np.cumsum(flips, axis=0) % 2 == 1, -1.0, 1.0)
    found: Floats = np.concatenate([turns[:1], turns[1:] * sign[..., None]])
    return found


def low_pass_turns(turns: Floats, rate: float, cutoff: float) -> Floats:
    """(F, ..., 4) rotations without what is faster than a cutoff: by their components, which is exact for small noise."""
    found = low_pass(continuous(turns), rate, cutoff)
    unit: Floats = found / np.linalg.norm(found, axis=-1, keepdims=True)
    return unit


class Away(Protocol):
    """What is taken away of values (F, ...) and turns (F, ..., 4) over time, frame by frame."""

    def values(self, values: Floats) -> Floats: ...

    def turns(self, turns: Floats) -> Floats: ...


@dataclass(frozen=True)
class Fast:
    """Takes away what is faster than a cutoff (Hertz) at a rate (frames a second)."""

    rate: float
    cutoff: float

    def values(self, values: Floats) -> Floats:
        return low_pass(values, self.rate, self.cutoff)

    def turns(self, turns: Floats) -> Floats:
        return low_pass_turns(turns, self.rate, self.cutoff)


@dataclass(frozen=True)
class Spikes:
    """Takes away single frames that stand out of the cubic through the two on either side by more than `times` what is usual around
    them, and by more than `least` (radians; of a value as many times its range): they are put on that cubic."""

    times: float = 8.0
    least: float = 0.02

    def values(self, values: Floats) -> Floats:
        found = values.reshape(len(values), -1).copy()
        for column in found.T:
            middle = _between(column)
            out = self._out(np.abs(column - middle), self.least * float(np.ptp(column)))
            column[out] = middle[out]
        return found.reshape(values.shape)

    def turns(self, turns: Floats) -> Floats:
        found = continuous(turns)
        flat = found.reshape(len(found), -1, 4)
        for k in range(flat.shape[1]):
            middle = _between(flat[:, k])
            middle /= np.linalg.norm(middle, axis=1, keepdims=True)
            out = self._out(2.0 * np.linalg.norm(flat[:, k] - middle, axis=1), self.least)
            flat[out, k] = middle[out]
        return flat.reshape(turns.shape)

    def _out(self, off: Floats, least: float) -> NDArray[np.bool_]:
        """Which of these stand out (F,): the greatest among neighbours, which a spike takes along."""
        around = np.pad(off, AROUND, mode="reflect") if len(off) > AROUND else np.pad(off, AROUND, mode="edge")
        usual = np.median(np.lib.stride_tricks.sliding_window_view(around, 2 * AROUND + 1), axis=1)
        greatest = np.max(np.lib.stride_tricks.sliding_window_view(np.pad(off, 2), 5), axis=1)
        found: NDArray[np.bool_] = (off > np.maximum(self.times * usual, least)) & (off >= greatest)
        found[:2] = found[-2:] = False
        return found


def _between(values: Floats) -> Floats:
    """(F, ...) where the cubic through the two frames on either side has each one; the first and last two as they are."""
    found = values.copy()
    found[2:-2] = (4.0 * (values[1:-3] + values[3:-1]) - values[:-4] - values[4:]) / 6.0
    return found


def spectrum(values: Floats, rate: float) -> tuple[Floats, Floats]:
    """Frequencies (N,) in Hertz, and the power of all of these values (F, K) at each, averaged over `BROAD`."""
    count = len(values)
    left = values - np.linspace(values[0], values[-1], count)
    window = np.hanning(count)[:, None]
    power = np.sum(np.abs(np.fft.rfft(left * window, axis=0)) ** 2, axis=1)
    frequencies = np.arange(len(power)) * (rate / count)
    wide = max(1, round(BROAD * count / rate))
    even: Floats = np.convolve(power, np.full(wide, 1.0 / wide), mode="same")
    return np.asarray(frequencies, dtype=np.float64), even


def cutoff_of(values: Floats, rate: float) -> float:
    """Hertz above which there is only noise, and so a cutoff that leaves the motion what is its: where the power of all of these
    values (F, K) comes down to the floor that its highest frequencies have. The highest cutoff where there is no such floor."""
    most = HIGHEST * rate
    if len(values) < 16:
        return most
    frequencies, power = spectrum(values, rate)
    high = frequencies > 0.25 * rate
    floor = float(np.median(power[high])) if high.any() else 0.0
    if floor <= CLEAN * float(power.max()):
        return most
    above = np.flatnonzero(power > STANDS * floor)
    # The average has spread the last of them by half its width.
    end = float(frequencies[above[-1]]) - 0.5 * BROAD if len(above) else 0.0
    return float(np.clip(OVER * end, LOWEST, most))


def fast(values: Floats, rate: float, cutoff: float) -> float:
    """How large what is faster than a cutoff is in values (F, K): the root of its mean square, all of them together."""
    off = values - low_pass(values, rate, cutoff)
    return float(np.sqrt(np.mean(np.sum(off**2, axis=-1))))
