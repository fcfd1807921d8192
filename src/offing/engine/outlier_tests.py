"""Single values far from what trend, season and autocorrelated noise lead to expect (after Chen & Liu 1993)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import qr
from scipy.special import ndtri, stdtr

from offing.base.arrays import Array

Flags = NDArray[np.bool_]
#: One series in a hundred of nothing but trend, season and noise has a value that counts as far.
ALPHA = 0.01
#: Rounds in which values, steps of the level and their neighbours are found; each finds all that are not hidden.
_ROUNDS = 12
#: Steps of the level that are looked for: a series with more has another trouble.
_MOST_STEPS = 3
#: The strongest autocorrelation that is allowed for; beyond it a single value can hardly be separated from a step.
_MOST_PHI = 0.95
#: Longer series choose their structure before values are looked at, shorter ones together with them.
_SHORT = 1500


@dataclass(frozen=True)
class Departures:
    """What is expected in each period (n,), how far each value is from it, and which are far.

    `scores` (n,) are standard normal quantiles: each value's studentised distance from what all others lead to expect,
    as probable as under normal noise. `steps` are the places at which the level jumps.
    """

    expected: Array
    scores: Array
    far: Flags
    deviation: float
    phi: float
    steps: tuple[int, ...]


@dataclass(frozen=True)
class _Scan:
    """One fit: its residual sum of squares and degrees of freedom, t (n,) and size (n,) of a pulse in every period."""

    rss: float
    dof: int
    t: Array
    size: Array
    step_t: Array
    residual: Array

    @property
    def deviation(self) -> float:
        return float(np.sqrt(self.rss / max(self.dof, 1)))


def limit_of(n: int, alpha: float = ALPHA) -> float:
    """The score beyond which a value counts as far: exceeded anywhere in `n` values with probability `alpha`.

    Examples
    --------
    >>> from offing.engine import limit_of
    >>> round(limit_of(24), 2), round(limit_of(8760), 2)
    (3.53, 4.87)
    """
    return float(-ndtri(alpha / (2.0 * max(n, 1))))


def departures(
    values: Array, fixed: Array, trends: Sequence[Array], harmonics: Array, limit: float | None = None
) -> Departures | None:
    """Find values far from what the others lead to expect.

    Parameters
    ----------
    values
        Values (n,), NaN where unknown.
    fixed
        Columns (n, k) that are always in the model, the constant among them.
    trends, harmonics
        Sets of columns (n, ·) of which one is chosen, and pairs of columns (n, 2p) of which the first ones are
        chosen, both by Schwarz's criterion (1978).
    limit
        The score beyond which a value is far; by default that of `limit_of`.

    Returns
    -------
    Departures or None
        None where too little is known to show.

    Notes
    -----
    The noise is AR(1); a value is tested as a pulse, and a lasting change as a step, in the whitened model, each by its
    externally studentised coefficient. What is found is left out, or for steps added to the model, until nothing more
    is found; then each finding is tested once more beside all others.
    """
    known = np.isfinite(values)
    n = int(known.sum())
    if n < 8 or np.ptp(values[known]) == 0.0:
        return None
    limit = limit_of(n) if limit is None else limit
    out = np.zeros(len(values), dtype=bool)
    steps: list[int] = []
    design, scan, phi = _structure(values, known, fixed, trends, harmonics=harmonics, limit=limit)
    for _ in range(_ROUNDS):
        scores = _normal(scan.t, scan.dof - 1)
        scores[out | ~known] = 0.0
        step_scores = _normal(scan.step_t, scan.dof - 1)
        best, best_step = (int(np.argmax(np.abs(each))) for each in (scores, step_scores))
        if abs(step_scores[best_step]) > max(abs(scores[best]), limit + 0.5) and len(steps) < _MOST_STEPS:
            steps.append(best_step)
            fixed = np.column_stack([fixed, (np.arange(len(values)) >= best_step).astype(np.float64)])
        elif abs(scores[best]) > limit:
            # Far values beside a farther one may be its shadow: they wait for the next round.
            far = np.abs(scores) > limit
            highest = np.maximum(np.roll(np.abs(scores), 1), np.roll(np.abs(scores), -1))
            found = far & (np.abs(scores) >= highest) & (np.abs(scores) > 0.5 * abs(scores[best]))
            out |= found
            if out.sum() > 0.2 * n:
                break
        else:
            break
        design, scan, phi = _structure(values, known & ~out, fixed, trends, harmonics=harmonics, limit=limit)
    return _judged(values, known, out, design, phi=phi, limit=limit, steps=tuple(sorted(steps)))


def _judged(
    values: Array, known: Flags, out: Flags, design: Array, *, phi: float, limit: float, steps: tuple[int, ...]
) -> Departures:
    """Every value's score beside all that were found, without those that are far no more."""
    for _ in range(3):
        scan = _scan(values, known & ~out, design, phi)
        size, scores = scan.size.copy(), _normal(scan.t, scan.dof - 1)
        for t in np.flatnonzero(out).tolist():
            with_it = known & ~out
            with_it[t] = True
            own = _scan(values, with_it, design, phi)
            size[t], scores[t] = own.size[t], _normal(own.t[t : t + 1], own.dof - 1)[0]
        weak = out & (np.abs(scores) <= limit)
        if not weak.any():
            break
        out = out & ~weak
    expected = np.where(known, values - np.where(np.isfinite(size), size, 0.0), np.nan)
    scores = np.where(known, np.nan_to_num(scores), np.nan)
    return Departures(expected, scores, out, scan.deviation, phi, steps)


