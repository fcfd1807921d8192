"""What a draft found: survey, choice, models and past forecasts, and what follows from them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from offing.base import Finding
from offing.base.arrays import Array
from offing.drafting.choice import Choice
from offing.drafting.words import form_words
from offing.evaluation import Backtest, Combination, Comparison, combine
from offing.evaluation.references import PLAIN_MODEL, names_for, plain_model
from offing.inspection import Survey
from offing.model import Fit, Forecast, Model
from offing.terms import Driver, Term


@dataclass(frozen=True)
class Drafted:
    """What a draft found, before a word is said of it.

    Attributes
    ----------
    survey
        What was read.
    horizon
        How many periods are forecast.
    choice
        What was chosen among, step by step.
    model, members
        The model that is shown and explained, and the next best ones.
    weights
        The weight of each in the combination, by name; empty where nothing is combined.
    backtest
        Model, members and their combination from past origins, beside plain references; None where the history is too
        short for any.
    seconds
        How long all took.
    whole
        What was read, where the target has several series; `survey` is then that of the one that is looked at.

    """

    survey: Survey
    horizon: int
    choice: Choice
    model: Model
    members: tuple[Model, ...]
    weights: Mapping[str, float]
    backtest: Backtest | None
    seconds: float
    whole: Survey | None = None

    @property
    def series(self) -> str:
        """The series that is looked at, where there are several."""
        return "" if self.whole is None else self.whole.series

    @cached_property
    def fit(self) -> Fit:
        """The model, fitted to everything."""
        return self.model.fit_at(self.choice.today)

    @cached_property
    def forecast(self) -> Forecast:
        """Its forecast."""
        return self.fit.forecast(self.horizon, plan=self.choice.today.plans, missing_plans=self._missing_plans)

    @cached_property
    def combination(self) -> Combination | None:
        """The combination of the model and its members, if there is one."""
        if not self.weights:
            return None
        return combine(
            (self.model, *self.members),
            dict(self.choice.today.tables),
            horizon=self.horizon,
            plan=self.choice.today.plans,
            weights=self.weights,
            missing_plans=self._missing_plans,
        )

    @property
    def _missing_plans(self) -> Any:
        return "expected" if self.expects else "refuse"

    @cached_property
    def comparison(self) -> Comparison | None:
        """Model, combination and references, by the mean absolute error from past origins."""
        return None if self.backtest is None else self.backtest.compare(score="MAE")

    @property
    def reference(self) -> str | None:
        """The best plain reference."""
        return None if self.comparison is None else self.comparison.best_reference

    @cached_property
    def reference_forecast(self) -> Array | None:
        """The forecast (h,) of the best plain reference, if there is one."""
        axis, values = self.survey.span
        if self.reference == PLAIN_MODEL and self.backtest is not None:
            plain = plain_model(self.model, self.backtest.cuts())
            return plain.fit_at(self.choice.today).forecast(self.horizon).mean
        known = names_for(axis.frequency, self.horizon)
        if self.reference not in known:
            return None
        reference, season = known[self.reference]
        return np.asarray(reference(values, np.arange(1, self.horizon + 1), season).mean)

    @property
    def beats(self) -> bool:
        """Whether the model's past forecasts were better than those of the best plain reference."""
        found = self.comparison
        return (
            found is not None
            and self.reference is not None
            and bool(found.overall[self.model.name] < found.overall[self.reference])
        )

    @property
    def expects(self) -> tuple[str, ...]:
        """Drivers without a plan as far as the forecast goes, of which their own models say what to expect."""
        known = {each.reference for each in self.choice.offered if each.future >= self.horizon}
        needed = [name for model in (self.model, *self.members) for name in model.needs()]
        return tuple(dict.fromkeys(name for name in needed if name not in known))

    @property
    def planned(self) -> tuple[str, ...]:
        """Drivers of the model or its members that were taken to be known beforehand."""
        known = {each.reference for each in self.choice.offered if each.future >= self.horizon}
        needed = [name for model in (self.model, *self.members) for name in model.needs()]
        return tuple(dict.fromkeys(name for name in needed if name in known))

    @property
    def table(self) -> pd.DataFrame:
        """One row a decision: ``about, tried, taken, gain``."""
        return pd.DataFrame([vars(each) for each in self.choice.steps], columns=["about", "tried", "taken", "gain"])

    @cached_property
    def tried(self) -> pd.DataFrame:
        """One row a candidate, the best first: ``scale, structure, seasons, days, drivers, events, MAE, why``."""
        rows = [
            {
                "scale": each.candidate.scale.name,
                "structure": each.candidate.structure.name,
                **{
                    kind: ", ".join(map(form_words, getattr(each.candidate, kind)))
                    for kind in ("seasons", "days", "drivers", "events")
                },
                "MAE": each.score,
                "why": each.why,
            }
            for each in sorted(self.choice.scored, key=lambda each: each.score)
        ]
        return pd.DataFrame(rows)

    @property
    def left_out(self) -> list[tuple[str, Term, str]]:
        """Drivers that were tried and left out: name, plainest form, and why."""
        return self.choice.left_out

    @property
    def searched(self) -> tuple[list[str], dict[str, list[Any]]]:
        """What `offing.search` may choose on: terms that may go, and values of fields."""
        optional = [str(term.name) for term in self.model.terms]
        choices: dict[str, list[Any]] = {"errors": ["independent", "ar"]}
        if len(self.choice.scales) > 1 and not self.model.offset:
            choices["scale"] = ["level", "log"]
        for term in self.model.terms:
            pairs = getattr(term, "harmonics", None)
            if isinstance(pairs, int):
                choices[f"{term.name}.harmonics"] = sorted({max(pairs - 1, 1), pairs, pairs + 1, 2 * pairs})
            if isinstance(term, Driver) and term.weights is None and term.combine is None and term.carry_over is None:
                own = [list(term.lags), [0], [1], [0, 1]]
                choices[f"{term.name}.lags"] = [each for i, each in enumerate(own) if each not in own[:i]]
        return optional, choices

    def reason(self, about: str) -> str:
        """Why a term, or a field of the model, is as it is; of an earlier draft's term what it is."""
        term = next((each for each in self.model.terms if str(each.name) == about), None)
        if term is not None and not self.is_choice:
            return form_words(term)
        if about == "widen_intervals":
            return "past errors, each origin left out of the choice, were so much larger than the model states"
        return self.choice.reasons.get(about, "")

    @property
    def is_choice(self) -> bool:
        """Whether the model is what was chosen last, and not that of an earlier draft, or the next best one."""
        chosen = self.choice.shown.terms(self.choice.ingredients)
        return [each.name for each in chosen] == [each.name for each in self.model.terms]

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """What still speaks against the forecast."""
        return tuple(each for each in self.forecast.findings if each.severity != "note")

    @property
    def questions(self) -> list[str]:
        """What only the analyst knows, each with the line that answers it; at most five."""
        return self.survey.questions
