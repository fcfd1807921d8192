"""Unexplained jumps, and the events that would explain them."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from offing.base import Finding, Verdict
from offing.engine import Estimate, Jump, chance_limit, lag_one_correlation, largest_pulse, largest_step

#: Fewer rows do not separate a step from noise.
_FEWEST = 30


def jumps(
    residual: NDArray[np.float64],
    design: NDArray[np.float64],
    used: NDArray[np.bool_],
    estimate: Estimate,
    *,
    words: Callable[[float], str],
    label: Callable[[int], str],
) -> tuple[Verdict, ...]:
    """Findings of a step and of a single period that noise does not explain (at about one in a thousand fits each).

    `residual` (n,) and `design` (n, k) are those of all periods, `words` shows a size, `label` dates a row. Where
    neighbouring residuals are alike, steps are judged by the larger variance of their sums, s² (1 + r) / (1 − r).
    """
    rows = np.flatnonzero(used)
    if len(rows) < _FEWEST:
        return ()
    columns, rest = design[used][:, estimate.kept], residual[used]
    limit = chance_limit(len(rows))
    step, left = largest_step(rest, columns, estimate.root, estimate.variance, max(len(rows) // 20, 5))
    # A step makes neighbours alike by itself, so likeness and variance are those without it.
    alike = min(max(lag_one_correlation(left, np.ones(len(left), dtype=bool))[0], 0.0), 0.95)
    without = float(left @ left) / max(estimate.rows - estimate.effective_dof - 1, 1)
    inflated = np.sqrt(without / estimate.variance * (1.0 + alike) / (1.0 - alike))
    step = Jump(step.row, step.size, step.t / float(inflated) if inflated else 0.0)
    pulse = largest_pulse(rest, columns, estimate.root, estimate.variance)
    day, other = label(int(rows[step.row])), label(int(rows[pulse.row]))
    return (
        _judged("step", f"From {day} on the target is {words(step.size)} what the model explains.", day, step, limit),
        _judged("pulse", f"In {other} the target is {words(pulse.size)} what the model explains.", other, pulse, limit),
    )


def _judged(form: str, message: str, day: str, jump: Jump, limit: float) -> Verdict:
    findings = (_told(form, message, day, jump),) if abs(jump.t) > limit else ()
    return Verdict(f"unexplained {form}", f"largest t of a {form}, {day}", jump.t, limit, findings=findings)


def _told(form: str, message: str, day: str, jump: Jump) -> Finding:
    advice = (
        "If you know what happened, add an event: "
        f'[[terms]] type = "event", name = "{form} {day}", dates = "{day}", form = "{form}".'
    )
    return Finding(f"unexplained {form}", "warning", message, advice=advice, evidence={"size": jump.size, "t": jump.t})
