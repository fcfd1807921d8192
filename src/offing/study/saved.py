"""Saved models opened again: fits by themselves, or a study with the fits that were made of it."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any, Literal

from pydantic import ValidationError

from offing.base import InputError
from offing.evaluation import DriverSelection  # noqa: F401  a file may hold one, which registers itself
from offing.model import Model
from offing.model.fit import Fit, SeriesFits, public
from offing.model.fitted import Fitted
from offing.model.saved import Saved, load_models, save_models
from offing.outlook import linked
from offing.study.error_messages import Place
from offing.study.loader import open_study
from offing.study.schema import SourceSpec, whole
from offing.study.study import Study
from offing.tables import Panel, Table
from offing.writers import file_digest, run_record

#: What newer rows do to a saved fit.
Learning = Literal["apply", "update", "refit"]


def load(path: str | Path) -> Fit:
    """The fit that `Fit.save` has written, every number the same.

    Nothing in the file is run or imported: it names types, which are looked up among those that Offing knows.

    Raises
    ------
    InputError
        If the file is not there, is no saved model, was cut or edited, or is of a later version; or if it holds
        several fits.

    Examples
    --------
    >>> import pathlib, tempfile, pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
    >>> file = pathlib.Path(tempfile.mkdtemp()) / "sold.model.json"
    >>> of.Model("sold").fit(sold).save(file)
    >>> of.load(file).coefficients["coefficient"].tolist()
    [4.5]
    """
    fits = load_each(path)
    if len(fits) > 1:
        raise InputError(
            f"there are {len(fits)} fits in it", "Use load_each, which gives all of them.", file=Path(path).name
        )
    return next(iter(fits.values()))


def load_each(path: str | Path) -> SeriesFits:
    """All fits of a file by the names under which they were saved; see `load`.

    Raises
    ------
    InputError
        As `load`.

    Examples
    --------
    >>> import pathlib, tempfile, pandas as pd, offing as of
    >>> months = ["2024-01", "2024-02", "2024-03"] * 2
    >>> rows = pd.DataFrame({"month": months, "port": ["N"] * 3 + ["S"] * 3, "sold": [3, 4, 6, 1, 5, 2]})
    >>> file = pathlib.Path(tempfile.mkdtemp()) / "ports.model.json"
    >>> of.Model("sold").fit_each(of.read(rows, id="port")).save(file)
    >>> list(of.load_each(file))
    ['N', 'S']
    """
    found = SeriesFits()
    for name, fit in load_models(path).fits.items():
        found[name] = public(fit)
    return found


@dataclass(frozen=True)
class SavedStudy(Study):
    """A study with the fits that were saved of it, on the data saved with them or on newer rows.

    Attributes
    ----------
    saved
        The file's contents.
    newer
        The sources of which there are newer rows; their files stand in ``spec``.
    learning
        What these do: ``apply`` forecasts from them, ``update`` joins them, ``refit`` learns everything again.
    """

    saved: Saved = field(default_factory=lambda: Saved({}, {}, None, {}, {}))
    newer: tuple[str, ...] = ()
    learning: Learning = "apply"

    @cached_property
    def fits(self) -> SeriesFits:
        """The fits by name, as saved or with newer rows."""
        found = SeriesFits()
        for name, fit in self.saved.fits.items():
            found[name] = public(fit)
        if self.newer:
            with self.placing():
                rows = {name: self._read(name) for name in self.newer}
                found = getattr(found, f"{self.learning}_each")(rows)
        return found

    @cached_property
    def tables(self) -> dict[str, Table | Panel]:
        """The sources by name, with the columns that the fits draw on; of several series each its own."""
        return tables_of_fits(self.fits if self.newer else self.saved.fits)

    @cached_property
    def plans(self) -> dict[str, Table | Panel]:
        """The plans saved with the fits, and those that were given instead."""
        return {**self.saved.plans, **super().plans}

    def _read(self, name: str) -> Table | Panel:
        before = tables_of_fits(self.saved.fits)
        found = super()._read(name)
        old = before.get(name)
        if isinstance(found, Panel) != isinstance(old, Panel) and old is not None:
            raise InputError("it has not the series of the saved model", "Give all of them, or one.", file=found.name)
        return found

    def record(self, *, plans: bool) -> dict[str, Any]:
        """What ``run.json`` holds: the fingerprints of what was fitted, and of what was read since."""
        own = {name: each for name, each in self.spec.sources.items() if each.file}
        files = [self.path, *(self.path.parent / str(each.file) for each in own.values() if plans or not each.plan_for)]
        prints = {**self.saved.fingerprints, **{file.name: file_digest(file) for file in files}}
        return {**run_record(prints, self.stated), "columns": self.accounts(plans=plans).to_dict("records")}


def tables_of_fits(fits: Mapping[str, Fitted]) -> dict[str, Table | Panel]:
    """The tables that several fits draw on, by source: one for all, or a panel by series."""
    found: dict[str, dict[str, Table]] = {}
    for fit in fits.values():
        for name, table in fit.view.sources.tables.items():
            found.setdefault(name, {}).setdefault(fit.series, table)
    return {
        name: next(iter(own.values())) if len({id(each) for each in own.values()}) == 1 else Panel(name, ("id",), own)
        for name, own in found.items()
    }


def save_study(study: Study, path: Path) -> None:
    """Write a study's fits into one file, with what it asks for and the plans of its drivers; see `Fit.save`.

    Raises
    ------
    InputError
        As `Fit.save`.
    """
    with study.placing():
        plans = study.plans
        spec = {key: each for key, each in study.stated.items() if key != "search"}
        if spec.get("archive") == {}:
            del spec["archive"]  # a database, whose address stays in the study
        prints = study.record(plans=True)["fingerprint"]
        save_models(path, study.fits, plans=plans, study=spec, fingerprints=prints)


def open_saved(
    path: str | Path, *, data: Sequence[str] = (), plan: Sequence[str] = (), learning: Learning = "apply"
) -> SavedStudy:
    """The study of a file that ``offing fit STUDY --save`` has written.

    Parameters
    ----------
    data
        Files of newer rows, such as ``newer.csv``, or ``tickets=newer.csv`` where there are several sources.
    plan
        The same with plans of drivers, which replace those that were saved.
    learning
        What newer rows do: see `SavedStudy`.

    Raises
    ------
    InputError
        As `load`; if the file was saved without a study; or if a file's source is not one of the study's.
    """
    path = Path(path)
    saved = load_models(path)
    if saved.study is None:
        raise InputError(
            "it was saved without a study, which says how far to forecast",
            "Save it with 'offing fit STUDY --save', or open it in Python with load.",
            file=path.name,
        )
    try:
        spec = whole().model_validate_json(json.dumps(saved.study))
    except ValidationError as error:
        raise Place(path.name, "").first_fault(error, (), {}) from error
    tables = [name for name, each in spec.sources.items() if each.plan_for is None]
    newer = dict(_named(each, tables, path.name, "--data") for each in data)
    plans = dict(_named(each, tables, path.name, "--plan") for each in plan)
    sources = {name: replace(each, file=None) for name, each in spec.sources.items()}
    for name, file in newer.items():
        sources[name] = replace(sources[name], file=file)
    for name, file in plans.items():
        own = next((each for each, source in sources.items() if source.plan_for == name), f"the plan of {name}")
        sources[own] = replace(sources.get(own, SourceSpec(plan_for=name)), file=file)
    read = {name: each for name, each in sources.items() if each.plan_for is None or each.file}
    spec = spec.model_copy(update={"sources": read})
    models = {fit.model.name: fit.stated for fit in saved.fits.values()}
    scenarios = linked({name: (each.base, each.drivers, each.note) for name, each in spec.scenarios.items()})
    terms = {str(term.name): term for model in models.values() for term in model.terms}
    return SavedStudy(
        path,
        "",
        spec,
        tuple(terms.values()),
        tuple(Model.of(each) for each in models.values()),
        scenarios=scenarios,
        reopen=open_study,
        saved=saved,
        newer=tuple(newer),
        learning=learning,
    )


def _named(given: str, tables: Sequence[str], file: str, option: str) -> tuple[str, str]:
    """The source and the absolute path of ``SOURCE=FILE``, or of a file of the only source."""
    source, between, rest = given.partition("=")
    if between and source in tables:
        return source, str(Path(rest).resolve())
    if len(tables) > 1:
        raise InputError(
            f"{given!r} does not say of which source it is",
            f"Give SOURCE=FILE, with one of {', '.join(tables)}.",
            file=file,
            key=option,
        )
    return tables[0], str(Path(given).resolve())
