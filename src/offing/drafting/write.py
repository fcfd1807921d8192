"""A draft as a commented study file and as a script."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from dataclasses import MISSING, fields
from datetime import date
from pathlib import Path
from typing import Any

import numpy as np

from offing.base import InputError
from offing.base.toml import toml, toml_key
from offing.drafting.drafted import Drafted
from offing.inspection.file_detection import Guess
from offing.model import Model
from offing.tables import Table
from offing.terms import Term, term_kinds

#: What a study's keys mean, for those that a draft may hold.
_MEANS = {
    "combine": "how the values of a period become one; check each",
    "rows": "any number of rows a date",
    "gaps": "periods without a row stay missing",
    "stamp": "the dates are the starts of their periods",
    "later_rows": "what stands after the target's end",
    "aggregate_to": "the frequency to plan at",
    "plan_for": "its rows continue that source",
    "release_delay": "how long after its end a value is published; from where the sources end",
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
#: Fields of a model that a study states, by the table that they are in.
_TARGET = ("scale", "offset", "transform")
_ESTIMATION = ("errors", "order", "seasonal_lag", "half_life", "window", "widen_intervals")


def study_text(draft: Drafted, folder: Path | None = None) -> str:
    """A commented study; paths in it are relative to `folder`, or to where the files are.

    Raises
    ------
    InputError
        If the tables did not come from files.
    """
    guess = _guess(draft)
    lines = [
        f"# Drafted from {', '.join(path.name for path in guess.files.values())}.",
        "# Every line can be changed; what stands behind # only explains.",
        "format = 1",
        f"title = {toml(draft.survey.label)}",
        *_source_lines(draft, guess, folder),
    ]
    first = draft.model
    lines += ["", "[target]", f"data = {_reference(draft.survey.source, draft.survey.column)}"]
    lines += [_with_comment(f"{key} = {toml(value)}", draft.reason(key)) for key, value in _stated(first, _TARGET)]
    for term in first.terms:
        lines += ["", f"# {one_line(draft.reason(str(term.name)))}", "[[terms]]", f"type = {toml(_kind(term))}"]
        lines += [f"{key} = {toml(value)}" for key, value in _keys(term, guess, folder)]
    estimation = [(key, value) for key, value in _stated(first, _ESTIMATION) if key not in _apart(draft)]
    if estimation:
        lines += ["", "[estimation]"]
        lines += [_with_comment(f"{key} = {toml(value)}", draft.reason(key)) for key, value in estimation]
    lines += _models_lines(draft, guess, folder)
    lines += ["", "[forecast]", f"horizon = {draft.horizon}", "levels = [0.5, 0.8, 0.95]"]
    if draft.expects:
        lines.append(
            _with_comment('missing_plans = "expected"', f"no plan of {', '.join(draft.expects)}: expected by models")
        )
    lines += [*_backtest_lines(draft), *_search_lines(draft), *_left_out_lines(draft), ""]
    return "\n".join(lines)


def _source_lines(draft: Drafted, guess: Guess, folder: Path | None) -> list[str]:
    lines = []
    for name, path in guess.files.items():
        lines += ["", f"[sources.{toml_key(name)}]", f"file = {toml(_relative(path, folder))}"]
        for key, value in guess.options[name].items():
            lines.append(_with_comment(f"{key} = {toml(value)}", _MEANS.get(key, "")))
        if name in guess.plans:
            lines.append(_with_comment(f"plan_for = {toml(guess.plans[name])}", _MEANS["plan_for"]))
        else:
            table = draft.survey.own[name]
            units = ", ".join(f"{toml_key(column)} = {toml(table.units.get(column, ''))}" for column in table.columns)
            lines += [] if "unit" in guess.options[name] else [f"# unit = {{ {units} }}"]
            lines += _not_used(table)
    return lines


def _models_lines(draft: Drafted, guess: Guess, folder: Path | None) -> list[str]:
    """The members of the combination, whose terms stand inside them where the draft has them in another form."""
    if not draft.weights:
        return []
    first = draft.model
    known = {str(term.name): term for term in first.terms}
    lines = ["", "# Beside the model above, which is reported and explained, those that did nearly as well; their"]
    lines += ["# combination, by weights that fall steeply with their past errors, is reported as well."]
    lines += [f"[models.{toml_key(first.name)}]", f"terms = {toml(list(known))}"]
    lines += [f"{key} = {toml(_plain(getattr(first, key)))}" for key in _apart(draft)]
    for model in draft.members:
        lines += ["", f"[models.{toml_key(model.name)}]", "reported = false"]
        parts = []
        for term in model.terms:
            own = known.get(str(term.name))
            inside = {"type": _kind(term), **dict(_keys(term, guess, folder)), "name": term.name}
            parts.append(toml(term.name) if own is term else toml(inside))
        lines.append(f"terms = [{', '.join(parts)}]")
        for key in (*_TARGET, *_ESTIMATION):
            if getattr(model, key) is not None and (getattr(model, key) != getattr(first, key) or key in _apart(draft)):
                lines.append(f"{key} = {toml(_plain(getattr(model, key)))}")
    weights = {name: round(weight, 4) for name, weight in draft.weights.items()}
    return [*lines, "", "[combination]", f"weights = {toml(weights)}"]


def _apart(draft: Drafted) -> list[str]:
    """Fields of estimation that the model has and a member has not: each states its own, as no text says "none"."""
    return [
        key
        for key in _ESTIMATION
        if getattr(draft.model, key) is not None and any(getattr(member, key) is None for member in draft.members)
    ]


def _backtest_lines(draft: Drafted) -> list[str]:
    plan = draft.backtest.plan if draft.backtest is not None else None
    if plan is None:
        return []
    lines = ["", "[backtest]", f"horizon = {plan.horizon}", f"origins = {plan.origins}", f"every = {plan.every}"]
    if plan.first_origin is not None:
        lines.append(_with_comment(f"first_origin = {toml(plan.first_origin)}", "as far into the period as today"))
    lines += ['basis = "ex-ante"', 'score = "MAE"']
    if draft.planned:
        lines.append(_with_comment(f"planned = {toml(list(draft.planned))}", "known beforehand, as in the plan"))
    return lines


def _search_lines(draft: Drafted) -> list[str]:
    """What `offing search` may choose, so that it runs as it is."""
    optional, choices = draft.searched
    lines = ["", "[search]", 'score = "MAE"', 'budget = "60s"']
    if optional:
        lines.append(f"optional = {toml(optional)}")
    if choices:
        lines += ["", "[search.choices]", *(f"{toml_key(key)} = {toml(values)}" for key, values in choices.items())]
    return lines


def _left_out_lines(draft: Drafted) -> list[str]:
    """What was tried and left out, as terms that can be taken back."""
    lines: list[str] = []
    for name, term, why in draft.left_out:
        lines += ["", f"# {one_line(name)} is left out: {one_line(why)}. To take it in:", "# [[terms]]"]
        lines += [
            f"# type = {toml(_kind(term))}",
            *(f"# {key} = {toml(value)}" for key, value in _keys(term, None, None)),
        ]
    survey = draft.survey
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


def script_text(draft: Drafted, folder: Path | None = None) -> str:
    """The drafted model as a Python script that fits, forecasts and draws."""
    guess = _guess(draft)
    lines = ['"""Forecast, drafted from the data: edit as you learn more."""', ""]
    lines += [] if folder is None else ["import os", "from pathlib import Path", ""]
    lines += ["import offing as of", ""]
    if folder is not None:
        lines += ["os.chdir(Path(__file__).resolve().parent)  # files are read and written beside this one", ""]
    for group, wanted in (("tables", False), ("plans", True)):
        lines.append(f"{group} = {{")
        for name, path in guess.files.items():
            if (name in guess.plans) is wanted:
                options = "".join(f", {key}={value!r}" for key, value in guess.options[name].items())
                called = guess.plans.get(name, name)
                lines.append(f"    {called!r}: of.read({_relative(path, folder)!r}{options}),")
        lines.append("}")
    model = draft.model
    lines += ["model = of.Model(", f"    {draft.survey.target!r},"]
    lines += [f"    {key}={_plain(value)!r}," for key, value in _stated(model, (*_TARGET, *_ESTIMATION))]
    lines.append("    terms=[")
    for term in model.terms:
        inner = ", ".join(f"{key}={value!r}" for key, value in _keys(term, guess, folder))
        lines.append(f"        of.{type(term).__name__}({inner}),  # {one_line(draft.reason(str(term.name)))}")
    series = f"[{draft.series!r}]" if draft.series else ""
    fit = f"model.fit_each(tables){series}" if series else "model.fit(tables)"
    lines += ["    ],", ")", f"fit = {fit}", "print(fit)"]
    missing_plans = ', missing_plans="expected"' if draft.expects else ""
    lines += [f"ahead = fit.forecast({draft.horizon}, plan=plans{missing_plans})", "print(ahead)"]
    lines += ['of.figure(ahead).savefig("forecast.png")', 'of.figure(ahead.contributions).savefig("why.png")', ""]
    return "\n".join(lines)


def _kind(term: Term) -> str:
    """What a study calls a term's kind."""
    return next(name for name, kind in term_kinds().items() if isinstance(term, kind))


