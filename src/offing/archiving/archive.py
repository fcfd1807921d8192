"""Forecasts kept as they were made: added to, listed and read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import pandas as pd
import sqlalchemy as sa

from offing.archiving.archived import QUANTILES, Archivable, ArchivedForecast, as_archived, frequency_of, matching
from offing.archiving.tables import FORECASTS, SHARES, VALUES, Tables, add, known_ids
from offing.base import InputError, count
from offing.base.results import Result
from offing.base.versions import versions
from offing.calendar.axis import instant_of
from offing.model.forecast import AS_PLANNED, Forecast
from offing.model.rows import forecast_rows

_LISTED = ("series", "model", "scenario", "origin", "made_at", "version")


@dataclass(frozen=True)
class Archive(Result, figure="archived.draw_archive"):
    """Forecasts as they were made. Made by `offing.archive`.

    Attributes
    ----------
    tables
        Where they are.

    Examples
    --------
    >>> import pathlib, tempfile, pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
    >>> kept = of.archive(pathlib.Path(tempfile.mkdtemp()) / "forecasts.sqlite")
    >>> ahead = of.Model("sold").fit(sold).forecast(2)
    >>> kept.append(ahead), kept.append(ahead)
    (1, 0)
    >>> kept.table[["series", "model", "origin"]].to_numpy().tolist()
    [['sold', 'main', '2024-05-01']]
    """

    tables: Tables

    @property
    def table(self) -> pd.DataFrame:
        """One row a forecast: ``series, model, scenario, origin, made_at, version, first, last, periods``."""
        listed = self._listed().drop(columns=["id", "target", "unit", "frequency"])
        return listed.reset_index(drop=True)

    def _listed(self) -> pd.DataFrame:
        """The forecasts with their keys."""
        span = (
            sa.select(
                VALUES.c.id,
                sa.func.min(VALUES.c.period).label("first"),
                sa.func.max(VALUES.c.period).label("last"),
                sa.func.count().label("periods"),
            )
            .group_by(VALUES.c.id)
            .subquery()
        )
        columns = [FORECASTS.c[name] for name in ("id", *_LISTED, "target", "unit", "frequency")]
        query = sa.select(*columns, span.c.first, span.c.last, span.c.periods).join(span, span.c.id == FORECASTS.c.id)
        with self.tables.reading() as connection:
            if connection is None:
                return pd.DataFrame(columns=[*(each.name for each in columns), "first", "last", "periods"])
            result = connection.execute(query.order_by(FORECASTS.c.origin, FORECASTS.c.made_at, FORECASTS.c.id))
            return pd.DataFrame.from_records([tuple(row) for row in result], columns=list(result.keys()))

    @property
    def sentence(self) -> str:
        """What is there, in one sentence."""
        listed = self.table
        if not len(listed):
            return f"{self.tables.name} holds no forecast yet."
        series = listed["series"].nunique()
        of_series = f" of {series:,} series" if series > 1 else ""
        return (
            f"{self.tables.name} holds {count(len(listed), 'forecast')}{of_series}, made from "
            f"{listed['origin'].iloc[0]} to {listed['origin'].iloc[-1]}."
        )

    @property
    def values(self) -> pd.DataFrame:
        """All forecasts: ``series, model, scenario, origin, period, horizon, forecast`` and quantiles."""
        keys = [FORECASTS.c[name] for name in ("series", "model", "scenario", "origin")]
        own = [VALUES.c[name] for name in ("period", "horizon", "forecast", *QUANTILES)]
        query = sa.select(*keys, *own).join(VALUES, VALUES.c.id == FORECASTS.c.id)
        order = (FORECASTS.c.origin, FORECASTS.c.made_at, FORECASTS.c.id, VALUES.c.horizon)
        with self.tables.reading() as connection:
            if connection is None:
                return pd.DataFrame(columns=[each.name for each in (*keys, *own)])
            result = connection.execute(query.order_by(*order))
            return pd.DataFrame.from_records([tuple(row) for row in result], columns=list(result.keys()))

    @property
    def drawable(self) -> bool:
        """Whether there is a forecast."""
        return bool(len(self.table))

    def append(self, forecast: Forecast | Archivable | Sequence[Forecast | Archivable]) -> int:
        """Add forecasts; one that is there already, number for number, is not added twice.

        Parameters
        ----------
        forecast
            A forecast, a combination, one adjusted by hand, or several of them. All are added, or none.

        Returns
        -------
        int
            How many were new.

        Raises
        ------
        InputError
            If the archive is of another target, cannot be written to, or another program holds it for a minute.
        """
        several = forecast if isinstance(forecast, Sequence) else [forecast]
        made = [archived(each) for each in several]
        with self.tables.adding() as connection:
            there = known_ids(connection)
            columns = (FORECASTS.c[name] for name in ("target", "unit", "series"))
            other = connection.execute(sa.select(*columns).limit(1)).first()
            wrong = [] if other is None else [each for each in made if _target(each) != _target(other)]
            if wrong:
                kept, own = _named(*_target(other)), _named(*_target(wrong[0]))
                raise InputError(
                    f"it is an archive of {kept}, and the forecast is of {own}",
                    "Give each target an archive of its own.",
                    file=self.tables.name,
                    key="archive",
                )
            new = {each.digest: each for each in made if each.digest not in there}
            for each in new.values():
                add(connection, each)
        return len(new)

    def forecast(
        self,
        origin: object = None,
        *,
        series: str | None = None,
        model: str | None = None,
        scenario: str | None = AS_PLANNED,
        before: object = None,
    ) -> ArchivedForecast:
        """One forecast as it was made.

        Parameters
        ----------
        origin
            A date: the last forecast that was made from it or earlier; by default the newest.
        series, model
            Which, where the archive holds several.
        scenario
            By default the forecast as planned.
        before
            A date: only forecasts made from earlier origins count.

        Raises
        ------
        InputError
            If there is none, or several series or models are there and none is named.
        """
        listed = matching(self._listed(), {"series": series, "model": model, "scenario": scenario})
        for key in ("series", "model"):
            different = listed[key].unique().tolist()
            if len(different) > 1:
                raise InputError(
                    f"there are forecasts of several {key}s" if key == "model" else "there are several series",
                    f"Name one of {', '.join(map(str, different[:12]))}.",
                    file=self.tables.name,
                    key=key,
                )
        kept = listed
        for limit, inside in ((origin, True), (before, False)):
            if limit is not None and len(kept):
                frequency = frequency_of(kept["frequency"].iloc[0])
                latest = _instant(limit, frequency)
                at = [int(instant_of(each, frequency)[0]) for each in kept["origin"]]
                kept = kept[[each < latest or (inside and each == latest) for each in at]]
        if not len(kept):
            known = ", ".join(listed["origin"].unique().tolist()[-6:])
            raise InputError(
                "there is no such forecast in the archive",
                f"There are some from {known}." if known else "Forecast first: every run adds to it.",
                file=self.tables.name,
                key="archive",
            )
        return self._read(kept.iloc[-1])

    def forecasts(self, *, series: str | None = None, model: str | None = None) -> list[ArchivedForecast]:
        """All forecasts as they were made, or those of a series or model, by origin."""
        listed = matching(self._listed(), {"series": series, "model": model})
        return [self._read(row) for _, row in listed.iterrows()]

    def _read(self, row: pd.Series) -> ArchivedForecast:
        with self.tables.reading() as connection:
            if connection is None:
                raise InputError("the archive is gone", file=self.tables.name)
            parts = []
            for table, order in ((VALUES, (VALUES.c.horizon,)), (SHARES, (SHARES.c.period, SHARES.c.term))):
                own = [each for each in table.columns if each.name != "id"]
                result = connection.execute(sa.select(*own).where(table.c.id == row["id"]).order_by(*order))
                records = [tuple(each) for each in result]
                parts.append(pd.DataFrame.from_records(records, columns=[each.name for each in own]))
        text = {name: str(row[name]) for name in ("series", "model", "scenario", "target", "unit")}
        frequency = frequency_of(str(row["frequency"]))
        return ArchivedForecast(
            **text,
            frequency=frequency,
            origin=str(row["origin"]),
            made_at=str(row["made_at"]),
            version=str(row["version"]),
            values=parts[0],
            shares=parts[1],
        )


def _instant(moment: object, frequency: Any) -> int:
    try:
        return int(instant_of(moment, frequency)[0])
    except (ValueError, TypeError) as error:
        raise InputError(
            f"found {moment!r}, which is not a date", "Give one such as 2026-05-21.", key="origin"
        ) from error


def _target(each: Any) -> tuple[str, str]:
    """The target of a forecast, whichever series it is of, and its unit."""
    return str(each.target).removesuffix(f", {each.series}"), str(each.unit)


def _named(target: str, unit: str) -> str:
    return f"'{target}'" + (f" in {unit}" if unit else "")


def archived(ahead: Forecast | Archivable) -> ArchivedForecast:
    """A forecast as an archive keeps it, made now."""
    now = datetime.now(UTC).isoformat(timespec="microseconds")
    rows = forecast_rows(ahead) if isinstance(ahead, Forecast) else ahead.contract_rows
    model, scenario = str(rows["model"].iloc[0]), str(rows["scenario"].iloc[0])
    return as_archived(ahead, rows, model=model, scenario=scenario, made_at=now, version=versions()["offing"])
