"""Print how fast Offing is, as ratios to bare work measured in the same run.

Run it as ``python benchmarks/ratios.py``. Whole processes are timed in turn, A B A B, and the median of the pairs'
ratios is printed, so that a machine that slows down half-way does not change the verdict.
"""

import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import replace
from functools import partial

import numpy as np
import pandas as pd
from scipy.linalg import lstsq

import offing as of
from offing.calendar import country_days
from offing.engine import Bent, Beta, Dynamics, Grid, Problem, Shapes, regress, running

EMPTY_COMMAND = "import click\n@click.command()\ndef main(): pass\nmain(['--help'])"
OUR_HELP = "from offing.cli import main\nmain(['--help'])"


def process_ratio(ours: str, bare: str, pairs: int = 15) -> tuple[float, float, float]:
    """Median seconds of both programs and the median ratio of pairs."""
    times = []
    for code in (ours, bare):
        seconds(code)  # the first run fills the caches of the file system
    for _ in range(pairs):
        times.append((seconds(ours), seconds(bare)))
    a, b = (statistics.median(each) for each in zip(*times, strict=True))
    return a, b, statistics.median(x / y for x, y in times)


def seconds(code: str) -> float:
    """Wall time of a fresh interpreter that runs `code`."""
    start = time.perf_counter()
    subprocess.run([sys.executable, "-c", code], check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - start


def call_ratio(ours: Callable[[], object], bare: Callable[[], object], pairs: int = 60) -> tuple[float, float, float]:
    """Median seconds of both calls and the median ratio of pairs."""
    times = []
    for _ in range(pairs + 3):
        marks = [time.perf_counter()]
        for call in (ours, bare):
            call()
            marks.append(time.perf_counter())
        times.append((marks[1] - marks[0], marks[2] - marks[1]))
    times = times[3:]
    a, b = (statistics.median(each) for each in zip(*times, strict=True))
    return a, b, statistics.median(x / y for x, y in times)


def daily_case() -> tuple[of.Model, pd.DataFrame]:
    """1,095 days with trend, two seasons, holidays of a country and drivers: about 50 columns."""
    generator = np.random.default_rng(3)
    days = pd.date_range("2021-01-01", periods=1095, freq="D")
    drivers = generator.normal(10.0, 1.0, (1095, 8))
    data = pd.DataFrame(drivers, index=days, columns=[f"driver {i}" for i in range(8)])
    data["sold"] = 100.0 + drivers @ generator.normal(size=8) + generator.normal(size=1095)
    terms = [
        of.Trend(knots=["2021-09-01", "2022-06-01"]),
        of.Season("year", harmonics=6),
        of.Season("week"),
        of.Holidays(country="NO"),
        *(of.Driver(f"driver {i}", lags=[0, 1] if i < 6 else [0]) for i in range(8)),
    ]
    return of.Model("sold", terms=terms), data


def shaped_case() -> tuple[of.Model, of.results.Table]:
    """1,095 days with three shapes to be found: a carry-over, a base and a saturation, among 50 columns."""
    generator = np.random.default_rng(4)
    n = 1095
    days = pd.date_range("2021-01-01", periods=n, freq="D")
    others = generator.normal(size=(n, 23))
    data = pd.DataFrame(others, index=days, columns=[f"driver {i}" for i in range(23)])
    data["promotion"] = (generator.random(n) < 0.15) * generator.gamma(3.0, 1.0, n)
    data["cold"] = 12.0 + 9.0 * np.cos(2.0 * np.pi * np.arange(n) / 365.25) + generator.normal(0.0, 3.0, n)
    data["ads"] = generator.gamma(2.0, 30.0, n)
    stock = np.zeros(n)
    for t in range(n):
        stock[t] = data["promotion"].iloc[t] + (0.6 * stock[t - 1] if t else 0.0)
    shapes = 4.0 * stock + 2.5 * np.maximum(14.0 - data["cold"], 0.0) + 60.0 * data["ads"] / (data["ads"] + 50.0)
    data["sold"] = 100.0 + shapes + others @ generator.normal(size=23) + generator.normal(0.0, 3.0, n)
    terms = [
        of.Trend(),
        of.Season("week"),
        of.Season("year", harmonics=6),
        of.Driver("promotion", carry_over="estimated"),
        of.Driver("cold", below="estimated"),
        of.Driver("ads", saturation="estimated"),
        *(of.Driver(f"driver {i}") for i in range(23)),
    ]
    return of.Model("sold", terms=terms), of.read(data)


def related_rows(gaps: int) -> tuple[Problem, np.ndarray, np.ndarray]:
    """1,095 rows of 50 columns with AR(2) noise, without some of the periods between."""
    generator = np.random.default_rng(5)
    design = np.column_stack([np.ones(1095), generator.normal(size=(1095, 49))])
    target = design.sum(axis=1) + running(generator.normal(size=1095), (0.5, 0.2))
    gone = generator.choice(np.arange(1, 1094), gaps, replace=False)
    times = np.setdiff1d(np.arange(1095), gone)
    problem = Problem(target[times], design[times], times, np.full(50, -1), dynamics=Dynamics(2))
    return problem, design[times], target[times]


def weighted_rows(seed: int) -> tuple[Problem, np.ndarray]:
    """120 quarters with 12 monthly lags by beta weights beside trend and season; and the free columns."""
    generator = np.random.default_rng(seed)
    curve, n = Beta(12), 120
    wander = running(generator.normal(size=3 * n + 20), (0.6,))
    x = wander[11 + 3 * np.arange(n)[:, None] - np.arange(12)]
    season = [np.arange(n) % 4 == i for i in range(3)]
    fixed = np.column_stack([np.ones(n), np.arange(n) / n, *season]).astype(np.float64)
    target = fixed.sum(axis=1) + x @ curve.weights(np.array([[2.0, 4.0]]))[0] + generator.normal(size=n)
    (points, sides), (lower, upper) = curve.grid, curve.bounds

    def bend(theta: np.ndarray) -> Bent:
        return Bent(x @ curve.weights(theta[None]).T, np.zeros(n), lambda beta: (x @ curve.slopes(theta)) * beta[0])

    def many(thetas: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        return (x @ curve.weights(thetas).T).T[:, :, None], np.zeros((len(thetas), n))

    shapes = Shapes((Grid(np.arange(2), points, sides),), lower, upper, bend, many, np.zeros(2, bool), np.array([5]))
    columns = np.column_stack([fixed, x @ curve.weights(points[:1])[0]])
    return Problem(target, columns, np.arange(n), np.full(8, -1), shapes=shapes), np.column_stack([fixed, x])


def everything(fit: of.results.Fit) -> tuple[object, ...]:
    """What most ask of a fit, made again: results keep what they have once made."""
    new = replace(fit)
    return new.coefficients, new.fitted, new.contributions.table


def screening_seconds() -> float:
    """Seconds to screen 40 drivers at 7 lags before 8 origins of 400 rows."""
    generator = np.random.default_rng(6)
    names = [f"x{i}" for i in range(40)]
    data = pd.DataFrame(generator.normal(size=(406, 40)), pd.date_range("2018-01-01", periods=406, freq="7D"), names)
    data["sold"] = 5.0 + data["x3"].shift(2).fillna(0.0) - data["x9"] + generator.normal(size=406)
    offered = of.candidates(names, lags=range(7))
    started = time.perf_counter()
    of.screen(data, of.Model("sold", terms=[of.Season(harmonics=1)]), offered)
    return time.perf_counter() - started


def judging_lines() -> list[str]:
    """Back-tests and searches, compared with single fits of the same model."""
    model, data = daily_case()
    table = of.read(data)
    fits = partial(model.fit, table)
    folds = partial(of.backtest, model, table, horizon=14, origins=20, basis="ex-post")
    plain = of.Model("sold", [term for term in model.terms if not isinstance(term, of.Holidays)])
    names = [str(term.name) for term in plain.terms if isinstance(term, of.Driver)]
    choices = {"season.harmonics": [2, 3, 4, 5, 6]}

    def searched() -> of.results.Search:
        return of.search(plain, table, choices, optional=names, tries=200, horizon=14, origins=8, basis="ex-post")

    lines = []
    for what, limit, ours, one in (
        ("back-test of 20 origins, holidays drawn together / one fit", 3.0, folds, fits),
        (
            "back-test of 20 origins, without holidays / one fit",
            3.0,
            partial(of.backtest, plain, table, horizon=14, origins=20, basis="ex-post"),
            partial(plain.fit, table),
        ),
        ("search of 200 candidates x 8 origins / one fit", 30.0, searched, partial(plain.fit, table)),
    ):
        mine, bare, times = call_ratio(ours, one, 20)
        lines.append(f"{what:<58} {1e3 * mine:>7.1f} ms {1e3 * bare:>7.1f} ms {times:>7.2f} {limit:>8.1f}")
    started = time.perf_counter()
    many_series()
    lines.append(f"50 candidates x 8 origins x 100 monthly series: {time.perf_counter() - started:.1f} s, at most 60 s")
    for budget in (2.0, 10.0):
        started = time.perf_counter()
        related = of.Model("sold", plain.terms, errors="ar")
        of.search(related, table, choices, optional=names, horizon=14, origins=8, basis="ex-post", budget=budget)
        taken = time.perf_counter() - started
        lines.append(f"search with a budget of {budget:.0f} s: {taken:.2f} s, at most {1.1 * budget:.1f} s")
    return lines


def many_series() -> of.results.Search:
    """A hundred monthly series, for which 50 candidates are tried."""
    generator = np.random.default_rng(6)
    months = pd.period_range("2014-01", periods=132, freq="M").astype(str)
    wave = 5.0 * np.sin(2.0 * np.pi * np.arange(132) / 12.0)
    parts = []
    for i in range(100):
        drivers = generator.normal(size=(132, 5))
        frame = pd.DataFrame(drivers, columns=[f"driver {j}" for j in range(5)])
        sold = 50.0 + 3.0 * drivers[:, 0] + wave + generator.normal(size=132)
        parts.append(frame.assign(month=months, shop=f"s{i:03d}", sold=sold))
    panel = of.read(pd.concat(parts), id="shop")
    terms = [of.Trend(), of.Season("year", harmonics=2), *(of.Driver(f"driver {j}") for j in range(5))]
    return of.search(
        of.Model("sold", terms),
        panel,
        {"season.harmonics": [1, 2, 3]},
        optional=[f"driver {j}" for j in range(5)],
        tries=50,
        horizon=6,
        origins=8,
        basis="ex-post",
    )


def main() -> None:
    """Measure and print."""
    model, data = daily_case()
    fit = model.fit(data)
    design, target = fit.design[fit.used], fit.target[fit.used]
    rows, columns = design.shape
    print(f"{'what':<58} {'ours':>10} {'bare':>10} {'ratio':>7} {'at most':>8}")
    touch = "import offing\nfor name in offing.__all__:\n    getattr(offing, name)"
    measured = [
        ("import offing / import pandas", 1.3, *process_ratio("import offing", "import pandas")),
        ("offing --help / an empty click command's help", 2.0, *process_ratio(OUR_HELP, EMPTY_COMMAND)),
        ("every public name loaded / import pandas", 1.8, *process_ratio(touch, "import pandas", 5)),
        (
            f"Model.fit, {rows} x {columns} / lstsq gelsy",
            6.0,
            *call_ratio(lambda: model.fit(data), lambda: lstsq(design, target, lapack_driver="gelsy")),
        ),
    ]
    table = of.read(data)

    def fit_again() -> of.results.Fit:
        country_days.cache_clear()
        return model.fit(data)

    for what, call in {
        "Model.fit, the holidays' dates computed again": fit_again,
        "Model.fit of a table read before": lambda: model.fit(table),
    }.items():
        ratio = call_ratio(call, lambda: lstsq(design, target, lapack_driver="gelsy"))
        measured.append((f"{what} / lstsq gelsy", 6.0, *ratio))
    fitted = model.fit(table)
    requested: dict[str, tuple[float, Callable[[], object]]] = {
        "print(fit) with all statistics": (30.0, lambda: (str(fitted), fitted.details)),
        "coefficients, fitted and contributions": (15.0, lambda: everything(fitted)),
    }
    for what, (most, each) in requested.items():
        ratio = call_ratio(each, lambda: lstsq(design, target, lapack_driver="gelsy"))
        measured.append((f"{what} / lstsq gelsy", most, *ratio))
    later = pd.date_range("2024-01-01", periods=14)
    ahead = fitted.forecast(14, plan=pd.DataFrame(10.0, later, data.columns[:-1]))
    ratio = call_ratio(lambda: of.sensitivity(ahead), lambda: model.fit(table), 10)
    measured.append(("sensitivity to eight drivers / one fit", 4.0, *ratio))
    bent, days = shaped_case()
    found = bent.fit(days)
    wide, aim = found.design[found.used], found.target[found.used]
    ratio = call_ratio(lambda: bent.fit(days), lambda: lstsq(wide, aim, lapack_driver="gelsy"), 20)
    measured.append((f"Model.fit, {wide.shape[0]} x {wide.shape[1]} with three shapes / lstsq gelsy", 20.0, *ratio))
    for gaps, most in ((0, 12.0), (60, 20.0)):
        problem, design, target = related_rows(gaps)
        solve = partial(lstsq, design, target, lapack_driver="gelsy")
        ratio = call_ratio(partial(regress, problem), solve, 20)
        measured.append((f"AR(2) errors, {len(target)} x 50, {gaps} gaps / lstsq gelsy", most, *ratio))
    cases = [weighted_rows(seed) for seed in range(5)]
    ratios = [
        call_ratio(partial(regress, problem), partial(lstsq, wide, problem.target, lapack_driver="gelsy"), 40)
        for problem, wide in cases
    ]
    measured.append(
        (
            "beta weights, 120 x (5 + 12), middle of 5 sets / lstsq gelsy",
            40.0,
            *sorted(ratios, key=lambda each: each[2])[2],
        )
    )
    for what, limit, ours, bare, times in measured:
        shown = "" if limit is None else f"{limit:.1f}"
        print(f"{what:<58} {1e3 * ours:>7.1f} ms {1e3 * bare:>7.1f} ms {times:>7.2f} {shown:>8}")
    print("\n".join(judging_lines()))
    print(f"screening 40 drivers x 7 lags, 8 origins, 400 rows: {screening_seconds():.2f} s, at most 3 s on 2 cores")


if __name__ == "__main__":
    main()
