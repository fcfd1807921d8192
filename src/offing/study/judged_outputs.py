"""What back-tests, comparisons and searches of studies give."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from offing.base import Finding
from offing.base.text import wrapped
from offing.evaluation import (
    Backtest,
    Calibration,
    Change,
    Comparison,
    MemberWeights,
    Search,
    TermGain,
    change,
)
from offing.explain import Importance, importance
from offing.study.judged import joined, study_term_gain
from offing.study.outputs import Output, left_out_findings, left_out_words
from offing.study.study import Study
from offing.tables import Panel, Sources, Table

STEPS = ("backtest", "compare", "search")


@dataclass(frozen=True)
class Judged:
    """The result of a step of one study, or of several compared."""

    studies: tuple[Study, ...]
    step: str
    search: Search | None = None

    @property
    def title(self) -> str:
        """That of the first study."""
        return self.study.title

    @property
    def requested(self) -> Any:
        """What ``[backtest]`` of the first study asks for."""
        return self.study.spec.backtest

    @property
    def study(self) -> Study:
        """The first one, whose [backtest] counts."""
        return self.studies[0]

    @cached_property
    def backtest(self) -> Backtest:
        """All forecasts."""
        if len(self.studies) > 1:
            return joined(self.studies)
        return self.study.apart if self.step == "compare" else self.study.backtest

    @cached_property
    def comparison(self) -> Comparison:
        """On the basis that counts."""
        return self.backtest.compare(score=self.study.spec.backtest.score)

    @cached_property
    def term_gain(self) -> TermGain | None:
        """What each term is worth, if asked for."""
        return study_term_gain(self.comparison)

    @cached_property
    def importance(self) -> Importance | None:
        """What each term of the first model explains, beside what it is worth; of one series."""
        if self.term_gain is None or len(self.backtest.series) > 1:
            return None
        return importance(next(iter(self.study.fits.values())), self.term_gain)

    @cached_property
    def change(self) -> Change | None:
        """The second of two models against the first, origin by origin; None where there are not just two."""
        own = [model.name for model in self.backtest.models if not model.name.startswith("without ")]
        return change(self.comparison, *own) if len(own) == 2 else None

    @cached_property
    def calibrations(self) -> list[Calibration]:
        """Of the first model on every basis."""
        return [self.backtest.calibration(basis=basis) for basis in self.backtest.bases]

    @cached_property
    def weights(self) -> list[MemberWeights]:
        """Of every combination on the basis that counts, where there is one series."""
        if len(self.backtest.series) > 1:
            return []
        basis = self.backtest.bases[-1]
        names = [run.name for run in self.backtest.own if run.weights is not None and run.basis == basis]
        return [self.backtest.member_weights(name) for name in names]

    @cached_property
    def noticed(self) -> list[Finding]:
        """Drivers that have a plan for the future, of which nothing is said for the past."""
        if "ex-ante" not in self.backtest.bases or not any(term.needs() for term in self.study.terms):
            return []
        found = []
        for study in self.studies:
            sources = Sources(_first(study.tables))
            settled = {sources.find(each) for each in study.spec.backtest.planned}
            plans = {name: each for name, each in _first(study.plans).items() if each.vintages is None}
            used = {sources.find(each) for model in study.models for term in model.terms for each in term.needs()}
            left = sorted(
                f"{source}.{column}"
                for source, column in used - settled
                if source in plans and column in plans[source].columns
            )
            if left:
                found.append(_unplanned(left))
        return found


@dataclass(frozen=True)
class JudgedOutput(Output):
    """What ``backtest``, ``compare`` and ``search`` give."""

    subject: Judged

    @property
    def study(self) -> Study:
        """The first study."""
        return self.subject.study

    def notes(self) -> list[str]:
        """What was noticed, and series without a result."""
        if self.subject.search is not None:
            return []
        notes = [wrapped(str(each)) for each in self.subject.noticed]
        left_out = self.subject.backtest.left_out
        return [*notes, left_out_words(left_out)] if left_out else notes

    def findings(self) -> list[dict[str, object]]:
        """What was noticed."""
        if self.subject.search is not None:
            return []
        series = self.subject.backtest.cuts().column if len(self.subject.backtest.series) == 1 else "all"
        first = self.subject.study.models[0].name
        noted = [(first, finding) for finding in self.subject.noticed]
        if self.subject.step == "backtest":
            noted += [(each.model, finding) for each in self.subject.calibrations for finding in each.findings]
        found: list[dict[str, object]] = [
            {"series": series, "model": model, **dataclasses.asdict(finding)} for model, finding in noted
        ]
        return found + left_out_findings(self.subject.backtest.left_out)

    def record(self) -> dict[str, object]:
        """What ``run.json`` holds; of several studies one entry each."""
        records = [each.record(plans=True) for each in self.subject.studies]
        return records[0] if len(records) == 1 else {"studies": records}


def _unplanned(columns: Sequence[str]) -> Finding:
    message = (
        f"{', '.join(columns)}: there is a plan for the future, but none that says when it was made. Ex-ante, "
        "models of their own say what was expected."
    )
    advice = "If the values were settled beforehand, list the columns as planned in [backtest]."
    return Finding("missing_plans", "note", message, advice=advice, evidence={"columns": float(len(columns))})


def _first(tables: Mapping[str, Table | Panel]) -> dict[str, Table]:
    """The table of each source, or that of its first series."""
    return {name: next(iter(each.values())) if isinstance(each, Panel) else each for name, each in tables.items()}


def judged(studies: Sequence[Study], step: str, search: Search | None = None) -> JudgedOutput:
    """What a step gives."""
    return JudgedOutput(Judged(tuple(studies), step, search), step)
