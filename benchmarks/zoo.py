"""Simulated series of many kinds, with the law that made them: what `benchmarks/drafts.py` drafts.

Every kind draws its length, the noise's share of the variance about trend and season (5 to 60 %, unless the kind says
otherwise) and the size of its effects from the ranges stated in its function. The last `horizon` periods are held out.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
import pandas as pd

import offing as of
from offing.terms import Term

Generator = np.random.Generator


@dataclass(frozen=True)
class World:
    """One series.

    Attributes
    ----------
    data
        Target ``sold`` and drivers by period, the held-out rows with drivers alone where these are planned.
    outcome
        The target's held-out values (h,).
    oracle
        The model as it would be stated by one who knows the law, but not its numbers.
    suits
        The plain reference that suits the law.
    other
        Further tables by name.
    holidays
        A table of holidays.
    bare
        Whether any trend, driver or season in a draft is superfluous.
    """

    data: pd.DataFrame
    outcome: np.ndarray
    oracle: of.Model
    suits: str
    other: dict[str, pd.DataFrame] = field(default_factory=dict)
    holidays: pd.DataFrame | None = None
    bare: bool = False

    @property
    def horizon(self) -> int:
        """How many periods are held out."""
        return len(self.outcome)

    @property
    def tables(self) -> dict[str, of.results.Table | of.results.Panel]:
        """The tables as an analyst would read them."""
        later = {"later_rows": "plan"} if self.data["sold"].isna().iloc[-1] else {}
        found = {"history": of.read(self.data, **later)}
        return {**found, **{name: of.read(frame) for name, frame in self.other.items()}}


def _noisy(generator: Generator, signal: np.ndarray, *, phi: float = 0.0, share: float | None = None) -> np.ndarray:
    """A signal with noise of a share of the variance of its movement."""
    share = float(generator.uniform(0.05, 0.6)) if share is None else share
    detrended = signal - np.polyval(np.polyfit(np.arange(len(signal)), signal, 1), np.arange(len(signal)))
    size = max(float(detrended.std()), 1e-9) * np.sqrt(share / (1.0 - share))
    shocks = generator.normal(size=len(signal) + 50)
    noise = shocks.copy()
    for i in range(1, len(noise)):
        noise[i] += phi * noise[i - 1]
    return np.asarray(signal + size * np.sqrt(1.0 - phi**2) * noise[50:])


def _year(n: int, generator: Generator, period: float, size: float) -> np.ndarray:
    """A yearly wave with a few harmonics."""
    t = np.arange(n) / period * 2.0 * np.pi
    found: np.ndarray = np.zeros(n) + sum(
        generator.normal() / k * np.sin(k * t + generator.uniform(0, 6.28)) for k in (1, 2, 3)
    )
    return np.asarray(size * found / max(float(np.std(found)), 1e-9))


def _made(
    index: pd.PeriodIndex | pd.DatetimeIndex,
    target: np.ndarray,
    h: int,
    terms: Sequence[Term],
    suits: str,
    *,
    drivers: dict[str, np.ndarray] | None = None,
    planned: bool = True,
    scale: str = "level",
    errors: str = "ar",
    bare: bool = False,
    holidays: pd.DataFrame | None = None,
    transform: Sequence[object] = (),
    window: int | None = None,
) -> World:
    n = len(target) - h
    data = pd.DataFrame({"sold": target, **(drivers or {})}, index)
    if drivers and planned:
        data.loc[data.index[n:], "sold"] = np.nan
    else:
        data = data.iloc[:n]
    model = of.Model("history.sold", list(terms), scale, errors=errors, transform=transform, window=window)  # type: ignore[arg-type]
    return World(data, target[n:], model, suits, holidays=holidays, bare=bare)


def _months(n: int) -> pd.PeriodIndex:
    return pd.period_range("2008-01", periods=n, freq="M")


def straight(generator: Generator) -> World:
    """96 to 180 months, a slope of 2 to 10 % a year, a season of 5 to 20 %."""
    n, h = int(generator.integers(96, 181)), 12
    t = np.arange(n + h)
    signal = 100.0 + generator.uniform(2, 10) * t / 12 + _year(n + h, generator, 12, generator.uniform(5, 20))
    return _made(_months(n + h), _noisy(generator, signal), h, [of.Trend(), of.Season("year")], "drift")


def bending(generator: Generator) -> World:
    """120 to 180 months, two slope changes of 5 to 15 % a year each, a season, noise that carries on by half."""
    n, h = int(generator.integers(120, 181)), 12
    t = np.arange(n + h)
    knots = sorted(generator.choice(np.arange(24, n - 18), 2, replace=False).tolist())
    slope = sum(generator.choice([-1, 1]) * generator.uniform(5, 15) / 12 * np.maximum(t - knot, 0) for knot in knots)
    signal = 150.0 + slope + _year(n + h, generator, 12, generator.uniform(4, 12))
    days = [str(_months(n + h)[knot].start_time.date()) for knot in knots]
    noisy = _noisy(generator, signal, phi=0.5, share=float(generator.uniform(0.05, 0.3)))
    return _made(_months(n + h), noisy, h, [of.Trend(knots=days), of.Season("year")], "same season")


def u_shaped(generator: Generator) -> World:
    """120 months of a fall and a rise of 20 to 50 %, a season, noise that carries on by 0.3."""
    n, h = 120, 12
    t = np.linspace(-1, 1.2, n + h)
    signal = 100.0 + generator.uniform(20, 50) * t**2 + _year(n + h, generator, 12, generator.uniform(3, 10))
    noisy = _noisy(generator, signal, phi=0.3, share=float(generator.uniform(0.05, 0.3)))
    terms = [of.Trend(form="polynomial", degree=2), of.Season("year")]
    return _made(_months(n + h), noisy, h, terms, "same season")


def no_trend(generator: Generator) -> World:
    """84 to 180 months around a level, a season, noise that carries on by 0.5."""
    n, h = int(generator.integers(84, 181)), 12
    signal = 100.0 + _year(n + h, generator, 12, generator.uniform(3, 15))
    return _made(_months(n + h), _noisy(generator, signal, phi=0.5), h, [of.Season("year")], "same season")


def level_shifts(generator: Generator) -> World:
    """144 to 208 weeks, two to four shifts of 10 to 30 %, a season of the year."""
    n, h = int(generator.integers(144, 209)), 13
    signal = 100.0 + _year(n + h, generator, 52.18, generator.uniform(3, 8))
    days = []
    index = pd.date_range("2019-01-07", periods=n + h, freq="W-MON")
    for place in sorted(generator.choice(np.arange(20, n - 10), int(generator.integers(2, 5)), replace=False).tolist()):
        signal[place:] += generator.choice([-1, 1]) * generator.uniform(10, 30)
        days.append(str(index[place].date()))
    terms = [of.Season("year", harmonics=3), *(of.Event(f"shift {day}", dates=day, form="step") for day in days)]
    noisy = _noisy(generator, signal, share=float(generator.uniform(0.03, 0.15)))
    return _made(index, noisy, h, terms, "last value")


def bust_and_recovery(generator: Generator) -> World:
    """132 to 156 months; a fall of 30 to 60 % within four months, 30 to 50 months before the end, and its recovery."""
    n, h = int(generator.integers(132, 157)), 12
    t = np.arange(n + h)
    start = n - int(generator.integers(30, 51))
    depth, pace = generator.uniform(0.3, 0.6), generator.uniform(10, 25)
    fall = depth * np.clip((t - start) / 4.0, 0, 1) * np.exp(-np.maximum(t - start - 4, 0) / pace)
    log = np.log(100) + 0.003 * t + _year(n + h, generator, 12, generator.uniform(0.03, 0.1)) + np.log1p(-fall)
    noisy = _noisy(generator, log, phi=0.5, share=float(generator.uniform(0.05, 0.2)))
    oracle = [of.Trend(form="stochastic"), of.Season("year")]
    return _made(_months(n + h), np.exp(noisy), h, oracle, "last value", scale="log", errors="independent")


def drifting_season(generator: Generator) -> World:
    """144 to 180 months, whose season turns from one shape of 8 to 20 % to another; a slope."""
    n, h = int(generator.integers(144, 181)), 12
    t = np.arange(n + h)
    part = t / (n + h)
    first, second = (_year(n + h, generator, 12, generator.uniform(8, 20)) for _ in range(2))
    signal = 100.0 + generator.uniform(0, 5) * t / 12 + (1 - part) * first + part * second
    noisy = _noisy(generator, signal, share=float(generator.uniform(0.03, 0.15)))
    return _made(_months(n + h), noisy, h, [of.Trend(), of.Season("year", drift=True)], "same season")


def deepening_week(generator: Generator) -> World:
    """700 to 1,100 days; a weekly cycle that grows by half to twice, a season of the year."""
    n, h = int(generator.integers(700, 1101)), 28
    t = np.arange(n + h)
    week = generator.normal(size=7)
    week -= week.mean()
    index = pd.date_range("2021-01-04", periods=n + h)
    growth = 1.0 + generator.uniform(0.5, 2.0) * t / n
    signal = 100.0 + 6.0 * week[t % 7] * growth + _year(n + h, generator, 365.25, generator.uniform(2, 6))
    noisy = _noisy(generator, signal, phi=0.4, share=float(generator.uniform(0.05, 0.3)))
    terms = [of.Season("week", name="week"), of.Season("year", harmonics=2, name="year")]
    return _made(index, noisy, h, terms, "same season (week)")


def late_law(generator: Generator) -> World:
    """96 to 144 months; a law, known beforehand, that lifts or lowers the level by 15 to 40 % some 5 to 11 months before the end."""  # noqa: E501
    n, h = int(generator.integers(96, 145)), 12
    t = np.arange(n + h)
    law = (t >= n - int(generator.integers(5, 12))).astype(float)
    signal = 100.0 + generator.uniform(0, 5) * t / 12 + _year(n + h, generator, 12, generator.uniform(4, 10))
    noisy = _noisy(generator, signal, share=float(generator.uniform(0.05, 0.4)))
    noisy = noisy + generator.choice([-1, 1]) * generator.uniform(15, 40) * law
    terms = [of.Trend(), of.Season("year"), of.Driver("law")]
    return _made(_months(n + h), noisy, h, terms, "last value", drivers={"law": law})


def night_counts(generator: Generator) -> World:
    """900 to 1,500 hours of counts with a mean of 4 to 30 by day, and none by night."""
    n, h = int(generator.integers(900, 1501)), 48
    t = np.arange(n + h)
    hour, day = t % 24, (t // 24) % 7
    shape = np.clip(np.sin((hour - 6) / 16 * np.pi), 0, None) * np.where((hour >= 6) & (hour < 22), 1, 0)
    mean = generator.uniform(4, 30) * shape * np.where(day >= 5, generator.uniform(0.4, 0.9), 1.0)
    counts = generator.poisson(mean).astype(float)
    index = pd.date_range("2024-03-04", periods=n + h, freq="h")
    kinds = of.Season("day", across="kind of day", name="hours")
    return _made(index, counts, h, [kinds], "same season (week)", errors="independent")


def _day(hour: np.ndarray, generator: Generator) -> np.ndarray:
    """The course of a day with a few harmonics."""
    parts = [generator.normal() * np.cos((hour - generator.uniform(0, 24)) * k * 2 * np.pi / 24) for k in (1, 2, 3)]
    return np.asarray(np.sum(parts, axis=0))


def kinds_of_day(generator: Generator) -> World:
    """1,000 to 1,700 hours whose course differs between workdays and weekends; a driver that acts at once."""
    n, h = int(generator.integers(1000, 1701)), 48
    t = np.arange(n + h)
    hour, day = t % 24, (t // 24) % 7
    work, rest = (_day(hour, generator) for _ in range(2))
    wind = np.zeros(n + h)
    for i in range(1, n + h):
        wind[i] = 0.95 * wind[i - 1] + generator.normal()
    signal = 100.0 + 8.0 * np.where(day >= 5, 0.5 * rest - 1.0, work) + generator.uniform(0.5, 2.0) * wind
    index = pd.date_range("2024-03-04", periods=n + h, freq="h")
    noisy = _noisy(generator, signal, phi=0.8, share=float(generator.uniform(0.05, 0.3)))
    terms = [of.Season("day", across="kind of day", name="hours"), of.Driver("wind")]
    return _made(index, noisy, h, terms, "same season (week)", drivers={"wind": 20.0 + wind})


def heating(generator: Generator) -> World:
    """600 to 1,000 days of load: heating below 12 to 16 degrees, cooling above 18 to 24, a week, noise carried on."""
    n, h = int(generator.integers(600, 1001)), 14
    t = np.arange(n + h)
    weather = 11.0 - 10.0 * np.cos(2 * np.pi * t / 365.25)
    deviation = np.zeros(n + h)
    for i in range(1, n + h):
        deviation[i] = 0.8 * deviation[i - 1] + 2.0 * generator.normal()
    warm = weather + deviation
    low, high = generator.uniform(12, 16), generator.uniform(18, 24)
    week = np.where(t % 7 >= 5, -generator.uniform(3, 10), 0.0)
    heat = generator.uniform(1.5, 4.0) * np.maximum(low - warm, 0)
    signal = 100.0 + heat + generator.uniform(0.5, 3.0) * np.maximum(warm - high, 0) + week
    index = pd.date_range("2022-01-03", periods=n + h)
    noisy = _noisy(generator, signal, phi=0.5, share=float(generator.uniform(0.03, 0.2)))
    terms = [of.Season("week"), of.Driver("warm", below=round(low, 1), above=round(high, 1))]
    return _made(index, noisy, h, terms, "same season (week)", drivers={"warm": warm})


def promotion(generator: Generator) -> World:
    """150 to 208 weeks of sales: an elasticity of price of −0.5 to −2, promotion with a carry-over of 0.3 to 0.7."""
    n, h = int(generator.integers(150, 209)), 13
    t = np.arange(n + h)
    price = 10.0 * np.exp(np.repeat(0.1 * generator.normal(size=(n + h) // 13 + 1), 13)[: n + h])
    spend = np.where(generator.uniform(size=n + h) < 0.2, generator.uniform(5, 20, n + h), 0.0)
    stays = generator.uniform(0.3, 0.7)
    kept = np.zeros(n + h)
    for i in range(n + h):
        kept[i] = spend[i] + (stays * kept[i - 1] if i else 0.0)
    log = np.log(200) + _year(n + h, generator, 52.18, generator.uniform(0.05, 0.15))
    log = log - generator.uniform(0.5, 2.0) * np.log(price / 10) + generator.uniform(0.004, 0.015) * kept + 0.0005 * t
    noisy = _noisy(generator, log, phi=0.3, share=float(generator.uniform(0.05, 0.4)))
    index = pd.date_range("2020-01-06", periods=n + h, freq="W-MON")
    terms = [
        of.Trend(),
        of.Season("year", harmonics=3),
        of.Driver("price", transform=["log"]),
        of.Driver("spend", carry_over="estimated"),
    ]
    return _made(index, np.exp(noisy), h, terms, "same season", drivers={"price": price, "spend": spend}, scale="log")


def trending_pair(generator: Generator) -> World:
    """64 to 90 quarters: an indicator that wanders upwards, known ahead, and a target that follows it by 0.6 to 1.2."""
    n, h = int(generator.integers(64, 91)), 4
    steps = 0.01 + 0.012 * generator.normal(size=n + h)
    indicator = 100.0 * np.exp(np.cumsum(steps))
    own = np.cumsum(0.006 * generator.normal(size=n + h))
    log = 3.0 + generator.uniform(0.6, 1.2) * np.log(indicator) + own
    log = log + _year(n + h, generator, 4, generator.uniform(0.01, 0.06)) + 0.004 * generator.normal(size=n + h)
    index = pd.period_range("2002Q1", periods=n + h, freq="Q")
    terms = [of.Trend(form="stochastic"), of.Season("year"), of.Driver("indicator", transform=["log"])]
    return _made(
        index, np.exp(log), h, terms, "drift", drivers={"indicator": indicator}, scale="log", errors="independent"
    )


def in_sample_only(generator: Generator) -> World:
    """84 to 120 months of a walk with a season, and four drivers that are walks of their own."""
    n, h = int(generator.integers(84, 121)), 12
    target = 100.0 + np.cumsum(generator.normal(size=n + h)) + _year(n + h, generator, 12, generator.uniform(2, 6))
    drivers = {f"other {i}": 50.0 + np.cumsum(generator.normal(size=n + h)) for i in range(4)}
    terms = [of.Trend(form="stochastic"), of.Season("year")]
    return _made(_months(n + h), target, h, terms, "same season", drivers=drivers, errors="independent")


def forty_drivers(generator: Generator) -> World:
    """120 to 160 months, forty drivers of which four act, after 0 to 6 months; a slope and a season."""
    n, h = int(generator.integers(120, 161)), 12
    t = np.arange(n + h)
    base = generator.normal(size=(n + h + 6, 40))
    for j in range(0, 40, 2):
        for i in range(1, n + h + 6):
            base[i, j] += 0.6 * base[i - 1, j]
    chosen = generator.choice(40, 4, replace=False).tolist()
    lags = generator.integers(0, 7, 4).tolist()
    signal = 100.0 + 3.0 * t / 12 + _year(n + h, generator, 12, generator.uniform(2, 6))
    terms: list[Term] = [of.Trend(), of.Season("year")]
    for j, lag in zip(chosen, lags, strict=True):
        signal += generator.choice([-1, 1]) * generator.uniform(1.5, 4.0) * base[6 - lag : n + h + 6 - lag, j]
        terms.append(of.Driver(f"d{j:02d}", lags=[lag]))
    drivers = {f"d{j:02d}": base[6:, j] for j in range(40)}
    noisy = _noisy(generator, signal, share=float(generator.uniform(0.05, 0.4)))
    return _made(_months(n + h), noisy, h, terms, "same season", drivers=drivers)


def quarters_from_months(generator: Generator) -> World:
    """60 to 84 quarters of orders that follow an index of months over the last half year, known to the end."""
    n, h = int(generator.integers(60, 85)), 2
    months = 3 * (n + h)
    index = np.zeros(months + 12)
    for i in range(1, months + 12):
        index[i] = 0.9 * index[i - 1] + generator.normal()
    weights = np.array([6, 5, 4, 3, 2, 1.0])
    weights /= weights.sum()
    smooth = np.array([index[12 + 3 * q + 2 - np.arange(6)] @ weights for q in range(n + h)])
    signal = 100.0 + generator.uniform(3, 6) * smooth + _year(n + h, generator, 4, generator.uniform(2, 6))
    noisy = _noisy(generator, signal, phi=0.3, share=float(generator.uniform(0.05, 0.3)))
    quarters = pd.period_range("2004Q1", periods=n + h, freq="Q")
    fast = pd.DataFrame({"index": 100.0 + index[12 : 12 + 3 * n]}, pd.period_range("2004-01", periods=3 * n, freq="M"))
    driver = of.Driver("months.index", weights="polynomial", degree=2, span=6)
    made = _made(quarters, noisy, h, [of.Season("year"), driver], "last value")
    return World(made.data, made.outcome, made.oracle, made.suits, {"months": fast})


def noise(generator: Generator) -> World:
    """60 to 180 months of noise around a level."""
    n, h = int(generator.integers(60, 181)), 12
    return _made(_months(n + h), 100.0 + 10.0 * generator.normal(size=n + h), h, [], "mean", bare=True)


def random_walk(generator: Generator) -> World:
    """60 to 180 months of a random walk."""
    n, h = int(generator.integers(60, 181)), 12
    target = 200.0 + np.cumsum(3.0 * generator.normal(size=n + h))
    return _made(_months(n + h), target, h, [], "last value", bare=True, transform=["difference"], errors="independent")


def short(generator: Generator) -> World:
    """24 to 40 months with a season of 10 to 25 % and a slope."""
    n, h = int(generator.integers(24, 41)), 6
    t = np.arange(n + h)
    signal = 100.0 + generator.uniform(-5, 10) * t / 12 + _year(n + h, generator, 12, generator.uniform(10, 25))
    noisy = _noisy(generator, signal, share=float(generator.uniform(0.05, 0.3)))
    return _made(_months(n + h), noisy, h, [of.Season("year", harmonics=3)], "same season")


def working_days(generator: Generator) -> World:
    """96 to 144 months of sums over days: a day's amount that drifts, weekends with 10 to 40 % of a workday."""
    n, h = int(generator.integers(96, 145)), 12
    index = _months(n + h)
    days = pd.date_range(index[0].start_time, index[-1].end_time.normalize())
    month = np.asarray((days.year - days[0].year) * 12 + days.month - 1)
    part = np.where(np.asarray(days.weekday) >= 5, generator.uniform(0.1, 0.4), 1.0)
    worked = np.bincount(month, part)
    season = np.exp(_year(n + h, generator, 12, generator.uniform(0.02, 0.08)))
    target = worked * (5.0 + 0.01 * np.arange(n + h)) * season
    noisy = target * np.exp(generator.uniform(0.005, 0.03) * generator.normal(size=n + h))
    terms = [of.Trend(), of.Season("year"), of.WorkingTime()]
    return _made(index, noisy, h, terms, "same season", scale="log")


