"""A forecast as one SQL query over a table of dates and drivers."""

from __future__ import annotations

from typing import Any, Literal, get_args

import numpy as np
from sqlalchemy import (
    CTE,
    ColumnElement,
    Double,
    FromClause,
    Integer,
    Numeric,
    Select,
    Text,
    case,
    cast,
    column,
    func,
    literal_column,
    null,
    select,
    table,
    values,
)
from sqlalchemy.dialects import postgresql, sqlite
from sqlalchemy.types import DATE, TIMESTAMP

from offing import __version__
from offing.base import InputError
from offing.base.arrays import Array
from offing.engine import impulse_response
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
    Step,
    Weighted,
    Words,
    carried,
    walked,
)
from offing.model.forecast import Forecast
from offing.model.forecast_formulas import ForecastFormulas, TableOfInputs, formulas_of
from offing.writers.formula_text import about, period_texts, short_names

Database = Literal["postgresql", "sqlite", "duckdb"]
DATABASES: tuple[Database, ...] = get_args(Database)
#: Each selection is computed once: put into each other, their expressions would multiply.
_ONCE = "MATERIALIZED"
#: Names that are longer are cut by PostgreSQL without a word.
_LONGEST = 60
Column = ColumnElement[Any]
#: A selection whose columns are used.
Rows = FromClause


def sql_query(
    forecast: Forecast, *, database: Database = "postgresql", table: str = "drivers", period: str = "period"
) -> str:
    """Write a forecast as one SQL query over a table of dates and drivers.

    The query gives a row for each period of the forecast: ``period``, ``forecast``, quantiles such as ``q0.1`` and a
    column for each contribution. What the calendar says of the periods stands in it as numbers, so that it serves
    these periods alone; the drivers come from the table, also those before the forecast where something looks back.

    Parameters
    ----------
    forecast
        A forecast of one model, whose periods follow from one equation.
    database
        Whose notation: ``postgresql``, ``sqlite`` or ``duckdb``.
    table
        The table with a row for each period and a column for each driver, by the driver's name. Drivers of another
        frequency are in a table of their own, ``drivers_month`` for months.
    period
        Its column of dates: the first day of each period; of hours the moment, in UTC where the source has a zone.

    Raises
    ------
    InputError
        If the forecast has no one equation, or holds what SQL cannot express: growth on the year before, more than a
        year ahead.

    Examples
    --------
    >>> import pandas as pd, sqlite3, offing as of
    >>> from offing.writers.sql_query import sql_query
    >>> days = pd.date_range("2024-01-01", periods=6, freq="D")
    >>> data = pd.DataFrame({"sold": [3.0, 5.0, 4.0, 6.0, 5.0, 7.2], "rain": [1, 0, 1, 0, 1, 0]}, days)
    >>> plan = pd.DataFrame({"rain": [0, 1]}, pd.date_range("2024-01-07", periods=2, freq="D"))
    >>> ahead = of.Model("sold", terms=[of.Driver("rain")]).fit(data).forecast(2, plan=plan)
    >>> database = sqlite3.connect(":memory:")
    >>> _ = database.execute("CREATE TABLE drivers (period, rain)")
    >>> _ = database.execute("INSERT INTO drivers VALUES ('2024-01-07', 1), ('2024-01-08', 1)")
    >>> rows = database.execute(sql_query(ahead, database="sqlite")).fetchall()
    >>> [(day, round(value, 2)) for day, value, *_ in rows]
    [('2024-01-07', 4.0), ('2024-01-08', 4.0)]
    """
    if database not in DATABASES:
        raise InputError(f"found {database!r}", f"Allowed: {', '.join(DATABASES)}.", key="database")
    formulas = formulas_of(forecast)
    query = _Query(formulas, database, table, period).whole()
    # A style of parameters that doubles no percent signs: there are no parameters.
    dialect = (sqlite if database == "sqlite" else postgresql).dialect(paramstyle="named")
    compiled = query.compile(dialect=dialect, compile_kwargs={"literal_binds": True})
    noted = [about(forecast), f"Written by Offing {__version__} for {database}."]
    noted += _tables_said(formulas, table, period)
    noted += [f"Note: {each}." for each in formulas.fixed]
    lines = [f"-- {' '.join(ascii(line)[1:-1].split())}" for line in noted]
    return "\n".join([*lines, f"{compiled};", ""])


