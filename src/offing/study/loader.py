"""Opening a study file: reading, checking, and building its models."""

from __future__ import annotations

import json
import re
import tomllib
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import fields, replace
from datetime import date
from pathlib import Path
from typing import Any, get_args, get_origin

from pydantic import TypeAdapter, ValidationError

from offing.base import InputError, nearest
from offing.evaluation import DriverSelection
from offing.model import Model
from offing.study.cross_checks import check_output, check_requests, checked_scenarios, placing_of
from offing.study.error_messages import Place
from offing.study.schema import ColumnSpec, EstimationSpec, SourceSpec, StudySpec, whole
from offing.study.schema_parts import Part
from offing.study.study import Study
from offing.tables import Treat
from offing.terms import Term, drivers_of, term_kinds


def open_study(path: str | Path, *, as_of: str | None = None) -> Study:
    r"""Read and check a study file; its data are read when the study is run.

    Parameters
    ----------
    path
        The TOML file. Paths in it are relative to its folder.
    as_of
        A date: only what was known then counts, by the release delays of the sources. By default what the study says.

    Raises
    ------
    InputError
        Naming file, line and key of the first fault, what was found and what is allowed; for an unknown key the
        nearest known one.

    Examples
    --------
    >>> import tempfile, pathlib, offing as of
    >>> text = 'format = 1\n[sources.tickets]\nfile = "t.csv"\n[target]\ndata = "tickets.sold"\nscal = "log"\n'
    >>> file = pathlib.Path(tempfile.mkdtemp()) / "study.toml"
    >>> _ = file.write_text(text)
    >>> of.open_study(file)
    Traceback (most recent call last):
    offing.base.errors.InputError: study.toml, line 6, key 'target.scal': there is no such key. Did you mean 'scale'?
    """
    path = Path(path)
    if path.suffix == ".json":
        raise InputError(
            "it is a saved model, not a study", "The commands fit, forecast and explain take it.", file=path.name
        )
    opened = study_from(_text(path), path)
    return opened if as_of is None else replace(opened, as_of=as_of)


def study_from(text: str, path: Path) -> Study:
    """The study that a text says, whose paths are relative to the folder of `path`; see `open_study`."""
    place = Place(path.name, text)
    try:
        raw = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InputError(f"the text is not valid TOML: {error}", file=path.name) from error
    except RecursionError:
        raise _too_deep(path) from None
    try:
        spec = whole().model_validate_json(json.dumps(raw, default=_plain))
    except ValidationError as error:
        raise place.first_fault(error, (), _known_keys()) from error
    except RecursionError:
        raise _too_deep(path) from None
    _check_sources(spec, place)
    _check_totals(spec, place)
    if spec.archive is not None and (spec.archive.file is None) == (spec.archive.database is None):
        raise place.error(
            ("archive",), "an archive is a file or a database", 'Give one, such as file = "forecasts.sqlite".'
        )
    terms = [_term(entry, ("terms", i), path.parent, place) for i, entry in enumerate(spec.terms)]
    _check_drivers(spec, terms, place)
    treatments = [_built(Treat, entry, ("treatments", i), place) for i, entry in enumerate(spec.treatments)]
    models = _models(spec, terms, treatments, path.parent, place)
    check_requests(spec, terms, place)
    check_output(spec, place)
    scenarios, choices = checked_scenarios(spec, terms, place), _choices(spec, terms, path.parent, place)
    return Study(path, text, spec, tuple(terms), models, scenarios=scenarios, choices=choices, reopen=open_study)


def _too_deep(path: Path) -> InputError:
    return InputError("its values are nested too deeply", "Write plain tables and lists.", file=path.name)


def _text(path: Path) -> str:
    try:
        return path.read_text(encoding="utf-8")
    except FileNotFoundError as error:
        raise InputError(f"there is no file {str(path)!r}", "Check the path.") from error
    except OSError as error:
        raise InputError(f"cannot be opened ({error.strerror})", file=str(path)) from error
    except UnicodeDecodeError as error:
        raise InputError("the text is not UTF-8", "Save the file as UTF-8.", file=path.name) from error


def _plain(value: object) -> str:
    """TOML's own dates as text."""
    if isinstance(value, date):  # a datetime is one too
        return value.isoformat()
    return str(value)


