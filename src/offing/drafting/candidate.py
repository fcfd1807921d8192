"""What a draft chooses among: ingredients of a model, each in one of a few forms."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from offing.model import Model
from offing.terms import Driver, Term, Trend
from offing.terms.transform_step import Stated

#: Share of the slope that is left at the horizon where a trend is damped.
_LEFT = 0.25


@dataclass(frozen=True)
class Scale:
    """The scale on which terms add up: the level, or the logarithm with an offset for targets that can be zero.

    `per` is what amounts are divided by first: nothing, the days of a period, or its working days in a `country`.
    """

    name: Literal["level", "log"] = "level"
    offset: float = 0.0
    per: Literal["", "day", "working day"] = ""
    country: str | None = None

    @property
    def words(self) -> str:
        """In words."""
        per = f" of the amount per {self.per}" if self.per else ""
        if self.name == "level":
            return f"amounts per {self.per} add up" if self.per else "amounts add up"
        return f"effects are percentages{per}" + (f" (of the target plus {self.offset:g})" if self.offset else "")

    @property
    def factors(self) -> tuple[Stated, ...]:
        """The division, as a transformation of the target."""
        if not self.per:
            return ()
        return ({"per working day": self.country},) if self.country and self.per != "day" else (f"per {self.per}",)


@dataclass(frozen=True)
class Structure:
    """How the level moves and the noise carries on.

    Attributes
    ----------
    name
        Its short name.
    words
        What it says of the target.
    size
        How rich it is: a step to a richer one needs more support.
    trend
        Keywords of a `Trend`, None for no trend.
    damped
        Whether the slope dies away beyond the data.
    errors
        How the noise is taken.
    change
        What is differenced: nothing, the neighbouring ``period``, or the same place of the ``season`` before.
    seasonal
        Whether noise comes back after a season as well.
    """

    name: str
    words: str
    size: int
    trend: dict[str, Any] | None = field(default=None, hash=False)
    damped: bool = False
    errors: Literal["independent", "ar"] = "ar"
    change: Literal["", "period", "season"] = ""
    seasonal: bool = False


#: The structures that are tried, the plainest first.
STRUCTURES: tuple[Structure, ...] = (
    Structure("level", "no trend: the level stays, and a deviation dies away", 0),
    Structure("line", "a straight trend", 1, {}),
    Structure("damped line", "a straight trend that dies away beyond the data", 1, {}, damped=True),
    Structure(
        "level, noise that comes back", "no trend; deviations die away, and come back after a season", 1, seasonal=True
    ),
    Structure(
        "line, noise that comes back",
        "a straight trend; deviations die away, and come back after a season",
        2,
        {},
        seasonal=True,
    ),
    Structure(
        "wandering level",
        "a level that wanders, and stays where it is now",
        0,
        {"form": "stochastic"},
        errors="independent",
    ),
    Structure(
        "wandering level, noise that carries on",
        "a level that wanders beside noise that dies away",
        2,
        {"form": "stochastic"},
    ),
    Structure(
        "wandering level with a slope",
        "a level that wanders along a steady slope",
        2,
        {"form": "stochastic", "slope": "constant"},
        errors="independent",
    ),
    Structure("changes over a season", "what changes against the same time one season before", 2, change="season"),
    Structure("changes", "what changes from one period to the next", 2, change="period"),
    Structure("bends", "a trend whose slope changes little by little", 3, {"knots": "found"}),
    Structure(
        "damped bends",
        "a trend whose slope changes little by little, and dies away beyond the data",
        3,
        {"knots": "found"},
        damped=True,
    ),
    Structure(
        "wandering level and slope",
        "a level and a slope that both wander",
        4,
        {"form": "stochastic", "slope": "stochastic"},
        errors="independent",
    ),
)

LEVEL, LINE = STRUCTURES[:2]
WANDERING = next(each for each in STRUCTURES if each.name == "wandering level")


@dataclass(frozen=True, eq=False)
class Ingredients:
    """The terms that a draft may use, made once, so that their columns are made once as well.

    Attributes
    ----------
    target
        The target's column.
    horizon
        How many periods are forecast, on which damping depends.
    season_length
        Periods of the cycle over which changes are taken.
    knot_every
        How far candidate knots are apart.
    faster
        How many of its periods a period of the target has, of columns of higher frequency.
    """

    target: str
    horizon: int
    season_length: int
    knot_every: int
    faster: Mapping[str, int] = field(default_factory=dict)
    trends: dict[str, Trend] = field(default_factory=dict)
    changes: dict[tuple[int, int], Driver] = field(default_factory=dict)

    def trend(self, structure: Structure, knots: Sequence[str] = ()) -> Trend | None:
        """The trend of a structure; of a line with stated knots."""
        if structure.trend is None:
            return None
        key = f"{structure.name} {' '.join(knots)}"
        if key not in self.trends:
            keys = dict(structure.trend)
            if structure.damped:
                keys["damping"] = round(_LEFT ** (1.0 / max(self.horizon, 1)), 4)
            if keys.get("knots") == "found" or keys.get("slope") == "stochastic":
                keys["knot_every"] = self.knot_every
            elif knots and "form" not in keys:
                keys["knots"] = list(knots)
            self.trends[key] = Trend(**keys)
        return self.trends[key]

    def lag(self, structure: Structure) -> int:
        """Over how many periods the target's changes are taken; 0 for none."""
        return {"": 0, "period": 1, "season": self.season_length}[structure.change]

    def transform(self, structure: Structure) -> tuple[Stated, ...]:
        """What the target is transformed to."""
        lag = self.lag(structure)
        return () if not lag else ("difference",) if lag == 1 else ({"difference": lag},)

    def driver(self, term: Term, structure: Structure) -> Term:
        """A driver beside changes of the target: its own changes. A form of it, such as a base, stays as it is."""
        lag = self.lag(structure)
        if (
            not lag
            or not isinstance(term, Driver)
            or any(each is not None for each in (term.above, term.below, term.carry_over, term.saturation))
        ):
            return term
        key = (id(term), lag)
        if key not in self.changes:
            over = lag * self.faster.get(term.data, 1)
            step: Stated = "difference" if over == 1 else {"difference": over}
            self.changes[key] = replace(term, transform=(*term.transform, step))
        return self.changes[key]