def _structure(
    values: Array, use: Flags, fixed: Array, trends: Sequence[Array], *, harmonics: Array, limit: float
) -> tuple[Array, _Scan, float]:
    """The design that Schwarz's criterion chooses, its scan, and the noise's autocorrelation."""
    n = int(use.sum())
    best: tuple[float, Array, _Scan, float] | None = None
    for trend in trends:
        pairs = (
            range(harmonics.shape[1] // 2 + 1)
            if n <= _SHORT
            else _nested(values, use, np.hstack([fixed, trend]), harmonics)
        )
        for p in pairs:
            design = np.hstack([fixed, trend, harmonics[:, : 2 * p]])
            if design.shape[1] > max(n // 2, 1):
                continue
            phi = _autocorrelation(values, use, design)
            scan = _scan(values, use, design, phi)
            score = n * np.log(max(scan.rss, 1e-300) / n) + (design.shape[1] + 1) * np.log(n)
            t = float(np.nanmax(np.abs(scan.t))) if n <= _SHORT else 0.0
            if abs(_normal(np.array([t]), scan.dof - 1)[0]) > limit:
                # A far value hides the season, and the season the value: both are judged together.
                remaining = scan.rss / (1.0 + t * t / max(scan.dof - 1, 1))
                score = min(score, n * np.log(max(remaining, 1e-300) / n) + (design.shape[1] + 2) * np.log(n))
            if best is None or score < best[0]:
                best = (score, design, scan, phi)
    if best is None:
        phi = _autocorrelation(values, use, fixed)
        return fixed, _scan(values, use, fixed, phi), phi
    return best[1], best[2], best[3]


def _nested(values: Array, use: Flags, first: Array, harmonics: Array) -> list[int]:
    """The number of pairs that is best under independent noise, from one triangle."""
    whole = np.column_stack([first, harmonics, values])[use]
    r = qr(whole, mode="r", check_finite=False)[0]
    last = np.square(r[: whole.shape[1], -1])
    n, k = len(whole), first.shape[1]
    rss = np.cumsum(last[::-1])[::-1]
    found = [
        n * np.log(max(rss[k + 2 * p], 1e-300) / n) + (k + 2 * p) * np.log(n)
        for p in range(harmonics.shape[1] // 2 + 1)
    ]
    return [int(np.argmin(found))]


def _autocorrelation(values: Array, use: Flags, design: Array) -> float:
    """First autocorrelation of the residuals, with a correction for the columns that took a part of it."""
    residual = np.zeros(len(values))
    basis = _basis(design[use])
    residual[use] = values[use] - basis @ (basis.T @ values[use])
    both = use[1:] & use[:-1]
    total = float(np.square(residual[use]).sum())
    if total == 0.0 or both.sum() < 4:
        return 0.0
    n, k = int(use.sum()), design.shape[1]
    r = float((residual[1:] * residual[:-1])[both].sum()) / total * n / max(int(both.sum()), 1)
    # Regression on k columns takes away about k/n of the lag-one moment (Durbin & Watson 1950).
    return float(np.clip(r + (1.0 + r) * k / (2.0 * n) + (1.0 + 3.0 * r) / (2.0 * n), 0.0, _MOST_PHI))


def _basis(columns: Array) -> Array:
    """An orthonormal basis (n, k) of the columns, of those that are not combinations of others."""
    q, r, _ = qr(columns, mode="economic", pivoting=True, check_finite=False)
    size = np.abs(np.diag(r))
    return np.asarray(q[:, size > 1e-9 * max(float(size.max(initial=0.0)), 1e-300)])


def _scan(values: Array, use: Flags, design: Array, phi: float) -> _Scan:
    """Pulses and steps in every period, tested one at a time in the whitened model."""
    n = len(values)
    before = np.concatenate([[False], use[:-1]]) & use
    own = np.where(before, 1.0, np.sqrt(1.0 - phi * phi)) * use
    y, x = np.where(use, values, 0.0), np.where(use[:, None], design, 0.0)
    lag = phi * before
    white_y = own * y - lag * np.concatenate([[0.0], y[:-1]])
    white_x = own[:, None] * x - lag[:, None] * np.vstack([np.zeros((1, x.shape[1])), x[:-1]])
    q = _basis(white_x)
    residual = white_y - q @ (q.T @ white_y)
    rss, dof = float(residual @ residual), int(use.sum()) - q.shape[1]
    following = np.append(lag[1:], 0.0)
    cross = own[:, None] * q - following[:, None] * np.vstack([q[1:], np.zeros((1, q.shape[1]))])
    score = own * residual - following * np.append(residual[1:], 0.0)
    pulse_t, pulse = _tested(score, own**2 + following**2 - np.square(cross).sum(axis=1), rss, dof)
    held = np.where(before, 1.0 - phi, own)
    after = np.vstack([np.cumsum((held[:, None] * q)[::-1], axis=0)[::-1][1:], np.zeros((1, q.shape[1]))])
    step_cross = own[:, None] * q + after
    step_lean = own * residual + np.append(np.cumsum((held * residual)[::-1])[::-1][1:], 0.0)
    squares = own**2 + np.append(np.cumsum((held**2)[::-1])[::-1][1:], 0.0)
    step_t, _ = _tested(step_lean, squares - np.square(step_cross).sum(axis=1), rss, dof)
    edge = max(5, n // 20)
    step_t[:edge] = step_t[n - edge :] = 0.0
    return _Scan(rss, dof, pulse_t, pulse, np.nan_to_num(step_t), residual)


def _tested(score: Array, information: Array, rss: float, dof: int) -> tuple[Array, Array]:
    """Externally studentised t (n,) and size (n,) of one further column each; NaN where it cannot be separated."""
    noted = information > 0.02
    size = np.where(noted, score / np.where(noted, information, 1.0), np.nan)
    taken = np.where(noted, score * size, 0.0)
    rest = np.maximum(rss - taken, 1e-12 * rss) / max(dof - 1, 1)
    with np.errstate(divide="ignore", invalid="ignore"):
        t = np.where(noted & (rest > 0.0), score / np.sqrt(np.where(noted, information, 1.0) * rest), 0.0)
    return np.nan_to_num(t), size


def _normal(t: Array, dof: int) -> Array:
    """Standard normal quantiles (n,) as probable as Student's t with `dof` degrees of freedom."""
    tail = np.maximum(stdtr(max(dof, 1), -np.abs(t)), 1e-300)
    return np.asarray(-np.sign(t) * ndtri(tail))
