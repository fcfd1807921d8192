"""What a term is: `learn`, then `block`."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, ClassVar, Literal, Self

import numpy as np

from offing.base import Finding, InputError, Keywords
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.engine.expressions import Expression, added, scaled
from offing.tables import View
from offing.terms.formulas import Rows, Summand

#: Rows of results that are not terms; a term of this name could not be separated from them.
RESERVED = ("baseline", "constant", "autoregressive error", "log bias correction", "adjustment")


@dataclass(frozen=True)
class Readout:
    """Coefficients for people: `names` (m,) of the functions ``matrix @ beta``, with `matrix` (m, k).

    `base` (k,) is the function that the constant holds, where these are differences from something else than zero.
    """

    names: tuple[str, ...]
    matrix: Array
    base: Array | None = None


@dataclass(frozen=True)
class Curve:
    """Shape parameters of a term: their `names` (s,), `starts` (several, s) and bounds, and the value that they give.

    ``value(θ)`` is what the term adds (n,), and its derivative (n, s). Starts that are a grid show its `sides`.
    """

    names: tuple[str, ...]
    starts: Array
    lower: Array
    upper: Array
    value: Callable[[Array], tuple[Array, Array]]
    sides: tuple[int, ...] = ()


@dataclass(frozen=True)
class Shaped:
    """Columns that depend on shape parameters: these, and the columns (n, m) with their derivatives (n, m, s).

    ``columns(θ)`` gives both; `many`, if there is a faster way, the columns (S, n, m) of several θ (S, s). Starts that
    are a grid show its `sides`, the last parameter changing fastest. `readout` is what people are shown of θ, where
    that is not θ itself.
    """

    names: tuple[str, ...]
    starts: Array
    lower: Array
    upper: Array
    columns: Callable[[Array], tuple[Array, Array]]
    sides: tuple[int, ...] = ()
    many: Callable[[Array], Array] | None = None
    readout: Readout | None = None

    def at_many(self, thetas: Array) -> Array:
        """Columns (S, n, m) at several θ (S, s)."""
        if self.many is not None:
            return self.many(thetas)
        # The search goes along one term's grid while the others stay.
        unlike, back = np.unique(thetas, axis=0, return_inverse=True)
        return np.array([self.columns(theta)[0] for theta in unlike])[back.ravel()]


#: The group of coefficients whose spread is stated, and need not be learnt.
STATED = "stated"


class WalkSteps(str):
    """The name of a group of steps of a random walk, which can take up all that the data hold."""

    __slots__ = ()


@dataclass(frozen=True)
class Constraints:
    """What is asked of coefficients (k,) beforehand: bounds, a value to be shrunk towards, and their spread's scale."""

    lower: tuple[float, ...]
    upper: tuple[float, ...]
    towards: tuple[float, ...]
    scales: tuple[float, ...]

    @classmethod
    def none(cls, k: int) -> Constraints:
        """Nothing."""
        return cls((-np.inf,) * k, (np.inf,) * k, (0.0,) * k, (1.0,) * k)


@dataclass(frozen=True)
class Block:
    """A term's columns (n, k) for some periods, NaN where an unknown value is needed, and their names (k,).

    `readout` is what the table of coefficients shows, where that is not the columns' own coefficients. `groups` (k,)
    names the group with which a coefficient is shrunk towards zero, an empty text where it is free; empty means all
    are. `constraints` say more of the coefficients; `rising` (m, k) are functions of them that must not be negative.
    `curve` adds what no column can, or gives the columns by shape parameters; `columns` are then those at their start.
    """

    columns: Array
    names: tuple[str, ...]
    readout: Readout | None = None
    groups: tuple[str, ...] = ()
    curve: Curve | Shaped | None = None
    constraints: Constraints | None = None
    rising: Array | None = None

    @property
    def shrinkage_groups(self) -> tuple[str, ...]:
        """The group (k,) of every column."""
        return self.groups or ("",) * len(self.names)


@dataclass(frozen=True)
class Written:
    """A summand of the equation: a `coefficient` times what `name` stands for, which `text` defines in full."""

    name: str
    coefficient: float
    text: str


@dataclass(frozen=True)
class FutureColumns:
    """Columns (n, m) that only the future has, whose coefficients are known by their group's spread alone."""

    columns: Array
    group: str


@dataclass(frozen=True)
class Reference:
    """What a term's contributions are measured from: its value at `columns` (1, k) or (n, k), plus `offset`.

    None for `columns` stands for their mean over the fit's rows. `curve` is that of the same periods.
    """

    columns: Array | None
    offset: float = 0.0
    curve: Curve | Shaped | None = None


@dataclass(frozen=True)
class Choice:
    """Columns among which the data choose: those of `always`, and some of the `steps`, each a set of columns.

    `nested`: a number of the first steps, from `least` to `at_most`. Else any of them up to `at_most`, at least `apart`
    places from each other; the place of each then counts as one more thing that is estimated.
    """

    always: tuple[int, ...]
    steps: tuple[tuple[int, ...], ...]
    at_most: int
    nested: bool = True
    least: int = 0
    apart: int = 1


