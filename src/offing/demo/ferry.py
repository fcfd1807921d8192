"""Weekly tickets of the Tern Islands' ferry line, made up so that the true effects are known."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from offing.base.arrays import Array

FIRST_WEEK = "2022-07-04"
BEND = "2024-04-01"

#: True coefficients by term and column, on the log scale. A holiday's is that of a week that is all holiday.
TRUTH: dict[tuple[str, str], float] = {
    ("trend", "trend: slope a year"): 0.06,
    ("trend", f"trend: slope change at {BEND}"): -0.08,
    ("season", "season: sin 1"): -0.11,
    ("season", "season: cos 1"): -0.26,
    ("season", "season: sin 2"): 0.05,
    ("season", "season: cos 2"): 0.04,
    ("season", "season: sin 3"): 0.0,
    ("season", "season: cos 3"): 0.0,
    ("holidays", "holidays: Founding Day"): 0.9,
    ("holidays", "holidays: Lantern Night"): 1.6,
    ("holidays", "holidays: Midwinter Rest"): -0.7,
    ("holidays", "holidays: Regatta Days"): 0.3,
    ("fare", "log fare"): -0.7,
    ("sailings", "log sailings"): 0.4,
    ("cruise calls", "cruise calls"): 0.03,
    ("storm hours", "storm hours above a base"): -0.012,
    ("storm hours", "storm hours: base above"): 8.0,
    ("promotion", "promotion, carried over"): 0.11,
    ("promotion", "promotion, carried over, before the data"): 0.06,
    ("promotion", "promotion: share carried over to the next period"): 0.5,
    ("noise", "noise: carried to the next period"): 0.4,
}
CONSTANT = 9.6
#: Standard deviation of the noise of the logarithm.
NOISE = 0.05
#: What a rival's ferry takes of the logarithm of tickets, from the third of the weeks that come.
RIVAL = -0.18

#: First day and length of the islands' holidays; Lantern Night follows the moon.
_YEARLY = {"Founding Day": ("06-09", 1), "Regatta Days": ("07-22", 5), "Midwinter Rest": ("12-24", 3)}
_LANTERN_NIGHT = ("2022-10-08", "2023-09-27", "2024-09-15", "2025-09-05", "2026-08-25")


@dataclass(frozen=True)
class World:
    """A made-up history with the plan of its drivers, and the truth behind them.

    Attributes
    ----------
    history
        Tickets and drivers by week (n rows).
    plan
        Drivers of the weeks that follow.
    days
        The islands' holidays: ``name, date, until``.
    truth
        True coefficients: ``term, column, true``.
    log_mean
        True expectation of the logarithm of tickets, history and plan together.
    noise
        Standard deviation of the noise of the logarithm, of which a share comes back a week later.
    """

    history: pd.DataFrame
    plan: pd.DataFrame
    days: pd.DataFrame
    truth: pd.DataFrame
    log_mean: Array
    noise: float


def ferry(seed: int = 1, weeks: int = 208, planned: int = 26) -> World:
    """Make up `weeks` of ferry tickets and `planned` weeks of the drivers' plan, the same for the same seed.

    The arithmetic is written out here and shares nothing with the models, so that agreement means something.
    """
    generator = np.random.default_rng(seed)
    starts = pd.date_range(FIRST_WEEK, periods=weeks + planned, freq="7D", name="week")
    drivers = _drivers(starts, generator)
    days = island_days()
    log_mean = _log_mean(starts, drivers, days)
    tickets = np.round(np.exp(log_mean + _noise(generator.standard_normal(len(starts)))))
    truth = pd.DataFrame([(*key, value) for key, value in TRUTH.items()], columns=["term", "column", "true"])
    history = drivers.iloc[:weeks].copy()
    history.insert(0, "sold", tickets[:weeks].astype(int))
    return World(history, drivers.iloc[weeks:], days, truth, log_mean, NOISE)


def month_before(world: World) -> tuple[pd.DataFrame, pd.DataFrame]:
    """History and plan as they were four weeks earlier: two values were revised later, and the plan was another."""
    history = world.history.iloc[:-4].copy()
    sold, storm = history["sold"].to_numpy().copy(), history["storm hours"].to_numpy().copy()
    sold[-1] -= 310  # a boat's cash box came in late
    storm[-6] += 4.0
    history = history.assign(**{"sold": sold, "storm hours": storm})
    plan = pd.concat([world.history.iloc[-4:].drop(columns="sold"), world.plan])
    calm = plan["storm hours"].to_numpy().copy()
    calm[:4] = calm[:4].mean().round(1)  # it was not known which weeks would be stormy
    fare = plan["fare"].to_numpy() - np.where(np.arange(len(plan)) >= 8, 0.4, 0.0)
    return history, plan.assign(**{"fare": np.round(fare, 2), "storm hours": calm})


def weeks_after(world: World, weeks: int = 8, seed: int = 7) -> tuple[pd.DataFrame, pd.DataFrame]:
    """History and plan some weeks later, in which a rival's ferry has taken a share of the passengers.

    From the third week on the logarithm of tickets is lower by what `RIVAL` says, of which no driver knows.
    """
    n, generator = len(world.history), np.random.default_rng(seed)
    came = world.plan.iloc[:weeks].copy()
    log_mean = world.log_mean[n : n + weeks] + np.where(np.arange(weeks) >= 2, RIVAL, 0.0)
    tickets = np.round(np.exp(log_mean + _noise(generator.standard_normal(weeks))))
    came.insert(0, "sold", tickets.astype(int))
    return pd.concat([world.history, came]), world.plan.iloc[weeks:]


def _noise(shocks: Array) -> Array:
    """Noise of which a share comes back in the next week, from independent shocks (n,)."""
    share = TRUTH["noise", "noise: carried to the next period"]
    noise = NOISE * shocks
    for t in range(1, len(noise)):
        noise[t] = share * noise[t - 1] + np.sqrt(1.0 - share**2) * noise[t]
    return noise


def island_days() -> pd.DataFrame:
    """The islands' holidays from 2022 to 2026."""
    rows = [("Lantern Night", date, date) for date in _LANTERN_NIGHT]
    for holiday, (day, length) in _YEARLY.items():
        for year in range(2022, 2027):
            first = pd.Timestamp(f"{year}-{day}")
            until = first + pd.Timedelta(days=length - 1)
            rows.append((holiday, first.date().isoformat(), until.date().isoformat()))
    return pd.DataFrame(rows, columns=["name", "date", "until"]).sort_values("date", ignore_index=True)