def _tables_said(formulas: ForecastFormulas, table: str, period: str) -> list[str]:
    short = _shorts(formulas)
    return [
        f"{_table_name(formulas, each, table)}: {period} (by {each.name}, {period_texts(each.axis)[0]} to "
        f"{period_texts(each.axis)[-1]}), {', '.join(short[name] for name in each.columns)}"
        for each in formulas.tables
        if each.columns
    ]


def _shorts(formulas: ForecastFormulas) -> dict[str, str]:
    return short_names(name for each in formulas.tables for name in each.columns)


def _table_name(formulas: ForecastFormulas, each: TableOfInputs, name: str) -> str:
    return name if each is formulas.tables[0] else f"{name}_{each.name.replace(' ', '_')}"


class _Query:
    """The query: for each table a chain of selections, each with the columns that the ones before make possible."""

    def __init__(self, formulas: ForecastFormulas, database: Database, name: str, period: str) -> None:
        self.formulas, self.database, self.name, self.period = formulas, database, name, period
        self.short = _shorts(formulas)
        self.columns = _Names("n", "period")
        self.selections = _Names(*(self._table_name(each) for each in formulas.tables))
        self.given = {name: self.columns.own(self.short[name]) for each in formulas.tables for name in each.columns}
        self.ids = {step.name: self.columns.own(step.name) for step in formulas.steps}
        self.facts: dict[str, dict[int, tuple[str, Array]]] = {each.name: {} for each in formulas.tables}
        self.last: dict[str, CTE] = {}
        self.weights: dict[int, CTE] = {}
        self.carried: dict[int, CTE] = {}

    def whole(self) -> Select[Any]:
        """The query."""
        formulas, (main, *others) = self.formulas, self.formulas.tables
        for each in (*others, main):
            self.last[each.name] = self._chain(each)
        final = self.last[main.name]
        named = {"forecast": formulas.mean} | {f"q{p:g}": step for p, step in formulas.quantiles.items()}
        named |= {f"contribution of {row}": step for row, step in formulas.contributions.items()}
        labels = _Names("period")
        shown = [final.c[self.ids[step]].label(labels.own(label)) for label, step in named.items()]
        rows = select(final.c.period.label("period"), *shown).where(final.c.n > 0)
        return rows.order_by(final.c.n)

    def _chain(self, each: TableOfInputs) -> CTE:
        """The selections of one table: its rows, then steps by how many others they rest on."""
        steps = [step for step in self.formulas.steps if step.table == each.name]
        levels: list[list[Step]] = []
        place: dict[str, int] = {}
        for step in steps:
            parts = [part for part in walked(step.expression) if isinstance(part, Named)]
            below = [place[part.name] for part in parts if part.name in place]
            place[step.name] = max(below, default=-1) + 1
            while len(levels) <= place[step.name]:
                levels.append([])
            levels[place[step.name]].append(step)
        for step in steps:
            self._gather(step.expression, each)
        source = self._rows(each)
        for i, level in enumerate(levels):
            made = [
                cast(self.written(step.expression, source, each), Double).label(self.ids[step.name]) for step in level
            ]
            source = select(*source.c, *made).cte(self._selection(f"step_{i + 1}", each)).prefix_with(_ONCE)
        return source

    def _table_name(self, each: TableOfInputs) -> str:
        return _table_name(self.formulas, each, self.name)

    def _selection(self, name: str, each: TableOfInputs) -> str:
        """The name of a selection, with that of the frequency where it is not the target's."""
        return self.selections.own(name if each is self.formulas.tables[0] else f"{each.name}_{name}".replace(" ", "_"))

    def _gather(self, expression: Expression, each: TableOfInputs) -> None:
        """Note the numbers by row that an expression needs."""
        facts = self.facts[each.name]
        for part in walked(expression):
            if id(part) in facts:
                continue
            if isinstance(part, Facts):
                facts[id(part)] = self.columns.own(part.name), part.values
            elif isinstance(part, Carried):
                alone = carried(np.zeros(each.axis.n), part.phi, part.start)
                facts[id(part)] = self.columns.own("lives on from before"), alone
            elif isinstance(part, Compounded):
                self._check_compounded(part, each)
                earlier = part.start[each.lead - part.lag :][: each.axis.n - each.lead]
                facts[id(part)] = self.columns.own("a year before"), np.concatenate([part.start, earlier])

    def _check_compounded(self, part: Compounded, each: TableOfInputs) -> None:
        if each.axis.n - each.lead > part.lag:
            raise InputError(
                "growth on the year before, more than a year ahead, cannot be expressed in SQL",
                "Export a shorter forecast, or take a workbook or a Python function.",
                key="transform",
            )

    def _rows(self, each: TableOfInputs) -> CTE:
        """The periods with their numbers, beside what the table says of them."""
        facts = list(self.facts[each.name].values())
        moments = period_texts(each.axis)
        names = ["n", "period", *(name for name, _ in facts)]
        data = [
            (i + 1 - each.lead, moment, *(_number(numbers[i]) for _, numbers in facts))
            for i, moment in enumerate(moments)
        ]
        columns: list[Any] = [column("n", Integer), column("period", Text)]
        columns += [column(name, Numeric) for name in names[2:]]
        known = values(*columns, name=self._selection("calendar", each), literal_binds=True).data(data).cte()
        found: list[Column] = [known.c.n.label("n"), self._moment(known.c.period, each).label("period")]
        found += [cast(known.c[name], Double).label(name) for name, _ in facts]
        if not each.columns:
            return select(*found).cte(self._selection("rows", each)).prefix_with(_ONCE)
        wanted = [self.period, *(self.short[name] for name in each.columns)]
        own = table(self._table_name(each), *(column(name) for name in wanted))
        for name in each.columns:
            kind = Text() if name in each.words else Double()
            found.append(cast(own.c[self.short[name]], kind).label(self.given[name]))
        joined = known.outerjoin(own, self._moment(own.c[self.period], each) == self._moment(known.c.period, each))
        return select(*found).select_from(joined).cte(self._selection("rows", each)).prefix_with(_ONCE)

    def _moment(self, value: Column, each: TableOfInputs) -> Column:
        """A date, or a moment where a table's periods are hours, as the database compares them."""
        hours = each.axis.frequency.unit == "hour"
        if self.database == "sqlite":
            return func.datetime(value) if hours else func.date(value)
        return cast(value, TIMESTAMP() if hours else DATE())

    def written(self, expression: Expression, source: Rows, each: TableOfInputs) -> Column:
        """An expression in SQL, over the columns of a selection."""

        def of(part: Expression) -> Column:
            return self.written(part, source, each)

        match expression:
            case Constant(value=value) | Coefficient(value=value):
                return _real(value)
            case Input(column=name):
                return source.c[self.given[name]]
            case Named(name=name):
                return source.c[self.ids[name]]
            case Facts():
                return source.c[self.facts[each.name][id(expression)][0]]
            case Earlier() | Carried() | Compounded() | Weighted():
                return self._across(expression, source, each)
            case Extreme(largest=largest, left=left, right=right):
                # Half of the sum and the distance: unknown where either is, which the databases' own functions are not.
                apart, both = func.abs(of(left) - of(right), type_=Double), of(left) + of(right)
                return (both + apart) / 2.0 if largest else (both - apart) / 2.0
            case Beyond() | Words():
                return self._chosen(expression, source, each)
            case Arithmetic(sign=sign, left=left, right=right):
                return _arithmetic(sign, of(left), of(right))
            case Call(function="growth", of=inner):
                x = of(inner)
                near = 1.0 + x / 2.0 + x * x / 6.0 + x * x * x / 24.0
                return case((func.abs(x) < 1e-4, near), else_=(func.exp(x, type_=Double) - 1.0) / x)
            case Call(function=function, of=inner):
                named: Column = getattr(func, function)(of(inner), type_=Double)
                return named
        raise TypeError(f"{type(expression).__name__} cannot be written in SQL")

    def _chosen(self, expression: Beyond | Words, source: Rows, each: TableOfInputs) -> Column:
        """A number that depends on what a value is, none where that is not known."""
        x = self.written(expression.of, source, each)
        if isinstance(expression, Beyond):
            beyond = x > expression.limit if expression.above else x < expression.limit
            return case((beyond, 1.0), (x.is_not(None), 0.0), else_=null())
        known = [(x == word, _real(number)) for word, number in expression.numbers.items()]
        if expression.otherwise is not None:
            known.append((x.is_not(None), _real(expression.otherwise)))
        return case(*known, else_=null())

    def _across(
        self, expression: Earlier | Carried | Compounded | Weighted, source: Rows, each: TableOfInputs
    ) -> Column:
        """What looks at other rows."""
        if isinstance(expression, Weighted):
            return self._weighted(expression, source)
        if isinstance(expression, Carried):
            return self._lived_on(expression, source, each)
        inner = self.written(expression.of, source, each)
        if isinstance(expression, Earlier):
            back = expression.rows
            moved = func.lag(inner, back, type_=Double) if back >= 0 else func.lead(inner, -back, type_=Double)
            return moved.over(order_by=source.c.n)
        start = source.c[self.facts[each.name][id(expression)][0]]
        return case((source.c.n > 0, inner * start), else_=start)

    def _lived_on(self, part: Carried, source: Rows, each: TableOfInputs) -> Column:
        """Values with what lives on of earlier ones: each counts by how much of it is left since its period."""
        alone = source.c[self.facts[each.name][id(part)][0]]
        if part.phi == (1.0,):
            own = case((source.c.n > 0, self.written(part.of, source, each)), else_=0.0)
            return alone + func.sum(own).over(order_by=source.c.n, rows=(None, 0))
        left = self.carried.get(id(part))
        if left is None:
            response = impulse_response(part.phi, each.axis.n - each.lead)
            columns = [column("k", Integer), column("weight", Numeric)]
            data = [(k, _number(float(weight))) for k, weight in enumerate(response)]
            left = values(*columns, name=self.selections.own("left_over"), literal_binds=True).data(data).cte()
            self.carried[id(part)] = left
        before, weights = source.alias(), left.alias()
        inner = self.written(part.of, before, each)
        product = select(func.sum(inner * cast(weights.c.weight, Double))).where(
            before.c.n > 0, before.c.n <= source.c.n, weights.c.k == source.c.n - before.c.n
        )
        rest = func.coalesce(product.correlate(source).scalar_subquery(), 0.0)
        return alone + case((source.c.n > 0, rest), else_=0.0)

    def _weighted(self, part: Weighted, source: Rows) -> Column:
        """Sums of another table's values, each with its weight in each period."""
        lead = self.formulas.tables[0].lead
        (other,) = [each for each in self.formulas.tables if each.name == part.table]
        if id(part) not in self.weights:
            data = [
                (row + 1 - lead, at + j + 1, _number(float(weight)))
                for row, (at, own) in enumerate(zip(part.first.tolist(), part.weights, strict=True))
                for j, weight in enumerate(own)
                if weight
            ]
            columns = [column("n", Integer), column("m", Integer), column("weight", Numeric)]
            name = self.selections.own("weights")
            self.weights[id(part)] = values(*columns, name=name, literal_binds=True).data(data).cte()
        weights, values_of = self.weights[id(part)], self.last[part.table].alias()
        inner = self.written(part.of, values_of, other)
        summed = select(func.sum(inner * cast(weights.c.weight, Double))).where(
            weights.c.n == source.c.n, values_of.c.n == weights.c.m
        )
        return summed.correlate(source).scalar_subquery()


def _arithmetic(sign: str, left: Column, right: Column) -> Column:
    if sign == "^":
        return func.power(left, right, type_=Double)
    return {"+": left + right, "-": left - right, "*": left * right, "/": left / right}[sign]


def _number(value: float) -> Any:
    """A number as it stands in the text, none where it is not known."""
    return _real(value) if np.isfinite(value) else null()


def _real(value: float) -> Column:
    """A number written with an exponent: without one it would be a decimal of few digits to DuckDB."""
    digits = repr(float(value))
    return literal_column(digits if "e" in digits else f"{digits}e0", Double)


class _Names:
    """Names that are short enough for every database, and different from each other."""

    def __init__(self, *taken: str) -> None:
        self.taken = {name.casefold() for name in taken}

    def own(self, wanted: str) -> str:
        """A name of its own, as wanted or with a number."""
        name, number = _cut(wanted, _LONGEST), 2
        while name.casefold() in self.taken:
            name, number = f"{_cut(wanted, _LONGEST - 5)} ({number})", number + 1
        self.taken.add(name.casefold())
        return name


def _cut(name: str, most: int) -> str:
    """A name of `most` bytes at most."""
    return name.encode()[:most].decode(errors="ignore")
