"""Checks of what single periods and single columns do to an estimate."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence

import numpy as np
from scipy.linalg import solve_triangular
from scipy.special import chdtrc, chdtri

from offing.base import Finding, Verdict, count
from offing.base.arrays import Array
from offing.engine import Estimate

#: A variance inflation beyond this is usually called serious (Marquardt 1970).
_INFLATED = 10.0
#: Chance at which uneven noise is reported.
_CHANCE = 0.001
#: Of fewer rows the test has no power, and its χ² is a poor limit (Koenker 1981).
_FEWEST = 30


def collinear(
    estimate: Estimate, rows: Array, names: Sequence[str], owners: Sequence[str], drivers: Collection[str]
) -> tuple[Verdict, ...]:
    """A finding of each driver of which a column moves almost as other columns of the whitened `rows` (n, k) do.

    The variance inflation of a column is the variance of its coefficient over what it would be if no other column
    were correlated with it (Marquardt 1970).
    """
    kept = np.flatnonzero(estimate.kept)
    inverse = solve_triangular(estimate.root, np.eye(len(kept)), check_finite=False)
    covariance = inverse @ inverse.T
    # By itself a column would stand beside the constant alone, the first column.
    constant = rows[:, :1] / max(float(np.linalg.norm(rows[:, 0])), 1e-300)
    spread = np.linalg.norm(rows[:, kept] - constant @ (constant.T @ rows[:, kept]), axis=0)
    inflation = np.diagonal(covariance) * np.square(spread)
    found, highest = [], 0.0
    for term in drivers:
        # What is shrunk towards zero is reported by its group; columns of one curve need not be separated.
        own = [
            i
            for i, column in enumerate(kept.tolist())
            if owners[column] == term and np.isinf(estimate.ratios[column]) and not estimate.shapes[column]
        ]
        worst = max(own, key=lambda i: inflation[i], default=None)
        highest = highest if worst is None else max(highest, float(inflation[worst]))
        if worst is None or inflation[worst] <= _INFLATED:
            continue
        # The regression of this column on the others, each counted by what it moves.
        moves = np.abs(covariance[worst] / covariance[worst, worst]) * spread
        moves[worst] = 0.0
        makers = " and ".join(f"'{names[kept[i]]}'" for i in np.argsort(-moves, kind="stable")[:2] if moves[i] > 0.0)
        wider = float(np.sqrt(inflation[worst]))
        found.append(
            Finding(
                "collinear column",
                "warning",
                f"'{names[kept[worst]]}' moves almost as {makers} do: its interval is {wider:.1f} times as wide as it "
                "would be by itself.",
                term,
                "Take what they say together, or leave one of them out.",
                {"variance inflation": float(inflation[worst])},
            )
        )
    noted = Verdict("collinear column", "largest variance inflation", highest, _INFLATED, findings=tuple(found))
    return (noted,) if highest else ()


def influential(estimate: Estimate, rows: Array, residual: Array, label: Callable[[int], str]) -> tuple[Verdict, ...]:
    """A finding of the period that moves all coefficients together most, where it does so beyond measure.

    `rows` (n, k) and `residual` (n,) are whitened. Cook's (1977) distance e² h / (s² k (1 − h)²) beyond 1 says that
    without the period the coefficients would leave the middle of their common region.
    """
    kept = rows[:, estimate.kept]
    leverage = np.square(solve_triangular(estimate.root, kept.T, trans="T", check_finite=False)).sum(axis=0)
    free = 1.0 - leverage
    noted = free > 1e-8  # a period with a column of its own moves that column alone
    distance = np.zeros(len(kept))
    distance[noted] = np.square(residual[noted] / free[noted]) * leverage[noted] / (estimate.variance * kept.shape[1])
    at = int(np.argmax(distance))
    noted = Finding(
        "influence",
        "warning",
        f"{label(at)} alone moves the coefficients beyond measure (Cook's distance {distance[at]:.1f}).",
        advice="Check its values; if they are right, hold the fit against one without it.",
        evidence={"distance": float(distance[at]), "leverage": float(leverage[at])},
    )
    return (
        Verdict(
            "influence",
            f"Cook's distance of {label(at)}",
            float(distance[at]),
            1.0,
            findings=(noted,) if distance[at] > 1.0 else (),
        ),
    )


def heteroscedastic(fitted: Array, residual: Array, *, log: bool) -> tuple[Verdict, ...]:
    """A finding where the noise grows or shrinks with the level `fitted` (n,).

    The squared residuals are regressed on the fitted values; n R² is about chi-square with one degree of freedom under
    even noise (Koenker 1981).
    """
    n = len(residual)
    squares, moved = np.square(residual), fitted - fitted.mean()
    spread = float(np.square(squares - squares.mean()).sum() * (moved @ moved))
    if n < _FEWEST or spread <= 0.0:
        return ()
    product = float(moved @ (squares - squares.mean()))
    statistic = n * product**2 / spread
    chance = float(chdtrc(1.0, statistic))
    grows = product > 0.0
    advice = 'Use scale = "log"' if grows and not log else 'Use covariance = "hc3"'
    noted = Finding(
        "heteroscedastic noise",
        "warning",
        f"What the model leaves unexplained is {'larger' if grows else 'smaller'} where its values are high.",
        advice=f"{advice}: the intervals suppose noise of one size.",
        evidence={"statistic": statistic, "p": chance},
    )
    return (
        Verdict(
            "heteroscedastic noise",
            "Breusch-Pagan, studentised",
            statistic,
            float(chdtri(1.0, _CHANCE)),
            chance,
            (noted,) if chance < _CHANCE else (),
        ),
    )


def over_parameterised(rows: int, columns: int) -> tuple[Verdict, ...]:
    """A finding of many columns for few rows."""
    noted = Finding(
        "over-parameterised",
        "warning",
        f"{count(columns, 'coefficient')} are estimated from {count(rows, 'period')}: the fit looks better than "
        "any forecast will be.",
        advice="Use fewer terms, fewer harmonics or lags.",
        evidence={"rows": float(rows), "columns": float(columns)},
    )
    findings = (noted,) if columns >= 10 and rows < 3 * columns else ()
    return (Verdict("over-parameterised", "rows for each coefficient", rows / max(columns, 1), 3.0, findings=findings),)
