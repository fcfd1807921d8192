"""Checks of the noise as a whole: whether it lingers, how it is spread, whether it drifts, and what it still holds."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import qr, solve_triangular, svd
from scipy.special import chdtrc, chdtri, stdtr, stdtrit

from offing.base import Finding, Verdict
from offing.base.arrays import Array
from offing.engine import Estimate, autocorrelations, take

#: Chance at which one of these is reported where nothing is amiss.
_CHANCE = 0.001
#: With fewer rows none of these tests finds what would matter, and their limits are poor.
_FEWEST = 40
#: Beyond this share of s √n sums of residuals of a stable model go once in a thousand.
_DRIFT = 1.95
#: A condition index beyond this, of which two columns take more than half of their variance.
_INDEX, _SHARE = 30.0, 0.5


def long_lag_autocorrelation(residual: Array, used: NDArray[np.bool_], lags: int, learnt: int) -> tuple[Verdict, ...]:
    """A warning where the autocorrelations of the residuals (n,) at `lags` lags are together beyond chance.

    Q = n (n + 2) Σ r²/(n − k) is about chi-square with as many degrees of freedom, less the parameters `learnt` of the
    noise (Ljung & Box 1978).
    """
    n = int(used.sum())
    if n < _FEWEST or lags <= learnt:
        return ()
    found = autocorrelations(np.where(used, residual, 0.0), lags)
    statistic = n * (n + 2.0) * float((np.square(found) / (n - np.arange(1, lags + 1))).sum())
    chance = float(chdtrc(lags - learnt, statistic))
    worst = int(np.argmax(np.abs(found))) + 1
    size = found[worst - 1]
    message = f"What the model leaves unexplained comes back, most after {worst} periods (correlation {size:.2f})."
    advice = (
        'Take noise that carries on into the model, errors = "ar" with a higher order or a seasonal_lag, or look for a '
        "season or lag that is missing."
    )
    evidence: dict[str, float | str] = {"statistic": statistic, "p": chance, "lag": float(worst)}
    noted = Finding("long-lag autocorrelation", "warning", message, advice=advice, evidence=evidence)
    return (_by_chance(f"Ljung-Box, {lags} lags", statistic, chdtri(lags - learnt, _CHANCE), chance, noted),)


def _by_chance(statistic: str, value: float, limit: np.floating[Any], chance: float, noted: Finding) -> Verdict:
    return Verdict(noted.check, statistic, value, float(limit), chance, (noted,) if chance < _CHANCE else ())


def lagged_noise(rows: Array, residual: Array, used: NDArray[np.bool_], lags: int) -> tuple[Verdict, ...]:
    """A warning where residuals (n,) follow from earlier ones beside the design `rows` (n, k).

    n R² of the regression on both is about chi-square (Breusch 1978; Godfrey 1978); with own lags of the target
    correlations of the residuals alone show nothing (Durbin 1970).
    """
    both = used.copy()
    before = np.zeros((len(residual), lags))
    for lag in range(1, lags + 1):
        before[lag:, lag - 1] = np.where(used[:-lag], residual[:-lag], 0.0)
    n = int(both.sum())
    if n < _FEWEST:
        return ()
    design = np.column_stack([rows, before])[both]
    basis, root, _ = qr(design, mode="economic", pivoting=True)
    size = np.abs(np.diagonal(root))
    inside = basis[:, size > 1e-10 * size.max()].T @ residual[both]
    share = float(inside @ inside) / float(residual[both] @ residual[both])
    chance = float(chdtrc(lags, n * share))
    message = "With own lags, what is left unexplained is still related from period to period."
    advice = (
        'The coefficients of the lags are then wrong, however many data there are: add lags, or use errors = "ar" '
        "instead of own lags."
    )
    evidence: dict[str, float | str] = {"statistic": n * share, "p": chance, "lags": float(lags)}
    noted = Finding("autocorrelation beside own lags", "warning", message, advice=advice, evidence=evidence)
    return (_by_chance(f"Breusch-Godfrey, {lags} lags", n * share, chdtri(lags, _CHANCE), chance, noted),)


def non_normal(residual: Array) -> tuple[Verdict, ...]:
    """A note where residuals (n,) are far from normal: skewed, or with more of them far out (Jarque & Bera 1987)."""
    n = len(residual)
    spread = float(residual.std())
    if n < _FEWEST or spread <= 0.0:
        return ()
    z = (residual - residual.mean()) / spread
    skew, excess = float((z**3).mean()), float((z**4).mean()) - 3.0
    statistic = n * (skew**2 / 6.0 + excess**2 / 24.0)
    chance = float(chdtrc(2, statistic))
    side = "above" if skew > 0.0 else "below"
    lopsided = abs(skew) * 2.0 > abs(excess)
    what = f"reaches further {side} than on the other side" if lopsided else "has more values far out than a normal one"
    message = f"What is left unexplained {what}: intervals of single periods are less sure at their ends."
    advice = (
        'Try scale = "log", or mark the values that stand out.'
        if lopsided
        else 'Look at the largest, mark them with a treatment, or use loss = "huber".'
    )
    evidence: dict[str, float | str] = {"skewness": skew, "excess_kurtosis": excess, "p": chance}
    noted = Finding("non-normal noise", "note", message, advice=advice, evidence=evidence)
    return (_by_chance("Jarque-Bera", statistic, chdtri(2, _CHANCE), chance, noted),)


def drifting(residual: Array, label: Callable[[int], str]) -> tuple[Verdict, ...]:
    """A warning where sums of residuals (n,) go further from zero than those of one unchanged model.

    The largest |Σ e| / (s √n) is that of a Brownian bridge (Ploberger & Krämer 1992).
    """
    n = len(residual)
    spread = float(residual.std())
    if n < _FEWEST or spread <= 0.0:
        return ()
    sums = np.cumsum(residual) / (spread * np.sqrt(n))
    at = int(np.argmax(np.abs(sums)))
    message = f"The model does not fit throughout: up to {label(at)} it explains one side, after it the other."
    advice = "Let the trend bend there, or ask of.stability whether effects changed; fit fewer years if they did."
    evidence: dict[str, float | str] = {"largest_sum": float(sums[at]), "period": label(at)}
    noted = Finding("drift", "warning", message, advice=advice, evidence=evidence)
    far = abs(sums[at]) > _DRIFT
    return (Verdict("drift", "largest sum of residuals", float(sums[at]), _DRIFT, findings=(noted,) if far else ()),)


def nonlinear(estimate: Estimate, rows: Array, residual: Array, values: dict[str, Array]) -> tuple[Verdict, ...]:
    """A finding of each driver whose square would still explain something beside the `rows` (n, k) of an estimate.

    `values` are the drivers' columns (n,), the residuals (n,) those of the design (after Ramsey 1969).
    """
    found: list[Verdict] = []
    kept, root, dof = rows[:, estimate.kept], estimate.root, estimate.dof

    def beside(square: Array) -> Array:
        half = solve_triangular(root, kept.T @ square, trans="T", check_finite=False)
        return square - kept @ solve_triangular(root, half, check_finite=False)

    limit = _CHANCE / max(len(values), 1)
    for name, value in values.items():
        if len(np.unique(value)) < 8 or len(value) < _FEWEST:
            continue
        square = np.square((value - value.mean()) / max(float(value.std()), 1e-300))
        free = beside(square)
        length = float(free @ free)
        if length <= 1e-6 * float(square @ square):
            continue
        effect = float(free @ residual) / length
        left = residual - effect * free
        t = effect / np.sqrt(float(left @ left) / max(dof - 1.0, 1.0) / length)
        chance = float(2.0 * stdtr(max(dof - 1.0, 1.0), -abs(t)))
        message = f"'{name}' does not act along a straight line: at its ends more is left unexplained than between."
        advice = f'Try curve = "smooth", a base (above, below), saturation or the transform "log" for \'{name}\'.'
        evidence: dict[str, float | str] = {"t": float(t), "p": chance}
        noted = Finding("nonlinear effect", "warning", message, name, advice, evidence)
        least = float(stdtrit(max(dof - 1.0, 1.0), 1.0 - limit / 2.0))
        found.append(
            Verdict(
                "nonlinear effect",
                f"t of the square of '{name}'",
                float(t),
                least,
                chance,
                (noted,) if chance < limit else (),
            )
        )
    return tuple(found)


def multicollinear(
    estimate: Estimate, names: Sequence[str], owners: Sequence[str], drivers: Sequence[str]
) -> tuple[Verdict, ...]:
    """A finding of drivers' columns that are nearly a combination of each other, beside all that is no driver.

    `names` and `owners` are those of the kept columns. A condition index beyond 30 of the scaled columns, in whose
    direction several have more than half of their variance (Belsley, Kuh & Welsch 1980).
    """
    own = np.array([owner in drivers for owner in owners], dtype=bool)
    if own.sum() < 3:
        return ()
    first = int((~own).sum())
    order = np.concatenate([np.flatnonzero(~own), np.flatnonzero(own)])
    free = take(estimate.root, order)[first:, first:]
    rows = estimate.root
    lengths = np.linalg.norm(free, axis=0)
    if (lengths <= 1e-10 * np.linalg.norm(rows[:, own], axis=0)).any():
        return ()
    _, sizes, right = svd(free / lengths, full_matrices=False)
    index = sizes[0] / np.maximum(sizes, 1e-300)
    shares = np.square(right / sizes[:, None])
    shares /= shares.sum(axis=0)
    inner = [name for name, each in zip(names, own, strict=True) if each]
    where = [owner for owner, each in zip(owners, own, strict=True) if each]
    noted: tuple[Finding, ...] = ()
    for at in np.flatnonzero(index > _INDEX).tolist():
        involved = np.flatnonzero(shares[at] > _SHARE).tolist()
        if len({where[i] for i in involved}) > 1:
            said = ", ".join(f"'{inner[i]}'" for i in involved)
            message = f"{said} are together nearly one and the same: what each does can hardly be separated."
            advice = "Leave out one of them, put them into one, or draw them to zero together with shrink_with."
            evidence: dict[str, float | str] = {"condition_index": float(index[at]), "columns": float(len(involved))}
            noted = (Finding("multicollinearity", "warning", message, where[involved[0]], advice, evidence),)
    return (Verdict("multicollinearity", "condition index of the drivers", float(index.max()), _INDEX, findings=noted),)
