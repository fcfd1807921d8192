"""What a value of a period is made of, as a tree: computed here, or written as a formula of another program."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array

#: Longer sums are written as sums of sums: programs limit the length of a formula.
_MOST_SUMMANDS = 60


@dataclass(frozen=True, eq=False)
class Expression:
    """A value for each row of a table. Arithmetic of expressions gives expressions."""

    def __add__(self, other: Expression | float) -> Expression:
        return Arithmetic("+", self, _made(other))

    def __radd__(self, other: float) -> Expression:
        return Arithmetic("+", _made(other), self)

    def __sub__(self, other: Expression | float) -> Expression:
        return Arithmetic("-", self, _made(other))

    def __rsub__(self, other: float) -> Expression:
        return Arithmetic("-", _made(other), self)

    def __mul__(self, other: Expression | float) -> Expression:
        return Arithmetic("*", self, _made(other))

    def __rmul__(self, other: float) -> Expression:
        return Arithmetic("*", _made(other), self)

    def __truediv__(self, other: Expression | float) -> Expression:
        return Arithmetic("/", self, _made(other))

    def __rtruediv__(self, other: float) -> Expression:
        return Arithmetic("/", _made(other), self)

    def __pow__(self, exponent: Expression | float) -> Expression:
        return Arithmetic("^", self, _made(exponent))

    @property
    def parts(self) -> tuple[Expression, ...]:
        """The expressions that it is made of."""
        return tuple(value for each in fields(self) if isinstance(value := getattr(self, each.name), Expression))


@dataclass(frozen=True, eq=False)
class Constant(Expression):
    """The same number in every row."""

    value: float


@dataclass(frozen=True, eq=False)
class Coefficient(Expression):
    """A number that was estimated, by its name."""

    name: str
    value: float


@dataclass(frozen=True, eq=False)
class Input(Expression):
    """A column of the table."""

    column: str


@dataclass(frozen=True, eq=False)
class Facts(Expression):
    """Numbers by row that nothing in the table changes, such as what the calendar says; NaN where none is known."""

    name: str
    values: Array


@dataclass(frozen=True, eq=False)
class Named(Expression):
    """What an earlier step came to."""

    name: str


@dataclass(frozen=True, eq=False)
class Arithmetic(Expression):
    """Two values added, subtracted, multiplied, divided, or one to the power of the other."""

    sign: Literal["+", "-", "*", "/", "^"]
    left: Expression
    right: Expression


@dataclass(frozen=True, eq=False)
class Call(Expression):
    """A function of a value; ``growth`` is (e^x − 1) / x, 1 at zero, which the logarithmic mean needs."""

    function: Literal["exp", "ln", "sin", "cos", "abs", "growth"]
    of: Expression


@dataclass(frozen=True, eq=False)
class Extreme(Expression):
    """The larger, or the smaller, of two values."""

    largest: bool
    left: Expression
    right: Expression


@dataclass(frozen=True, eq=False)
class Beyond(Expression):
    """1 where a value is above a limit, or below it, else 0."""

    of: Expression
    limit: float
    above: bool


@dataclass(frozen=True, eq=False)
class Words(Expression):
    """A number for each word of a column; `otherwise` for any other word, None where there is no value for it."""

    of: Input
    numbers: Mapping[str, float]
    otherwise: float | None


@dataclass(frozen=True, eq=False)
class Earlier(Expression):
    """A value some rows before; after, where the number is negative."""

    of: Expression
    rows: int


@dataclass(frozen=True, eq=False)
class Carried(Expression):
    """s_t = x_t + Σ φ_k s_{t−k}, from `start` (lead,) in the rows before the first that is asked for."""

    of: Expression
    phi: tuple[float, ...]
    start: Array


@dataclass(frozen=True, eq=False)
class Compounded(Expression):
    """v_t = x_t v_{t−lag}, from `start` (lead,) in the rows before the first that is asked for."""

    of: Expression
    lag: int
    start: Array


@dataclass(frozen=True, eq=False)
class Weighted(Expression):
    """Sums of values of another table: in each row of those from `first` on, as many as its `weights` are."""

    table: str
    of: Expression
    first: NDArray[np.int64]
    weights: tuple[Array, ...]


#: What is as short as its name.
_SMALL = (Constant, Coefficient, Input, Facts, Named)
#: What needs a step of its own: it looks at other rows of what it is made of.
_ACROSS = (Carried, Compounded, Weighted)


@dataclass(frozen=True)
class Step:
    """A named expression of a table's rows; steps may use those before."""

    name: str
    expression: Expression
    table: str


