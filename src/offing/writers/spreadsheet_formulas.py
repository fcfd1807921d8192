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
        if isinstance(expression, Carried):
            rest = [
                f"{number(share)}*{self.before(expression, name, row, back)}"
                for back, share in enumerate(expression.phi, 1)
                if share
            ]
            return "+".join([self.written(expression.of, row), *rest])
        if isinstance(expression, Compounded):
            return f"{self.written(expression.of, row)}*{self.before(expression, name, row, expression.lag)}"
        return self.written(expression, row)

    def written(self, expression: Expression, row: int) -> str:
        """An expression's formula in a row, in parentheses where it needs them."""
        match expression:
            case Arithmetic(sign=sign, left=left, right=right):
                one, other = self.written(left, row), self.written(right, row)
                return f"POWER({one},{other})" if sign == "^" else f"({one}{sign}{other})"
            case Call(function=function, of=inner):
                x = self.written(inner, row)
                if function == "growth":  # the difference in it loses digits near zero, where a series has them
                    return f"IF(ABS({x})<0.0001,1+{x}/2+{x}*{x}/6+{x}*{x}*{x}/24,(EXP({x})-1)/{x})"
                return f"{_CALLS[function]}({x})"
            case Extreme(largest=largest, left=left, right=right):
                return f"{'MAX' if largest else 'MIN'}({self.written(left, row)},{self.written(right, row)})"
            case Beyond(of=inner, limit=limit, above=above):
                return f"IF({self.written(inner, row)}{'>' if above else '<'}{number(limit)},1,0)"
            case Earlier(of=inner, rows=back):
                return self.written(inner, row - back)
            case Words():
                return self.word(expression, row)
            case Weighted():
                return self.weighted(expression, row)
        return self._leaf(expression, row)

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
