"""Seasons: what comes back every year, week, day, or after any stated length."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from pathlib import Path
from typing import ClassVar, Literal

import numpy as np
import pandas as pd

from offing.base import Finding, InputError, nearest
from offing.base.arrays import Array
from offing.calendar import CYCLES, Axis, Span, cycle_of, length_of, span_of
from offing.calendar.axis import instant_of
from offing.engine.expressions import Call
from offing.tables import View
from offing.terms.day_types import Kinds, Places, Positions, check_kinds
from offing.terms.formulas import Rows, Summand
from offing.terms.holiday_source import check_source, day_source
from offing.terms.term import Block, Choice, FutureColumns, Readout, Reference, Term, Written, file_of

#: Harmonics that are looked at where the data choose: of a year, shapes down to a month.
_MOST_HARMONICS = 12


@dataclass(frozen=True)
class SeasonState:
    """What its positions are and which of them the fitted periods hold, how many harmonics, and when it changes.

    `changes` are ordinals from which the season differs, `years` ordinals from which it may have drifted; `at` the
    position that is the reference, if any. `whole` is false where the data are no evidence of any season.
    """

    places: Places
    seen: tuple[int, ...]
    harmonics: int | None
    first: int
    last: int
    changes: tuple[int, ...] = ()
    years: tuple[int, ...] = ()
    whole: bool = True


@dataclass(frozen=True)
class Season(Term):
    """A pattern that repeats with a cycle. Its effects average to zero over the cycle.

    Parameters
    ----------
    cycle
        ``year``, ``quarter``, ``month``, ``week`` or ``day``, longer than the series' periods; or a length such as
        ``365.25 days`` or ``53 hours``.
    harmonics
        Number of sine and cosine pairs: a smooth pattern with two coefficients a pair. ``"chosen"``: as many as the
        Bayesian information criterion finds worth their coefficients (Schwarz 1978).
    style
        ``harmonics`` or ``dummies``, one effect for each position of the cycle. By default harmonics if their
        number is given, else dummies.
    by
        What dummies separate: ``hour``, ``day``, ``week``, ``month`` or ``quarter``. By default the series' own
        periods, and months of the year where these would be more than 31. A period belongs where its middle lies.
    across
        Combines the cycle with another: effects of each position on each ``weekday``, or on each ``kind of day``.
    kinds
        Weekdays by kind of day. By default workday, Saturday, and Sunday.
    table, country, subdivision
        Holidays, which are then of the last kind of day.
    drift
        Whether the season may change from year to year, by as much as the data are evidence of.
    changes
        Dates from which it differs.
    evidence
        Whether it is left out where the Bayesian information criterion finds no evidence of it; the finding shows.
    reference
        A position from which contributions and coefficients are measured, instead of the mean of the season.
    grows_with
        ``"trend"``: effects are shares of the level, on the level scale: of the trend, with all drivers at their mean.
    name
        By default ``season`` for the year and such as ``season in week`` for other cycles.

    Raises
    ------
    InputError
        If parameters contradict each other, or later if the cycle does not suit the frequency.

    Examples
    --------
    >>> import offing as of
    >>> of.Season("year", harmonics=3).name, of.Season("week").name, of.Season("day", across="kind of day").name
    ('season', 'season in week', 'season in day by kind of day')
    """

    cycle: str = "year"
    harmonics: int | Literal["chosen"] | None = None
    style: Literal["harmonics", "dummies"] | None = None
    by: str | None = None
    across: Literal["weekday", "kind of day"] | None = None
    kinds: dict[str, list[str]] | None = None
    table: str | Path | pd.DataFrame | None = field(default=None, compare=False)
    country: str | None = None
    subdivision: str | None = None
    drift: bool = False
    changes: Sequence[str | date] = ()
    evidence: bool = False
    reference: str | None = None
    grows_with: Literal["trend"] | None = None
    name: str | None = None

    own_course: ClassVar[bool] = True
    role = "season"

    def __post_init__(self) -> None:
        if self.name is None:
            cycle = "season" if self.cycle == "year" else f"season in {self.cycle}"
            self._set(name=f"{cycle} by {self.across}" if self.across else cycle)
        super().__post_init__()
        if self.cycle not in CYCLES and length_of(self.cycle) is None:
            known = ", ".join(CYCLES)
            raise InputError(f"found {self.cycle!r}", f"Known cycles: {known}, or 365.25 days.", key="cycle")
        self._check_style()
        if self.across not in (None, "weekday", "kind of day"):
            raise InputError(f"found {self.across!r}", 'Give "weekday" or "kind of day".', key="across")
        check_kinds(self.kinds, self.across)
        if self.table is not None or self.country is not None or self.subdivision is not None:
            check_source(self.table, self.country, self.subdivision)
            if self.across != "kind of day":
                raise InputError("holidays belong to kinds of day", 'State across = "kind of day".', key="across")
        if self.grows_with not in (None, "trend"):
            raise InputError(f"found {self.grows_with!r}", 'Give "trend", or leave it out.', key="grows_with")
        if self.multiplies_trend and (self.evidence or self.harmonics == "chosen"):
            raise InputError(
                "a season that grows with the trend cannot be chosen by the data",
                "Choose it without growth first, then state it.",
                key="grows_with",
            )
        if isinstance(self.changes, (str, date)):
            raise InputError(f"found {self.changes!r}", "Give a list of dates.", key="changes")
        self._set(changes=tuple(sorted(_day(each) for each in self.changes)))

    def _check_style(self) -> None:
        if self.style not in (None, "harmonics", "dummies"):
            raise InputError(f"found {self.style!r}", 'Give "harmonics" or "dummies".', key="style")
        number = self.harmonics
        if number is not None and number != "chosen" and (isinstance(number, (bool, str)) or number < 1):
            raise InputError(f"found {number!r}", 'Give a whole number from 1 on, or "chosen".', key="harmonics")
        if (self.style == "harmonics") != (number is not None) and self.style is not None:
            raise InputError(
                "style and harmonics contradict each other",
                'Give harmonics = 3, say, or style = "dummies".',
                key="style",
            )
        if self.by is not None and number is not None:
            raise InputError("by belongs to dummies, not to harmonics", "Remove one of them.", key="by")
        if number is not None and (self.across is not None or self.reference is not None):
            key = "across" if self.across is not None else "reference"
            raise InputError(f"{key} belongs to dummies, not to harmonics", "Remove one of them.", key=key)
        if number is None and self.cycle not in CYCLES:
            raise InputError(f"a cycle of {self.cycle} needs harmonics", "Give harmonics = 3, say.", key="harmonics")

    @property
    def multiplies_trend(self) -> bool:  # type: ignore[override]
        """Whether its effects are shares of the level."""
        return self.grows_with == "trend"

    @property
    def needs_dynamics(self) -> bool:  # type: ignore[override]
        """Whether noise whose neighbours are alike could be taken for a drift."""
        return self.drift

    def files(self) -> tuple[Path, ...]:
        """The table of holidays, where it is a file."""
        return file_of(self.table)

    def within(self, folder: Path) -> Season:
        """The same term with its table's path taken from `folder`."""
        return replace(self, table=folder / self.table) if isinstance(self.table, (str, Path)) else self

    @property
    def learning(self) -> Literal["nothing", "more", "again"]:
        """The positions seen become more."""
        return "again" if self.drift else "more"

    def learn(self, view: View) -> SeasonState:
        """Find the positions that the fitted periods hold.

        Raises
        ------
        InputError
            If the cycle or its positions cannot be seen at this frequency, there are more harmonics than the frequency
            can separate, or a change lies outside the fitted periods.
        """
        rows = view.rows
        places = self._places(rows, view.day)
        harmonics = self.harmonics
        if harmonics == "chosen":
            harmonics = min(_MOST_HARMONICS, places.cycle.harmonics_at_most)
        if harmonics is not None and harmonics > places.cycle.harmonics_at_most:
            raise InputError(
                f"a series by {rows.frequency.unit} determines at most {places.cycle.harmonics_at_most} harmonics "
                f"of a {self.cycle} apart",
                key="harmonics",
            )
        seen = tuple(np.unique(places.positions(rows)).tolist())
        if self.reference is not None and self.reference not in [places.names[i] for i in seen]:
            raise InputError(
                f"there is no position {self.reference!r} in the fitted periods",
                nearest(self.reference, [places.names[i] for i in seen]),
                key="reference",
            )
        last = rows.first + rows.n - 1
        years = self._years(rows) if self.drift else ()
        return SeasonState(places, seen, harmonics, rows.first, last, self._changes(rows), years)

    def _places(self, rows: Axis, day: int) -> Places:
        length = length_of(self.cycle)
        if length is not None and self.cycle not in CYCLES:
            return Positions(span_of(self.cycle, length, rows.frequency))
        cycle = cycle_of(self.cycle, rows.frequency, self.by)
        if self.across is None:
            return Positions(cycle)
        if not (rows.frequency.unit == "hour" or rows.frequency.per_day):
            raise InputError(f"a {rows.frequency.unit} is no kind of day", "Leave it out.", key="across")
        given = self.table is not None or self.country is not None
        source = day_source(self.table, self.country, self.subdivision).known_at(day) if given else None
        return Kinds.of(cycle, self.across, self.kinds, source)

    def _changes(self, rows: Axis) -> tuple[int, ...]:
        found = []
        for day in self.changes:
            at = int(rows.frequency.ordinals(instant_of(day, rows.frequency))[0])
            if not rows.first < at < rows.first + rows.n - 1:
                raise InputError(f"{day} lies outside the fitted {rows.spell()}", "Remove it.", key="changes")
            found.append(at)
        return tuple(found)

    def _years(self, rows: Axis) -> tuple[int, ...]:
        """Ordinals that are whole years after the first fitted period, the last at least half a year before the end."""
        year = rows.frequency.periods_a_year
        count = int((rows.n - year / 2.0) // year)
        if count < 2:
            raise InputError(
                f"{rows.spell()} are too few to see a season drift", "Fit at least two and a half years.", key="drift"
            )
        return tuple(rows.first + round(i * year) for i in range(1, count + 1))

    def block(self, view: View, axis: Axis, state: SeasonState) -> Block:
        """Harmonics, or dummies coded so that the effects of all positions sum to zero; again from each change on."""
        if not state.whole:
            return Block(np.zeros((axis.n, 0)), ())
        base, names, coding = self._base(axis, state)
        parts, labels = [base], [f"{self.name}: {name}" for name in names[: base.shape[1]]]
        groups = [""] * base.shape[1]
        for at, day in zip(state.changes, self.changes, strict=True):
            parts.append(base * (axis.ordinals >= at)[:, None])
            labels += [f"{self.name}: {name}, change at {day}" for name in names[: base.shape[1]]]
            groups += [""] * base.shape[1]
        even = self._even(axis, base, state)
        for i, at in enumerate(state.years):
            parts.append(even * (axis.ordinals >= at)[:, None])
            labels += [f"{self.name}: drift {i + 1}.{j + 1}" for j in range(even.shape[1])]
            groups += [self.group] * even.shape[1]
        readout = self._readout(state, names, coding, even.shape[1])
        return Block(np.column_stack(parts), tuple(labels), readout, tuple(groups) if state.years else ())

    @property
    def group(self) -> str:
        """What the yearly changes are called together."""
        return f"{self.name}: drift"

    def future_columns(self, view: View, axis: Axis, state: SeasonState) -> tuple[FutureColumns, ...]:
        """The drift of years to come."""
        if not state.years:
            return ()
        even = self._even(axis, self._base(axis, state)[0], state)
        year, end = axis.frequency.periods_a_year, axis.first + axis.n
        count = int(np.ceil((end - state.first) / year))
        later = [
            at for i in range(1, count + 1) if (at := state.first + round(i * year)) > state.years[-1] and at < end
        ]
        return tuple(FutureColumns(even * (axis.ordinals >= at)[:, None], self.group) for at in later)

    def choice(self, state: SeasonState) -> Choice | None:
        """How many harmonics, or whether there is a season at all."""
        if not (self.harmonics == "chosen" or self.evidence):
            return None
        blocks = 1 + len(state.changes) + len(state.years)
        if state.harmonics is None:
            k = len(state.seen) - 1
            return Choice((), (tuple(range(k * blocks)),), 1)
        kept = self._kept(state, state.harmonics)
        pairs = [[i for i, (_, h) in enumerate(kept) if h == number] for number in range(1, state.harmonics + 1)]
        if self.harmonics != "chosen":
            pairs = [list(range(len(kept)))]
        steps = tuple(tuple(i + b * len(kept) for b in range(blocks) for i in pair) for pair in pairs)
        return Choice((), steps, len(steps), least=0 if self.evidence else 1)

    def chosen(self, state: SeasonState, kept: tuple[int, ...]) -> SeasonState:
        """The state with a number of harmonics, or without a season."""
        if not kept:
            return replace(state, whole=False)
        return replace(state, harmonics=len(kept) if self.harmonics == "chosen" else state.harmonics)

    def remarks(self, view: View, state: SeasonState) -> tuple[Finding, ...]:
        """What the data chose."""
        if not (self.harmonics == "chosen" or self.evidence):
            return ()
        if not state.whole:
            message = f"'{self.name}' is left out: the data are no evidence of it (Bayesian information criterion)."
        elif self.harmonics == "chosen":
            message = f"'{self.name}' has {state.harmonics} harmonics, as the Bayesian information criterion chose."
        else:
            message = f"'{self.name}' is in: the data are evidence of it (Bayesian information criterion)."
        return (Finding("choice", "note", message, str(self.name)),)

    def written(self, view: View, state: SeasonState, beta: Array) -> list[Written]:
        """The effect of every position, or of each harmonic, in each stretch between changes and drifts."""
        if not state.whole:
            return []
        base, names, coding = self._base(view.rows, state)
        k = base.shape[1]
        own = np.eye(k) if coding is None else coding
        even = own if coding is None else _even_coding(len(coding))
        steps = sorted(
            [
                *((at, own, i + 1) for i, at in enumerate(state.changes)),
                *((at, even, i + 1 + len(state.changes)) for i, at in enumerate(state.years)),
            ],
            key=lambda each: each[0],
        )
        effects = own @ beta[:k]
        against = self.reference_effect(view, state, beta)
        found, edges = [], [at for at, *_ in steps]
        starts = [Axis(view.rows.frequency, at, 1).labels()[0] for at in edges]
        for i in range(len(steps) + 1):
            if i:
                _, basis, place = steps[i - 1]
                effects = effects + basis @ beta[place * k : (place + 1) * k]
            since = f", from {starts[i - 1]}" if i else ""
            until = f", until before {starts[i]}" if i < len(steps) else ""
            for name, value in zip(names, (effects - against).tolist(), strict=True):
                found.append(
                    Written(f"{self.name}: {name}{since}{until}", value, f"{self._position(state, name)}{since}{until}")
                )
        return found

    def summands(self, view: View, rows: Rows, state: SeasonState, beta: Array) -> list[Summand]:
        """Harmonics of the share of the cycle that is over; all else in numbers."""
        if state.harmonics is None or state.changes or state.years or not state.whole:
            return super().summands(view, rows, state, beta)
        phase = rows.facts(f"{self.name}: share of the cycle", state.places.cycle.phases(rows.axis))
        kept = self._kept(state, state.harmonics)
        return [
            Summand(f"{self.name}: {kind} {h}", value, Call("sin" if kind == "sin" else "cos", 2.0 * np.pi * h * phase))
            for (kind, h), value in zip(kept, beta.tolist(), strict=True)
        ]

    def _position(self, state: SeasonState, name: str) -> str:
        """What stands for a position or a harmonic."""
        cycle = state.places.cycle
        if state.harmonics is None:
            return f"1 in periods whose {state.places.words} is {name}, else 0"
        kind, number = name.split()
        if cycle.regular:
            phase = f"(place in the {cycle.unit}, from 0) / {len(cycle.names)}"
        elif isinstance(cycle, Span):
            phase = f"share of {cycle.unit}, counted from 1970-01-01, that is over at the middle of the period"
        else:
            phase = f"share of the {cycle.unit} that is over at the middle of the period"
        return f"{kind}(2π {number} p), p: {phase}"

    def reference_effect(self, view: View, state: SeasonState, beta: Array) -> float:
        """That of the stated position, before any change."""
        if self.reference is None or not state.whole or self.multiplies_trend:
            return 0.0
        _, names, coding = self._base(view.rows, state)
        own = np.eye(len(names)) if coding is None else coding
        return float(own[names.index(self.reference)] @ beta[: own.shape[1]])

    @property
    def measured_from(self) -> str:
        """The reference in words."""
        return "an average season" if self.reference is None else f"the season of {self.reference}"

    def reference_on(self, view: View, axis: Axis, state: SeasonState) -> Reference:
        """The season's mean, which is zero by its coding, or the stated position."""
        whole = self.block(view, axis.part(0, 1), state).columns
        if self.reference is None or not state.whole:
            return Reference(np.zeros((1, whole.shape[1])))
        coding = self._coding(state)
        row = coding[[state.places.names[i] for i in state.seen].index(self.reference)]
        parts = [np.tile(row, (axis.n, 1))]
        parts += [row * (axis.ordinals >= at)[:, None] for at in state.changes]
        even = row @ np.linalg.solve(coding.T @ coding, coding.T) @ _even_coding(len(coding))
        parts += [even * (axis.ordinals >= at)[:, None] for at in state.years]
        return Reference(np.column_stack(parts))

    def _kept(self, state: SeasonState, harmonics: int) -> list[tuple[str, int]]:
        """Kind and number of the harmonics that are not zero everywhere."""
        pairs = [(kind, h) for h in range(1, harmonics + 1) for kind in ("sin", "cos")]
        # With an even number of periods a cycle, the fastest sine is zero at every one of them.
        at_limit = state.places.cycle.regular and 2 * harmonics == len(state.places.cycle.names)
        return [pair for pair in pairs if not (at_limit and pair == ("sin", harmonics))]

    def _base(self, axis: Axis, state: SeasonState) -> tuple[Array, tuple[str, ...], Array | None]:
        """Columns (n, k) of a season that never changes, names of its effects, and their coding where they are more."""
        if state.harmonics is not None:
            angles = 2.0 * np.pi * state.places.cycle.phases(axis)
            kept = self._kept(state, state.harmonics)
            columns = [(np.sin if kind == "sin" else np.cos)(h * angles) for kind, h in kept]
            return np.column_stack(columns), tuple(f"{kind} {h}" for kind, h in kept), None
        positions, seen = state.places.positions(axis), np.array(state.seen)
        unseen = np.flatnonzero(~np.isin(positions, seen))
        if len(unseen):
            first = int(unseen[0])
            raise InputError(
                f"{state.places.names[positions[first]]} never occurs in the fitted periods, so its effect is unknown",
                "Fit more data, use harmonics, or leave out the term.",
                period=axis.part(first, first + 1).labels()[0],
            )
        coding = self._coding(state)
        return coding[np.searchsorted(seen, positions)], tuple(state.places.names[i] for i in state.seen), coding

    def _coding(self, state: SeasonState) -> Array:
        """Effect coding: the last position is minus the sum of the others."""
        k = len(state.seen) - 1
        return np.vstack([np.eye(k), -np.ones((1, k))])

    def _even(self, axis: Axis, base: Array, state: SeasonState) -> Array:
        """Columns whose equal draw to zero treats all positions alike."""
        if state.harmonics is not None or not state.years:
            return base
        return _even_coding(len(state.seen))[np.searchsorted(state.seen, state.places.positions(axis))]

    def _readout(self, state: SeasonState, names: tuple[str, ...], coding: Array | None, even: int) -> Readout | None:
        """Effects of all positions, or of the harmonics: before and after each change, on average over a drift."""
        if coding is None and not state.changes and not state.years:
            return None
        own = np.eye(len(names)) if coding is None else coding
        labels = list(names)
        base = None
        if self.reference is not None:
            at = labels.index(self.reference)
            # The constant is then that of the stated position, before any change.
            base = np.concatenate([own[at], np.zeros(own.shape[1] * len(state.changes) + even * len(state.years))])
            own = np.delete(own - own[at], at, axis=0)
            del labels[at]
        span = state.last - state.first + 1
        drifts = []
        if state.years:
            basis = np.eye(even) if coding is None else _even_coding(len(coding))
            if self.reference is not None:
                at = names.index(self.reference)
                basis = np.delete(basis - basis[at], at, axis=0)
            drifts = [basis * (state.last + 1 - at) / span for at in state.years]
        rows, titles = [], []
        for i in range(len(state.changes) + 1):
            steps = [own if j < i else np.zeros_like(own) for j in range(len(state.changes))]
            rows.append(np.hstack([own, *steps, *drifts]))
            when = (
                "" if not state.changes else f", {f'from {self.changes[i - 1]}' if i else f'until {self.changes[0]}'}"
            )
            against = "" if self.reference is None else f" against {self.reference}"
            titles += [f"{self.name}: {name}{against}{when}" for name in labels]
        return Readout(tuple(titles), np.vstack(rows), None if self.multiplies_trend else base)


def _even_coding(positions: int) -> Array:
    """Orthonormal columns (m, m − 1) that sum to zero (Helmert 1876), scaled so that a row's squares sum to about 1."""
    k = positions - 1
    matrix = np.zeros((positions, k))
    for j in range(k):
        matrix[: j + 1, j] = 1.0
        matrix[j + 1, j] = -(j + 1.0)
        matrix[:, j] /= np.sqrt((j + 1.0) * (j + 2.0))
    return matrix


def _day(value: object) -> str:
    try:
        return pd.Timestamp(value).date().isoformat()  # type: ignore[arg-type]
    except (ValueError, TypeError) as error:
        raise InputError(f"found {value!r}, which is not a date", "Write it as 2023-05-01.", key="changes") from error