def _known_keys() -> dict[tuple[Any, ...], Iterable[str]]:
    keys: dict[tuple[Any, ...], Iterable[str]] = {at: list(part.model_fields) for at, part in _tables(whole())}
    return {**keys, ("sources", "*"): [each.name for each in fields(SourceSpec)]}


def _tables(part: type[Part], at: tuple[str, ...] = ()) -> Iterator[tuple[tuple[str, ...], type[Part]]]:
    """A table of the file and those inside of it, with where each stands; ``*`` stands for a place or a name."""
    yield at, part
    for name, field in part.model_fields.items():
        several = get_origin(field.annotation) in (list, dict)
        for inner in (field.annotation, *get_args(field.annotation)):
            if isinstance(inner, type) and issubclass(inner, Part):
                yield from _tables(inner, (*at, name, "*") if several else (*at, name))


def _check_sources(spec: StudySpec, place: Place) -> None:
    for name, source in spec.sources.items():
        if sum(each is not None for each in (source.file, source.database, source.url, source.service)) != 1:
            raise place.error(
                ("sources", name),
                "a source is a file, a database, an url or a service",
                'Give one of them, such as file = "sales.csv".',
            )
        if source.plan_for is None:
            continue
        at = ("sources", name, "plan_for")
        tables = [other for other, each in spec.sources.items() if each.plan_for is None]
        if source.plan_for not in tables:
            raise place.error(at, f"there is no source {source.plan_for!r}", nearest(source.plan_for, tables))
        first = next(other for other, each in spec.sources.items() if each.plan_for == source.plan_for)
        if first != name:
            raise place.error(at, f"the source '{first}' is its plan already", "Keep one of them.")
    if all(source.plan_for is not None for source in spec.sources.values()):
        raise place.error(("sources",), "there are only plans", "Add the source that they continue.")


def _check_totals(spec: StudySpec, place: Place) -> None:
    for i, each in enumerate(spec.totals):
        if (each.total is None) == (each.average is None):
            raise place.error(("totals", i), "totals are sums or averages", "Give one of total and average.")
        if each.type == "allocate" and each.method is not None:
            raise place.error(("totals", i, "method"), "a split has one method", "Remove it.")
        if each.type in [other.type for other in spec.totals[:i]]:
            raise place.error(("totals", i), f"there are two tables to {each.type}", "Put their numbers into one.")


def _term(entry: Mapping[str, Any], at: tuple[Any, ...], folder: Path, place: Place) -> Term:
    kind, kinds = entry.get("type"), term_kinds()
    if not isinstance(kind, str) or kind not in kinds:
        found = "the kind of term is missing" if kind is None else f"found {kind!r}"
        advice = f'Add type = "{next(iter(kinds))}", say.' if kind is None else nearest(str(kind), kinds)
        raise place.error((*at, "type"), found, advice)
    term: Term = _built(kinds[kind], {key: value for key, value in entry.items() if key != "type"}, at, place)
    return term.within(folder)


def _built(cls: type, entry: Mapping[str, Any], at: tuple[Any, ...], place: Place) -> Any:
    """A term or a treatment from its table in the study, whose keys are the fields of its class."""
    try:
        return _adapter(cls).validate_json(json.dumps(dict(entry), default=_plain))
    except ValidationError as error:
        keys = [each.name for each in fields(cls)]
        raise place.first_fault(
            error, at, {tuple("*" if isinstance(step, int) else step for step in at): keys}
        ) from error


def _adapter(cls: type) -> TypeAdapter[Any]:
    # Pydantic reads a plain dataclass's own configuration from this attribute; strict, because a number in quotes
    # is a slip that is better reported than corrected.
    config = {"extra": "forbid", "strict": True, "arbitrary_types_allowed": True}
    cls.__pydantic_config__ = config  # type: ignore[attr-defined]
    return TypeAdapter(cls)


def _choices(spec: StudySpec, terms: list[Term], folder: Path, place: Place) -> dict[str, list[Any]]:
    """What the search may choose: each value as the term would hold it."""
    if spec.search is None:
        return {}
    names, found = [str(term.name) for term in terms], {}
    for key, values in spec.search.choices.items():
        at = ("search", "choices", key)
        if not values:
            raise place.error(at, "there is nothing to choose from", "Give a list of values.")
        name, _, field = key.rpartition(".")
        if name not in names:
            found[key] = list(values)  # a field of the model, which checks it by itself
            continue
        entry = spec.terms[names.index(name)]
        own = []
        for value in values:
            with placing_of(place, at):
                own.append(getattr(_term({**entry, field: value}, ("terms", names.index(name)), folder, place), field))
        found[key] = own
    return found


