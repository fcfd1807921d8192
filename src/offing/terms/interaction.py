"""Interactions: an effect that depends on another term."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from copy import copy
from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np

from offing.base import InputError, nearest
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.engine.expressions import Beyond, added, scaled
from offing.tables import View
from offing.terms.driver import Driver
from offing.terms.formulas import Rows, Summand
from offing.terms.season import Season
from offing.terms.term import Block, Reference, Shaped, Term, Written
from offing.terms.trend import Trend


@dataclass(frozen=True)
class Interaction(Term):
    """Two terms that act more, or less, together than each by itself: the products of their columns.

    Both terms must be in the model as well. The interaction has a contribution of its own, from that of both at their
    references; `shared`, it is added to theirs, half of it by each one's own change.

    Parameters
    ----------
    of
        The names of two terms.
    above, below
        For a second term that is a driver: the first acts only while that is beyond this value.
    shared
        Whether contributions go to the two terms instead of a row of their own.
    name
        By default both names.

    Raises
    ------
    InputError
        If a term is not in the model, or cannot be multiplied: one with a shape that is estimated, coefficients drawn
        to zero, or the target's own lags; and a season with a trend, for which there is ``grows_with``.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=8, freq="D")
    >>> rain, fest = np.tile([0.0, 1.0], 4), np.repeat([0.0, 1.0], 4)
    >>> data = pd.DataFrame({"sold": 9.0 - rain + 2.0 * fest - 3.0 * rain * fest, "rain": rain, "fest": fest}, days)
    >>> terms = [of.Driver("rain"), of.Driver("fest"), of.Interaction(["rain", "fest"])]
    >>> of.Model("sold", terms=terms).fit(data).coefficients["coefficient"].round(6).tolist()
    [9.0, -1.0, 2.0, -3.0]
    """

    of: Sequence[str] = ()
    above: float | None = None
    below: float | None = None
    shared: bool = False
    name: str | None = None
    bound: tuple[Term, ...] = field(default=(), init=False, repr=False)
    own_course: ClassVar[bool] = True

    def __post_init__(self) -> None:
        if isinstance(self.of, str) or len(self.of) != 2 or self.of[0] == self.of[1]:
            raise InputError(f"found {self.of!r}", "Give the names of two terms.", key="of")
        self._set(of=tuple(self.of))
        if self.name is None:
            self._set(name=" x ".join(self.of))
        super().__post_init__()
        for key in ("above", "below"):
            value = getattr(self, key)
            if value is not None and (isinstance(value, bool) or not np.isfinite(value)):
                raise InputError(f"found {value!r}", "Give a number.", key=key)
        if self.above is not None and self.below is not None:
            raise InputError("it acts above a value or below one", "Give one of them.", key="above")
        if self.shared and self.conditional:
            raise InputError(
                "an effect with a condition belongs to the first term alone", "Leave out shared.", key="shared"
            )

    @property
    def parts(self) -> tuple[Term, ...]:
        """The two terms, once a model has them."""
        return self.bound

    @property
    def borrows(self) -> tuple[str, ...]:
        """The terms with an estimated base or power, which acts in the products as it does in the term itself."""
        return tuple(str(term.name) for term in self.parts if isinstance(term, Driver) and term.shaped)

    @property
    def shares(self) -> bool:
        """Whether what it adds goes to its two terms."""
        return self.shared

    @property
    def conditional(self) -> bool:
        """Whether the second term is a condition."""
        return self.above is not None or self.below is not None

    def among(self, terms: Mapping[str, Term]) -> Interaction:
        """The same term with the two terms that it multiplies.

        Raises
        ------
        InputError
            If there is no such term, or it cannot be multiplied.
        """
        found = []
        for name in self.of:
            if name not in terms:
                raise InputError(f"there is no term {name!r}", nearest(name, terms), key="of")
            term = terms[name]
            if term.recursive or isinstance(term, Interaction) or term.multiplies_trend or term.holds_level:
                raise InputError(f"'{name}' is a term that cannot be multiplied", "Use another one.", key="of")
            found.append(term)
        if {type(each) for each in found} == {Season, Trend}:
            raise InputError(
                "a season that grows with the trend is a season's own affair",
                'State grows_with = "trend" in the season; on the log scale it does so by itself.',
                key="of",
            )
        if self.conditional and not isinstance(found[1], Driver):
            raise InputError(
                f"'{self.of[1]}' is no driver, which could be above or below", "Name a driver second.", key="of"
            )
        found_in = copy(self)
        found_in._set(bound=tuple(found))
        return found_in

    def learn(self, view: View) -> tuple[Any, ...]:
        """What both terms learn."""
        states = tuple(term.learn(view) for term in self.parts)
        for term, state in zip(self.parts, states, strict=True):
            block = term.block(view, view.rows, state)
            shaped = isinstance(block.curve, Shaped)
            if (
                (block.curve is not None and not shaped)
                or any(block.shrinkage_groups)
                or term.choice(state) is not None
            ):
                raise InputError(
                    f"'{term.name}' has columns that are estimated or shrunk towards zero, which cannot be multiplied",
                    "State its shape, knots or harmonics.",
                    key="of",
                )
            if shaped and (self.shared or (self.conditional and term is self.parts[1])):
                raise InputError(
                    f"the shape of '{term.name}' is estimated, so that its interaction has a row of its own",
                    "Leave out shared, above and below; or state the shape.",
                    key="of",
                )
        return states

    def part_blocks(self, view: View, axis: Axis, states: tuple[Any, ...]) -> tuple[Block, Block]:
        """The blocks of both terms; a condition as a column of ones and zeros."""
        first, second = (term.block(view, axis, state) for term, state in zip(self.parts, states, strict=True))
        if self.conditional:
            values = second.columns[:, :1]
            at = float(self.above if self.above is not None else self.below or 0.0)
            met = values > at if self.above is not None else values < at
            limit = f"{'above' if self.above is not None else 'below'} {at:g}"
            second = Block(np.where(np.isnan(values), np.nan, met), (f"{second.names[0]} {limit}",))
        return first, second

    def block(self, view: View, axis: Axis, state: tuple[Any, ...]) -> Block:
        """The product of every column of one with every column of the other."""
        return self.product(*self.part_blocks(view, axis, state))

    def product(self, first: Block, second: Block) -> Block:
        """The products of their columns, by the shape parameters of either."""
        names = tuple(f"{one} x {other}" for one in first.names for other in second.names)
        return Block(multiplied(first.columns, second.columns), names, curve=crossed(first, second))

    def written(self, view: View, state: tuple[Any, ...], beta: Array) -> list[Written]:
        """The products of what both terms are written with."""
        blocks = self.part_blocks(view, view.rows, state)
        m, p = (len(block.names) for block in blocks)
        products, shapes = beta[: m * p].reshape(m, p), iter(beta[m * p :])
        names, spans = [], []
        for term, own, block in zip(self.parts, state, blocks, strict=True):
            if self.conditional and term is self.parts[1]:
                names.append(list(block.names))
                spans.append(np.eye(1))
                continue
            theta = [next(shapes) for _ in range(len(block.curve.names))] if isinstance(block.curve, Shaped) else []
            units = [term.written(view, own, np.append(unit, theta)) for unit in np.eye(len(block.names))]
            names.append([part.name for part in units[0]])
            spans.append(np.array([[part.coefficient for part in unit] for unit in units]))
        values = spans[0].T @ products @ spans[1]
        texts = [f"[{name}]" for name in names[1]]
        if self.conditional:
            first = self.parts[1].block(view, view.rows, state[1])
            watched = self.parts[1].written(view, state[1], np.ones(len(first.names)))[0].text
            limit = f"above {self.above:g}" if self.above is not None else f"below {self.below:g}"
            texts = [f"(1 while {watched} is {limit}, else 0)"]
        return [
            Written(f"{one} x {other}", float(values[i, k]), f"[{one}] * {text}")
            for i, one in enumerate(names[0])
            for k, (other, text) in enumerate(zip(names[1], texts, strict=True))
        ]

    def looks_back(self, view: View) -> int:
        """As far as either of its terms does."""
        return max((term.looks_back(view) for term in self.parts), default=0)

    def part_columns(
        self, view: View, rows: Rows, state: tuple[Any, ...], theta: Array
    ) -> tuple[tuple[list[Summand], list[Summand]], str]:
        """The columns of both terms, and what of them does not follow its drivers."""
        blocks, shapes = self.part_blocks(view, rows.axis, state), iter(theta.tolist())
        found, fixed = [], ""
        for term, own, block in zip(self.parts, state, blocks, strict=True):
            watched = self.conditional and term is self.parts[1]
            names = term.block(view, rows.axis, own).names if watched else block.names
            count = len(block.curve.names) if isinstance(block.curve, Shaped) else 0
            bent = [next(shapes) for _ in range(count)]
            columns = []
            for name, unit in zip(names, np.eye(len(names)), strict=True):
                parts = [each for each in term.summands(view, rows, own, np.append(unit, bent)) if each.coefficient]
                fixed = fixed or next((each.fixed for each in parts if each.fixed), "")
                whole = added([scaled(each.coefficient, each.expression) for each in parts])
                columns.append(Summand(name, 1.0, whole))
            if watched:
                at = float(self.above if self.above is not None else self.below or 0.0)
                met = Beyond(columns[0].expression, at, self.above is not None)
                columns = [Summand(block.names[0], 1.0, met)]
            found.append(columns)
        return (found[0], found[1]), fixed

    def summands(self, view: View, rows: Rows, state: tuple[Any, ...], beta: Array) -> list[Summand]:
        """The products of the columns of both terms."""
        m, p = (len(block.names) for block in self.part_blocks(view, rows.axis, state))
        (first, second), fixed = self.part_columns(view, rows, state, beta[m * p :])
        values = beta[: m * p].reshape(m, p)
        return [
            Summand(f"{a.name} x {b.name}", float(values[i, j]), a.expression * b.expression, fixed)
            for i, a in enumerate(first)
            for j, b in enumerate(second)
        ]

    def needs(self) -> tuple[str, ...]:
        """What both terms look at."""
        return tuple(dict.fromkeys(column for term in self.parts for column in term.needs()))

    def needed(self, view: View, axis: Axis, reference: str) -> Axis:
        """What either of them needs."""
        own = [term.needed(view, axis, reference) for term in self.parts if reference in term.needs()]
        first, last = min(each.first for each in own), max(each.first + each.n for each in own)
        return Axis(own[0].frequency, first, last - first)

    def first_unknown(self, view: View, axis: Axis) -> tuple[str, Axis] | None:
        """The first value that either of them lacks."""
        return next((found for term in self.parts if (found := term.first_unknown(view, axis)) is not None), None)

    @property
    def measured_from(self) -> str:
        """The reference in words: that of both."""
        return ", ".join(dict.fromkeys(term.measured_from for term in self.parts))

    def measured_in(self, view: View) -> str:
        """The references of its terms."""
        return ", ".join(dict.fromkeys(term.measured_in(view) for term in self.parts))

    def reference_on(self, view: View, axis: Axis, state: tuple[Any, ...]) -> Reference:
        """The product of both references; where one is a mean over the fit's rows, the fit knows it."""
        return Reference(None)


