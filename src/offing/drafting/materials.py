"""What a draft has to work with: columns by what they can serve as, and the forms each may take."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from offing.base import InputError
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.inspection.survey import Survey
from offing.tables import Sources, Table
from offing.tables.aggregation_rules import rule_for
from offing.terms import Category, Driver, Holidays, Season, Term, WorkingTime

#: A base needs 20 different values, and at most 30 % of zeros; a carry-over is offered for columns with 60 % or more,
#: such as promotions.
_DIFFERENT, _FEW_ZEROS, _MANY_ZEROS = 20, 0.3, 0.6
#: Where bases of drivers are tried: at these shares of the values, rounded to two digits.
_SHARES = (0.15, 0.3, 0.45, 0.6, 0.75, 0.88)
#: Closer values of a base that are tried, and the share of all values around it in which they lie.
_PLACES, _CLOSE = 11, 0.12
#: Shares carried over that are tried: half-lives of 0.6, 1, 2 and 4 periods.
_CARRIED = (0.3, 0.5, 0.7, 0.85)
#: A column with more than twelve different words, or with words seen less than three times, names things, not kinds.
_MOST_WORDS, _SELDOM = 12, 3
#: A column of words that no more words than this share of the rows separate may be a category.
_MOST_SHARE = 0.2


@dataclass(frozen=True)
class Offered:
    """A column that may serve as a driver.

    Attributes
    ----------
    reference, name
        Its column, and what it is called in the model.
    values
        Its values (n,) on the target's periods; None for one of another frequency or of words.
    future
        How many periods after the target's end it is known for.
    words
        Whether it holds words.
    faster
        How many of its periods a period of the target has; 1 for the same frequency.
    skip
        How many of its newest periods are not out when the target's newest value is.
    """

    reference: str
    name: str
    values: Array | None
    future: int
    words: bool = False
    faster: int = 1
    skip: int = 0


@dataclass(eq=False)
class Materials:
    """All that a draft may use of some tables."""

    survey: Survey
    horizon: int
    country: str | None = None
    taken: set[str] = field(default_factory=set)

    @property
    def axis(self) -> Axis:
        """The target's periods."""
        return self.survey.span[0]

    @property
    def unit(self) -> str:
        """The unit of a period."""
        return self.axis.frequency.unit

    @property
    def days(self) -> dict[str, Any]:
        """Where holidays are from, as keywords of a term: a table, a country, or nothing."""
        if self.survey.holidays is not None:
            return {"table": self.survey.holidays}
        return {"country": self.country} if self.country else {}

    @property
    def summed(self) -> bool:
        """Whether a period's value is a sum over its days."""
        unit = self.survey.unit
        return rule_for(self.survey.column, unit, self.survey.span[1]).how == "sum"

    @property
    def season_length(self) -> int:
        """Periods of the cycle over which changes are taken."""
        return {"hour": 168, "day": 7, "business day": 5}.get(self.unit, self.axis.frequency.year_back)

    @property
    def year(self) -> float:
        """Periods of a year."""
        return self.axis.frequency.periods_a_year

    def cycles(self, length: float) -> float:
        """How many cycles of a length the history has."""
        return self.axis.n / length

    @cached_property
    def seasons(self) -> list[tuple[Term, ...]]:
        """The seasons that may be chosen, the usual one first, and last none."""
        made = {
            "month": self._by_position,
            "quarter": self._by_position,
            "week": self._of_weeks,
            "hour": self._of_hours,
            "day": self._of_days,
            "business day": self._of_days,
        }
        return [*(made[self.unit]() if self.unit in made else []), ()]

    def _by_position(self) -> list[tuple[Term, ...]]:
        if self.cycles(self.year) < 2.0:
            return []
        few = 2 if self.unit == "month" else 1
        return [(Season("year", name="season"),), (Season("year", harmonics=few, name="season"),)]

    def _of_weeks(self) -> list[tuple[Term, ...]]:
        if self.cycles(self.year) < 2.0:
            return []
        most = [pairs for pairs in (2, 4, 8) if pairs <= self.axis.n / 20]
        return [(Season("year", harmonics=pairs, name="season"),) for pairs in most]

    def _yearly(self) -> list[tuple[Term, ...]]:
        found: list[tuple[Term, ...]] = []
        if self.cycles(self.year) >= 2.0:
            found = [(Season("year", harmonics=pairs, name="season of the year"),) for pairs in (2, 5)]
        return [*found, ()]

    def _of_days(self) -> list[tuple[Term, ...]]:
        week = (Season("week", name="season of the week"),) if self.axis.n >= 2 * self.season_length else ()
        found = [(*week, *year) for year in self._yearly()]
        return [*found, *([year for year in self._yearly() if year] if week else [])]

    def _of_hours(self) -> list[tuple[Term, ...]]:
        if self.axis.n < 48:
            return []
        day = Season("day", name="season of the day")
        yearly = [each[:1] for each in self._yearly() if not each or each[0].harmonics == 2]  # type: ignore[attr-defined]
        found: list[tuple[Term, ...]] = []
        for year in yearly:
            if self.axis.n >= 336:
                kinds = Season("day", across="kind of day", name="hours by kind of day", **self.days)
                week = Season("week", name="season of the week")
                found += [(kinds, week, *year), (day, week, *year)]
                if self.axis.n >= 168 * 8:
                    every = Season("day", across="weekday", name="hours by weekday")
                    found.append((every, *year))
            else:
                found.append((day, *year))
        return [*found, (day,)]

    @cached_property
    def calendars(self) -> list[tuple[Term, ...]]:
        """What holidays and working days may be: the usual one first, and last none."""
        found: list[tuple[Term, ...]] = []
        if self.days and self.unit in ("hour", "day", "business day", "week", "month"):
            found.append((Holidays(**self.days),))
            if self.unit in ("day", "business day"):
                found.append((Holidays(days_before=1, days_after=1, **self.days),))
        if self.unit in ("month", "quarter") and self.summed and self.axis.n >= 24:
            found.append((WorkingTime(**self.days),))
        return [*found, ()]

    @cached_property
    def offered(self) -> list[Offered]:
        """The columns that may serve as drivers, with what is known of their future."""
        found = []
        for reference, (_, _, values) in self.survey.drivers.items():
            known = values[np.isfinite(values)]
            if len(known) < 8 or np.ptp(known) == 0.0 or len(known) < 0.4 * len(values):
                continue
            found.append(Offered(reference, self._called(reference), values, self.survey.known_ahead(reference)))
        return [*found, *self._categories(), *self._faster()]

    def _called(self, reference: str) -> str:
        """A short name that no other term has."""
        short = reference.partition(".")[2] or reference
        reserved = {"trend", "season", "holidays", "working time", "constant", "baseline"}
        name = reference if short in self.taken or short in reserved else short
        self.taken.add(name)
        return name

    def _categories(self) -> list[Offered]:
        """Columns of words with few different ones, each of which is seen several times and known ahead."""
        found = []
        for source, table in self.survey.own.items():
            if table.axis.frequency != self.axis.frequency:
                continue
            for column in table.texts:
                try:
                    words = table.words(column)
                except InputError:
                    continue
                named = [word for word in words.tolist() if word]
                counts = pd.Series(named, dtype=object).value_counts()
                few = 2 <= len(counts) <= min(_MOST_WORDS, max(2, int(_MOST_SHARE * len(named))))
                if few and counts.min() >= _SELDOM and len(named) >= 0.9 * self.axis.n:
                    reference = f"{source}.{column}"
                    future = _words_after(table, column, self.axis)
                    found.append(Offered(reference, self._called(reference), None, future, words=True))
        return found

    def _faster(self) -> list[Offered]:
        """Columns of tables of higher frequency than the target."""
        sources = Sources(self.survey.own)
        found = []
        for reference in self.survey.faster:
            source, column = sources.find(reference)
            table = self.survey.own[source]
            values = table.values(column)
            known = np.flatnonzero(np.isfinite(values))
            if len(known) < 16 or np.ptp(values[known]) == 0.0:
                continue
            ratio = round(table.axis.frequency.periods_a_year / self.year)
            last = int(table.axis.ends[known[-1]])
            future = int((self.axis.after(4 * self.horizon).ends <= last).sum()) if last > self.axis.edges[-1] else 0
            late = int(((table.axis.ends > last) & (table.axis.ends <= self.axis.edges[-1])).sum())
            found.append(Offered(reference, self._called(reference), None, future, faster=ratio, skip=late))
        return found

    def plain(self, offered: Offered) -> Term:
        """The simplest form of a driver."""
        if offered.words:
            return Category(offered.reference, name=offered.name, unseen="mean")
        if offered.faster > 1:
            return Driver(offered.reference, combine="mean", name=offered.name)
        return Driver(offered.reference, name=offered.name)

    def forms(self, offered: Offered, *, log: bool) -> list[Term]:
        """Other forms of a driver, as far as its values suit them; `log` is the scale of the target."""
        name, reference = offered.name, offered.reference
        if offered.words:
            return []
        if offered.faster > 1:
            return self._fast_forms(offered)
        values = offered.values
        known = np.zeros(0) if values is None else values[np.isfinite(values)]
        zeros = float((known == 0.0).mean()) if len(known) else 1.0
        different = len(np.unique(known))
        found: list[Term] = []
        if len(known) and known.min() > 0.0 and different > 10:
            found.append(Driver(reference, transform=["log"], name=name))
        if different > _DIFFERENT and zeros < _FEW_ZEROS:
            bases = _rounded(np.quantile(known, _SHARES))
            for base in bases:
                found.append(Driver(reference, below=base, name=name))
                found.append(Driver(reference, above=base, name=name))
            found += [
                Driver(reference, below=low, above=high, name=name)
                for i, low in enumerate(bases)
                for high in bases[i : i + 3 : 2]
            ]
        if zeros > _MANY_ZEROS or (different > _DIFFERENT and len(known) and known.min() >= 0.0):
            carried = _CARRIED if zeros > _MANY_ZEROS else _CARRIED[1:3]
            found += [Driver(reference, carry_over=share, name=name) for share in carried]
            if different > 5 and zeros > _MANY_ZEROS:
                middle = _rounded(np.quantile(known[known > 0.0], [0.5]))
                found += [
                    Driver(reference, carry_over=share, saturation=each, name=name)
                    for share in _CARRIED[:3]
                    for each in middle
                ]
        return found

    def closer(self, offered: Offered, term: Driver, side: str) -> list[Term]:
        """A driver with its base below or above at other values close by: up to where the next ones were tried."""
        if offered.values is None:
            return []
        known = offered.values[np.isfinite(offered.values)]
        share = float((known <= getattr(term, side)).mean())
        shares = np.linspace(max(share - _CLOSE, 0.02), min(share + _CLOSE, 0.98), _PLACES)
        limits = {"below": (-np.inf, term.above), "above": (term.below, np.inf)}[side]
        low, high = (
            limit if isinstance(limit, float) else np.inf * sign for sign, limit in zip((-1, 1), limits, strict=True)
        )
        values = [base for base in _rounded(np.quantile(known, shares), 3) if low <= base <= high]
        return [replace(term, below=base) if side == "below" else replace(term, above=base) for base in values]

    def _fast_forms(self, offered: Offered) -> list[Term]:
        found: list[Term] = []
        for span in (offered.faster, 2 * offered.faster):
            for degree, skip in (
                (1, offered.skip),
                (2, offered.skip),
                (1, offered.skip + offered.faster * self.horizon),
            ):
                found.append(
                    Driver(
                        offered.reference, weights="polynomial", degree=degree, span=span, skip=skip, name=offered.name
                    )
                )
        table = self.survey.own[Sources(self.survey.own).find(offered.reference)[0]]
        values = table.values(Sources(self.survey.own).find(offered.reference)[1])
        if np.nanmin(values) > 0.0:
            found.append(Driver(offered.reference, transform=["log"], combine="mean", name=offered.name))
        return found

    def lagged(self, term: Term, lags: Sequence[int]) -> Term:
        """The same driver at other lags."""
        if not isinstance(term, Driver) or term.weights is not None or term.combine is not None:
            return term
        keys = {"transform": list(term.transform), "above": term.above, "below": term.below, "name": term.name}
        if term.carry_over is not None:
            return term
        return Driver(term.data, lags=list(lags), **keys)  # type: ignore[arg-type]

    @property
    def most_lags(self) -> int:
        """The longest lag that is looked at."""
        usual = {"hour": 24, "day": 14, "business day": 10, "week": 8, "month": 6, "quarter": 4, "year": 2}[self.unit]
        return max(min(usual, self.axis.n // 12), 0)


def _words_after(table: Table, column: str, axis: Axis) -> int:
    words = table.words(column)
    start = axis.first + axis.n - table.axis.first
    later = [bool(word) for word in words[max(start, 0) :].tolist()]
    return len(later) if all(later) else later.index(False)


def _rounded(values: Array, digits: int = 2) -> list[float]:
    """Different values, rounded to a number of digits."""
    found: list[float] = []
    for value in values.tolist():
        size = 10.0 ** (np.floor(np.log10(abs(value))) + 1 - digits) if value else 1.0
        number = round(round(value / size) * size, 10)
        if number not in found:
            found.append(number)
    return found
