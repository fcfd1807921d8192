"""Expressions as formulas of a spreadsheet, in the notation that files hold whatever the reader's language."""

from __future__ import annotations

from abc import ABC, abstractmethod

from offing.engine.expressions import (
    Arithmetic,
    Beyond,
    Call,
    Carried,
    Coefficient,
    Compounded,
    Constant,
    Earlier,
    Expression,
    Extreme,
    Facts,
    Input,
    Named,
    Weighted,
    Words,
)

_CALLS = {"exp": "EXP", "ln": "LN", "sin": "SIN", "cos": "COS", "abs": "ABS"}
#: How closely a formula binds: a sum, a product, and what needs no parentheses.
_SUM, _PRODUCT, _ATOM = 1, 2, 3
#: Longer formulas are refused by spreadsheets.
LONGEST = 8_192


class SpreadsheetFormulas(ABC):
    """Formulas of single rows. Where coefficients, columns, facts and steps stand, or what they are, others say."""

    @abstractmethod
    def coefficient(self, part: Coefficient) -> str:
        """A coefficient."""

    @abstractmethod
    def given(self, part: Input, row: int) -> str:
        """A column's value in a row."""

    @abstractmethod
    def fact(self, part: Facts, row: int) -> str:
        """What the calendar says of a row."""

    @abstractmethod
    def step(self, name: str, row: int) -> str:
        """What a step came to in a row."""

    @abstractmethod
    def before(self, part: Carried | Compounded, name: str, row: int, back: int) -> str:
        """What the step `name`, which runs on from row to row, came to some rows before."""

    @abstractmethod
    def weighted(self, part: Weighted, row: int) -> str:
        """The weighted sum of a row."""

    @abstractmethod
    def word(self, part: Words, row: int) -> str:
        """The number for the word that stands in a row."""

    def of_step(self, name: str, expression: Expression, row: int) -> str:
        """The formula of a step in a row."""
        return self._running(name, expression, row)[0]

    def inner_step(self, name: str, expression: Expression, row: int) -> str:
        """The same as a part of another formula."""
        text, level = self._running(name, expression, row)
        return text if level == _ATOM else f"({text})"

    def written(self, expression: Expression, row: int) -> str:
        """An expression's formula in a row."""
        return self._leveled(expression, row)[0]

    def _running(self, name: str, expression: Expression, row: int) -> tuple[str, int]:
        """The formula of a step, and how closely it binds."""
        if isinstance(expression, Carried):
            rest = [
                f"{number(share)}*{self.before(expression, name, row, back)}"
                for back, share in enumerate(expression.phi, 1)
                if share
            ]
            return "+".join([self.written(expression.of, row), *rest]), _SUM
        if isinstance(expression, Compounded):
            inner = self._bound(expression.of, row, _PRODUCT)
            return f"{inner}*{self.before(expression, name, row, expression.lag)}", _PRODUCT
        return self._leveled(expression, row)

    def _bound(self, expression: Expression, row: int, least: int) -> str:
        """A part of a formula, in parentheses where it binds less than what stands around it."""
        text, level = self._leveled(expression, row)
        return text if level >= least else f"({text})"

    def _leveled(self, expression: Expression, row: int) -> tuple[str, int]:
        """A formula, and how closely it binds."""
        match expression:
            case Arithmetic(sign="^", left=left, right=right):
                return f"POWER({self.written(left, row)},{self.written(right, row)})", _ATOM
            case Arithmetic(sign=sign, left=left, right=right):
                own = _SUM if sign in "+-" else _PRODUCT
                after = own + (sign in "-/")
                return f"{self._bound(left, row, own)}{sign}{self._bound(right, row, after)}", own
            case Call(function="growth", of=inner):  # the difference loses digits near zero, where a series has them
                x = self._bound(inner, row, _ATOM)
                return f"IF(ABS({x})<0.0001,1+{x}/2+{x}*{x}/6+{x}*{x}*{x}/24,(EXP({x})-1)/{x})", _ATOM
            case Call(function=function, of=inner):
                return f"{_CALLS[function]}({self.written(inner, row)})", _ATOM
            case Extreme(largest=largest, left=left, right=right):
                return f"{'MAX' if largest else 'MIN'}({self.written(left, row)},{self.written(right, row)})", _ATOM
            case Beyond(of=inner, limit=limit, above=above):
                return f"IF({self.written(inner, row)}{'>' if above else '<'}{number(limit)},1,0)", _ATOM
            case Earlier(of=inner, rows=back):
                return self._leveled(inner, row - back)
            case Words():
                return self.word(expression, row), _ATOM
            case Weighted():
                return self.weighted(expression, row), _PRODUCT
        return self._leaf(expression, row), _ATOM

    def _leaf(self, expression: Expression, row: int) -> str:
        match expression:
            case Constant(value=value):
                return number(value)
            case Coefficient():
                return self.coefficient(expression)
            case Input():
                return self.given(expression, row)
            case Facts():
                return self.fact(expression, row)
            case Named(name=name):
                return self.step(name, row)
        raise TypeError(f"{type(expression).__name__} cannot be written in a spreadsheet")


def number(value: float) -> str:
    """A number in a formula, in parentheses where it is negative: a minus sign binds closer than a power."""
    return repr(float(value)) if value >= 0.0 else f"({float(value)!r})"


def quoted(text: str) -> str:
    """A text in a formula."""
    return '"' + text.replace('"', '""') + '"'
