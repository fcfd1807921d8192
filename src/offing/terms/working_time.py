"""Working time: how many days of which kind a month, quarter or year has."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import ClassVar

import numpy as np
import pandas as pd

from offing.base import InputError, nearest
from offing.base.arrays import Array
from offing.calendar import WEEKDAYS, Axis, Calendar, calendar_of, easter_days, weekdays_of
from offing.tables import View
from offing.terms.holiday_source import DaySource, check_source, day_source
from offing.terms.term import Block, Readout, Reference, Term, Written, file_of, names_of

_KINDS = ("working days", "weekdays", "days", "leap day", "easter")


@dataclass(frozen=True)
class WorkingTime(Term):
    """Counts of days in each period, each with one effect a day; measured from the mean over the fitted periods.

    Parameters
    ----------
    counts
        Which of them: ``working days`` (Monday to Friday but no holiday); ``weekdays``, what one more Monday, Tuesday …
        is worth against the average day; ``days`` in the period; ``leap day``, 1 where there is one; ``easter``, the
        share of the days before Easter Sunday that lie in the period, which separates March from April.
    table, country, subdivision
        Holidays that are no working days; without any, all from Monday to Friday are.
    easter_days
        With ``easter``: how many days before Easter Sunday its business lasts. It differs by trade, so that there is no
        default.
    name
        The term's name.

    Raises
    ------
    InputError
        For an unknown kind. Later: for a series by hour, day or week, whose periods all have the same days.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2022-01", periods=36, freq="M")
    >>> made = [4.0 * np.busday_count(m.start_time.date(), (m + 1).start_time.date()) for m in months]
    >>> boats = pd.Series(np.array(made) + np.tile([0.1, -0.1], 18), months, name="boats")
    >>> fit = of.Model("boats", [of.WorkingTime(["working days"])]).fit(boats)
    >>> float(fit.coefficients["coefficient"].iloc[1].round(1))
    4.0
    """

    counts: Sequence[str] = ("working days",)
    table: str | Path | pd.DataFrame | None = field(default=None, compare=False)
    country: str | None = None
    subdivision: str | None = None
    easter_days: int | None = None
    name: str | None = "working time"
    centred: ClassVar[bool] = True

    def __post_init__(self) -> None:
        super().__post_init__()
        self._set(counts=names_of(self.counts, "counts"))
        for kind in self.counts:
            if kind not in _KINDS:
                raise InputError(f"found {kind!r}", nearest(kind, _KINDS), key="counts")
        if not self.counts or len(set(self.counts)) != len(self.counts):
            raise InputError(f"found {list(self.counts)!r}", "Give each kind once.", key="counts")
        if ("easter" in self.counts) != (self.easter_days is not None):
            raise InputError('"easter" and easter_days belong together', "Give both, or neither.", key="easter_days")
        if self.easter_days is not None and (isinstance(self.easter_days, bool) or not 1 <= self.easter_days <= 60):
            raise InputError(f"found {self.easter_days!r}", "Give a whole number from 1 to 60.", key="easter_days")
        if self._has_holidays or self.subdivision is not None:
            check_source(self.table, self.country, self.subdivision)

    @property
    def _has_holidays(self) -> bool:
        return self.table is not None or self.country is not None

    def files(self) -> tuple[Path, ...]:
        """The table, where it is a file."""
        return file_of(self.table)

    def within(self, folder: Path) -> WorkingTime:
        """The same term with its table's path taken from `folder`."""
        return replace(self, table=folder / self.table) if isinstance(self.table, (str, Path)) else self

    def learn(self, view: View) -> DaySource | None:
        """Read the holidays.

        Raises
        ------
        InputError
            If the periods are too short to differ.
        """
        unit = view.rows.frequency.unit
        alike = {
            "hour": _KINDS,
            "day": _KINDS,
            "business day": _KINDS,
            "week": ("weekdays", "days", *([] if self._has_holidays else _KINDS[:1])),
        }
        for kind in self.counts:
            if kind in alike.get(unit, ()):
                advice = "Use a season in the week, or holidays."
                raise InputError(f"{kind!r} does not separate one {unit} from another", advice, key="counts")
        if not self._has_holidays:
            return None
        return day_source(self.table, self.country, self.subdivision).known_at(view.day)

    def block(self, view: View, axis: Axis, state: DaySource | None) -> Block:
        """The counts, one column each; of the weekdays six, which sum to zero with the seventh."""
        calendar = calendar_of(axis, None if state is None else state.days(axis, 10, 10))
        columns, names = [], []
        for kind in self.counts:
            if kind == "weekdays":
                columns.append(self._weekdays(axis, calendar))
                names += [f"{self.name}: {day.title()}" for day in WEEKDAYS[:-1]]
                continue
            columns.append(self._count(kind, axis, calendar)[:, None])
            names.append(f"{self.name}: {'working day' if kind == 'working days' else kind.removesuffix('s')}")
        return Block(np.column_stack(columns), tuple(names), self._readout(tuple(names)))

    def _count(self, kind: str, axis: Axis, calendar: Calendar) -> Array:
        first, after = axis.days
        if kind == "days":
            return np.asarray((after - first).astype(np.float64))
        if kind == "working days":
            return calendar.counted(axis, ~calendar.off)
        numbers = calendar.numbers.astype("datetime64[D]")
        if kind == "leap day":
            months = numbers.astype("datetime64[M]")
            leap = (months.astype(np.int64) % 12 == 1) & ((numbers - months.astype("datetime64[D]")).astype(int) == 28)
            return calendar.counted(axis, leap)
        years = numbers[[0, -1]].astype("datetime64[Y]").astype(int) + 1970
        before, length = np.zeros(len(numbers)), self.easter_days or 0
        for sunday in easter_days(int(years[0]), int(years[1]) + 1).tolist():
            span = np.arange(sunday - length, sunday) - calendar.first
            before[span[(span >= 0) & (span < len(before))]] = 1.0 / length
        return calendar.counted(axis, before)

    def _weekdays(self, axis: Axis, calendar: Calendar) -> Array:
        kinds = weekdays_of(calendar.numbers)
        counts = np.column_stack([calendar.counted(axis, kinds == day) for day in range(7)])
        return np.asarray(counts[:, :6] - counts[:, 6:])

    def _readout(self, names: tuple[str, ...]) -> Readout | None:
        if "weekdays" not in self.counts:
            return None
        k = len(names)
        monday = names.index(f"{self.name}: Monday")
        matrix = np.insert(np.eye(k), monday + 6, 0.0, axis=0)
        matrix[monday + 6, monday : monday + 6] = -1.0
        return Readout((*names[: monday + 6], f"{self.name}: Sunday", *names[monday + 6 :]), matrix)

    def written(self, view: View, state: DaySource | None, beta: Array) -> list[Written]:
        """Numbers of days; of all seven weekdays."""
        names = self.block(view, view.rows, state).names
        readout = self._readout(names)
        names, values = (names, beta) if readout is None else (readout.names, readout.matrix @ beta)
        off = "that are no holiday" if self._has_holidays else "whatever the day"
        texts = {
            "working day": f"days from Monday to Friday {off}",
            "day": "days",
            "leap day": "29ths of February",
            "easter": f"{self.easter_days} days before Easter Sunday, each 1 / {self.easter_days}",
        }
        whats = [name.removeprefix(f"{self.name}: ") for name in names]
        return [
            Written(name, value, f"number of {texts.get(what, f'{what}s')}")
            for name, value, what in zip(names, values.tolist(), whats, strict=True)
        ]

    @property
    def measured_from(self) -> str:
        """The reference in words."""
        return "average working time"

    def reference_on(self, view: View, axis: Axis, state: DaySource | None) -> Reference:
        """The mean over the fit's rows."""
        return Reference(None)
