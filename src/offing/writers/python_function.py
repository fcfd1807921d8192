"""A forecast as a Python function that needs NumPy alone."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from offing import __version__
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
from offing.model.forecast import Forecast
from offing.model.forecast_formulas import ForecastFormulas, formulas_of
from offing.writers.formula_text import about, period_texts, short_names

_HELPERS = {
    "earlier": '''
def earlier(x, rows):
    """The values some rows before, or after if the number is negative."""
    found = np.full(len(x), nan)
    if rows > 0:
        found[rows:] = x[:-rows]
    else:
        found[:rows] = x[-rows:]
    return found
''',
    "carried": '''
def carried(x, phi, start):
    """s[t] = x[t] + sum of phi[k] s[t-1-k], from the first values `start`."""
    found = np.concatenate([start, np.broadcast_to(x, ROWS)[len(start):]])
    for t in range(len(start), len(found)):
        found[t] += sum(share * found[t - 1 - k] for k, share in enumerate(phi) if share and t > k)
    return found
''',
    "compounded": '''
def compounded(x, lag, start):
    """v[t] = x[t] v[t-lag], from the first values `start`."""
    found = np.concatenate([start, np.broadcast_to(x, ROWS)[len(start):]])
    for t in range(len(start), len(found)):
        found[t] *= found[t - lag]
    return found
''',
    "growth": '''
def growth(x):
    """(exp(x) - 1) / x, which is 1 at 0."""
    return np.where(x == 0.0, 1.0, np.expm1(x) / np.where(x == 0.0, 1.0, x))
''',
    "weighted": '''
def weighted(x, first, weights):
    """For each row the weighted sum of the values x[first], x[first + 1] and so on."""
    return np.array([np.dot(own, x[at:at + len(own)]) for at, own in zip(first, weights)])
''',
    "by_word": '''
def by_word(words, numbers, otherwise):
    """The number of each word."""
    return np.array([numbers.get(word, otherwise) for word in words])
''',
}


_CALLS = {"exp": "exp", "ln": "log", "sin": "sin", "cos": "cos", "abs": "abs"}


def python_function(forecast: Forecast) -> str:
    """Write a forecast as the text of a Python module with one function, which needs nothing but NumPy.

    ``forecast(columns)`` computes means, quantiles and contributions again, from the columns of drivers as they were
    planned or from others: every transformation, lag and term in order. What the calendar says of the periods is in
    the module as numbers, so that it serves these periods alone.

    Parameters
    ----------
    forecast
        A forecast of one model, whose periods follow from one equation.

    Returns
    -------
    str
        The module. ``COLUMNS`` holds the columns as exported, in all their rows; those before the forecast are there
        for what looks back. ``forecast`` returns a dictionary of arrays (n,): ``period``, ``forecast``, quantiles such
        as ``q0.1``, and ``contributions`` by name.

    Raises
    ------
    InputError
        If the forecast has no one equation, as a combination of models.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> from offing.writers.python_function import python_function
    >>> days = pd.date_range("2024-01-01", periods=6, freq="D")
    >>> data = pd.DataFrame({"sold": [3.0, 5.0, 4.0, 6.0, 5.0, 7.2], "rain": [1, 0, 1, 0, 1, 0]}, days)
    >>> plan = pd.DataFrame({"rain": [0, 1]}, pd.date_range("2024-01-07", periods=2, freq="D"))
    >>> ahead = of.Model("sold", terms=[of.Driver("rain")]).fit(data).forecast(2, plan=plan)
    >>> module = {}
    >>> exec(python_function(ahead), module)
    >>> module["forecast"]({"rain": [1.0, 1.0]})["forecast"].round(2).tolist()
    [4.0, 4.0]
    """
    return _Module(formulas_of(forecast)).text()


class _Module:
    """The text of the module, put together step by step."""

    def __init__(self, formulas: ForecastFormulas) -> None:
        self.formulas = formulas
        self.names = {step.name: f"s{i}" for i, step in enumerate(formulas.steps)}
        self.facts: dict[int, tuple[str, Facts]] = {}
        self.sums: dict[int, tuple[str, Weighted]] = {}
        self.used: set[str] = set()
        self.short = short_names(column for table in formulas.tables for column in table.columns)

    def text(self) -> str:
        """All of it."""
        formulas, (main, *_) = self.formulas, self.formulas.tables
        lines = [
            f"    {self.names[step.name]} = {self.written(step.expression)}  # {step.name!a}" for step in formulas.steps
        ]
        results = [("forecast", formulas.mean), *((f"q{p:g}", name) for p, name in formulas.quantiles.items())]
        rows = [f"{name!a}: only({self.names[step]})" for name, step in formulas.contributions.items()]
        contributions = ", ".join(rows)
        constants = [f"{name} = {_array(facts.values)}  # {facts.name!a}" for name, facts in self.facts.values()]
        for name, each in self.sums.values():
            weights = ", ".join(_array(own) for own in each.weights)
            constants += [f"{name}_FIRST = {each.first.tolist()}", f"{name}_WEIGHTS = [{weights}]"]
        columns = [
            f"    {self.short[column]!a}: {(_words if column in table.words else _array)(values)},  # by {table.name}"
            for table in formulas.tables
            for column, values in table.columns.items()
        ]
        coefficients = [f"    {name!a}: {value!r}," for name, value in formulas.coefficients.items()]
        body = [
            f'"""{_plain(about(formulas.forecast))}',
            "",
            f"Written by Offing {__version__}. It needs NumPy alone: forecast() gives what Offing forecast, and",
            "forecast({name: values}) the same with other values of a column, of the periods ahead or of all rows.",
            *(f"\nNote: {_plain(each)}." for each in formulas.fixed),
            '"""',
            "",
            "import numpy as np",
            "",
            "nan = float('nan')",
            f"ROWS, BEFORE = {main.axis.n}, {main.lead}  # rows in all, and those before the forecast",
            f"PERIODS = {period_texts(main.axis)[main.lead :]!a}",
            "COEFFICIENTS = {",
            *coefficients,
            "}",
            "COLUMNS = {",
            *columns,
            "}",
            *constants,
            *(_HELPERS[name] for name in _HELPERS if name in self.used),
            "",
            "def forecast(columns=None):",
            '    """Means, quantiles and contributions (n,) of every period, with some columns replaced."""',
            "    x, c = dict(COLUMNS), COEFFICIENTS",
            "    for name, values in (columns or {}).items():",
            "        if name not in x:",
            "            raise KeyError(f'there is no column {name!r}: known are {sorted(x)}')",
            "        values = np.asarray(values, dtype=x[name].dtype)",
            "        if len(values) > len(x[name]):",
            "            raise ValueError(f'{name!r} has {len(values)} values, at most {len(x[name])} rows are used')",
            "        x[name] = np.concatenate([x[name][:len(x[name]) - len(values)], values])",
            *lines,
            "    only = lambda values: np.broadcast_to(values, ROWS)[BEFORE:].astype(float)",
            "    found = {'period': np.array(PERIODS)}",
            *(f"    found[{name!a}] = only({self.names[step]})" for name, step in results),
            f"    found['contributions'] = {{{contributions}}}",
            "    return found",
            "",
        ]
        return "\n".join(body)

    def written(self, expression: Expression) -> str:
        """An expression in Python."""
        match expression:
            case Constant(value=number):
                return repr(number)
            case Coefficient(name=name):
                return f"c[{name!a}]"
            case Input(column=column):
                return f"x[{self.short[column]!a}]"
            case Named(name=name):
                return self.names[name]
            case Facts():
                return self.facts.setdefault(id(expression), (f"F{len(self.facts)}", expression))[0]
            case Arithmetic(sign=sign, left=left, right=right):
                return f"({self.written(left)} {'**' if sign == '^' else sign} {self.written(right)})"
            case Call(function=function, of=inner):
                value = self.written(inner)
                return self.helped(function, value) if function == "growth" else f"np.{_CALLS[function]}({value})"
            case Extreme(largest=largest, left=left, right=right):
                return f"np.{'maximum' if largest else 'minimum'}({self.written(left)}, {self.written(right)})"
            case Beyond(of=inner, limit=limit, above=above):
                value = self.written(inner)
                return f"np.where(np.isnan({value}), nan, 1.0 * ({value} {'>' if above else '<'} {limit!r}))"
            case Words(of=inner, numbers=numbers, otherwise=otherwise):
                pairs = ", ".join(f"{word!a}: {number!r}" for word, number in numbers.items())
                other = "nan" if otherwise is None else repr(otherwise)
                return self.helped("by_word", self.written(inner), f"{{{pairs}}}", other)
            case Earlier() | Carried() | Compounded() | Weighted():
                return self.across(expression)
        raise TypeError(f"{type(expression).__name__} cannot be written in Python")

    def across(self, expression: Earlier | Carried | Compounded | Weighted) -> str:
        """What looks at other rows, in Python."""
        inner = self.written(expression.of)
        if isinstance(expression, Earlier):
            return self.helped("earlier", inner, str(expression.rows))
        if isinstance(expression, Carried):
            return self.helped("carried", inner, repr(expression.phi), _array(expression.start))
        if isinstance(expression, Compounded):
            return self.helped("compounded", inner, str(expression.lag), _array(expression.start))
        name = self.sums.setdefault(id(expression), (f"W{len(self.sums)}", expression))[0]
        return self.helped("weighted", inner, f"{name}_FIRST", f"{name}_WEIGHTS")

    def helped(self, helper: str, *arguments: str) -> str:
        """A call of one of the helpers, which then is in the module."""
        self.used.add(helper)
        return f"{helper}({', '.join(arguments)})"


def _array(values: Iterable[float]) -> str:
    numbers = np.asarray(values, dtype=np.float64).tolist()
    return f"np.array([{', '.join(map(repr, numbers))}])" if numbers else "np.zeros(0)"


def _words(values: Iterable[str]) -> str:
    return f"np.array({[str(each) for each in values]!a}, dtype=object)"


def _plain(text: str) -> str:
    r"""Text within a docstring: nothing in it ends the string or means something else."""
    return ascii(text)[1:-1].replace('"', "'")
