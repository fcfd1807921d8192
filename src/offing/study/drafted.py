"""``offing draft``: from bare files, or from an earlier draft's study, to a study with its results."""

from __future__ import annotations

import dataclasses
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from offing.base import InputError
from offing.drafting import Draft, draft
from offing.model import Model
from offing.study.inspection import inspected, of_study
from offing.study.judged import seconds_of
from offing.study.loader import open_study, study_from
from offing.study.outputs import StudyOutput
from offing.study.study import Study
from offing.writers import Bundle, combined_forecast_rows, csv_text, forecast_rows, json_text, made

#: The study's file in the folder of a draft.
STUDY = "study.toml"


@dataclass(frozen=True)
class Request:
    """What a draft was asked for, as the command line has it."""

    target: str | None = None
    to: str | None = None
    said: Sequence[str] = ()
    horizon: int | None = None
    until: str | None = None
    plans: Sequence[Path] = ()
    holidays: str | None = None
    budget: str | None = None


def drafted(paths: Sequence[Path], requested: Request, *, spent: float = 0.0) -> Draft:
    """The draft of tables, the target's first, or of a study, which is drafted again.

    Raises
    ------
    InputError
        As `offing.draft`, or if the files cannot be read in one way only.
    """
    seconds = seconds_of(requested.budget)
    started = time.monotonic()
    previous: Model | None = None
    holidays = (
        Path(requested.holidays) if requested.holidays is not None and Path(requested.holidays).exists() else None
    )
    if requested.holidays is not None and holidays is None and not _is_country(requested.holidays):
        raise InputError(
            f"there is no file {requested.holidays!r}",
            "Give a table of holidays, or a country's code such as NO.",
            key="--holidays",
        )
    horizon = requested.horizon
    if len(paths) == 1 and paths[0].suffix.lower() == ".toml":
        study = open_study(paths[0])
        if requested.said or requested.to or requested.plans:
            raise InputError("a study says itself how its files are read", "Leave out --set, --to and --plan.")
        survey, previous = of_study(study, requested.target), study.models[0]
        horizon = horizon if horizon is not None or requested.until is not None else study.spec.forecast.horizon
    else:
        files = [*paths, *requested.plans, *([holidays] if holidays is not None else [])]
        survey = inspected(files, requested.target, requested.to, requested.said, plans=requested.plans)
    if seconds is not None:
        seconds = max(seconds - spent - (time.monotonic() - started), 0.1 * seconds)
    return draft(
        survey,
        horizon=horizon,
        until=requested.until,
        budget=seconds,
        previous=previous,
        holidays=None if holidays is not None else requested.holidays,
    )


def _is_country(word: str) -> bool:
    return word.isalpha() and word.isupper() and 2 <= len(word) <= 3


def study_of(found: Draft, folder: Path) -> Study:
    """The study that a draft of files writes into a folder."""
    return study_from(found.study(folder), folder / STUDY)


def write(found: Draft, out: Path | None, script: Path | None) -> list[Path]:
    """Write the study with the results of ``explain`` into a folder, and the model as a script, where asked for.

    Raises
    ------
    InputError
        If a study or script is there already, as it may have been edited, or a file cannot be written.
    """
    written: list[Path] = []
    for path in [*([out / STUDY] if out is not None else []), *([script] if script is not None else [])]:
        if path.exists():
            raise InputError(
                "the file is there already, and may have been edited",
                "Give another name, or remove it.",
                file=str(path),
            )
    if out is not None:
        files = StudyOutput(study_of(found, made(out)), "explain").bundle()
        files.add(STUDY, found.study(out))
        files.add("candidates.csv", csv_text(found.tried))
        files.add("draft.png", _drawn(found))
        written += files.write(out)
    if script is not None:
        text = Bundle()
        text.add(script.name, found.script(script.parent))
        written += text.write(script.parent)
    return written


def _drawn(found: Draft) -> bytes:
    from offing.draw import figure  # noqa: PLC0415  Matplotlib takes half a second, and only files need it
    from offing.draw.style import png  # noqa: PLC0415

    return png(figure(found))


def in_json(found: Draft) -> str:
    """The draft as one JSON text."""
    past = None if found.comparison is None else found.comparison.table.to_dict("records")
    return json_text(
        {
            "screen": str(found),
            "steps": found.table.to_dict("records"),
            "candidates": found.tried.to_dict("records"),
            "past": past,
            "weights": dict(found.weights),
            "forecast": forecast_rows(found.forecast).to_dict("records"),
            "combined": []
            if found.combination is None
            else combined_forecast_rows(found.combination).to_dict("records"),
            "findings": [dataclasses.asdict(each) for each in found.findings],
            "questions": found.questions,
        }
    ).rstrip("\n")