class Term(Keywords, ABC):
    """A piece of a model.

    `learn` sees only what the fit may see and returns a frozen state; `block` makes columns from it for any
    periods. A column holds no other statistic of the sample, so nothing can leak from later data.
    """

    name: str | None

    #: Whether its columns are shares of the level (constant, trends, drivers at their mean) instead of sums beside it.
    multiplies_trend: ClassVar[bool] = False
    #: Whether it follows the target's own course, as trend, season and own lags do, and no day or driver from outside.
    own_course: ClassVar[bool] = False
    #: Whether it is part of what such factors multiply.
    states_level: ClassVar[bool] = False
    #: Whether it is measured from its mean over the fitted rows, and has a part in the level with that.
    centred: ClassVar[bool] = False
    #: Whether it states the target's level by itself, so that no constant stands beside it.
    holds_level: ClassVar[bool] = False
    #: Whether its columns are the target's own past, through which all other terms act on.
    recursive: ClassVar[bool] = False
    #: Whether a treatment of the data set it, and no analyst: fits that learn treatments again make it again.
    from_treatment: ClassVar[bool] = False
    #: Whether it learns from the noise of neighbouring periods, which must then not be taken for independent.
    needs_dynamics: ClassVar[bool] = False
    #: Whether a column of data that an analyst plans or changes acts through it.
    is_driver: ClassVar[bool] = False
    #: What of a series' own course it is, where models are put together from such parts.
    role: ClassVar[Literal["trend", "season", ""]] = ""

    def __post_init__(self) -> None:
        if not self.name or not self.name.strip():
            raise InputError("a term needs a name", key="name")
        if self.name in RESERVED:
            raise InputError(
                f"{self.name!r} is the name of a row of the results and cannot name a term",
                f"Choose another name than {', '.join(RESERVED)}.",
                key="name",
            )

    @property
    def learning(self) -> Literal["nothing", "more", "again"]:
        """How what it learns of the same first period depends on the last one.

        ``nothing``: its columns are the same whatever the last period is. ``more``: if two last periods give the same
        columns, so do all between them. ``again``: nothing can be said.
        """
        return "again"

    @abstractmethod
    def learn(self, view: View) -> Any:
        """Learn from the periods ``view.rows`` what `block` needs."""

    @abstractmethod
    def block(self, view: View, axis: Axis, state: Any) -> Block:
        """Columns for the periods of `axis`."""

    @abstractmethod
    def reference_on(self, view: View, axis: Axis, state: Any) -> Reference:
        """What the contributions on `axis` are measured from."""

    @property
    @abstractmethod
    def measured_from(self) -> str:
        """The reference in words, as part of a list."""

    def measured_in(self, view: View) -> str:
        """The same where it depends on the fitted periods."""
        return self.measured_from

    def first_unknown(self, view: View, axis: Axis) -> tuple[str, Axis] | None:
        """The first value that columns on `axis` need and that is unknown: its column of data and its period."""
        return None

    def remarks(self, view: View, state: Any) -> tuple[Finding, ...]:
        """What the analyst should know about the term in this fit."""
        return ()

    def remarks_ahead(self, view: View, axis: Axis, state: Any) -> tuple[Finding, ...]:
        """What the analyst should know about the term in the periods ahead."""
        return ()

    def needs(self) -> tuple[str, ...]:
        """The columns of data that this term looks at."""
        return ()

    @property
    def phi_places(self) -> tuple[int, ...]:
        """Of what is recursive, the place of each column's coefficient in the recursion, from 0 on."""
        return ()

    def at_horizon(self, h: int) -> Term:
        """The term in an equation of its own for the h-th period ahead, which knows the target at the origin only."""
        return self

    def with_known_lags(self, view: View, axis: Axis) -> Term:
        """The term with lags so long that the one period of `axis` needs only what is known."""
        return self

    @property
    def parts(self) -> tuple[Term, ...]:
        """The other terms of the model whose product it is; none for a term by itself."""
        return ()

    def among(self, terms: Mapping[str, Term]) -> Term:
        """The term with the `parts` that it has among a model's terms."""
        return self

    @property
    def shares(self) -> bool:
        """Whether what a product adds goes to its parts instead of a row of its own."""
        return False

    @property
    def conditional(self) -> bool:
        """Whether the last of its parts is a condition: its reference is how often that is met."""
        return False

    def part_blocks(self, view: View, axis: Axis, state: Any) -> tuple[Block, ...]:
        """The blocks whose product it is."""
        return (self.block(view, axis, state),)

    def part_columns(
        self, view: View, rows: Rows, state: Any, theta: Array
    ) -> tuple[tuple[list[Summand], list[Summand]], str]:
        """The columns of the terms whose product it is, and what of them does not follow its drivers."""
        raise NotImplementedError(f"'{self.name}' is no product")

    def product(self, first: Block, second: Block) -> Block:
        """The block that the blocks of two parts make."""
        raise NotImplementedError(f"'{self.name}' is no product")

    @property
    def borrows(self) -> tuple[str, ...]:
        """The terms whose shape parameters are its own as well, in the order in which its columns take them."""
        return ()

    def needed(self, view: View, axis: Axis, reference: str) -> Axis:
        """The periods, of its own frequency, of a column that columns on `axis` need and that are not past by then."""
        return view.native(reference, axis)

    def looked_at(self, view: View, axis: Axis, state: Any, reference: str) -> tuple[str, Array] | None:
        """What it looks at instead of a column's own values, such as their changes: its name and the values (n,)."""
        return None

    def written(self, view: View, state: Any, beta: Array) -> list[Written]:
        """Its summands of the equation at its coefficients (m,), shape parameters last.

        With the definitions alone everything can be computed again, for any period.
        """
        names = self.block(view, view.rows, state).names
        return [Written(name, value, "") for name, value in zip(names, beta.tolist(), strict=False)]

    def looks_back(self, view: View) -> int:
        """How many of the target's periods before its own a value of it needs."""
        return 0

    def own_periods(self, view: View, whole: Axis) -> Axis | None:
        """The periods of another frequency that its values in the periods `whole` draw on."""
        return None

    def summands(self, view: View, rows: Rows, state: Any, beta: Array) -> list[Summand]:
        """What it adds at its coefficients (m,), shape parameters last, as expressions of its drivers' columns.

        A term that looks at no column adds what the calendar says, in numbers.
        """
        block = self.block(view, rows.axis, state)
        m, columns, curve = len(block.names), block.columns, block.curve
        if isinstance(curve, Shaped):
            columns = curve.columns(beta[m:])[0]
        fixed = f"{self.name} is given as values, and does not follow its columns" if self.needs() else ""
        found = [
            Summand(name, value, rows.facts(name, column), fixed)
            for name, value, column in zip(block.names, beta.tolist(), columns.T, strict=False)
        ]
        if isinstance(curve, Curve):
            found.append(Summand(str(self.name), 1.0, rows.facts(str(self.name), curve.value(beta[m:])[0]), fixed))
        return found

    def slopes(self, view: View, rows: Rows, state: Any, beta: Array) -> list[Expression] | None:
        """The derivative of what it adds by each of its coefficients; None where that has no expression.

        What is linear in them is its own derivative: what it adds at one of them alone.
        """
        block = self.block(view, rows.axis, state)
        if block.curve is not None:
            return None
        found = []
        for unit in np.eye(len(block.names)):
            parts = [each for each in self.summands(view, rows, state, unit) if each.coefficient]
            if any(each.fixed for each in parts):
                return None
            found.append(added([scaled(each.coefficient, each.expression) for each in parts]))
        return found

    def reference_effect(self, view: View, state: Any, beta: Array) -> float:
        """The part of its coefficients (m,) that belongs to the constant of the equation."""
        return 0.0

    @property
    def holiday_table(self) -> Any:
        """The table of holidays that it reads; None where it reads none."""
        return None

    def files(self) -> tuple[Path, ...]:
        """The files of its own that it reads."""
        return ()

    def within(self, folder: Path) -> Self:
        """The same term with its files' paths taken from `folder`."""
        return self

    def future_columns(self, view: View, axis: Axis, state: Any) -> tuple[FutureColumns, ...]:
        """What `axis` holds that the fitted periods could not: the term may change there as it did before."""
        return ()

    def choice(self, state: Any) -> Choice | None:
        """What about its columns the data are to decide."""
        return None

    def chosen(self, state: Any, kept: tuple[int, ...]) -> Any:
        """The state with the steps of its `choice` that are `kept`."""
        return state

    def _set(self, **values: object) -> None:
        """Set fields of a frozen term while it is being made."""
        for key, value in values.items():
            object.__setattr__(self, key, value)