def _check_drivers(spec: StudySpec, terms: list[Term], place: Place) -> None:
    """Every driver names a source of the study; with the data at hand, fitting checks its column."""
    tables = [name for name, each in spec.sources.items() if each.plan_for is None]
    for i, term in enumerate(terms):
        for driver in drivers_of([term]):
            source = driver.data.partition(".")[0]
            if "." in driver.data and source not in tables and len(tables) > 1:
                raise place.error(("terms", i, "data"), f"there is no source {source!r}", nearest(source, tables))
    if isinstance(spec.target.data, ColumnSpec) and spec.target.data.source not in tables:
        source = spec.target.data.source
        raise place.error(("target", "data", "source"), f"there is no source {source!r}", nearest(source, tables))


def _selection(spec: StudySpec, name: str, place: Place) -> DriverSelection:
    """What a model that selects its drivers at every origin selects from."""
    if spec.driver_selection is None:
        raise place.error(
            ("models", name, "driver_selection"),
            "the study does not say what to choose from",
            'Add [driver_selection] with columns = ["SOURCE.COLUMN"], say.',
        )
    with placing_of(place, ("driver_selection",)):
        return spec.driver_selection.selection


def _models(
    spec: StudySpec, terms: list[Term], treatments: list[Treat], folder: Path, place: Place
) -> tuple[Model, ...]:
    data = spec.target.data
    target = data if isinstance(data, str) else f"{data.source}.{data.column}"
    by_name: dict[str, Term] = {}
    for i, term in enumerate(terms):
        if str(term.name) in by_name:
            raise place.error(("terms", i), f"two terms are called '{term.name}'", "Give one of them another name.")
        by_name[str(term.name)] = term

    usual = {**spec.target.model_dump(exclude={"data"}), **spec.estimation.model_dump()}

    def made(
        chosen: list[Term],
        name: str = "main",
        selection: DriverSelection | None = None,
        own: Mapping[str, Any] | None = None,
    ) -> Model:
        try:
            return Model(
                target, chosen, name=name, treatments=treatments, driver_selection=selection, **{**usual, **(own or {})}
            )
        except InputError as error:
            estimation = {key: ("estimation", key) for key in EstimationSpec.model_fields}
            elsewhere = {"treatments": ("treatments",), "terms": ("terms",), **estimation}
            at = elsewhere.get(str(error.key), ("target", str(error.key)))
            at = ("models", name, str(error.key)) if error.key in (own or {}) else at
            raise place.error(at, error.found, error.advice) from error

    if not spec.models:
        return (made(terms),)
    models = []
    for name, model in spec.models.items():
        if re.fullmatch(r"[\w .-]{1,60}", name) is None or name.startswith("."):
            raise place.error(
                ("models", name),
                f"found the name {name!r}",
                "Names of models are letters, digits, spaces, '-', '_' and '.'.",
            )
        chosen = []
        for i, wanted in enumerate(model.terms):
            at = ("models", name, "terms", i)
            if isinstance(wanted, str) and wanted not in by_name:
                raise place.error(at, f"there is no term {wanted!r}", nearest(wanted, by_name))
            chosen.append(by_name[wanted] if isinstance(wanted, str) else _term(wanted, at, folder, place))
        selection = _selection(spec, name, place) if model.driver_selection else None
        models.append(made(chosen, name, selection, model.own))
    _check_combination(spec, place)
    return tuple(models)


def _check_combination(spec: StudySpec, place: Place) -> None:
    """Weights are of models of the study, and some model is reported."""
    if not any(model.reported for model in spec.models.values()):
        first = next(iter(spec.models))
        raise place.error(("models", first, "reported"), "no model is reported", "Leave reported out of one of them.")
    weights = {} if spec.combination is None else spec.combination.weights
    for name in weights:
        if name not in spec.models:
            raise place.error(
                ("combination", "weights", name), f"there is no model {name!r}", nearest(name, spec.models)
            )
    if weights and not sum(weights.values()) > 0.0:
        raise place.error(("combination", "weights"), "the weights add up to nothing", "Give one of them more than 0.")
