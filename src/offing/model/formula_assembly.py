"""Formulas of a forecast as they are put together: its periods, the steps so far, and how one more is added."""

from __future__ import annotations

import numpy as np

from offing.base.arrays import Array
from offing.calendar import Axis, Frequency
from offing.engine import difference_weights
from offing.engine.expressions import Constant, Expression, Named, Steps
from offing.model.forecast import Forecast
from offing.terms.formulas import Rows


class Assembly:
    """The steps of a forecast's formulas. `table` is what the target's own periods are called.

    `differences` are the coefficients of the recursion that undoes differences of the target.
    """

    def __init__(self, ahead: Forecast) -> None:
        self.ahead, self.fit, self.view, self.axis = ahead, ahead.fit, ahead.view, ahead.axis
        self.steps = Steps()
        self.rows = self._rows()
        self.table: str = self.axis.frequency.unit
        scale = self.fit.scale
        self.differences = tuple(-difference_weights(scale.lags)[1:]) if not (scale.plain or scale.growth) else ()

    def _rows(self) -> Rows:
        terms = self.fit.model.terms
        own = max(len(self.fit.own), self.fit.scale.before)
        lead = max([own, *(term.looks_back(self.view) for term in terms)])
        whole = Axis(self.axis.frequency, self.axis.first - lead, self.axis.n + lead)
        others: dict[Frequency, Axis] = {}
        for term in terms:
            found = term.own_periods(self.view, whole)
            if found is not None:
                kept = others.get(found.frequency, found)
                first, after = min(kept.first, found.first), max(kept.first + kept.n, found.first + found.n)
                others[found.frequency] = Axis(found.frequency, first, after - first)
        names = [f"{frequency.unit}" for frequency in others]
        named = {
            frequency: (name if names.count(name) == 1 else f"{name} {i}", axis)
            for i, (name, (frequency, axis)) in enumerate(zip(names, others.items(), strict=True), 1)
        }
        return Rows(self.axis, lead, named)

    def add(self, name: str, expression: Expression) -> Named:
        """One more step by the target's periods."""
        return self.steps.add(name, expression, self.table)

    def facts(self, name: str, values: Array) -> Expression:
        """Numbers (n,) of the forecast's periods; one number where they are all the same."""
        whole = np.broadcast_to(np.asarray(values, dtype=np.float64), self.axis.n)
        return Constant(float(whole[0])) if (whole == whole[0]).all() else self.rows.facts(name, whole)
