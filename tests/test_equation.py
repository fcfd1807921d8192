"""The printed equation is all that anybody needs: an interpreter of its text alone computes every value again."""

import re

import numpy as np
import pandas as pd
import pytest

import offing as of

N, AHEAD = 120, 15
MONTHS = pd.period_range("2014-01", periods=N + AHEAD, freq="M")
NAMES = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
]
HOLIDAYS = pd.DataFrame(
    {
        "date": pd.to_datetime([f"{year}-{day}" for year in range(2014, 2026) for day in ("03-04", "05-21", "09-30")]),
        "name": ["Lamp Night", "Boat Day", "Harvest"] * 12,
    }
)


def table():
    generator = np.random.default_rng(3)
    n, t = len(MONTHS), np.arange(len(MONTHS)) / 12.0
    fare, adverts = generator.gamma(3.0, 3.0, n) + 1.0, generator.gamma(2.0, 5.0, n)
    temp = 15.0 + 10.0 * np.sin(2.0 * np.pi * t) + generator.normal(0.0, 2.0, n)
    sold = 50.0 + 3.0 * t + 5.0 * np.sin(2.0 * np.pi * t) + 2.0 * np.log(fare) + 0.8 * np.maximum(15.0 - temp, 0.0)
    sold += 30.0 * adverts / (adverts + 8.0) + generator.normal(0.0, 1.0, n)
    kind = generator.choice(["none", "big", "small"], n)
    return pd.DataFrame({"sold": sold, "fare": fare, "adverts": adverts, "temp": temp, "kind": kind}, MONTHS)


TREND, YEAR = of.Trend(), of.Season("year")
MODELS = {
    "bends, harmonics, logs, lags": {
        "terms": [
            of.Trend(knots=["2019-01-01"]),
            of.Season("year", harmonics=2),
            of.Driver("fare", transform=["log"]),
            of.Driver("adverts", lags=(0, 1)),
        ]
    },
    "a damped trend": {"terms": [of.Trend(knots=["2019-01-01"], damping=0.9)]},
    "powers of time": {"terms": [of.Trend("polynomial", degree=2), of.Category("kind")]},
    "levels against one": {"terms": [of.Category("kind", compared_with="none")]},
    "growth to a limit": {"terms": [of.Trend("saturating", lower=0.0, upper=150.0)]},
    "a season": {"terms": [TREND, YEAR]},
    "a season against March": {"terms": [TREND, of.Season("year", reference="March")]},
    "a season that changes": {"terms": [of.Season("year", changes=["2019-01-01"])]},
    "a season that drifts": {"terms": [of.Season("year", drift=True)]},
    "a season that grows": {"terms": [TREND, of.Season("year", grows_with="trend"), of.Driver("fare")]},
    "own lags": {"terms": [TREND, of.OwnLags((1, 2)), of.Driver("fare")]},
    "bases and saturation": {
        "terms": [of.Driver("temp", below="estimated"), of.Driver("adverts", saturation="estimated")]
    },
    "two bases": {"terms": [of.Driver("temp", below="estimated", above="estimated")]},
    "a stated base": {"terms": [of.Driver("temp", below=15.0), of.Driver("fare", transform=["standardised"])]},
    "carried over": {"terms": [of.Driver("adverts", carry_over="estimated", saturation=3.0), of.Driver("fare")]},
    "a bent curve": {"terms": [of.Driver("temp", curve="smooth")]},
    "lags along a line": {"terms": [of.Driver("adverts", lags=(0, 1, 2, 3), lag_degree=1)]},
    "powers and caps": {
        "terms": [
            of.Driver("fare", transform=[{"power": "estimated", "between": [0.2, 1.5]}]),
            of.Driver("temp", transform=[{"at_most": 20.0}]),
        ]
    },
    "events": {
        "terms": [
            of.Event("ferry", dates="2018-05-01", form="step"),
            of.Event("works", dates="2019-05-07", form="ramp"),
            of.Event("fete", dates=["2016-05-01", "2019-03-02"], form="decay", half_life=3.0),
        ]
    },
    "events that near": {
        "terms": [
            of.Event("vote", dates=["2017-10-03"], form="approach", half_life="estimated"),
            of.Event("fair", dates="2020-02-20", until="2020-03-04"),
        ]
    },
    "days": {"terms": [of.WorkingTime(["working days", "leap day"])]},
    "holidays, pooled": {
        "terms": [
            of.Holidays(HOLIDAYS, groups={"feasts": ["Lamp Night", "Boat Day"]}, pooling="partial", days_before=1)
        ]
    },
    "a season by a driver": {"terms": [TREND, YEAR, of.Driver("fare"), of.Interaction(["season", "fare"])]},
    "a harmonic by a base": {
        "terms": [
            of.Season("year", harmonics=1),
            of.Driver("temp", below="estimated"),
            of.Interaction(["season", "temp"]),
        ]
    },
    "a driver by two bases": {
        "terms": [
            of.Driver("fare"),
            of.Driver("temp", below="estimated", above="estimated"),
            of.Interaction(["temp", "fare"]),
        ]
    },
    "only while it is warm": {
        "terms": [of.Driver("fare"), of.Driver("temp"), of.Interaction(["fare", "temp"], above=15.0)]
    },
    "a logarithm with noise": {
        "terms": [TREND, of.Driver("fare")],
        "scale": "log",
        "errors": "ar",
        "order": 2,
        "offset": 5.0,
    },
}