def heated_months(generator: Generator) -> World:
    """96 to 144 months of energy sold: days times a base and what each degree below 12 to 16 takes."""
    n, h = int(generator.integers(96, 145)), 12
    index = _months(n + h)
    days = np.asarray(index.days_in_month, dtype=float)
    warm = 9.0 - 9.0 * np.cos(2 * np.pi * (np.arange(n + h) % 12) / 12) + 2.0 * generator.normal(size=n + h)
    low, base = generator.uniform(12, 16), generator.uniform(5, 20)
    target = days * (base + generator.uniform(1.0, 3.0) * np.maximum(low - warm, 0.0))
    noisy = target + generator.uniform(0.01, 0.05) * target.mean() * generator.normal(size=n + h)
    terms = [of.Driver("warm", below=round(low, 1))]
    return _made(index, noisy, h, terms, "same season", drivers={"warm": warm}, transform=["per day"])


def changed_effect(generator: Generator) -> World:
    """120 to 180 weeks; a driver whose effect doubles, halves or turns around after a third to half of them."""
    n, h = int(generator.integers(120, 181)), 8
    driver = generator.normal(size=n + h)
    place = int(n * generator.uniform(0.33, 0.5))
    effect = np.where(np.arange(n + h) < place, 1.0, generator.choice([-1.0, 0.5, 2.0])) * generator.uniform(4.0, 10.0)
    target = 100.0 + effect * driver + generator.uniform(1.0, 4.0) * generator.normal(size=n + h)
    index = pd.date_range("2021-01-04", periods=n + h, freq="W-MON")
    return _made(index, target, h, [of.Driver("ads")], "mean", drivers={"ads": driver}, window=n - place)


