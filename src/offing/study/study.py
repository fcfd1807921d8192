"""A study: what to read, which models to fit, how far to forecast."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import date
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pandas as pd

from offing.base import InputError
from offing.explain import (
    Agreed,
    Overridden,
    Paths,
    Reach,
    RunningEstimate,
    Scenarios,
    Sensitivity,
    Sought,
    Split,
    Totals,
    Walk,
    agree,
    paths,
    running_estimate,
    split,
    totals,
)
from offing.handover import file_digest, frame_digest, run_record, text_digest
from offing.judging import Backtest, Combination, Screening, combine, recalibrate
from offing.judging.screening import screen_series
from offing.model import Fit, Forecast, Model, SeriesFits
from offing.model.joint import Noise
from offing.outlook import Scenario
from offing.study.answers import answers
from offing.study.asked import (
    study_goals,
    study_override_scores,
    study_overrides,
    study_scenarios,
    study_sensitivities,
    study_walks,
)
from offing.study.faults import Place
from offing.study.judged import study_backtest
from offing.tables import Information, Panel, Sources, Table, read, split_series
from offing.terms import Term

if TYPE_CHECKING:
    from offing.study.schema import StudySpec, TotalSpec


#: Figures of so many series are drawn where nothing is stated: nobody looks at more.
MOST_FIGURES = 12


@dataclass(frozen=True)
class Study:
    r"""A checked study file. Made by `offing.open_study`; each step runs when it is first asked for.

    Attributes
    ----------
    path
        The study file.
    text, spec
        Its contents, as written and as checked.
    terms
        Its terms, in the file's order.
    models
        Its models, not yet fitted.
    as_of
        A date that counts instead of the study's own.
    choices
        What ``[search.choices]`` offers, by term and field.
    scenarios
        Its scenarios by name.

    Examples
    --------
    >>> import tempfile, pathlib, offing as of
    >>> folder = pathlib.Path(tempfile.mkdtemp())
    >>> _ = (folder / "boats.csv").write_text("month,sold\n2024-01,3\n2024-02,5\n2024-03,4\n2024-04,6\n")
    >>> text = 'format = 1\n[sources.boats]\nfile = "boats.csv"\n[target]\ndata = "boats.sold"\n'
    >>> _ = (folder / "study.toml").write_text(text + '[[terms]]\ntype = "trend"\n[forecast]\nhorizon = 1\n')
    >>> of.open_study(folder / "study.toml").forecasts["main"].table["forecast"].round(6).tolist()
    [6.5]
    """

    path: Path
    text: str
    spec: StudySpec
    terms: tuple[Term, ...]
    models: tuple[Model, ...]
    as_of: str | date | None = None
    choices: Mapping[str, Sequence[Any]] = field(default_factory=dict)
    scenarios: Mapping[str, Scenario] = field(default_factory=dict)

    @property
    def origin(self) -> str | date | None:
        """The date from which all is looked at, if any is stated."""
        return self.as_of if self.as_of is not None else self.spec.forecast.as_of

    @property
    def title(self) -> str:
        """The study's title, or its file's name."""
        return self.spec.title or self.path.name

    @property
    def reported(self) -> tuple[Model, ...]:
        """The models whose own results are told."""
        return tuple(model for model in self.models if not self.spec.models or self.spec.models[model.name].reported)

    def draws(self, figures: int) -> bool:
        """Whether a command draws its figures: as ``[output]`` says, else if there are not too many to look at."""
        stated = self.spec.output.figures
        return figures <= MOST_FIGURES if stated is None else stated != "none"

    def picks(self, figure: str) -> bool:
        """Whether a figure, by its file's name, is among those that ``[output]`` names; all are where it names none."""
        stated = self.spec.output.figures
        return not isinstance(stated, list) or any(figure == each or figure.startswith(f"{each}-") for each in stated)

    @cached_property
    def tables(self) -> dict[str, Table | Panel]:
        """The sources that are not plans, by name."""
        return {name: self._read(name) for name, each in self.spec.sources.items() if each.plan_for is None}

    @cached_property
    def plans(self) -> dict[str, Table | Panel]:
        """The plans by the name of the source that each continues."""
        return {each.plan_for: self._read(name) for name, each in self.spec.sources.items() if each.plan_for}

    @cached_property
    def fits(self) -> SeriesFits:
        """The fits by their model's name; of several series by such as ``north / main``."""
        found = SeriesFits()
        with self.placing():
            for model in self.reported:
                own = model.fit_each(self.tables, as_of=self.origin)
                found |= {f"{series} / {model.name}" if series else model.name: fit for series, fit in own.items()}
                found.left_out |= own.left_out
        return found

    def accounts(self, *, plans: bool = True) -> pd.DataFrame:
        """One row per column of every source, with or without plans: ``source, column, use``, or why it is not used."""
        used = {self._place(model.target): "target" for model in reversed(self.models)}
        for term in self.terms:
            used |= {self._place(each): f"driver of the term '{term.name}'" for each in term.needs()}
        rows = []
        planned = {f"{of} (plan)": plan for of, plan in self.plans.items()} if plans else {}
        for name, table in {**self.tables, **planned}.items():
            for column, use in table.accounts.itertuples(index=False):
                source = name.removesuffix(" (plan)")
                usable = str(use).startswith(("numbers", "text"))
                said = used.get((source, str(column)), "in no model" if usable else use)
                rows.append((name, column, said))
        return pd.DataFrame(rows, columns=["source", "column", "use"])

    def _place(self, reference: str) -> tuple[str, str]:
        first = {
            name: next(iter(table.values())) if isinstance(table, Panel) else table
            for name, table in self.tables.items()
        }
        return Sources(first).find(reference)

    @property
    def left_out(self) -> dict[str, InputError]:
        """Why a series has no result, by its id."""
        return self.fits.left_out

    @cached_property
    def screenings(self) -> dict[str, Screening]:
        """What is chosen of many drivers, by the names of the fits beside whose terms they stand.

        Raises
        ------
        InputError
            If the study does not say what to choose from, or as `offing.screen` does.
        """
        asked = self.spec.driver_selection
        if asked is None:
            advice = 'Add [driver_selection] with columns = ["SOURCE.COLUMN"], say.'
            raise InputError("the study does not say what to choose from", advice, file=self.path.name)
        with self.placing(("driver_selection",)):
            return {
                f"{series} / {model.name}" if series else model.name: screen_series(
                    model.fit_at(Information(tables, series, self.origin)), asked.selection
                )
                for model in self.reported
                if model.driver_selection is None
                for series, tables in split_series(self.tables, model.target).items()
            }

    @cached_property
    def forecasts(self) -> dict[str, Forecast]:
        """The forecasts, by the names of their fits.

        Raises
        ------
        InputError
            If the study does not say how far to forecast, or as ``Fit.forecast`` does.
        """
        asked = self.spec.forecast
        if asked.horizon is None and asked.until is None:
            raise InputError(
                "the study does not say how far to forecast",
                "Add [forecast] with horizon = 13, say.",
                file=self.path.name,
            )
        fits = self.fits
        with self.placing():
            found = {name: forecast for name, fit in list(fits.items()) if (forecast := self._forecast(name, fit))}
            if not found:
                raise next(iter(fits.left_out.values()))
        if asked.intervals == "model":
            return found
        past = self.backtest
        with self.placing(("forecast", "intervals")):
            return {name: recalibrate(each, past, way=asked.intervals) for name, each in found.items()}

    def _forecast(self, name: str, fit: Fit) -> Forecast | None:
        """A fit's forecast; of a series that has none, the reason is kept, and the others go on."""
        try:
            return fit.forecast(**self.how)
        except InputError as error:
            if not fit.series:
                raise
            error.found = f"series {fit.series!r}: {error.found}"
            self.fits.leave_out(name, error)
            return None

    @property
    def how(self) -> dict[str, Any]:
        """What ``Fit.forecast`` is asked."""
        asked = self.spec.forecast
        return {"horizon": asked.horizon, "until": asked.until, "plan": self.plans, "levels": asked.levels,
                "way": asked.way, "edge": asked.edge, "unplanned": asked.unplanned}  # fmt: skip

    @cached_property
    def what_if(self) -> dict[str, Scenarios]:
        """The scenarios side by side, by the names of the fits; empty where the study has none."""
        return study_scenarios(self)

    @cached_property
    def walks(self) -> dict[str, list[Walk]]:
        """The walks that ``[[walks]]`` asks for, by the names of their fits."""
        return study_walks(self)

    @cached_property
    def sensitivities(self) -> dict[str, Sensitivity]:
        """What moving each driver does, by the names of the fits that have drivers and one equation."""
        return study_sensitivities(self)

    @cached_property
    def goals(self) -> dict[str, list[Sought]]:
        """What reaches the totals of ``[[goals]]``, by the names of their fits."""
        return study_goals(self)

    @cached_property
    def overridden(self) -> dict[str, Overridden]:
        """The forecasts with the overrides of periods that are still ahead, if there are any."""
        return study_overrides(self)

    @cached_property
    def override_scores(self) -> dict[str, pd.DataFrame]:
        """How overrides did whose outcome is known, and which tell when they were made."""
        return study_override_scores(self)

    @cached_property
    def backtest(self) -> Backtest:
        """The models' forecasts from past origins, as ``[backtest]`` asks for them.

        Raises
        ------
        InputError
            If the study does not say how far, or as `offing.backtest` does.
        """
        with self.placing(("backtest",)):
            return study_backtest(self)

    @cached_property
    def price(self) -> str:
        """What not knowing the drivers costs, as the back-test has it; an empty text unless the study asks for it."""
        return self.backtest.price_sentence if self.spec.forecast.price else ""

    @cached_property
    def apart(self) -> Backtest:
        """The back-test with the first model without each of its terms, if the study asks for that."""
        if not self.spec.backtest.without:
            return self.backtest
        with self.placing(("backtest",)):
            return study_backtest(self, without=True)

    @cached_property
    def running(self) -> dict[str, RunningEstimate]:
        """The estimate of the running period on the study's dates up to its origin, by the names of the models."""
        asked = self.spec.forecast
        # Dates are compared as ISO 8601 text; what is none is told where it is read.
        dates = [each for each in asked.dates if self.origin is None or str(each) <= str(self.origin)]
        if not dates:
            return {}
        with self.placing(("forecast", "dates")):
            return {
                model.name: running_estimate(
                    model, self.tables, dates, edge=asked.edge, levels=asked.levels, plan=self.plans
                )
                for model in self.reported
            }

    @cached_property
    def combination(self) -> Combination | None:
        """The models' forecasts and their mean, if the study asks for it."""
        asked, ahead = self.spec.combination, self.spec.forecast
        if asked is None:
            return None
        with self.placing(("combination",)):
            return combine(
                self.models,
                self.tables,
                horizon=ahead.horizon,
                until=ahead.until,
                as_of=self.origin,
                way=asked.way,
                edges=asked.edges,
                origins=asked.origins,
                pooling=asked.pooling,
                weights=asked.weights or None,
                unplanned=ahead.unplanned,
                planned=self.spec.backtest.planned,
                plan=self.plans,
            )

    @cached_property
    def answers(self) -> dict[str, dict[str, dict[str, Any]]]:
        """Trends, cycles, indices and holidays by the names of their fits, the kind of answer, and the term."""
        return {name: answers(each) for name, each in self.forecasts.items()}

    @cached_property
    def totals(self) -> dict[str, list[Totals]]:
        """Sums and averages of the forecasts' years, or what else the study asks for, by the names of their fits."""
        asked = self.spec.forecast
        found = {}
        with self.placing(("forecast",)):
            for name, each in self.forecasts.items():
                apart = asked.way == "direct" or asked.edge == "shifted"
                usual = [] if each.axis.frequency.unit == "year" or apart else ["year"]
                sums = [totals(each, by) for by in (usual if asked.sums is None else asked.sums)]
                found[name] = [*sums, *(totals(each, by, average=True) for by in asked.averages)]
        return found

    @cached_property
    def agreed(self) -> dict[str, Agreed]:
        """The forecasts brought to the totals that the study states, if any."""
        found = {}
        for i, spec in self._stated("agree"):
            with self.placing(("totals", i)):
                for name, each in self.forecasts.items():
                    found[name] = agree(each, spec.stated, way=spec.way or "proportional", average=spec.total is None)
        return found

    @cached_property
    def splits(self) -> dict[str, Split]:
        """The stated totals split over their periods, if any."""
        found = {}
        for i, spec in self._stated("split"):
            with self.placing(("totals", i)):
                for name, each in self.forecasts.items():
                    found[name] = split(each, spec.stated, average=spec.total is None)
        return found

    @cached_property
    def _drawn(self) -> dict[tuple[str, Noise], Paths]:
        return {}

    def paths(self, name: str, noise: Noise = "normal") -> Paths:
        """Joint paths of one forecast, by the name of its fit; they are drawn once."""
        if (name, noise) not in self._drawn:
            self._drawn[name, noise] = paths(self.forecasts[name], noise=noise)
        return self._drawn[name, noise]

    @cached_property
    def chances(self) -> dict[str, list[Reach]]:
        """How likely the forecasts pass the thresholds that the study states, by the names of their fits."""
        found: dict[str, list[Reach]] = {name: [] for name in self.forecasts}
        for i, spec in enumerate(self.spec.chances):
            with self.placing(("chances", i)):
                for name in self.forecasts:
                    joint = self.paths(name, spec.noise)
                    if spec.span is not None:
                        joint = joint.within(tuple(spec.span) if isinstance(spec.span, list) else spec.span)
                    found[name].append(joint.reaching(spec.threshold, side=spec.side, total=spec.total))
        return found

    def _stated(self, kind: str) -> list[tuple[int, TotalSpec]]:
        return [(i, each) for i, each in enumerate(self.spec.totals) if each.type == kind]

    def record(self, *, plans: bool) -> dict[str, Any]:
        """What ``run.json`` holds: versions, fingerprints of the files read, with or without `plans`, options.

        Of a database it holds no address and no query, which may hold secrets; its fingerprint is that of the values.
        """
        sources = {name: each for name, each in self.spec.sources.items() if plans or each.plan_for is None}
        files = [self.path.parent / each.file for each in sources.values() if each.file]
        for model in self.models:
            files += [file for term in model.terms for file in term.files()]
        # A draft's study is about to be written, with these very letters.
        own = file_digest(self.path) if self.path.exists() else text_digest(self.text)
        prints = {self.path.name: own, **{file.name: file_digest(file) for file in dict.fromkeys(files)}}
        for name, each in sources.items():
            if each.file is None:
                read = self.tables[name] if each.plan_for is None else self.plans[each.plan_for]
                prints[name] = frame_digest(read.frame)
        options = self.spec.model_dump(mode="json", exclude_unset=True)
        options["sources"] = {name: each.saved() for name, each in self.spec.sources.items()}
        columns = self.accounts(plans=plans).to_dict("records")
        return {**run_record(prints, options), "columns": columns}

    @contextmanager
    def placing(self, elsewhere: tuple[str | int, ...] = ()) -> Iterator[None]:
        """Let an error about a term say where in the study the term stands; others are about `elsewhere`."""
        try:
            yield
        except InputError as error:
            names = [str(term.name) for term in self.terms]
            at: tuple[str | int, ...] = elsewhere
            if error.term in names:
                at = ("terms", names.index(str(error.term)), *([error.key] if error.key else []))
            if at and error.file is None:
                error.file, error.line = self.path.name, Place(self.path.name, self.text).line(at)
            raise

    def _read(self, name: str) -> Table | Panel:
        source = self.spec.sources[name].within(self.path.parent)
        options = source.read_options()
        if source.plan_for is not None:
            # A plan has its table's frequency, of which one row could not even tell, and its clock.
            table = self.tables[source.plan_for]
            first = next(iter(table.values())) if isinstance(table, Panel) else table
            said = {**first.axis.frequency.stated, "zone": self.spec.sources[source.plan_for].zone}
            if source.rows == "periods" and source.aggregate_to is None:
                options = {**said, **options}
            options["later_rows"] = "plan"
        with self.placing(("sources", name)):
            if source.database is not None:
                options["folders"] = [str(self.path.parent / each) for each in source.folders]
                found: Table | Panel = read(**{"name": name, **options})
            elif source.file is None:
                found = read(**options)
            else:
                found = read(self.path.parent / str(source.file), **options)
        return found
