"""The trend: none, a line, a polynomial, a line that bends at dates stated or found, or a level that wanders."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import ClassVar, Literal, get_args

import numpy as np
import pandas as pd

from offing.base import Finding, InputError
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.calendar.axis import instant_of
from offing.engine.expressions import Constant, Extreme, added
from offing.tables import View
from offing.terms.formulas import Rows, Summand
from offing.terms.saturating_trend import Limit, Saturation, limit_of, saturating
from offing.terms.stochastic import steps_ahead, stretches, walked
from offing.terms.term import Block, Choice, FutureColumns, Readout, Reference, Term, WalkSteps, Written

Form = Literal["linear", "none", "polynomial", "saturating", "stochastic"]
Slope = Literal["none", "constant", "stochastic"]

#: Candidates for bends: about one per quarter of a year, at least two periods apart, and no more than 60, beyond which
#: neighbours cannot be separated.
_CLOSEST, _MOST_KNOTS = 2, 60
#: Bends that are separated as sharp ones keep this share of the fitted periods between each other and to the ends.
_MARGIN = 0.05
#: From fewer periods nothing is learnt of how a level wanders.
_FEWEST_WALKED = 8


@dataclass(frozen=True)
class TrendState:
    """What a trend has learnt.

    Ordinals of the first and last fitted period and of the knots, how far apart candidates are, limits, and between
    which ordinals a stochastic level takes its steps.
    """

    first: int
    last: int
    knots: tuple[int, ...] = ()
    spacing: int = 0
    saturation: Saturation | None = None
    steps: tuple[int, ...] = ()


@dataclass(frozen=True)
class Trend(Term):
    """What changes slowly. Beyond the data it runs on with its last slope, or with one that dies away.

    A stochastic level stays where it is, unless it has a slope.

    Time runs in equal steps a period and is counted in years, so that slopes are a year's change: of the
    target on the level scale, of its logarithm on the log scale.

    Parameters
    ----------
    form
        ``linear`` (with knots: piecewise), ``polynomial`` of a `degree`, ``saturating`` between two limits, ``none``;
        or ``stochastic``: a level that takes a random step every period (Harvey 1989), the variance of which is learnt
        from the data. The forecast starts from where the level is now, and the uncertainty grows with every step to
        come. What is left beside it is taken as independent unless the model says otherwise: neighbours that are alike
        and a level that wanders are hard to separate, and the walk covers both.
    slope
        Of a stochastic level: ``none``; ``constant``, one slope throughout; or ``stochastic``, a slope that changes a
        little at many dates as well, with a variance of its own.
    knots
        Dates on which the slope changes: from the period that holds the date on, the new slope applies. ``"found"``:
        the slope may change a little at many candidate dates, how much is learnt from the data together with the
        dynamics of the noise, and the uncertainty of the slope runs on beyond the origin.
    at_most
        With found knots: the largest number of sharp bends, which the data choose, instead of many small ones.
    knot_every
        With found knots, or a stochastic slope: how many periods the candidates are apart. By default a quarter of a
        year, at least two periods.
    degree
        Of the polynomial, 2 to 10.
    damping
        Share of the slope that is left after each period beyond the last fitted one; 1 by default.
    lower, upper
        Limits of a saturating trend, in the target's unit: a number, a column that gives it for every period, or
        ``"estimated"``. The lower one is 0 by default.
    reference
        Where the trend's contribution is zero: a date, or ``"a year before"`` each period; a number instead is
        the trend's own value (its first fitted period has the value 0). By default the last fitted period,
        from which a forecast starts.
    name
        The term's name.

    Raises
    ------
    InputError
        If what is given does not fit the form. Later: if a knot lies before the fitted periods, or these are too few.

    Examples
    --------
    >>> import offing as of
    >>> of.Trend(knots=["2023-05-01"]).name, of.Trend(knots="found").needs_dynamics
    ('trend', True)
    >>> import numpy as np, pandas as pd
    >>> months = pd.period_range("2020-01", periods=60, freq="M")
    >>> sold = pd.Series(50 + np.cumsum(np.random.default_rng(1).normal(size=60)), months, name="sold")
    >>> ahead = of.Model("sold", [of.Trend(form="stochastic")]).fit(sold).forecast(2)
    >>> bool(abs(ahead.mean[1] - sold.iloc[-1]) < 1.0)
    True
    """

    form: Form = "linear"
    slope: Slope = "none"
    knots: Literal["found"] | Sequence[str | date] = ()
    at_most: int | None = None
    knot_every: int | None = None
    degree: int | None = None
    damping: float = 1.0
    lower: float | str = 0.0
    upper: float | str | None = None
    reference: str | date | float | None = None
    name: str | None = "trend"
    states_level: ClassVar[bool] = True
    role = "trend"
    own_course: ClassVar[bool] = True

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.form not in get_args(Form):
            raise InputError(f"found {self.form!r}", f"Allowed: {', '.join(get_args(Form))}.", key="form")
        self._check_knots()
        if self.slope not in get_args(Slope):
            raise InputError(f"found {self.slope!r}", f"Allowed: {', '.join(get_args(Slope))}.", key="slope")
        if self.slope != "none" and self.form != "stochastic":
            raise InputError(f"slope belongs to the form stochastic, not to {self.form}", "Leave it out.", key="slope")
        if (self.form == "polynomial") != (self.degree is not None):
            raise InputError("degree belongs to the form polynomial, which needs it", "Give both.", key="degree")
        if self.degree is not None and (isinstance(self.degree, bool) or not 2 <= self.degree <= 10):
            raise InputError(f"found {self.degree!r}", "Give a whole number from 2 to 10.", key="degree")
        if not 0.0 < self.damping <= 1.0:
            raise InputError(f"found {self.damping!r}", "Give a number above 0 and up to 1.", key="damping")
        if (self.form == "saturating") != (self.upper is not None):
            raise InputError("upper belongs to the form saturating, which needs it", "Give both.", key="upper")
        if self.form == "saturating":
            if self.damping != 1.0:
                raise InputError("a saturating trend ends by itself", "Leave out damping.", key="damping")
            if isinstance(self.reference, (int, float)):
                raise InputError("a saturating trend is measured from a date", "Give a date.", key="reference")
            _ = self.limits
        if isinstance(self.reference, (str, date)) and self.reference != "a year before":
            _day(self.reference, "reference")

    def _check_knots(self) -> None:
        if self.knots != "found":
            if isinstance(self.knots, (str, date)):
                raise InputError(f"found {self.knots!r}", 'Give a list of dates, or "found".', key="knots")
            dates = sorted({_day(knot, "knots") for knot in self.knots})
            if len(dates) != len(self.knots):
                raise InputError("a date is given twice", "Give each knot once.", key="knots")
            self._set(knots=tuple(dates))
            for key in ("at_most", "knot_every"):
                if getattr(self, key) is not None and not (key == "knot_every" and self.slope == "stochastic"):
                    raise InputError(f'{key} belongs to knots = "found"', "Give both.", key=key)
        if self.knots and self.form != "linear":
            raise InputError(f"knots bend a line, not a trend that is {self.form}", "Leave them out.", key="knots")
        for key in ("at_most", "knot_every"):
            number = getattr(self, key)
            if number is not None and (isinstance(number, bool) or not isinstance(number, int) or number < 1):
                raise InputError(f"found {number!r}", "Give a whole number from 1 on.", key=key)

    @property
    def limits(self) -> tuple[Limit, Limit]:
        """The lower and the upper limit of a saturating trend."""
        return limit_of(self.lower, "lower"), limit_of(self.upper, "upper")

    @property
    def found(self) -> bool:
        """Whether its bends are found from the data."""
        return self.knots == "found"

    @property
    def wanders(self) -> bool:
        """Whether its level is a random walk."""
        return self.form == "stochastic"

    @property
    def needs_dynamics(self) -> bool:  # type: ignore[override]
        """Whether noise whose neighbours are alike could be taken for bends."""
        return self.found or self.slope == "stochastic"

    @property
    def holds_level(self) -> bool:  # type: ignore[override]
        """Whether no constant stands beside it."""
        return self.form == "saturating"

    def needs(self) -> tuple[str, ...]:
        """The columns that give limits."""
        return tuple(limit.column for limit in self.limits if limit.column) if self.holds_level else ()

    def first_unknown(self, view: View, axis: Axis) -> tuple[str, Axis] | None:
        """The first period of which a limit is not known."""
        for column in self.needs():
            unknown = np.flatnonzero(~np.isfinite(view.known(column, axis).values))
            if len(unknown):
                return column, axis.part(int(unknown[0]), int(unknown[0]) + 1)
        return None

    @property
    def learning(self) -> Literal["nothing", "more", "again"]:
        """Stated knots stay where they are."""
        return "more" if self.form in ("linear", "none") and not self.found else "again"

    def learn(self, view: View) -> TrendState:
        """Place the knots among the fitted periods.

        Raises
        ------
        InputError
            If a knot lies before the second fitted period: the data could not separate the slopes on both sides. One
            after the last but one is not there yet, and `remarks` notes it.
        """
        rows = view.rows
        last = rows.first + rows.n - 1
        if self.form == "saturating":
            return TrendState(rows.first, last, saturation=saturating(view, *self.limits))
        if self.wanders:
            return self._walk(rows, last)
        if self.found:
            return TrendState(rows.first, last, *self._candidates(rows))
        ordinals = []
        for knot in self.knots:
            at = int(rows.frequency.ordinals(instant_of(knot, rows.frequency))[0])
            if at <= rows.first:
                raise InputError(f"{knot} lies before the fitted {rows.spell()}", "Remove it.", key="knots")
            if at < last:
                ordinals.append(at)
        return TrendState(rows.first, last, tuple(ordinals))

    def _walk(self, rows: Axis, last: int) -> TrendState:
        """Where a stochastic level takes its steps, and where its slope may change."""
        if rows.n < _FEWEST_WALKED:
            raise InputError(
                f"{rows.spell()} are too few to learn how a level wanders", 'Use form = "none" or "linear".', key="form"
            )
        knots, spacing = self._candidates(rows) if self.slope == "stochastic" else ((), 0)
        return TrendState(rows.first, last, knots, spacing, steps=stretches(rows, None))

    def _candidates(self, rows: Axis) -> tuple[tuple[int, ...], int]:
        """Candidate knots, and how far they are apart."""
        usual = max(round(rows.frequency.periods_a_year / 4.0), _CLOSEST, -(-rows.n // _MOST_KNOTS))
        if self.at_most is not None:
            usual = max(1, -(-rows.n // (2 * _MOST_KNOTS)))
        spacing = self.knot_every or usual
        margin = max(round(_MARGIN * rows.n), 2) if self.at_most is not None else spacing
        knots = range(rows.first + margin, rows.first + rows.n - max(margin // 2, 2), spacing)
        if self.at_most is not None:
            knots = range(rows.first + margin, rows.first + rows.n - margin, spacing)
        if len(knots) < 3:
            raise InputError(
                f"{rows.spell()} are too few to find bends in", "State them as dates, or leave them out.", key="knots"
            )
        return tuple(knots), spacing

    def block(self, view: View, axis: Axis, state: TrendState) -> Block:
        """Time in years and what starts at each knot; powers of time; or a curve between the limits."""
        if self.form == "none":
            return Block(np.zeros((axis.n, 0)), ())
        if state.saturation is not None:
            return state.saturation.block(str(self.name), view, axis)
        ordinals = axis.ordinals
        columns = self._columns(ordinals, axis, state)
        if self.wanders:
            return self._wandering(axis, columns, state)
        if self.form == "polynomial":
            powers = ("slope a year", *(f"year to the {power}" for power in range(2, int(self.degree or 0) + 1)))
            names = tuple(f"{self.name}: {power}" for power in powers)
            return Block(columns, names, Readout(names, self._as_powers(axis, state)))
        days = [str(knot) for knot in self.knots[: len(state.knots)]]  # later ones are not there yet
        if self.found:
            starts = axis.frequency.index(axis.frequency.starts(np.array(state.knots, dtype=np.int64)))
            days = [str(day.date()) for day in starts]
        names = (f"{self.name}: slope a year", *(f"{self.name}: slope change at {day}" for day in days))
        if self.found and self.at_most is None:
            group = ("", *([self.group] * len(state.knots)))
            return Block(columns, names, groups=group)
        return Block(columns, names)

    def _wandering(self, axis: Axis, columns: Array, state: TrendState) -> Block:
        """The slope, if there is one, with its changes, and the steps of the level."""
        days = self._days(axis, (*state.steps[1:], *state.knots))
        slopes = [f"{self.name}: slope a year"] if self.slope != "none" else []
        slopes += [f"{self.name}: slope change at {day}" for day in days[len(state.steps) - 1 :]]
        steps = [f"{self.name}: level step to {day}" for day in days[: len(state.steps) - 1]]
        groups = [*([""] if slopes else []), *([self.group] * len(state.knots)), *([self.level_group] * len(steps))]
        return Block(columns, (*slopes, *steps), groups=tuple(groups))

    @staticmethod
    def _days(axis: Axis, ordinals: tuple[int, ...]) -> list[str]:
        starts = axis.frequency.index(axis.frequency.starts(np.array(ordinals, dtype=np.int64)))
        return [str(day.date()) for day in starts]

    @property
    def group(self) -> str:
        """What the small slope changes are called together."""
        return f"{self.name}: slope changes"

    @property
    def level_group(self) -> str:
        """What the steps of a stochastic level are called together."""
        return WalkSteps(f"{self.name}: level steps")

    def future_columns(self, view: View, axis: Axis, state: TrendState) -> tuple[FutureColumns, ...]:
        """Bends, and steps of the level, that the future may hold, as large as those found in the past."""
        if self.wanders:
            return (FutureColumns(steps_ahead(axis, state.steps), self.level_group), *self._later_bends(axis, state))
        return self._later_bends(axis, state) if self.found and self.at_most is None else ()

    def _later_bends(self, axis: Axis, state: TrendState) -> tuple[FutureColumns, ...]:
        if not state.knots:
            return ()
        end = axis.first + axis.n
        later = np.arange(state.knots[-1] + state.spacing, end, state.spacing)
        if not len(later):
            return ()
        time = self._time(axis.ordinals, state)
        columns = np.maximum(time[:, None] - self._time(later, state), 0.0) / axis.frequency.periods_a_year
        return (FutureColumns(columns, self.group),)

    def choice(self, state: TrendState) -> Choice | None:
        """Which of the candidates are bends, where sharp ones are requested."""
        if not (self.found and self.at_most is not None and state.spacing):
            return None
        steps = tuple((i + 1,) for i in range(len(state.knots)))
        return Choice((0,), steps, self.at_most, nested=False, apart=max(1, _apart(state)))

    def chosen(self, state: TrendState, kept: tuple[int, ...]) -> TrendState:
        """The state with some of the candidates."""
        return replace(state, knots=tuple(state.knots[step] for step in kept))

    def remarks(self, view: View, state: TrendState) -> tuple[Finding, ...]:
        """What the analyst should know."""
        later = () if self.found else self.knots[len(state.knots) :]
        if later:
            message = (
                f"The trend has no knot at {' and '.join(map(str, later))}: the periods known at the origin end "
                "before the data could show a change of slope there."
            )
            return (Finding("later knots", "note", message, str(self.name), evidence={"knots": float(len(later))}),)
        if not (self.found and self.at_most is not None):
            return ()
        days = [
            str(day.date())
            for day in view.rows.frequency.index(view.rows.frequency.starts(np.array(state.knots, dtype=np.int64)))
        ]
        noted = f"at {' and '.join(days)}" if days else "nowhere: one slope serves throughout"
        message = f"Looked for up to {self.at_most} bends of the trend; the data are evidence of bends {noted}."
        advice = "Their places have intervals: see offing.trend." if days else ""
        return (Finding("bends", "note", message, str(self.name), advice, {"bends": float(len(days))}),)

    def written(self, view: View, state: TrendState, beta: Array) -> list[Written]:
        """Time in years since the first fitted period, and since each knot; powers of it; or the curve."""
        rows, unit = view.rows, view.rows.frequency.unit
        year = f"a year has {rows.frequency.periods_a_year:.12g} {unit}s"
        since = f"years since {Axis(rows.frequency, state.first, 1).labels()[0]}"
        if self.damping != 1.0:
            end = Axis(rows.frequency, state.last, 1).labels()[0]
            year += f"; after {end} each {unit} counts {self.damping:g} times the one before"
        if state.saturation is not None:
            return state.saturation.written(str(self.name), beta, f"t: {since}, {year}")
        block = self.block(view, rows, state)
        if self.wanders:
            return self._steps_written(view, state, beta, block.names, year)
        if self.form == "polynomial":
            values = self._as_powers(rows, state) @ beta
            powers = ["slope a year", *(f"year to the {i}" for i in range(2, len(values) + 1))]
            return [
                Written(f"{self.name}: {power}", value, f"({since}) to the power {i}; {year}")
                for i, (power, value) in enumerate(zip(powers, values.tolist(), strict=True), 1)
            ]
        texts = [f"{since}; {year}"]
        texts += [f"years since {Axis(rows.frequency, at, 1).labels()[0]}, 0 before; {year}" for at in state.knots]
        return [
            Written(name, value, f"{text}; {value / rows.frequency.periods_a_year:.12g} a {unit}")
            for name, value, text in zip(block.names, beta.tolist(), texts, strict=False)
        ]

    def summands(self, view: View, rows: Rows, state: TrendState, beta: Array) -> list[Summand]:
        """Time in years with the slopes, powers of it, or the curve; the steps of a stochastic level in numbers."""
        axis, years = rows.axis, rows.axis.frequency.periods_a_year
        if self.form == "none" or self.wanders:
            return super().summands(view, rows, state, beta)
        time = rows.facts(f"{self.name}: years", (self._time(axis.ordinals, state) - state.first) / years)
        if state.saturation is not None:
            return [Summand(str(self.name), 1.0, state.saturation.formula(time, view, beta))]
        names = self.block(view, axis, state).names
        if self.form == "polynomial":
            span = max(state.last - state.first, 1) / years
            place, series = 2.0 / span * time - 1.0, np.append(0.0, beta)
            series[0] = -np.polynomial.legendre.legval(-1.0, series)  # zero in the first fitted period
            powers = np.polynomial.legendre.leg2poly(series)
            parts = [
                float(value) * place ** float(i) if i else Constant(float(value)) for i, value in enumerate(powers)
            ]
            return [Summand(str(self.name), 1.0, added(parts))]
        since = [time, *(Extreme(True, time - (at - state.first) / years, Constant(0.0)) for at in state.knots)]
        return [Summand(name, value, each) for name, value, each in zip(names, beta.tolist(), since, strict=True)]

    def _steps_written(
        self, view: View, state: TrendState, beta: Array, names: tuple[str, ...], year: str
    ) -> list[Written]:
        """The slope and its changes as those of a line, and of every step of the level which part is over."""
        rows, slopes = view.rows, len(names) - len(state.steps) + 1
        begins = [Axis(rows.frequency, at, 1).labels()[0] for at in (state.first, *state.knots, *state.steps)]
        texts = [f"years since {begin}{', 0 before' if i else ''}; {year}" for i, begin in enumerate(begins[:slopes])]
        edges = begins[1 + len(state.knots) :]
        sizes = walked([float(state.last)], state.steps)[0]
        texts += [
            f"share of the time from {start} to {end} that is over: 0 before, 1 after; times {size:.12g}"
            for start, end, size in zip(edges, edges[1:], sizes.tolist(), strict=False)
        ]
        return [Written(name, value, text) for name, value, text in zip(names, beta.tolist(), texts, strict=True)]

    @property
    def measured_from(self) -> str:
        """The reference in words."""
        if self.reference is None:
            return "the trend of the last fitted period"
        return f"the trend {'' if self.reference == 'a year before' else 'at '}{self.reference}"

    def reference_on(self, view: View, axis: Axis, state: TrendState) -> Reference:
        """The columns at the period from which the trend is measured."""
        at = self.reference
        if isinstance(at, (int, float)):
            return Reference(np.zeros((1, len(self.block(view, axis.part(0, 1), state).names))), float(at))
        if at == "a year before":
            # Whole periods, or the mean year between them where a year is no whole number of periods.
            ordinals = axis.ordinals - axis.frequency.periods_a_year
        elif at is None:
            ordinals = np.array([float(state.last)])
        else:
            day = instant_of(_day(at, "reference"), axis.frequency)
            ordinals = axis.frequency.ordinals(day).astype(np.float64)
        if state.saturation is not None:
            return Reference(
                np.zeros((len(ordinals), 0)),
                curve=state.saturation.curve(str(self.name), view, axis, np.asarray(ordinals, float)),
            )
        if self.form == "none":
            return Reference(np.zeros((1, 0)))
        return Reference(self._columns(ordinals, axis, state))

    def _time(self, ordinals: np.ndarray, state: TrendState) -> Array:
        """Periods, the steps beyond the last fitted one shortened by the damping."""
        time = ordinals.astype(np.float64)
        if self.damping == 1.0:
            return np.asarray(time)
        ahead = np.maximum(time - state.last, 0.0)
        damped = self.damping * (1.0 - self.damping**ahead) / (1.0 - self.damping)
        return np.asarray(np.minimum(time, state.last) + damped)

    def _columns(self, ordinals: np.ndarray, axis: Axis, state: TrendState) -> Array:
        time, years = self._time(ordinals, state), axis.frequency.periods_a_year
        if self.form == "polynomial":
            # Legendre's polynomials on the fitted periods are near to orthogonal there, powers are not.
            place = 2.0 * (time - state.first) / max(state.last - state.first, 1) - 1.0
            basis = np.polynomial.legendre.legvander(place, int(self.degree or 1))[:, 1:]
            return np.asarray(basis - (-1.0) ** np.arange(1, basis.shape[1] + 1))  # zero in the first fitted period
        starts = np.array([state.first, *state.knots], dtype=np.float64)
        since = time[:, None] - starts
        line = np.column_stack([since[:, :1], np.maximum(since[:, 1:], 0.0)]) / years
        if not self.wanders:
            return line
        return np.hstack([line if self.slope != "none" else line[:, :0], walked(ordinals, state.steps)])

    def _as_powers(self, axis: Axis, state: TrendState) -> Array:
        """The coefficients of powers of the years since the first fitted period, from those of the columns."""
        degree = int(self.degree or 1)
        span = max(state.last - state.first, 1) / axis.frequency.periods_a_year
        place = np.polynomial.Polynomial([-1.0, 2.0 / span])
        powers = np.zeros((degree, degree))
        for j in range(1, degree + 1):
            inner = np.polynomial.Polynomial(np.polynomial.legendre.leg2poly([0.0] * j + [1.0]))(place)
            powers[:j, j - 1] = inner.coef[1 : j + 1]
        return powers


def _apart(state: TrendState) -> int:
    """How many candidates two sharp bends are apart at least."""
    return round(_MARGIN * (state.last - state.first + 1) / state.spacing)


def _day(value: object, key: str) -> str:
    try:
        return pd.Timestamp(value).date().isoformat()  # type: ignore[arg-type]
    except (ValueError, TypeError) as error:
        raise InputError(f"found {value!r}, which is not a date", "Write it as 2023-05-01.", key=key) from error