def multiplied(first: Array, second: Array) -> Array:
    """Products (n, a·b) of every column (n, a) with every column (n, b)."""
    return np.asarray((first[:, :, None] * second[:, None, :]).reshape(len(first), -1))


def crossed(first: Block, second: Block) -> Shaped | None:
    """The products of the columns of two blocks by the shape parameters of either; None where none has any.

    The parameters are those of the first block and then those of the second; d(ab) = da b + a db.
    """
    shaped = [block.curve for block in (first, second) if isinstance(block.curve, Shaped)]
    if not shaped:
        return None
    sizes = [len(block.curve.names) if isinstance(block.curve, Shaped) else 0 for block in (first, second)]

    def columns(theta: Array) -> tuple[Array, Array]:
        (a, by_a), (b, by_b) = _at(first, theta[: sizes[0]]), _at(second, theta[sizes[0] :])
        n, m = len(a), a.shape[1] * b.shape[1]
        own = (by_a[:, :, None, :] * b[:, None, :, None]).reshape(n, m, sizes[0])
        other = (a[:, :, None, None] * by_b[:, None, :, :]).reshape(n, m, sizes[1])
        return multiplied(a, b), np.concatenate([own, other], axis=2)

    starts = np.concatenate([curve.starts[0] for curve in shaped])[None]
    return Shaped(
        tuple(name for curve in shaped for name in curve.names),
        starts,
        np.concatenate([curve.lower for curve in shaped]),
        np.concatenate([curve.upper for curve in shaped]),
        columns,
    )


def _at(block: Block, theta: Array) -> tuple[Array, Array]:
    """A block's columns (n, m) at some parameters, and their derivatives (n, m, s)."""
    if isinstance(block.curve, Shaped):
        return block.curve.columns(theta)
    return block.columns, np.zeros((*block.columns.shape, 0))
