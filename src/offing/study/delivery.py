"""What ``[output]`` asks for beside the files of the contract: other shapes of the forecast, and a database."""

from __future__ import annotations

import pandas as pd

from offing.base import count
from offing.base.results import AHEAD
from offing.study.study import Study
from offing.writers.shapes import sample_of, wide

#: The file of a forecast in the shape of a sample.
REQUESTED = "requested"
#: What says whose rows these are.
_RUN = ["series", "model", "scenario"]


def shaped(study: Study, command: str, tables: dict[str, pd.DataFrame]) -> dict[str, pd.DataFrame]:
    """The tables of a command, and the forecast in the other shapes that are asked for.

    Raises
    ------
    InputError
        If a sample cannot be filled.
    """
    form, rows = study.spec.output, tables.get("forecast")
    if rows is None or command not in AHEAD:
        return tables
    found = dict(tables)
    if form.shape == "wide":
        found["forecast_wide"] = wide(rows, form.columns)
    if form.like is not None:
        stated = form.like if isinstance(form.like, str) else form.like.model_dump()
        with study.placing(("output", "like")):
            found[REQUESTED] = sample_of(stated, study.path.parent).filled(rows)
    return found


def to_database(study: Study, tables: dict[str, pd.DataFrame]) -> str:
    """Write forecast, contributions and scores into the study's database, if it names one, and say so.

    Raises
    ------
    InputError
        As `offing.writers.database.write_tables`.
    """
    form = study.spec.output
    if form.database is None:
        return ""
    from offing.writers.database import KEYS, write_tables  # noqa: PLC0415  databases take time to load

    rows = {name: table for name, table in tables.items() if name in KEYS}
    if "contributions" in rows and "forecast" in rows:
        # Those of the history have no origin, and stand in the files.
        origins = rows["forecast"][[*_RUN, "origin"]].drop_duplicates()
        rows["contributions"] = rows["contributions"].merge(origins, on=_RUN)
    else:
        rows.pop("contributions", None)
    if not rows:
        return ""
    with study.placing(("output", "database")):
        written = write_tables(form.database, form.table, rows)
    said = ", ".join(f"{count(n, 'row')} of {name}" for name, n in written.items())
    return f"Written to the database: {said}."
