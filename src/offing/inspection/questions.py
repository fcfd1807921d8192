"""What only the analyst knows of some tables, each question with the line that answers it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from offing.base import count
from offing.base.arrays import Array
from offing.base.toml import toml_key
from offing.inspection.survey_data import SurveyData
from offing.tables import Panel, Table
from offing.tables.outliers import yearly_spike
from offing.tables.read_options import as_options

#: Values that people put where nothing is known.
_MARKERS = (-999.0, -9999.0, -99.0, 9999.0, 99999.0, 999999.0)


@dataclass(frozen=True)
class Question:
    """Something that only the analyst knows, and the line that answers it."""

    text: str
    answer: str

    def __str__(self) -> str:
        return f"{self.text} {self.answer}"


def questions(survey: SurveyData) -> list[Question]:
    """What only the analyst knows, the most important first, at most five."""
    found = [*_about_target(survey), *_about_columns(survey), *_about_reading(survey)]
    return found[:QUESTIONS]


def _about_target(survey: SurveyData) -> Iterator[Question]:
    axis, values = survey.span
    for finding in survey.findings:
        if finding.check == "zeros":
            yield Question(
                f"What do the zeros of {survey.column} mean?",
                '[[treatments]] zeros = "no sale", "closed" or "sold out".',
            )
    spike = yearly_spike(axis, values)
    if spike is not None:
        where, at = spike
        first = axis.part(at[-1], at[-1] + 1).index[0].strftime("%Y-%m-%d")
        yield Question(
            f"{survey.column} departs in {where} of {count(len(at), 'year')}: a season, or an event?",
            f'Season: [[terms]] type = "season", style = "dummies"; event: [[terms]] type = "event", date = "{first}".',
        )


def _about_columns(survey: SurveyData) -> Iterator[Question]:
    for source, table in survey.tables.items():
        if isinstance(table, Panel):
            continue
        members = column_families(table)
        if members:
            value = ", ".join(f'{name} = "{pattern}"' for name, pattern in members.items())
            yield Question(
                f"Are the columns {', '.join(members.values())} of {source} series of their own?",
                as_options(f"wide = {{ {value} }}.", source),
            )
        for column, words in table.texts.items():
            kinds = {word for word in words.tolist() if word}
            if len(kinds) == 1 and len(word := kinds.pop()) <= 3:
                stated = as_options(f'notation = {{ {toml_key(column)} = "{word}" }}.', source)
                yield Question(f"Does '{word}' in {column} mean yes, and an empty cell no?", stated)
        for column, values in table.columns.items():
            marker = next((each for each in _MARKERS if _is_marker(values, each)), None)
            if marker is not None:
                yield Question(
                    f"Does {marker:.0f} in '{column}' mean that nothing is known?",
                    as_options(f"missing = [{marker:.0f}].", source),
                )


def _is_marker(values: Array, marker: float) -> bool:
    known = values[np.isfinite(values)]
    rest = known[known != marker]
    return (
        bool((known == marker).any())
        and len(rest) > 3
        and abs(marker - float(np.median(rest))) > 3.0 * max(float(np.ptp(rest)), 1e-300)
    )


def _about_reading(survey: SurveyData) -> Iterator[Question]:
    if survey.guess is None:
        return
    for source, remarks in survey.guess.remarks.items():
        for remark in remarks:
            if remark.endswith("; check this"):
                column = remark.partition("'")[2].partition("'")[0]
                combine = survey.guess.options[source].get("combine", {})
                other = {"sum": "mean", "mean": "sum"}.get(combine.get(column, ""), "mean")
                stated = ", ".join(f'"{name}" = "{other if name == column else how}"' for name, how in combine.items())
                if column in combine:
                    yield Question(
                        f"{remark.removesuffix('; check this')}: is that right?",
                        as_options(f"Else state combine = {{ {stated} }}.", source),
                    )


#: More questions than this are not answered.
QUESTIONS = 5


def column_families(table: Table) -> dict[str, str]:
    """Names of measures with the pattern of their columns, where most columns are one measure of several series.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> from offing.inspection.questions import column_families
    >>> months = pd.period_range("2024-01", periods=3, freq="M")
    >>> names = ["sold north", "sold south", "sold west"]
    >>> column_families(of.read(pd.DataFrame(1.0, months, names)))
    {'sold': 'sold *'}
    """
    columns = [name for name in table.columns if not table.uses.get(name)]
    by_first: dict[str, set[str]] = defaultdict(set)
    by_last: dict[str, set[str]] = defaultdict(set)
    for name in columns:
        for mark in (" ", "_", "-"):
            if mark in name:
                head, _, tail = name.partition(mark)
                by_first[f"{head}{mark}*"].add(tail)
                start, _, end = name.rpartition(mark)
                by_last[f"*{mark}{end}"].add(start)
                break
    for groups in (by_first, by_last):
        families = {pattern: members for pattern, members in groups.items() if len(members) >= 3}
        covered = sum(len(members) for members in families.values())
        units = {table.units.get(name, "") for name in columns}
        if (
            families
            and covered >= 0.6 * len(columns)
            and len({frozenset(each) for each in families.values()}) == 1
            and len(units) <= len(families)
        ):
            return {pattern.strip("* _-"): pattern for pattern in families}
    return {}