@dataclass(frozen=True)
class Candidate:
    """One choice of everything.

    Attributes
    ----------
    scale, structure
        How terms go together, and how the level moves.
    seasons, days, drivers, events
        Terms by kind.
    knots
        Dates of sharp bends.
    window
        From how many of the newest periods it learns; all where None.
    """

    scale: Scale = Scale()
    structure: Structure = LEVEL
    seasons: tuple[Term, ...] = ()
    days: tuple[Term, ...] = ()
    drivers: tuple[Term, ...] = ()
    events: tuple[Term, ...] = ()
    knots: tuple[str, ...] = ()
    window: int | None = None

    @property
    def key(self) -> tuple[object, ...]:
        """What separates candidates."""
        own = (*self.seasons, *self.days, *self.drivers, *self.events)
        return (self.scale, self.structure.name, self.knots, self.window, *(id(term) for term in own))

    def terms(self, ingredients: Ingredients) -> tuple[Term, ...]:
        """All terms, the trend first."""
        trend = ingredients.trend(self.structure, self.knots)
        drivers = (ingredients.driver(term, self.structure) for term in self.drivers)
        own = (*self.seasons, *self.days, *drivers, *self.events)
        return own if trend is None else (trend, *own)

    def model(self, ingredients: Ingredients, name: str = "main") -> Model:
        """The model."""
        structure = self.structure
        return Model(
            ingredients.target,
            self.terms(ingredients),
            self.scale.name,
            name,
            offset=self.scale.offset,
            transform=(*self.scale.factors, *ingredients.transform(structure)),
            errors=structure.errors,
            window=self.window,
            seasonal_lag=ingredients.season_length if structure.seasonal else None,
        )