@dataclass
class Steps:
    """Steps as they are put together, each used by later ones under its name."""

    found: list[Step] = field(default_factory=list)
    _names: set[str] = field(default_factory=set)
    _repeated: set[int] = field(default_factory=set)
    _lifted: dict[int, tuple[Expression, Named]] = field(default_factory=dict)

    def add(self, name: str, expression: Expression, table: str) -> Named:
        """One more step; its name is made different from those before."""
        often = Counter(id(part) for whole in walked(expression) for part in whole.parts)
        self._repeated = {own for own, count in often.items() if count > 1}
        flat = self._flat(expression, name, table, whole=True)
        own, number = name, 2
        while own in self._names:
            own, number = f"{name} ({number})", number + 1
        self._names.add(own)
        self.found.append(Step(own, flat, table))
        return Named(own)

    def total(self, name: str, summands: Sequence[Expression], table: str) -> Expression:
        """The sum of some expressions, in several steps where they are many."""
        parts = list(summands)
        while len(parts) > _MOST_SUMMANDS:
            pieces = [parts[i : i + _MOST_SUMMANDS] for i in range(0, len(parts), _MOST_SUMMANDS)]
            parts = [self.add(f"{name}, part {i}", added(piece), table) for i, piece in enumerate(pieces, 1)]
        return added(parts)

    def _flat(self, expression: Expression, name: str, table: str, *, whole: bool = False) -> Expression:
        """The expression with what needs a step of its own, or comes several times, as one."""
        if id(expression) in self._lifted:
            return self._lifted[id(expression)][1]
        if isinstance(expression, Weighted):
            flat: Expression = replace(expression, of=self._flat(expression.of, name, expression.table))
            if not isinstance(flat.parts[0], _SMALL):
                flat = replace(expression, of=self._one_more(f"{name}, each", flat.parts[0], expression.table))
        else:
            parts = {
                each.name: self._flat(value, name, table)
                for each in fields(expression)
                if isinstance(value := getattr(expression, each.name), Expression)
            }
            flat = replace(expression, **parts) if parts else expression
        if isinstance(flat, (Earlier, Carried)) and _needs_rows(flat):
            flat = replace(flat, of=self._one_more(f"{name}, inner", flat.of, table))
        repeated = id(expression) in self._repeated and not isinstance(flat, _SMALL)
        if (isinstance(flat, _ACROSS) or repeated) and not whole:
            step = self._one_more(f"{name}, inner", flat, table)
            self._lifted[id(expression)] = expression, step  # kept, so that its identity is no other's later
            return step
        return flat

    def _one_more(self, name: str, flat: Expression, table: str) -> Named:
        """A step of an expression that holds no further one."""
        kept, self._repeated = self._repeated, set()
        step = self.add(name, flat, table)
        self._repeated = kept
        return step


def _needs_rows(part: Earlier | Carried) -> bool:
    """Whether other rows of what it is made of must be there, so that this needs a step of its own."""
    if isinstance(part, Carried) and not any(isinstance(each, Earlier) for each in walked(part.of)):
        return False
    return not isinstance(part.of, _SMALL)


def added(parts: Sequence[Expression]) -> Expression:
    """The sum of some expressions; zero of none."""
    if not parts:
        return Constant(0.0)
    whole = parts[0]
    for part in parts[1:]:
        whole = whole + part
    return whole


def scaled(number: float, expression: Expression) -> Expression:
    """A number times an expression, which stays as it is where the number is one."""
    return expression if number == 1.0 else number * expression


def walked(expression: Expression) -> Iterator[Expression]:
    """The expression and all that it is made of, each once."""
    seen, waiting = set[int](), [expression]
    while waiting:
        part = waiting.pop()
        if id(part) not in seen:
            seen.add(id(part))
            yield part
            waiting += reversed(part.parts)


def _made(value: Expression | float) -> Expression:
    return value if isinstance(value, Expression) else Constant(float(value))


