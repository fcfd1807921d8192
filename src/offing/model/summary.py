"""A fit in words: what was fitted, how well, what the drivers do, and what was noticed."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pandas as pd

from offing.base import Finding
from offing.base.text import in_units, number, serious_first, text_table
from offing.model.driver_effects import effects
from offing.model.elasticities import elasticities
from offing.model.fit_state import FitState


def fit_sentences(fit: FitState, findings: Sequence[Finding]) -> str:
    """What was fitted, how well, and what the drivers do, in sentences."""
    figures = fit.statistics
    unit = f" {fit.unit}" if fit.unit else ""
    mean = float(np.mean(fit.target[fit.used]))
    # A share of values that can be zero or negative says nothing.
    share = f" ({figures.mape:.1%})".replace("%", " %") if fit.target[fit.used].min() > 0.0 else ""
    changed = f" of the {fit.scale.name(fit.column)}" if fit.model.transform else ""
    first, rest = serious_first(findings)
    explains = (
        f"The target is {number(float(fit.target[fit.used][0]), 6)}{unit} in every period."
        if np.isnan(figures.r_squared)
        else f"The model explains {100 * figures.r_squared:.1f} % of the variation{changed}; its fitted values miss by "
        f"{number(figures.mae)}{unit} on average{share}, where the mean is {number(mean)}{unit}."
    )
    lines = [
        *first,
        f"{in_units(fit.label, fit.unit)}: {fit.axis.spell()}, {figures.rows:,} of them fitted; "
        + ("terms multiply (log scale)." if fit.scale.log else "terms add up (level scale)."),
        explains,
    ]
    noted = effects(fit)
    if len(noted.table):
        lines.append(noted.heading)
        lines += [f"  {line}" for line in noted.lines]
    if fit.scale.plain:
        lines += elasticities(fit).sentences.splitlines()
    lines += rest
    lines += [fit.source_note] if fit.source_note else []
    return "\n".join(lines)


def fit_numbers(fit: FitState) -> str:
    """The fit's figures in one line."""
    figures, log = fit.statistics, fit.scale.log and fit.scale.gain == 1.0
    deviation = f"{figures.residual_deviation:.4f} on the log scale" if log else number(figures.residual_deviation, 4)
    return (
        f"R² {_share(figures.r_squared)}, adjusted {_share(figures.adjusted_r_squared)}; residual standard deviation "
        f"{deviation}; {figures.rows} rows, {figures.columns} coefficients."
    )


def _share(value: float) -> str:
    return "undefined" if np.isnan(value) else f"{value:.4f}"


def check_text(checks: pd.DataFrame) -> str:
    """What was checked, to read."""
    numbers = {
        head: [f"{value:.4g}" if np.isfinite(value) else "" for value in checks[head]] for head in ("value", "limit")
    }
    chance = ["" if np.isnan(p) else "<0.001" if p < 0.001 else f"{p:.3f}" for p in checks["p"]]
    columns = [
        checks["statistic"].tolist(),
        numbers["value"],
        numbers["limit"],
        chance,
        np.where(checks["finding"], checks["check"], "passed").tolist(),
    ]
    return text_table(["checked", "value", "limit", "p", "finding"], columns)
