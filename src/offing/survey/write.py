"""The suggested study as a commented file and as a script."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from offing.base import InputError
from offing.survey.guess import Guess

if TYPE_CHECKING:
    from offing.survey.survey import Survey
    from offing.tables import Table

#: What a study's keys mean, for those that a suggestion may hold.
_MEANS = {
    "combine": "how the values of a period become one; check each",
    "rows": "any number of rows a date",
    "gaps": "periods without a row stay missing",
    "stamp": "the dates are the starts of their periods",
    "later_rows": "what stands after the target's end",
    "aggregate_to": "the frequency to plan at",
    "plan_for": "its rows continue that source",
    "release_delay": "how long after its end a value is out; from where the sources end",
    "id": "identifies series",
    "decimal": "the decimal mark",
    "notation": "how cells are written: a currency, a unit, yes/no",
    "header_row": "the row of the names",
    "locale": "the language of months' names",
    "time_format": "how dates are written",
    "encoding": "how letters are written",
    "wide": "the name of values that stand side by side",
    "zone": "the clock that dates show",
}


def study_text(survey: Survey, folder: Path | None = None) -> str:
    """A commented study; paths in it are relative to `folder`, or to where the files are.

    Raises
    ------
    InputError
        If the tables did not come from files.
    """
    guess = _guess(survey)
    lines = [
        "# Suggested from the data. Every line can be changed; a line that starts with # does nothing.",
        "format = 1",
        f"title = {toml(survey.label)}",
    ]
    for name, path in guess.files.items():
        lines += ["", f"[sources.{toml_key(name)}]", f"file = {toml(_relative(path, folder))}"]
        for key, value in guess.options[name].items():
            lines.append(_with_comment(f"{key} = {toml(value)}", _MEANS.get(key, "")))
        if name in guess.plans:
            lines.append(_with_comment(f"plan_for = {toml(guess.plans[name])}", _MEANS["plan_for"]))
        else:
            first = survey.own[name]
            units = ", ".join(f"{toml_key(column)} = {toml(first.units.get(column, ''))}" for column in first.columns)
            if "unit" not in guess.options[name]:
                lines.append(f"# unit = {{ {units} }}")
            lines += _not_used(first)
    suggested = survey.suggested
    lines += ["", "[target]", f"data = {_reference(survey.source, survey.column)}"]
    lines.append(_with_comment(f"scale = {toml(suggested.scale)}", suggested.scale_evidence))
    for each in suggested.terms:
        mark = "" if each.active else "# "
        lines += ["", f"# {each.kind}: {each.evidence}", f"{mark}[[terms]]", f"{mark}type = {toml(each.kind)}"]
        for key, value in each.keys.items():
            shown = _relative(guess.days, folder) if key == "table" and guess.days is not None else value
            lines.append(f"{mark}{key} = {toml(shown)}")
    lines += _treatment_lines(survey)
    lines += ["", "[forecast]", f"horizon = {suggested.horizon}", "levels = [0.5, 0.8, 0.95]", ""]
    return "\n".join(lines)


def script_text(survey: Survey, folder: Path | None = None) -> str:
    """The suggested study as a Python script that fits, forecasts and draws."""
    guess = _guess(survey)
    lines = ['"""Forecast, suggested from the data: edit as you learn more."""', "", "import offing as of", ""]
    for group, wanted in (("tables", False), ("plans", True)):
        lines.append(f"{group} = {{")
        for name, path in guess.files.items():
            if (name in guess.plans) is wanted:
                options = "".join(f", {key}={value!r}" for key, value in guess.options[name].items())
                called = guess.plans.get(name, name)
                lines.append(f"    {called!r}: of.read({_relative(path, folder)!r}{options}),")
        lines.append("}")
    suggested = survey.suggested
    lines += ["model = of.Model(", f"    {survey.target!r},", f"    scale={suggested.scale!r},", "    terms=["]
    for each in suggested.terms:
        keys = dict(each.keys)
        if "table" in keys and guess.days is not None:
            keys |= {"table": _relative(guess.days, folder)}
        called = {"trend": "Trend", "season": "Season", "holidays": "Holidays", "driver": "Driver"}[each.kind]
        inner = ", ".join(f"{key}={stated!r}" for key, stated in keys.items())
        mark = "" if each.active else "# "
        lines.append(f"        {mark}of.{called}({inner}),  # {each.evidence}")
    series = f"[{survey.series!r}]" if survey.series else ""
    fit = f"model.fit_each(tables){series}" if series else "model.fit(tables)"
    lines += ["    ],", ")", f"fit = {fit}", "print(fit)"]
    lines += [f"ahead = fit.forecast({suggested.horizon}, plan=plans)", "print(ahead)"]
    lines += ['of.figure(ahead).savefig("forecast.png")', 'of.figure(ahead.contributions).savefig("why.png")', ""]
    return "\n".join(lines)


def toml(value: Any) -> str:
    """A value as TOML writes it."""
    if isinstance(value, Mapping):
        return "{ " + ", ".join(f"{toml_key(str(key))} = {toml(each)}" for key, each in value.items()) + " }"
    if isinstance(value, (list, tuple)):
        return "[" + ", ".join(toml(each) for each in value) + "]"
    # Strings of JSON are strings of TOML, but for the one control character that JSON leaves as it is.
    return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007F")


def toml_key(name: str) -> str:
    """A key, in quotes where it needs them."""
    bare = name and all(letter.isascii() and (letter.isalnum() or letter in "_-") for letter in name)
    return name if bare else toml(name)


def _treatment_lines(survey: Survey) -> list[str]:
    """Treatments that might be wanted, each commented out: nothing is changed without being asked for."""
    lines: list[str] = []
    gaps = survey.gaps
    for source, column in dict.fromkeys(zip(gaps["source"], gaps["column"], strict=True)):
        periods = int(gaps.loc[(gaps["source"] == source) & (gaps["column"] == column), "periods"].sum())
        lines += ["", f"# {one_line(column)} is missing in {periods} periods. To fill short runs:", "# [[treatments]]"]
        lines += [f"# data = {toml(f'{source}.{column}')}", '# missing = "linear"']
    far = survey.outliers
    far = far[(far["source"] == survey.source) & (far["column"] == survey.column)]
    if len(far):
        named = ", ".join(far["period"].head(5))
        lines += ["", f"# Far from what is usual: {named}. To keep them out of the fit:", "# [[treatments]]"]
        lines += [f"# data = {toml(survey.target)}", '# outliers = "exclude"']
    if any(finding.check == "zeros" for finding in survey.findings):
        lines += ["", "# Zeros: no sale, closed or sold out?", "# [[treatments]]"]
        lines += [f"# data = {toml(survey.target)}", '# zeros = "closed"']
    return lines


def one_line(text: str) -> str:
    """Text from the data without what would end a comment's line."""
    return " ".join(text.split())


def _not_used(table: Table) -> list[str]:
    """A comment on every column that no term can use."""
    return [
        f"# not used: {one_line(column)}: {one_line(use.removeprefix('not used: '))}"
        for column, use in table.accounts.itertuples(index=False)
        if use.startswith(("not used", "a total", "an id"))
    ]


def _with_comment(line: str, comment: str) -> str:
    return f"{line:<37} # {one_line(comment)}" if comment else line


def _reference(source: str, column: str) -> str:
    if "." in column:
        return f"{{ source = {toml(source)}, column = {toml(column)} }}"
    return toml(f"{source}.{column}")


def _relative(path: Path, folder: Path | None) -> str:
    if folder is None:
        return path.name
    try:
        return Path(os.path.relpath(path.resolve(), folder.resolve())).as_posix()
    except ValueError:  # another drive
        return path.resolve().as_posix()


def _guess(survey: Survey) -> Guess:
    if survey.guess is None:
        raise InputError(
            "the tables did not come from files, so a study cannot name them",
            "Use 'offing inspect FILE --write-study STUDY.toml'.",
        )
    return survey.guess
