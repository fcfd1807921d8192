"""Cycles that no term states: peaks of the periodogram above what surrounds them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from offing.base.arrays import Array

#: Ordinates on each side whose median is the background of one.
_AROUND = 12
#: Cycles that take a smaller share of the variance may be real, but no plan would rest on them.
_SMALLEST = 0.005


@dataclass(frozen=True)
class Peak:
    """A cycle's `length` in periods, the `share` of the variance that it and its harmonics take, and its chance.

    `p` is the probability of such a peak, anywhere, if there were only noise that changes slowly with the frequency.
    """

    length: float
    share: float
    p: float


def peaks(values: Array, most: int = 4, level: float = 0.001) -> list[Peak]:
    """Cycles of `values` (n,), which have no trend and no unknown values, the strongest first.

    An ordinate of the periodogram over its background is exponential with mean one over ln 2 under noise; the
    probability is that for the largest of all ordinates (Fisher 1929). A cycle's length is then refined by least
    squares, and its harmonics up to the sixth are taken out before the next is sought.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import peaks
    >>> at = np.arange(300.0)
    >>> noise = np.random.default_rng(1).normal(size=300)
    >>> [round(peak.length, 1) for peak in peaks(np.sin(2 * np.pi * at / 7.5) + 0.5 * noise)]
    [7.5]
    """
    n, rest = len(values), values - values.mean()
    total = float(rest @ rest)
    found: list[Peak] = []
    for _ in range(2 * most):
        if n < 16 or total == 0.0:
            break
        power = np.square(np.abs(np.fft.rfft(rest)))[1 : (n + 1) // 2]
        ratio = power / np.maximum(_background(power), 1e-300)
        best = int(np.argmax(ratio))
        p = 1.0 - (1.0 - 0.5 ** float(ratio[best])) ** len(power)
        if p > level:
            break
        length = _refined(rest, n / (best + 1), n)
        columns = _harmonics(n, length)
        explained = columns @ np.linalg.lstsq(columns, rest, rcond=None)[0]
        rest = rest - explained
        found.append(Peak(length, float(explained @ explained) / total, p))
    return [peak for peak in _without_harmonics(found, n) if peak.share >= _SMALLEST][:most]


def _without_harmonics(found: list[Peak], n: int) -> list[Peak]:
    """The cycles, the strongest first, with the share of each harmonic counted with its fundamental."""
    kept: list[Peak] = []
    for peak in sorted(found, key=lambda each: -each.length):
        for i, longer in enumerate(kept):
            times = round(longer.length / peak.length)
            # A third of the distance between two ordinates: nearer, frequencies cannot be separated.
            near = abs(1.0 / peak.length - times / longer.length) < 0.35 / n
            if times <= 6 and near and n >= 2.0 * longer.length:
                kept[i] = Peak(longer.length, longer.share + peak.share, min(longer.p, peak.p))
                break
        else:
            kept.append(peak)
    return sorted(kept, key=lambda each: -each.share)


def _background(power: Array) -> Array:
    """Median of the ordinates around each, itself left out."""
    padded = np.pad(power, _AROUND, constant_values=np.nan)
    windows = np.lib.stride_tricks.sliding_window_view(padded, 2 * _AROUND + 1).copy()
    windows[:, _AROUND] = np.nan
    return np.asarray(np.nanmedian(windows, axis=1))


def _refined(values: Array, length: float, n: int) -> float:
    """The length near a first guess whose sine and cosine, and then their harmonics too, explain most."""
    for reach, most in ((0.6, 1), (0.1, 3)):
        frequencies = 1.0 / length + np.linspace(-reach, reach, 41) / n
        power = np.zeros(len(frequencies))
        for h in range(1, min(most, int(length / 2)) + 1):
            turns = np.exp(-2j * np.pi * h * np.outer(frequencies, np.arange(n)))
            power += np.square(np.abs(turns @ values))
        length = float(1.0 / frequencies[int(np.argmax(power))])
    return length


def _harmonics(n: int, length: float) -> Array:
    most = min(6, max(int(length / 2), 1))
    angles = 2.0 * np.pi * np.outer(np.arange(n), np.arange(1, most + 1)) / length
    return np.hstack([np.sin(angles), np.cos(angles)])
