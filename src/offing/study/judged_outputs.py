"""What back-tests, comparisons and searches of studies give: words, tables, figures and findings."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import pandas as pd

from offing.base import Finding
from offing.base.text import wrapped
from offing.evaluation import (
    Backtest,
    Calibration,
    Change,
    Comparison,
    MemberWeights,
    Search,
    Worth,
    calibration,
    change,
    compare,
)
from offing.explain import Importance, importance
from offing.study.judged import joined, study_worth
from offing.study.outputs import file_part, left_out_findings, left_out_words
from offing.study.study import Study
from offing.tables import Panel, Sources, Table
from offing.writers import Bundle, coefficient_rows, csv_text, json_text
from offing.writers.judged import (
    accuracy_test_rows,
    backtest_rows,
    calibration_rows,
    change_rows,
    comparison_rows,
    importance_rows,
    score_rows,
    search_rows,
    worth_rows,
)

STEPS = ("backtest", "compare", "search")


@dataclass(frozen=True)
class Judged:
    """The result of a step of one study, or of several compared."""

    studies: tuple[Study, ...]
    step: str
    search: Search | None = None

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
        return compare(self.backtest, score=self.study.spec.backtest.score)

    @cached_property
    def worth(self) -> Worth | None:
        """What each term is worth, if asked for."""
        return study_worth(self.comparison)

    @cached_property
    def importance(self) -> Importance | None:
        """What each term of the first model explains, beside what it is worth; of one series."""
        if self.worth is None or len(self.backtest.series) > 1:
            return None
        return importance(next(iter(self.study.fits.values())), self.worth)

    @cached_property
    def change(self) -> Change | None:
        """The second of two models against the first, origin by origin; None where there are not just two."""
        own = [model.name for model in self.backtest.models if not model.name.startswith("without ")]
        return change(self.comparison, *own) if len(own) == 2 else None

    @cached_property
    def calibrations(self) -> list[Calibration]:
        """Of the first model on every basis."""
        return [calibration(self.backtest, basis=basis) for basis in self.backtest.bases]

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
            left = sorted(f"{source}.{column}" for source, column in used - settled
                          if source in plans and column in plans[source].columns)  # fmt: skip
            if left:
                found.append(_unplanned(left))
        return found

    def in_words(self) -> str:
        """The result to read."""
        title = self.study.title
        head = f"{title}\n{'=' * len(title)}"
        if self.search is not None:
            return f"{head}\n{self.search}"
        notes = [wrapped(str(each)) for each in self.noticed]
        if self.backtest.left_out:
            notes.append(left_out_words(self.backtest.left_out))
        if self.step == "backtest":
            return "\n\n".join([f"{head}\n{self.backtest}", *notes])
        more = [str(each) for each in (self.change, self.worth, self.importance) if each is not None]
        parts = [str(self.comparison), *more, *notes]
        return "\n\n".join([f"{head}\n{parts[0]}", *parts[1:]])

    def tables(self) -> dict[str, pd.DataFrame]:
        """Tables by file name without ending."""
        asked = self.study.spec.backtest
        if self.search is not None:
            winner = pd.concat([coefficient_rows(fit) for fit in self.search.fits.values()], ignore_index=True)
            return {"search": search_rows(self.search), "coefficients": winner,
                    "scores": score_rows(self.search.held, asked.sums, asked.weights)}  # fmt: skip
        found = {"backtest": backtest_rows(self.backtest),
                 "scores": score_rows(self.backtest, asked.sums, asked.weights)}  # fmt: skip
        if self.step == "backtest":
            rows = [calibration_rows(each, self.backtest) for each in self.calibrations]
            return {**found, "calibration": pd.concat(rows, ignore_index=True)}
        found |= {"comparison": comparison_rows(self.comparison), "tests": accuracy_test_rows(self.comparison)}
        found |= {"change": change_rows(self.change, self.backtest)} if self.change is not None else {}
        found |= {"worth": worth_rows(self.worth, self.backtest)} if self.worth is not None else {}
        return found | ({"importance": importance_rows(self.importance, self.backtest)} if self.importance else {})

    def findings(self) -> list[dict[str, object]]:
        """What was noticed."""
        if self.search is not None:
            return []
        series = self.backtest.cuts().column if len(self.backtest.series) == 1 else "all"
        first = self.study.models[0].name
        noted = [(first, finding) for finding in self.noticed]
        if self.step == "backtest":
            noted += [(each.model, finding) for each in self.calibrations for finding in each.findings]
        found: list[dict[str, object]] = [
            {"series": series, "model": model, **dataclasses.asdict(finding)} for model, finding in noted
        ]
        return found + left_out_findings(self.backtest.left_out)

    def pictures(self) -> dict[str, bytes]:
        """PNG figures by name."""
        from offing.draw import figure  # noqa: PLC0415  Matplotlib takes half a second, and only files need it
        from offing.draw.style import png  # noqa: PLC0415

        if self.search is not None:
            return {"search": png(figure(self.search))}
        results: dict[str, object] = {"by-horizon": self.backtest.by_horizon(self.study.spec.backtest.score)}
        if self.step == "backtest":
            results |= {"backtest": self.backtest, "calibration": self.calibrations[-1],
                        "timeline": self.backtest.timeline}  # fmt: skip
        else:
            results["comparison"] = self.comparison
            results |= {f"weights-{file_part(each.name)}": each for each in self.weights}
        return {name: png(figure(result)) for name, result in results.items()}

    def record(self) -> dict[str, object]:
        """What ``run.json`` holds; of several studies one entry each."""
        records = [each.record(plans=True) for each in self.studies]
        return records[0] if len(records) == 1 else {"studies": records}

    def bundle(self) -> Bundle:
        """All files."""
        files = Bundle()
        for name, rows in self.tables().items():
            files.add(f"{name}.csv", csv_text(rows))
        files.add("findings.json", json_text(self.findings()))
        files.add("run.json", json_text(self.record()))
        for name, picture in self.pictures().items():
            files.add(f"{name}.png", picture)
        return files

    def in_json(self) -> str:
        """Tables, findings and record as one JSON text."""
        rows = {name: table.to_dict("records") for name, table in self.tables().items()}
        return json_text({**rows, "findings": self.findings(), "run": self.record()}).rstrip("\n")


def _unplanned(columns: Sequence[str]) -> Finding:
    message = (f"{', '.join(columns)}: there is a plan for the future, but none that says when it was made. Ex-ante, "
               "models of their own say what was expected.")  # fmt: skip
    advice = "If the values were settled beforehand, list the columns as planned in [backtest]."
    return Finding("missing_plans", "note", message, advice=advice, evidence={"columns": float(len(columns))})


def _first(tables: Mapping[str, Table | Panel]) -> dict[str, Table]:
    """The table of each source, or that of its first series."""
    return {name: next(iter(each.values())) if isinstance(each, Panel) else each for name, each in tables.items()}


def judged(studies: Sequence[Study], step: str, search: Search | None = None) -> Judged:
    """The result of a step."""
    return Judged(tuple(studies), step, search)