@contextmanager
def naming_term(term: Term) -> Iterator[None]:
    """Let an error that arises inside say which term it is about."""
    try:
        yield
    except InputError as error:
        error.term = error.term or term.name
        raise


def file_of(table: object) -> tuple[Path, ...]:
    """The path of a table that is a file."""
    return (Path(table),) if isinstance(table, (str, Path)) else ()


def names_of(names: object, key: str) -> tuple[str, ...]:
    """A tuple of texts, from a list or a tuple of them."""
    if isinstance(names, str) or not isinstance(names, (list, tuple)):
        raise InputError(f"found {names!r}", "Give a list.", key=key)
    return tuple(str(each) for each in names)


def whole_numbers(numbers: object, key: str, least: int = 0) -> tuple[int, ...]:
    """A tuple of different whole numbers of at least `least`, from a list or a tuple of them."""
    if not isinstance(numbers, (list, tuple, range)) or any(
        isinstance(each, bool) or not isinstance(each, (int, np.integer)) or each < least for each in numbers
    ):
        raise InputError(f"found {numbers!r}", f"Give a list of whole numbers from {least} on.", key=key)
    if len(set(numbers)) != len(numbers):
        raise InputError(f"found {numbers!r}, which repeats a number", "Give each once.", key=key)
    return tuple(int(each) for each in numbers)