def evaluate(
    steps: Sequence[Step], inputs: Mapping[str, Mapping[str, Array]], rows: Mapping[str, int]
) -> dict[str, Array]:
    """Values (n,) of all steps, by name, from the columns of each table and how many `rows` it has.

    Examples
    --------
    >>> from offing.engine.expressions import Carried, Input, Step, evaluate
    >>> import numpy as np
    >>> step = Step("s", Carried(Input("x"), (0.5,), np.zeros(1)), "week")
    >>> evaluate([step], {"week": {"x": np.array([9.0, 1.0, 0.0, 2.0])}}, {"week": 4})["s"].tolist()
    [0.0, 1.0, 0.5, 2.25]
    """
    found: dict[str, Array] = {}
    for step in steps:
        n = rows[step.table]
        value = _Evaluation(inputs, found, step.table, n).of(step.expression)
        found[step.name] = np.broadcast_to(value, n).astype(np.float64)
    return found


@dataclass(frozen=True)
class _Evaluation:
    """The values (n,) of expressions of one table, given those of earlier steps."""

    inputs: Mapping[str, Mapping[str, Array]]
    found: Mapping[str, Array]
    table: str
    n: int

    def of(self, expression: Expression) -> Any:
        """The value of an expression, in each row or in all of them."""
        match expression:
            case Constant(value=value) | Coefficient(value=value) | Facts(values=value):
                return value
            case Input(column=column):
                return self.inputs[self.table][column]
            case Named(name=name):
                return self.found[name]
            case Arithmetic(sign=sign, left=left, right=right):
                return _ARITHMETIC[sign](self.of(left), self.of(right))
            case Call(function=function, of=inner):
                return _FUNCTIONS[function](self.of(inner))
            case Extreme(largest=largest, left=left, right=right):
                return (np.maximum if largest else np.minimum)(self.of(left), self.of(right))
            case Beyond(of=inner, limit=limit, above=above):
                value = self.of(inner)
                return np.where(np.isnan(value), np.nan, value > limit if above else value < limit)
            case Words(of=inner, numbers=numbers, otherwise=otherwise):
                words, other = self.inputs[self.table][inner.column], np.nan if otherwise is None else otherwise
                return np.array([numbers.get(word, other) if word else np.nan for word in words])
            case Earlier(of=inner, rows=back):
                return shifted(self._whole(inner), back)
            case Carried(of=inner, phi=phi, start=start):
                return carried(self._whole(inner), phi, start)
            case Compounded(of=inner, lag=lag, start=start):
                return compounded(self._whole(inner), lag, start)
            case Weighted(table=other, of=inner, first=first, weights=weights):
                values = replace(self, table=other).of(inner)
                sums = [own @ values[at : at + len(own)] for at, own in zip(first.tolist(), weights, strict=True)]
                return np.array(sums, dtype=np.float64)
        raise TypeError(f"{type(expression).__name__} has no value")

    def _whole(self, expression: Expression) -> Array:
        return np.broadcast_to(np.asarray(self.of(expression), dtype=np.float64), self.n)


_ARITHMETIC: dict[str, Callable[..., Any]] = {
    "+": np.add,
    "-": np.subtract,
    "*": np.multiply,
    "/": np.divide,
    "^": np.power,
}
_FUNCTIONS: dict[str, Callable[..., Any]] = {
    "exp": np.exp,
    "ln": np.log,
    "sin": np.sin,
    "cos": np.cos,
    "abs": np.abs,
    "growth": lambda x: np.where(x == 0.0, 1.0, np.expm1(x) / np.where(x == 0.0, 1.0, x)),
}


def shifted(values: Array, rows: int) -> Array:
    """Values (n,) some rows before, NaN where there is none."""
    found = np.full(len(values), np.nan)
    if rows >= 0:
        found[rows:] = values[: len(values) - rows]
    else:
        found[:rows] = values[-rows:]
    return found


def carried(values: Array, phi: Sequence[float], start: Array) -> Array:
    """Sums (n,) in which earlier ones live on, from the first `start` of them."""
    found = np.concatenate([start, values[len(start) :]])
    for t in range(len(start), len(found)):
        for k, share in enumerate(phi, 1):
            if share and t >= k:
                found[t] += share * found[t - k]
    return found


def compounded(values: Array, lag: int, start: Array) -> Array:
    """Products (n,) of each value with the product `lag` rows before, from the first `start` of them."""
    found = np.concatenate([start, values[len(start) :]])
    for t in range(len(start), len(found)):
        found[t] *= found[t - lag]
    return found