def growing_season(generator: Generator) -> World:
    """72 to 100 quarters that grow by 2 to 8 % a year, with a season in proportion."""
    n, h = int(generator.integers(72, 101)), 4
    t = np.arange(n + h)
    log = 4.0 + generator.uniform(0.02, 0.08) * t / 4 + _year(n + h, generator, 4, generator.uniform(0.05, 0.2))
    index = pd.period_range("2000Q1", periods=n + h, freq="Q")
    noisy = _noisy(generator, log, phi=0.6, share=float(generator.uniform(0.05, 0.3)))
    return _made(index, np.exp(noisy), h, [of.Trend(), of.Season("year")], "compound growth", scale="log")


def seasonal_walk(generator: Generator) -> World:
    """60 to 90 quarters of a walk with a season, in logarithms."""
    n, h = int(generator.integers(60, 91)), 4
    log = (
        4.0 + np.cumsum(0.03 * generator.normal(size=n + h)) + _year(n + h, generator, 4, generator.uniform(0.05, 0.15))
    )
    index = pd.period_range("2003Q1", periods=n + h, freq="Q")
    terms = [of.Trend(form="stochastic"), of.Season("year")]
    return _made(index, np.exp(log), h, terms, "same season", scale="log", errors="independent")


def days_with_holidays(generator: Generator) -> World:
    """600 to 900 days of visits: a week, a season of the year, eight holidays a year of −30 to +60 %."""
    n, h = int(generator.integers(600, 901)), 28
    index = pd.date_range("2021-01-04", periods=n + h)
    names = [f"day {i}" for i in range(8)]
    places = sorted(generator.choice(np.arange(5, 360), 8, replace=False).tolist())
    rows = [(name, f"{year}-01-01") for name in names for year in range(2021, 2025)]
    table = pd.DataFrame(rows, columns=["name", "date"])
    table["date"] = [(pd.Timestamp(date) + pd.Timedelta(days=places[names.index(name)])).date() for name, date in rows]
    effect = dict(zip(names, generator.uniform(-0.3, 0.6, 8), strict=True))
    t = np.arange(n + h)
    week = generator.normal(size=7) * 0.15
    log = 5.0 + week[t % 7] + _year(n + h, generator, 365.25, generator.uniform(0.05, 0.2))
    log = _noisy(generator, log, phi=0.4, share=float(generator.uniform(0.05, 0.3)))
    for name, date in table.itertuples(index=False):
        log = log + effect[name] * (index == pd.Timestamp(date))
    terms = [of.Season("week", name="week"), of.Season("year", harmonics=3, name="year"), of.Holidays(table=table)]
    return _made(index, np.exp(log), h, terms, "same season (week)", scale="log", holidays=table)


#: All kinds by name.
KINDS: dict[str, Callable[[Generator], World]] = {
    each.__name__.replace("_", " "): each
    for each in (
        straight,
        bending,
        u_shaped,
        no_trend,
        level_shifts,
        bust_and_recovery,
        drifting_season,
        deepening_week,
        late_law,
        night_counts,
        kinds_of_day,
        heating,
        promotion,
        trending_pair,
        in_sample_only,
        forty_drivers,
        quarters_from_months,
        noise,
        random_walk,
        short,
        working_days,
        heated_months,
        changed_effect,
        growing_season,
        seasonal_walk,
        days_with_holidays,
    )
}