def _keys(term: Term, guess: Guess | None, folder: Path | None) -> Iterator[tuple[str, Any]]:
    """A term's keys whose values are not the usual ones.

    Raises
    ------
    InputError
        If one holds a table that is no file.
    """
    for field in fields(term):  # type: ignore[arg-type]
        value = getattr(term, field.name)
        usual = field.default if field.default is not MISSING else None
        if field.default_factory is not MISSING:
            usual = field.default_factory()
        if value is None or (isinstance(value, (str, int, float, tuple)) and value == usual) or value == usual:
            continue
        if field.name == "table":
            if guess is None or guess.days is None:
                raise InputError("its holidays did not come from a file, so a study cannot name them", key="table")
            value = _relative(guess.days, folder)
        yield field.name, _plain(value)


def _stated(model: Model, names: tuple[str, ...]) -> Iterator[tuple[str, Any]]:
    """Fields of a model that are not the usual ones; the scale always."""
    usual = Model(model.target)
    for name in names:
        value = getattr(model, name)
        if name == "scale" or value != getattr(usual, name):
            yield name, _plain(value)


def _plain(value: Any) -> Any:
    """A value as lists, numbers and texts."""
    if isinstance(value, (tuple, list)):
        return [_plain(each) for each in value]
    if isinstance(value, Mapping):
        return {str(key): _plain(each) for key, each in value.items()}
    if isinstance(value, date):
        return value.isoformat()
    return value.item() if isinstance(value, np.generic) else value


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


def _guess(draft: Drafted) -> Guess:
    if draft.survey.guess is None:
        raise InputError(
            "the tables did not come from files, so a study cannot name them", "Use 'offing draft FILE --out FOLDER'."
        )
    return draft.survey.guess
