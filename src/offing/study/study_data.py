"""A study as read: its sources, models and fits, and where in the file an error belongs."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import date
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pandas as pd

from offing.archiving.opening import archive
from offing.base import InputError
from offing.base.results import ENTRIES
from offing.evaluation import Screening
from offing.evaluation.screening import screen_series
from offing.model import Model, SeriesFits
from offing.outlook import Scenario
from offing.study.error_messages import Place
from offing.study.schema import StudySpec
from offing.tables import Information, Panel, Sources, Table, read, split_series
from offing.terms import Term
from offing.writers import file_digest, frame_digest, run_record, text_digest

if TYPE_CHECKING:
    from offing.archiving.archive import Archive

#: Series whose figures are drawn where nothing is stated: more are not looked at.
MOST_FIGURES = 12


@dataclass(frozen=True)
class StudyData:
    """A checked study file with its data and fits.

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
    reopen
        What opens another study file, such as last month's.
    """

    path: Path
    text: str
    spec: StudySpec
    terms: tuple[Term, ...]
    models: tuple[Model, ...]
    as_of: str | date | None = None
    choices: Mapping[str, Sequence[Any]] = field(default_factory=dict)
    scenarios: Mapping[str, Scenario] = field(default_factory=dict)
    reopen: Callable[[Path], Any] | None = field(default=None, repr=False, compare=False)

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
        """The models whose own results are reported."""
        return tuple(model for model in self.models if not self.spec.models or self.spec.models[model.name].reported)

    def draws(self, figures: int) -> bool:
        """Whether a command draws its figures: as ``[output]`` says, else if there are not too many to look at."""
        stated = self.spec.output.figures
        return figures <= MOST_FIGURES if stated is None else stated != "none"

    @cached_property
    def archive(self) -> Archive | None:
        """The archive of its forecasts, if it has one."""
        stated = self.spec.archive
        if stated is None:
            return None
        return archive(stated.database or self.path.parent / str(stated.file))

    def options(self, kind: str) -> dict[str, Any]:
        """What the study states for a kind of result."""
        stated = getattr(self.spec, ENTRIES[kind].key)
        return {name: getattr(stated, name) for name in type(stated).model_fields}

    def states(self, kind: str) -> bool:
        """Whether the study has the table of a kind of result."""
        return ENTRIES[kind].key in self.spec.model_fields_set

    def requests(self, kind: str) -> list[dict[str, Any]]:
        """The arguments with which the study asks for a kind of result, a dictionary for each time it does."""
        return [
            {name: getattr(stated, name) for name in type(stated).model_fields}
            for stated in getattr(self.spec, ENTRIES[kind].key)
        ]

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
        requested = self.spec.driver_selection
        if requested is None:
            advice = 'Add [driver_selection] with columns = ["SOURCE.COLUMN"], say.'
            raise InputError("the study does not say what to choose from", advice, file=self.path.name)
        with self.placing(("driver_selection",)):
            return {
                f"{series} / {model.name}" if series else model.name: screen_series(
                    model.fit_at(Information(tables, series, self.origin)), requested.selection
                )
                for model in self.reported
                if model.driver_selection is None
                for series, tables in split_series(self.tables, model.target).items()
            }

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
        columns = self.accounts(plans=plans).to_dict("records")
        return {**run_record(prints, self.stated), "columns": columns}

    @property
    def stated(self) -> dict[str, Any]:
        """What the study states, without addresses, which may hold secrets."""
        options: dict[str, Any] = self.spec.model_dump(mode="json", exclude_unset=True)
        options["sources"] = {name: each.saved() for name, each in self.spec.sources.items()}
        if self.spec.output.database is not None:
            options["output"] = self.spec.output.model_dump(mode="json", exclude={"database"}, exclude_unset=True)
        if self.spec.archive is not None:
            options["archive"] = self.spec.archive.model_dump(exclude={"database"}, exclude_unset=True)
        return options

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
            # A plan has its table's frequency, of which one row could not even show, and its clock.
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