NUMBER = r"(-?[\d.]+(?:e[+-]?\d+)?)"


class Equation:
    """Reads the text, and nothing else of the fit."""

    def __init__(self, text, data):
        self.data, self.months = data, data.index
        self.lines = text.splitlines()
        self.left, constant = self.lines[0].split(" = ")
        self.constant = float(constant)
        pattern = r"  \[(.+?)\]: (.*)"
        self.defined = dict(re.fullmatch(pattern, line).groups() for line in self.lines if line.startswith("  ["))
        self.summands = [
            (float(number) * (-1.0 if sign == "-" else 1.0), name, bool(level))
            for line in self.lines
            if (found := re.fullmatch(rf"  ([+-]) {NUMBER} \* \[(.+?)\]( \* \[level\])?", line))
            for sign, number, name, level in [found.groups()]
        ]
        self.noise = {}
        for line in self.lines:
            if line.startswith("  + noise carried on: "):
                found = re.findall(rf"{NUMBER} of (\d+) month", line)
                self.noise = {int(lag): float(phi) for phi, lag in found}

    def at(self, label):
        """The place of a month."""
        return self.months.get_loc(pd.Period(label, "M"))

    def years(self, since):
        return (np.arange(len(self.months)) - self.at(since)) / 12.0

    def days(self, text):
        """Periods of days with strengths, from a list of them."""
        return [
            (pd.Timestamp(first), pd.Timestamp(last), float(times))
            for first, last, times in re.findall(rf"([\d-]{{10}}) to ([\d-]{{10}}) times {NUMBER}", text)
        ]

    def shares(self, wanted):
        """The share of each month's days for which `wanted(day)` is true."""
        return np.array(
            [
                np.mean([wanted(day) for day in pd.date_range(month.start_time, month.end_time.floor("D"))])
                for month in self.months
            ]
        )

    def series(self, text):
        """A driver with its transforms, and how long ago."""
        if found := re.fullmatch(r"(.+) (\d+) months? before", text):
            past = np.roll(self.series(found[1]), int(found[2]))
            past[: int(found[2])] = np.nan
            return past
        if found := re.fullmatch(rf"standardised \(less {NUMBER}, over {NUMBER}\) (.+)", text):
            return (self.series(found[3]) - float(found[1])) / float(found[2])
        if found := re.fullmatch(rf"at most {NUMBER}: (.+)", text):
            return np.minimum(self.series(found[2]), float(found[1]))
        if found := re.fullmatch(r"log (.+)", text):
            return np.log(self.series(found[1]))
        return self.data[re.fullmatch(r"'(.+)'", text)[1]].to_numpy(float)

    def form(self, text, x):
        """What is made of values x."""
        if text == "x":
            return x
        if found := re.fullmatch(r"z / \(z \+ " + NUMBER + r"\), z: (.+)", text):
            z = self.form(found[2], x)
            return z / (z + float(found[1]))
        if found := re.fullmatch(r"s = x \+ " + NUMBER + r" s of the period before, from 0 before .+", text):
            kept = [x[0]]
            for value in x[1:]:
                kept.append(value + float(found[1]) * kept[-1])
            return np.array(kept)
        if found := re.fullmatch(r"x to the power " + NUMBER, text):
            return x ** float(found[1])
        if found := re.fullmatch(r"max\((.+), 0\)", text):
            return np.maximum(self.excess(found[1], x), 0.0)
        width = re.fullmatch(rf"{NUMBER} ln\(1 \+ exp\((.+) / {NUMBER}\)\)", text)
        assert width[1] == width[3]
        return float(width[1]) * np.log1p(np.exp(self.excess(width[2], x) / float(width[1])))

    def excess(self, text, x):
        if found := re.fullmatch(rf"\(x − {NUMBER}\)", text):
            return x - float(found[1])
        return float(re.fullmatch(rf"\({NUMBER} − x\)", text)[1]) - x

    def bent(self, text):
        """A curve of uniform cubic B-splines, by the recursion of Cox (1972) and de Boor (1972)."""
        found = re.fullmatch(
            rf"uniform cubic B-splines on (\d+) pieces from {NUMBER} to {NUMBER} with the coefficients "
            r"(.+); beyond that along the straight lines at the ends, x: (.+)",
            text,
        )
        pieces, low, high = int(found[1]), float(found[2]), float(found[3])
        coefficients, x = np.array([float(each) for each in found[4].split(", ")]), self.series(found[5])
        step = (high - low) / pieces
        knots = low + step * np.arange(-3, pieces + 4)

        def value(at):
            basis = ((knots[:-1] <= at) & (at < knots[1:])).astype(float)
            for degree in (1, 2, 3):
                basis = ((at - knots[: -degree - 1]) * basis[:-1] + (knots[degree + 1 :] - at) * basis[1:]) / (
                    degree * step
                )
            return float(basis[: len(coefficients)] @ coefficients)

        inside, found, small = np.clip(x, low, high - 1e-9), [], 1e-4
        for at, clipped in zip(x, inside, strict=True):
            slope = (value(clipped + small) - value(clipped)) / small if at < low else 0.0
            slope = (value(clipped) - value(clipped - small)) / small if at > high else slope
            found.append(value(clipped) + slope * (at - clipped))
        return np.array(found)

    def column(self, name):
        """The values of a name over all months."""
        return self.meaning(self.defined[name])

    def meaning(self, text):
        months = self.months
        if found := re.fullmatch(r"\[(.+?)\] \* \[(.+?)\]", text):
            return self.column(found[1]) * self.column(found[2])
        if found := re.fullmatch(rf"\[(.+?)\] \* \(1 while (.+) is above {NUMBER}, else 0\)", text):
            return self.column(found[1]) * (self.meaning(found[2]) > float(found[3]))
        if text.startswith(("years since ", "(years since ")):
            return self.time(text)
        if found := re.match(r"1 in periods whose month of the year is (\w+), else 0", text):
            hit = np.array([NAMES[month.month - 1] == found[1] for month in months])
            return self.while_(hit.astype(float), text)
        if found := re.fullmatch(r"(sin|cos)\(2π (\d) p\), p: \(place in the year, from 0\) / 12", text):
            return getattr(np, found[1])(2.0 * np.pi * int(found[2]) * (months.month.to_numpy() - 1.0) / 12.0)
        if found := re.fullmatch(r"1 where '(.+)' is '(.+)', else 0", text):
            return (self.data[found[1]] == found[2]).to_numpy(float)
        if text.startswith("L + (U − L)"):
            found = re.search(rf"L = {NUMBER}, U = {NUMBER}, r = {NUMBER}, m = {NUMBER}; t: years since (\S+),", text)
            low, high, rate, middle = map(float, found.groups()[:4])
            return low + (high - low) / (1.0 + np.exp(-rate * (self.years(found[5]) - middle)))
        if text.startswith("uniform cubic B-splines"):
            return self.bent(text)
        if found := re.fullmatch(NUMBER + r" to the power \(1 \+ months since (\S+)\)", text):
            return float(found[1]) ** (1.0 + np.arange(len(months)) - self.at(found[2]))
        if ", x: " in text:
            form, x = text.split(", x: ")
            return self.form(form, self.series(x))
        return self.series(text) if text.endswith(("'", "before")) else self.of_days(text)

    def of_days(self, text):
        """Events, working time and holidays."""
        months = self.months
        if text.startswith("share of the period's days from the first on"):
            ((first, _, times),) = self.days(text)
            return times * self.shares(lambda day: day >= first)
        if text.startswith("mean over the period of the years"):
            ((first, _, times),) = self.days(text)
            return times * np.array(
                [
                    np.mean(
                        [
                            ((day - first).days + 0.5 if day >= first else 0.0) / 365.25
                            for day in pd.date_range(month.start_time, month.end_time.floor("D"))
                        ]
                    )
                    for month in months
                ]
            )
        if found := re.match(
            rf"0.5 to the power \(periods (after|before) / {NUMBER}\) times the share of the days", text
        ):
            return self.faded(float(found[2]), self.days(text), 1 if found[1] == "after" else -1)
        if text.startswith("share of the period's days: "):
            return sum(
                times * self.shares(lambda day, first=first, last=last: first <= day <= last)
                for first, last, times in self.days(text)
            )
        if text == "number of days from Monday to Friday whatever the day":
            return np.array(
                [np.busday_count(month.start_time.date(), (month + 1).start_time.date()) for month in months]
            )
        if text == "number of 29ths of February":
            return np.array([float(month.month == 2 and month.is_leap_year) for month in months])
        return self.holidays(text)

    def time(self, text):
        """Years since a month or a bend, damped after the end, to a power."""
        found = re.match(r"\(?years since (\S+?)(?:[,;)]|$)", text)
        step = np.ones(len(self.months))
        if damped := re.search(rf"after (\S+) each month counts {NUMBER} times the one before", text):
            later = np.maximum(np.arange(len(self.months)) - self.at(damped[1]), 0)
            step = float(damped[2]) ** later
        path = np.cumsum(step) / 12.0
        years = path - path[self.at(found[1])]
        if "0 before" in text:
            years = np.maximum(years, 0.0)
        power = re.search(r"to the power (\d)", text)
        return years ** int(power[1]) if power else years

    def while_(self, values, text):
        """Only from a month on, or until before one."""
        places = np.arange(len(self.months))
        if found := re.search(r", from ([\d-]+)", text):
            values = values * (places >= self.at(found[1]))
        if found := re.search(r", until before ([\d-]+)", text):
            values = values * (places < self.at(found[1]))
        return values

    def faded(self, half, days, method):
        total = np.zeros(len(self.months))
        for first, last, times in days:
            share = self.shares(lambda day, first=first, last=last: first <= day <= last)
            for i in np.flatnonzero(share):
                away = method * (np.arange(len(self.months)) - i)
                total += times * share[i] * np.where(away < 0, 0.0, 0.5 ** (np.maximum(away, 0) / half))
        return total

    def holidays(self, text):
        found = re.fullmatch(
            r"share of the period's days that are (?:(\d+) days? (before|after) )?"
            r"(?:'(.+)'|any holiday of the group '(.+)'), each by its weight",
            text,
        )
        away = pd.Timedelta(days=int(found[1] or 0) * (-1 if found[2] == "before" else 1))
        members = [found[3]] if found[3] else ["Lamp Night", "Boat Day"]
        days = set(HOLIDAYS["date"][HOLIDAYS["name"].isin(members)] + away)
        return self.shares(lambda day: day in days)

    def line(self):
        """What everything but own lags and noise adds up to; and the coefficients of own lags."""
        own, total, level = {}, np.full(len(self.months), self.constant), 0.0
        if "level" in self.defined:
            found = re.fullmatch(
                rf"the constant, the summands of the trend, and those .+ means: {NUMBER}", self.defined["level"]
            )
            trend = [value * self.column(name) for value, name, _ in self.summands if name.startswith("trend")]
            level = self.constant + sum(trend) + float(found[1])
        for value, name, grows in self.summands:
            if lag := re.fullmatch(rf"{re.escape(self.left)} (\d+) months? before", self.defined[name]):
                own[int(lag[1])] = value
            else:
                total = total + value * self.column(name) * (level if grows else 1.0)
        return total, own

    def values(self):
        """Fitted values of the months that are known, and the means of those ahead."""
        log = self.left.startswith("ln(")
        offset = 0.0
        if found := re.fullmatch(rf"ln\(sold \+ {NUMBER}\)", self.left):
            offset = float(found[1])
        line, own = self.line()
        y = self.data["sold"].to_numpy(float, copy=True)
        y[N:] = np.nan
        y = np.log(y + offset) if log else y
        at = np.full(len(y), np.nan)
        for t in range(max(own, default=0), len(y)):
            at[t] = line[t] + sum(value * y[t - lag] for lag, value in own.items())
            if t >= max(self.noise, default=0):
                at[t] += sum(phi * (y[t - lag] - line[t - lag]) for lag, phi in self.noise.items())
            y[t] = at[t] if t >= N else y[t]
        if not log:
            return at[:N], at[N:]
        found = re.fullmatch(
            rf"mean\(sold\) = exp\(.+ \+ v / 2\) - {NUMBER}, v = {NUMBER} one month ahead; h months "
            rf"ahead .+, ψ\(0\) = 1, ψ\(k\) = {NUMBER} ψ\(k−1\) \+ {NUMBER} ψ\(k−2\)",
            self.lines[-1],
        )
        _, variance, first, second = map(float, found.groups())
        psi = [1.0, first]
        while len(psi) < AHEAD:
            psi.append(first * psi[-1] + second * psi[-2])
        ahead = np.exp(at[N:] + variance * np.cumsum(np.square(psi)) / 2.0) - offset
        return np.exp(at[:N] + variance / 2.0) - offset, ahead


