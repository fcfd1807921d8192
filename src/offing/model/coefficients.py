"""The table of coefficients: what was estimated, how surely, and what was learnt of the noise."""

from __future__ import annotations

import numpy as np
import pandas as pd

from offing.base.arrays import Array
from offing.base.text import text_table
from offing.engine import NoiseFit, quantile, two_sided_p
from offing.model.fit_state import FitState
from offing.terms import STATED


def coefficient_table(fit: FitState) -> pd.DataFrame:
    """One row a coefficient: ``term, column, kind, coefficient, std_error, t, p, low, high, status``."""
    rows, estimate = fit.layout.readout(), fit.estimate
    functions = np.vstack([function for *_, function in rows])
    estimated = ~(functions[:, ~estimate.kept] != 0.0).any(axis=1)
    value = np.where(estimated, functions @ estimate.beta, np.nan)
    error = np.where(estimated, estimate.standard_errors(functions), np.nan)
    held = (functions[:, estimate.active] != 0.0).any(axis=1)
    unclear = held | np.isin([term for term, *_ in rows], fit.model.chosen)
    with np.errstate(divide="ignore", invalid="ignore"):
        t = np.where(unclear, np.nan, value / error)
    low, high = _within_bounds(fit, functions, value, float(quantile(0.975, estimate.dof)) * error)
    shrunk = (functions[:, np.isfinite(estimate.ratios)] != 0.0).any(axis=1)
    table = pd.DataFrame(
        {
            "term": [term for term, *_ in rows],
            "column": [name for _, name, *_ in rows],
            "kind": [kind for _, _, kind, _ in rows],
            "coefficient": value,
            "std_error": error,
            "t": t,
            "p": two_sided_p(t, estimate.dof),
            "low": low,
            "high": high,
            "status": np.select([~estimated, held, shrunk], ["left out", "at bound", "shrunk"], "estimated"),
        }
    )
    learnt = [_spreads(fit)] if fit.ratios else []
    learnt += [_carried(fit.dynamics)] if fit.dynamics is not None else []
    return pd.concat([table, _judged(pd.concat(learnt), estimate.dof)], ignore_index=True) if learnt else table


def _within_bounds(fit: FitState, functions: Array, value: Array, reach: Array) -> tuple[Array, Array]:
    """Intervals of functions of the coefficients; of a bounded one that without the bound, as far as it goes.

    Where nothing is left of it there is none: the data contradict the bound.
    """
    low, high = value - reach, value + reach
    lower, upper = fit.rows.bounds
    for row, place in zip(*np.nonzero(functions), strict=True):
        if place >= fit.layout.linear or np.isinf([lower[place], upper[place]]).all():
            continue
        centre, size = fit.estimate.unconstrained[place], abs(functions[row, place])
        low[row], high[row] = (
            max(centre * size - reach[row], lower[place] * size),
            min(centre * size + reach[row], upper[place] * size),
        )
        if low[row] > high[row]:
            low[row] = high[row] = np.nan
    return low, high


def _spreads(fit: FitState) -> pd.DataFrame:
    """How far groups of coefficients that are shrunk towards zero spread, where that was learnt."""
    rows = [
        (
            next(slot.term for slot in fit.layout.slots if group in slot.groups),
            f"{group}, spread",
            "strength",
            float(np.sqrt(ratio * fit.estimate.variance)),
        )
        for group, ratio in fit.ratios.items()
        if group != STATED
    ]
    return pd.DataFrame(rows, columns=["term", "column", "kind", "coefficient"]).assign(std_error=np.nan)


def _carried(carried: NoiseFit) -> pd.DataFrame:
    """How the noise carries on, one row a parameter."""
    order = carried.dynamics.order or 0
    names = ["noise: carried to the next period" if order == 1 else f"noise: lag {k + 1}" for k in range(order)]
    if carried.dynamics.season:
        names.append(f"noise: carried {carried.dynamics.season} periods on")
    columns = {"coefficient": carried.parameters, "std_error": carried.errors}
    return pd.DataFrame({"term": "noise", "column": names, "kind": "error", **columns})


def _judged(rows: pd.DataFrame, dof: float) -> pd.DataFrame:
    """What was learnt of the noise with t, p and an interval."""
    t, reach = rows["coefficient"] / rows["std_error"], quantile(0.975, dof) * rows["std_error"]
    low, high = rows["coefficient"] - reach, rows["coefficient"] + reach
    return rows.assign(t=t, p=two_sided_p(t.to_numpy(float), dof), low=low, high=high, status="estimated")


def coefficient_text(table: pd.DataFrame, *, full: bool) -> str:
    """Coefficients to read: enough digits to judge, not to compute with; with all that is known of them if `full`."""

    def figures(head: str, empty: str = "") -> list[str]:
        return [f"{value:.4g}" if np.isfinite(value) else empty for value in table[head]]

    held = ["at bound" if status == "at bound" else "left out" for status in table["status"]]
    value = [text or word for text, word in zip(figures("coefficient"), held, strict=True)]
    columns = {"column": table["column"].tolist(), "coefficient": value, "low": figures("low"), "high": figures("high")}
    if full:
        columns["std_error"] = figures("std_error")
        columns["t"] = [f"{value:.1f}" if np.isfinite(value) else "" for value in table["t"]]
        columns["p"] = ["" if np.isnan(p) else "<0.001" if p < 0.001 else f"{p:.3f}" for p in table["p"]]
        columns["status"] = table["status"].tolist()
    return text_table(list(columns), list(columns.values()))
