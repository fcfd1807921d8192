"""The first screen of a survey: in 25 lines what was read, what is strange, what moves the target, what to answer."""

from __future__ import annotations

import textwrap
from collections import defaultdict
from collections.abc import Iterator

import numpy as np

from offing.base import Treatment, count
from offing.base.arrays import Array
from offing.base.text import in_units, number, percent, signed
from offing.inspection.questions import questions
from offing.inspection.seasonality import flat
from offing.inspection.survey_data import SurveyData
from offing.inspection.view_builders import without_calendar
from offing.tables import Panel, Table, read_days
from offing.tables.treatments import missing_runs

#: Lines of the screen, those of a panel, and how wide a line is: a terminal of 25 lines shows all of it.
LINES, PANEL_LINES, WIDTH = 25, 20, 110
_BLOCKS = "▁▂▃▄▅▆▇█"
#: Bars of the histogram in a line, which leave room for a name of usual length.
_BINS = 14
#: Periods up to which a correlation says nothing.
_FEWEST = 8


def screen(survey: SurveyData) -> str:
    """The first screen of a survey."""
    most = PANEL_LINES if survey.members > 1 else LINES
    requested = questions(survey)
    last = [line for i, each in enumerate(requested, 1) for line in _wrapped(f"{i}. {each}", "   ", 2)]
    first = [line for text in _told(survey) for line in _wrapped(text, "  ", 3)]
    room = most - len(last) - bool(last)
    if len(first) > room:
        first = [*first[: room - 1], f"… and {count(len(first) - room + 1, 'more line')}: see --full."]
    return "\n".join([*first, *(["To be answered:"] if last else []), *last])


def _wrapped(text: str, indent: str, most: int) -> list[str]:
    lines = textwrap.wrap(text, WIDTH, subsequent_indent=indent, break_on_hyphens=False, break_long_words=False)
    return lines if len(lines) <= most else [*lines[: most - 1], lines[most - 1][: WIDTH - 2] + " …"]


def _told(survey: SurveyData) -> Iterator[str]:
    yield from _read(survey)
    yield from _holidays(survey)
    axis, values = survey.span
    known = values[np.isfinite(values)]
    yield f"Target: {in_units(survey.label, survey.unit)}, {axis.spell()}."
    if np.ptp(known) == 0.0:
        yield f"  Every value is {number(float(known[0]), 4)}: there is nothing to explain."
    else:
        yield f"  {histogram(known)}  {_quantiles(known, survey.unit)}"
    yield f"  {_strange(survey)}"
    if survey.members > 1:
        yield f"  {_members(survey)}"
    moves = _moves(survey)
    if moves:
        yield f"  {moves}"
    yield from _drivers(survey)
    # Series that are left out are named with their source.
    yield from (str(each) for each in survey.findings if each.severity != "note" and each.check != "series")


def _read(survey: SurveyData) -> Iterator[str]:
    """One line a source: what it is, and every column of it, used or not."""
    remarks = survey.guess.remarks if survey.guess is not None else {}
    for name, table in {**survey.tables, **{f"{of} (plan)": plan for of, plan in survey.plans.items()}}.items():
        first: Table = next(iter(table.values())) if isinstance(table, Panel) else table
        what = f"{len(table):,} series by {', '.join(table.id)}, each such as " if isinstance(table, Panel) else ""
        source, plan = name.removesuffix(" (plan)"), " plan" if name.endswith(" (plan)") else ""
        yield f"Read {first.name} as '{source}'{plan}: {what}{first.axis.spell()}."
        groups: dict[str, list[str]] = defaultdict(list)
        for column, use in first.accounts.itertuples(index=False):
            groups[str(use)].append(str(column))
        noted = [
            f"{', '.join(columns[:6])}{f' and {len(columns) - 6} more' if len(columns) > 6 else ''}: {use}"
            for use, columns in sorted(groups.items(), key=lambda each: each[0].startswith("not used"))
        ]
        yield f"  Columns: {'; '.join(noted)}."
        notes = [
            *remarks.get(name, ()),
            *(f.message.removeprefix(f"{first.name}: ").rstrip(".") for f in first.findings if f.severity == "note"),
        ]
        changes = [f"{_where(entry)}{entry.before}: {entry.after} ({entry.reason})" for entry in first.treatments[:2]]
        if len(first.treatments) > 2:
            changes.append(f"{len(first.treatments) - 2} more changes")
        if notes or changes:
            yield f"  {'; '.join([*notes, *changes])}."
        if isinstance(table, Panel) and table.left_out:
            named = ", ".join(repr(each) for each in list(table.left_out)[:3])
            why = next(iter(table.left_out.values())).found
            yield f"  Left out: {count(len(table.left_out), 'series', 'series')}, {named}: {why}."


def _where(entry: Treatment) -> str:
    """The row of a change, where it is about one."""
    return f"{entry.period}, " if entry.period.startswith("row ") and entry.period != "row all" else ""


def _holidays(survey: SurveyData) -> Iterator[str]:
    """What the table of holidays is, if a file was taken for one."""
    path = None if survey.guess is None else survey.guess.days
    if path is not None:
        days = read_days(path)
        names = list(dict.fromkeys(days.names))
        shown = f"{', '.join(names[:4])}{' …' if len(names) > 4 else ''}"
        years = f"{days.first_year} to {days.last_year}"
        yield f"Read {path.name}: a table of {count(len(names), 'holiday')} ({shown}), {years}."


