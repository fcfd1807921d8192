"""Which tables continue others: the plans of drivers."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from offing.base import InputError
from offing.calendar import Frequency
from offing.inspection.target import likely_target
from offing.tables import Panel, Table, read


def plans_of(tables: Mapping[str, Table | Panel], order: Sequence[str]) -> dict[str, str]:
    """Which tables only continue columns of another one after its end, of the same series if there are several."""
    found: dict[str, str] = {}
    for name in order[1:]:
        for other in order:
            if (
                other != name
                and other not in found
                and other not in found.values()
                and _continues(tables[name], tables[other])
            ):
                found[name] = other
    return found


def plans_stated(
    tables: Mapping[str, Table | Panel], files: Mapping[str, Path], stated: Sequence[Path]
) -> dict[str, str]:
    """Which table each stated plan continues: the one with most of its columns."""
    found: dict[str, str] = {}
    for name in [name for name, path in files.items() if path in stated]:
        own = _columns(tables[name])
        shared = {
            other: len(own & _columns(table))
            for other, table in tables.items()
            if other != name and files[other] not in stated and other not in found.values()
        }
        best = max(shared, key=lambda other: shared[other], default=None)
        if best is None or not shared[best]:
            known = sorted(set().union(*(_columns(tables[other]) for other in shared)) if shared else [])
            raise InputError(
                f"none of its columns ({', '.join(sorted(own))}) is one of another file",
                f"Name them as there: {', '.join(known)}.",
                file=files[name].name,
                key="plan",
            )
        found[name] = best
    return found


def _columns(table: Table | Panel) -> set[str]:
    first: Table = next(iter(table.values())) if isinstance(table, Panel) else table
    return {*first.columns, *first.unusable}


def _continues(plan: Table | Panel, table: Table | Panel) -> bool:
    if isinstance(plan, Panel) != isinstance(table, Panel):
        return False
    if isinstance(plan, Panel) and isinstance(table, Panel):
        return plan.id == table.id and all(each in table and _continues(plan[each], table[each]) for each in plan)
    if isinstance(plan, Panel) or isinstance(table, Panel):
        return False
    same = set(plan.columns) <= set(table.columns)
    after = plan.axis.first >= table.axis.first + table.axis.n
    return same and after and plan.axis.frequency.unit == table.axis.frequency.unit


def own_plan(
    tables: dict[str, Table | Panel],
    options: dict[str, dict[str, Any]],
    files: Mapping[str, Path],
    remarks: dict[str, list[str]],
    target: str | None,
) -> None:
    """The last rows of the target's table that hold drivers and no target are a plan."""
    name = (target or "").partition(".")[0]
    name = name if name in tables else next(iter(tables))
    table = tables[name]
    if "later_rows" in options[name] or "until" in options[name]:
        return
    column = (target or "").partition(".")[2] or likely_target(table)
    first: Table = next(iter(table.values())) if isinstance(table, Panel) else table
    values = first.columns.get(column)
    if values is None or not np.isfinite(values).any():
        return
    end = int(np.flatnonzero(np.isfinite(values))[-1]) + 1
    later = [other for other, each in first.columns.items() if other != column and np.isfinite(each[end:]).any()]
    if later:
        options[name]["later_rows"] = "plan"
        span = first.axis.part(end, first.axis.n).spell()
        remarks[name].append(f"{span} have values of {', '.join(later[:4])} and none of {column}: they are a plan")
        tables[name] = read(files[name], **options[name])


def later_rows(
    tables: dict[str, Table | Panel],
    options: dict[str, dict[str, Any]],
    plans: Mapping[str, str],
    files: Mapping[str, Path],
    remarks: dict[str, list[str]],
) -> None:
    """Rows of other tables after the end of the first are taken for plans."""
    first, *others = list(tables)
    lead = tables[first]
    end = max(int(each.axis.edges[-1]) for each in (lead.values() if isinstance(lead, Panel) else [lead]))
    for name in others:
        if name in plans or "later_rows" in options[name] or frequency_of(tables[name]) != frequency_of(lead):
            continue
        table = tables[name]
        last = max(int(each.axis.edges[-1]) for each in (table.values() if isinstance(table, Panel) else [table]))
        if last > end:
            options[name]["later_rows"] = "plan"
            remarks[name].append("rows after the target's end are taken for a plan")
            tables[name] = read(files[name], **options[name])


def frequency_of(table: Table | Panel) -> Frequency:
    """The frequency of a table, or of the series of a panel."""
    first: Table = next(iter(table.values())) if isinstance(table, Panel) else table
    return first.axis.frequency
