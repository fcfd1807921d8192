"""``offing inspect``: a survey of a study or of bare files, and its files."""

from __future__ import annotations

import dataclasses
import tomllib
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from offing.base import InputError, nearest
from offing.inspection import Survey, guess_sources, inspect
from offing.inspection.file_detection import Guess, source_name, unit_named
from offing.inspection.questions import questions
from offing.study.loader import open_study
from offing.study.study import Study
from offing.tables.read_options import Reading, as_options
from offing.tables.sources.web import Catalogue
from offing.writers import Bundle, csv_text, json_text


def inspected(
    paths: Sequence[Path], target: str | None, to: str | None, said: Sequence[str], plans: Sequence[Path] = ()
) -> Survey:
    """The survey of one study, or of tables of which the first holds the target.

    Raises
    ------
    InputError
        If a file cannot be read in one way only, or a setting is not understood.
    """
    if len(paths) == 1 and paths[0].suffix.lower() == ".toml":
        if said or to:
            raise InputError("a study says itself how its files are read", "Leave out --set and --to.")
        return of_study(open_study(paths[0]), target)
    settings = _settings(said, source_name(paths[0], {}))
    with _options(paths):
        guess = guess_sources(paths, settings, target, None if to is None else unit_named(to), plans)
        unknown = [name for name in settings if name != "*" and name not in guess.files]
        if unknown:
            raise InputError(f"there is no source {unknown[0]!r}", nearest(unknown[0], guess.files), key="--set")
        tables = {name: table for name, table in guess.tables.items() if name not in guess.plans}
        planned = {of: guess.tables[name] for name, of in guess.plans.items()}
        survey = inspect(tables, target, plans=planned, holidays=guess.days)
    return dataclasses.replace(survey, guess=guess)


@contextmanager
def _options(paths: Sequence[Path]) -> Iterator[None]:
    """Let advice that states a key show the option to paste, since there is no study yet."""
    try:
        yield
    except InputError as error:
        path = next((path for path in paths if path.name == error.file), paths[0])
        error.advice = as_options(error.advice, source_name(path, {}))
        raise


def found_series(service: str, word: str) -> str:
    """The dataflows of a statistics service that mention a word, each with the lines of a source that reads it.

    Raises
    ------
    InputError
        If the service cannot be reached, or nothing mentions the word.
    """
    flows = Catalogue.of(service).find(word)
    lines = [f"{identity}: {name}" + (f" ({text})" if text else "") for identity, name, text in flows]
    stated = f'[sources.{flows[0][0].lower()}]\nservice = "{service}"\nseries = "{flows[0][0]}"'
    return "\n".join([*lines, "", "To read all series of the first, write in a study:", stated])


def survey_bundle(survey: Survey) -> Bundle:
    """The survey's tables as CSV and its views as figures."""
    from offing.draw import figure  # noqa: PLC0415  Matplotlib takes half a second, and only files need it
    from offing.draw.style import png  # noqa: PLC0415

    files = Bundle()
    for name in ("accounts", "overview", "gaps", "outliers", "variance", "cycles"):
        files.add(f"{name}.csv", csv_text(getattr(survey, name)))
    for name, view in survey.views().items():
        files.add(f"inspect-{name}.png", png(figure(view)))
    return files


def survey_json(survey: Survey) -> str:
    """The survey's tables and findings as one JSON text."""
    names = ("accounts", "overview", "gaps", "outliers", "variance", "cycles")
    tables = {name: getattr(survey, name).to_dict("records") for name in names}
    findings = [dataclasses.asdict(finding) for finding in survey.findings]
    treatments = [dataclasses.asdict(entry) for entry in survey.treatments]
    requested = [dataclasses.asdict(question) for question in questions(survey)]
    return json_text({**tables, "questions": requested, "findings": findings, "treatments": treatments}).rstrip("\n")


def _settings(said: Sequence[str], example: str) -> dict[str, dict[str, Any]]:
    """``SOURCE.KEY=VALUE`` or ``KEY=VALUE`` for all, the value as TOML writes it or plain text."""
    settings: dict[str, dict[str, Any]] = {}
    for each in said:
        left, equals, value = each.partition("=")
        source, _, key = left.strip().rpartition(".")
        if not equals or key not in Reading.__dataclass_fields__:
            raise InputError(
                f"found {each!r}",
                f"Write it as {example}.stamp=start. {nearest(key, Reading.__dataclass_fields__)}",
                key="--set",
            )
        try:
            read: Any = tomllib.loads(f"value = {value}")["value"]
        except tomllib.TOMLDecodeError:
            read = value.strip()
        settings.setdefault(source or "*", {})[key] = read
    return settings


def of_study(study: Study, target: str | None) -> Survey:
    """The survey of a study's tables."""
    days = next((found for term in study.terms if (found := term.holiday_table) is not None), None)
    survey = inspect(study.tables, target or study.models[0].target, plans=study.plans, holidays=days)
    sources = study.spec.sources
    if any(source.file is None for source in sources.values()):
        return survey  # a database's address is not written anywhere
    guess = Guess(
        {name: study.path.parent / str(source.file) for name, source in sources.items()},
        {name: source.saved_options() for name, source in sources.items()},
        study.tables,
        {name: source.plan_for for name, source in sources.items() if source.plan_for},
        days if isinstance(days, Path) else None,
    )
    return dataclasses.replace(survey, guess=guess)