def histogram(values: Array) -> str:
    """The distribution of values (n,) as a row of blocks, from the lowest to the highest."""
    if len(values) == 0 or np.ptp(values) == 0.0:
        return _BLOCKS[-1]
    counts, _ = np.histogram(values, bins=_BINS)
    heights = np.ceil(counts / counts.max() * (len(_BLOCKS) - 1)).astype(int)
    return "".join(_BLOCKS[height] for height in heights.tolist())


def _quantiles(known: Array, unit: str) -> str:
    low, tenth, half, ninetieth, high = (
        number(float(each), 4) for each in np.quantile(known, (0.0, 0.1, 0.5, 0.9, 1.0))
    )
    return (
        f"min {low}, 10 % below {tenth}, median {half}, 10 % above {ninetieth}, max {high}{f' {unit}' if unit else ''}"
    )


def _strange(survey: SurveyData) -> str:
    _, values = survey.span
    runs, zeros = missing_runs(values), int((values == 0.0).sum())
    far = survey.outliers
    far = far[(far["source"] == survey.source) & (far["column"] == survey.column)]
    noted = [
        "no value is missing"
        if not runs
        else f"{count(sum(n for _, n in runs), 'value')} missing in {count(len(runs), 'run')}"
    ]
    if zeros:
        noted.append(f"{count(zeros, 'value')} are zero" if zeros > 1 else "1 value is zero")
    if len(far):
        worst = far.iloc[0]
        owner = f" of {worst['id']}" if worst["id"] else ""
        noted.append(
            f"{count(len(far), 'outlier')}, the farthest {worst['period']}{owner} "
            f"({number(float(worst['value']), 4)} where {number(float(worst['usual']), 4)} is expected)"
        )
    else:
        noted.append("no outliers")
    text = "; ".join(noted)
    return f"{text[0].upper()}{text[1:]}."


def _members(survey: SurveyData) -> str:
    tables = [each for source, _, each in flat(survey.tables) if source == survey.source]
    sizes = [int(np.isfinite(each.columns[survey.column]).sum()) for each in tables if survey.column in each.columns]
    totals = sorted(
        (float(np.nansum(each.columns[survey.column])) for each in tables if survey.column in each.columns),
        reverse=True,
    )
    share = sum(totals[: max(len(totals) // 5, 1)]) / sum(totals) if sum(totals) > 0.0 else 0.0
    ends = {each.axis.first + each.axis.n for each in tables}
    return (
        f"Of {len(sizes):,} series the shortest has {min(sizes):,} values, the longest {max(sizes):,}; "
        f"the largest fifth holds {round(100 * share)} % of the total"
        + ("" if len(ends) == 1 else "; they end at different dates")
        + "."
    )


def _moves(survey: SurveyData) -> str:
    """Trend and season in words."""
    axis, values = survey.span
    noted = []
    if len(survey.variance):
        shares = {str(part): float(share) for part, share in survey.variance.itertuples(index=False)}
        rest = shares.pop("rest")
        parts = [
            f"{part.replace('cycle of a', 'the season of a')} explains {round(100 * share)} %"
            for part, share in shares.items()
        ]
        noted.append(
            f"Of its variance {', '.join(parts)}, {round(100 * rest)} % is left for drivers, holidays and noise."
        )
    year = round(axis.frequency.periods_a_year)
    if len(values) > 2 * year and np.isfinite(values[-2 * year :]).all() and values[-2 * year : -year].sum() > 0:
        change = float(values[-year:].sum() / values[-2 * year : -year].sum()) - 1.0
        noted.append(f"The last year is {percent(change)} against the one before.")
    return " ".join(noted)


def _drivers(survey: SurveyData) -> Iterator[str]:
    """Which columns can serve as drivers, and how."""
    axis, _ = survey.span
    rest = without_calendar(axis, survey.working)
    noted = []
    for reference, (label, _, values) in survey.drivers.items():
        known = np.isfinite(values) & np.isfinite(rest)
        other = without_calendar(axis, values) if np.isfinite(values).sum() > _FEWEST else values
        varies = known.sum() > _FEWEST and np.ptp(values[known]) > 0.0
        r = float(np.corrcoef(rest[known], other[known])[0, 1]) if varies else np.nan
        ahead = survey.known_ahead(reference)
        end = f"known {count(ahead, axis.frequency.unit)} ahead" if ahead else "unknown ahead"
        few = "too few values" if known.sum() <= _FEWEST else "constant"
        noted.append((abs(np.nan_to_num(r)), f"{label} ({signed(r, 2) if varies else few}, {end})"))
    noted.sort(key=lambda each: -each[0])
    if noted:
        shown = ", ".join(text for _, text in noted[:6]) + (f" and {len(noted) - 6} more" if len(noted) > 6 else "")
        yield f"Drivers, with their correlation beside trend and season: {shown}."
    faster = survey.faster
    if faster:
        more = " …" if len(faster) > 4 else ""
        yield f"Drivers of a higher frequency, by lag weights: {', '.join(faster[:4])}{more}."
    texts = [
        f"{column} ({use.partition(', ')[2]})"
        for table in survey.own.values()
        for column, use in table.accounts.itertuples(index=False)
        if str(use).startswith("text")
    ]
    if texts:
        yield f"Text that can be a category: {', '.join(texts[:4])}{' …' if len(texts) > 4 else ''}."