def _year_share(starts: pd.DatetimeIndex) -> Array:
    """Share of the calendar year that has passed by the middle of each week."""
    shares = []
    for start in starts:
        middle = start + pd.Timedelta(days=3.5)
        opened, closed = (pd.Timestamp(year=middle.year + i, month=1, day=1) for i in (0, 1))
        shares.append((middle - opened) / (closed - opened))
    return np.array(shares)


def _drivers(starts: pd.DatetimeIndex, generator: np.random.Generator) -> pd.DataFrame:
    n = len(starts)
    share = _year_share(starts)
    summer = np.exp(-(((share - 0.55) / 0.13) ** 2))
    years = np.arange(n) * 7 / 365.25
    # The price list changes every quarter or so, with a surcharge in summer and offers for single weeks.
    steps = np.repeat(generator.normal(0.0, 0.06, n // 11 + 1), 11)[:n]
    fare = 17.5 * np.exp(0.03 * years + 0.06 * summer + steps + generator.normal(0.0, 0.015, n))
    timetable = 62.0 + 34.0 * summer + np.repeat(generator.normal(0.0, 4.0, n // 8 + 1), 8)[:n]
    storm = generator.gamma(0.9, 3.0 + 9.0 * (1.0 - summer), n)
    return pd.DataFrame(
        {
            "fare": np.round(fare, 2),
            "sailings": np.round(timetable + generator.normal(0.0, 2.5, n)).astype(int),
            "cruise calls": generator.poisson(4.5 * summer),
            "storm hours": np.round(storm, 1),
            "promotion": (generator.random(n) < 0.16).astype(int),
        },
        index=starts,
    )


def _log_mean(starts: pd.DatetimeIndex, drivers: pd.DataFrame, days: pd.DataFrame) -> Array:
    truth = {column: value for (_, column), value in TRUTH.items()}
    n = len(starts)
    years = np.arange(n) * 7 / 365.25
    bend = years[list(starts).index(pd.Timestamp(BEND))]
    total = CONSTANT + truth["trend: slope a year"] * years
    total += truth[f"trend: slope change at {BEND}"] * np.maximum(years - bend, 0.0)
    angle = 2.0 * np.pi * _year_share(starts)
    for h in (1, 2, 3):
        total += truth[f"season: sin {h}"] * np.sin(h * angle) + truth[f"season: cos {h}"] * np.cos(h * angle)
    for row in days.itertuples():
        for day in pd.date_range(str(row.date), str(row.until)):
            total += truth[f"holidays: {row.name}"] / 7 * ((starts <= day) & (day < starts + pd.Timedelta(days=7)))
    total += truth["log fare"] * np.log(drivers["fare"]) + truth["log sailings"] * np.log(drivers["sailings"])
    total += truth["cruise calls"] * drivers["cruise calls"]
    total = np.array(total, dtype=float)
    storm = drivers["storm hours"].to_numpy() - truth["storm hours: base above"]
    total += truth["storm hours above a base"] * np.maximum(storm, 0.0)
    share = truth["promotion: share carried over to the next period"]
    earlier, carried = truth["promotion, carried over, before the data"], 0.0
    for t, running in enumerate(drivers["promotion"].tolist()):
        carried, earlier = running + share * carried, share * earlier
        total[t] += truth["promotion, carried over"] * carried + earlier
    return total


def forecast_only(study: str) -> str:
    """The demo's study as far as its forecast needs it, without what it asks beyond that."""
    head, _, rest = study.partition("[groups]")
    before, _, requested = rest[rest.index("[estimation]") :].partition("unknown_drivers_cost = true")
    return head + before + requested[requested.index("[backtest]") :]
