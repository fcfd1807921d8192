"""Print what long calendars cost, as ratios to a bare solve of the same size measured in the same run.

Run it as ``python benchmarks/calendars.py``. The solve is that of three years of hours on hour-by-weekday dummies, year
harmonics and holidays; calls are timed in turn, A B A B, and the median of the pairs' ratios is printed.
"""

from collections.abc import Callable

import numpy as np
import pandas as pd
from ratios import call_ratio
from scipy.linalg import lstsq

import offing as of
from offing.calendar import country_days
from offing.model.design import lay_out


def hourly_case() -> tuple[of.Model, of.results.Table]:
    """26,280 hours with hour of the day by weekday, year harmonics and holidays."""
    generator = np.random.default_rng(5)
    hours = pd.date_range("2021-01-01", periods=26_280, freq="h")
    load = 50.0 + 9.0 * np.sin(2.0 * np.pi * hours.hour / 24.0) + generator.normal(size=len(hours))
    terms = [
        of.Trend(),
        of.Season("day", across="weekday"),
        of.Season("year", harmonics=6),
        of.Holidays(country="NO"),
    ]
    return of.Model("load", terms=terms), of.read(pd.DataFrame({"load": load}, hours), stamp="start")


def daily_columns() -> Callable[[], object]:
    """The calendar columns of 30 years of days with three days around each holiday, made again at every call."""
    days = pd.date_range("1995-01-01", periods=10_957, freq="D")
    sold = pd.Series(np.random.default_rng(6).normal(50.0, 1.0, len(days)), days, name="sold")
    terms = [
        of.Trend(),
        of.Season("year", harmonics=6),
        of.Season("week"),
        of.Holidays(country="NO", days_before=3, days_after=3),
    ]
    fit = of.Model("sold", terms=terms).fit(sold)

    def make() -> object:
        states = {str(term.name): term.learn(fit.view) for term in terms}
        return lay_out(terms, fit.view, fit.axis, states).linear

    return make


def main() -> None:
    """Measure and print."""
    model, table = hourly_case()
    fit = model.fit(table)
    design, target = fit.design[fit.used], fit.target[fit.used]
    rows, columns = design.shape

    def solve() -> object:
        return lstsq(design, target, lapack_driver="gelsy")

    make = daily_columns()

    def make_again() -> object:
        country_days.cache_clear()
        return make()

    print(f"bare: lstsq gelsy of {rows:,} x {columns}")
    print(f"{'what':<58} {'ours':>10} {'bare':>10} {'ratio':>7} {'at most':>8}")
    for what, limit, call in (
        ("Model.fit of 26,280 hours", 3.0, lambda: model.fit(table)),
        ("calendar columns of 30 years of days, windows of 3 days", 0.5, make),
        ("the same, the country's dates computed again", 0.5, make_again),
    ):
        ours, bare, ratio = call_ratio(call, solve, 9)
        print(f"{what:<58} {1e3 * ours:>7.0f} ms {1e3 * bare:>7.0f} ms {ratio:>7.2f} {limit:>8.1f}")


if __name__ == "__main__":
    main()