@pytest.mark.parametrize("case", MODELS)
def test_fitted_and_forecast_values_follow_from_the_text_alone(case):
    data = table()
    fit = of.Model("sold", **MODELS[case]).fit(data.iloc[:N])
    forecast = fit.forecast(AHEAD, plan=data.iloc[N:].drop(columns="sold"))
    fitted, ahead = Equation(fit.equation, data).values()
    noted = fit.fitted["fitted"].to_numpy()[3:]
    np.testing.assert_allclose(fitted[3:], noted, rtol=2e-8)
    np.testing.assert_allclose(ahead, forecast.mean, rtol=2e-8)


def test_the_constant_belongs_to_the_stated_position():
    """Monthly means without a trend: the constant is March's own, as the table says of every other month."""
    data = table().iloc[:N]
    fit = of.Model("sold", terms=[of.Season("year", reference="March")]).fit(data)
    means = data["sold"].groupby(data.index.month).mean()
    noted = fit.coefficients["coefficient"]
    assert noted.iloc[0] == pytest.approx(means[3])
    assert noted.iloc[1] == pytest.approx(means[1] - means[3])
    assert fit.equation.startswith(f"sold = {means[3]:.9g}"[:18])


@pytest.mark.parametrize(
    "weights",
    [
        {"weights": "free", "span": 3},
        {"weights": "beta", "span": 6, "skip": 1},
        {"weights": "smooth", "span": 6},
        {"weights": "polynomial", "span": 5},
    ],
)
def test_months_of_a_quarter_count_as_the_text_says(weights):
    generator = np.random.default_rng(1)
    months = pd.Series(
        generator.normal(50.0, 5.0, 126), pd.period_range("2015-01", periods=126, freq="M"), name="index"
    )
    values = months.to_numpy()
    orders = pd.Series(
        [9.0 + values[i + 2] + 3.0 * values[i + 1] + generator.normal() for i in range(6, 126, 3)],
        pd.period_range("2015Q3", periods=40, freq="Q"),
        name="orders",
    )
    tables = {"orders": of.read(orders), "bookings": of.read(months)}
    fit = of.Model("orders.orders", terms=[of.Driver("bookings.index", **weights)]).fit(tables)
    text = fit.equation
    total = np.full(40, float(text.splitlines()[0].removeprefix("orders = ")))
    for sign, number, lag in re.findall(rf"  ([+-]) {NUMBER} \* \[index: lag (\d+)\]", text):
        assert re.search(
            rf"\[index: lag {lag}\]: 'bookings.index' in the month that ended {lag} months? before the last one", text
        )
        total += float(f"{sign}{number}") * values[8 - int(lag) :: 3][:40]
    np.testing.assert_allclose(total, fit.fitted["fitted"], rtol=1e-9)
