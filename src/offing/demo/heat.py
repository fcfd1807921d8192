"""Hourly load of the Tern Islands' district heat, made up so that the true effects are known."""

from __future__ import annotations

import numpy as np
import pandas as pd

from offing.base.arrays import Array
from offing.demo.ferry import World, island_days

#: The islands keep this clock: its days of change have 23 and 25 hours.
ZONE = "Europe/Lisbon"
FIRST_DAY, DAYS, PLANNED_DAYS = "2024-03-15", 730, 21
KINDS = ("workday", "Saturday", "Sunday")

#: True coefficients by term and column, on the log scale.
TRUTH: dict[tuple[str, str], float] = {
    ("trend", "trend: slope a year"): -0.02,
    ("season", "season: sin 1"): 0.03,
    ("season", "season: cos 1"): 0.12,
    ("season", "season: sin 2"): -0.01,
    ("season", "season: cos 2"): 0.02,
    ("holidays", "holidays: Founding Day"): 0.02,
    ("holidays", "holidays: Lantern Night"): 0.09,
    ("holidays", "holidays: Midwinter Rest"): 0.07,
    ("holidays", "holidays: Regatta Days"): 0.05,
    ("school holidays", "school holidays: Autumn Weeks"): -0.03,
    ("school holidays", "school holidays: Spring Weeks"): -0.02,
    ("school holidays", "school holidays: Summer Weeks"): -0.05,
    ("school holidays", "school holidays: Winter Weeks"): -0.04,
    ("outside temperature", "outside temperature"): -0.035,
    ("wind", "wind"): 0.008,
    ("sun", "sun"): -0.0002,
    ("beds occupied", "beds occupied"): 0.00006,
}
CONSTANT = 3.9
#: What is left unexplained goes on from hour to hour.
CARRIED, NOISE = 0.8, 0.012

#: First and last day of the school holidays, by name and year.
_SCHOOL = {
    "Spring Weeks": (("2024-03-25", "2024-04-05"), ("2025-04-14", "2025-04-25"), ("2026-03-30", "2026-04-10")),
    "Summer Weeks": (("2024-07-01", "2024-08-16"), ("2025-06-30", "2025-08-15")),
    "Autumn Weeks": (("2024-10-14", "2024-10-25"), ("2025-10-13", "2025-10-24")),
    "Winter Weeks": (("2024-12-16", "2025-01-03"), ("2025-12-22", "2026-01-09")),
}


def heat(seed: int = 7) -> World:
    """Make up two years of hourly load and three weeks of the drivers' plan, the same for the same seed.

    The arithmetic is written out here and shares nothing with the models, so that agreement means something.
    """
    generator = np.random.default_rng(seed)
    first = pd.Timestamp(FIRST_DAY, tz=ZONE)
    last = first + pd.DateOffset(days=DAYS + PLANNED_DAYS)
    hours = pd.date_range(first, last, freq="h", inclusive="left", name="hour")
    drivers = _drivers(hours, generator)
    days = island_days()
    log_mean = _log_mean(hours, drivers, days)
    shocks = NOISE * generator.standard_normal(len(hours))
    shocks[0] /= np.sqrt(1.0 - CARRIED**2)
    noise = np.zeros(len(hours))
    for t in range(len(hours)):
        noise[t] = shocks[t] + (CARRIED * noise[t - 1] if t else 0.0)
    past = hours < first + pd.DateOffset(days=DAYS)
    history = drivers[past].copy()
    history.insert(0, "load", np.round(np.exp(log_mean + noise), 3)[past])
    truth = pd.DataFrame([(*key, value) for key, value in _truth().items()], columns=["term", "column", "true"])
    return World(history, drivers[~past], days, truth, log_mean, NOISE)


def school_days() -> pd.DataFrame:
    """The islands' school holidays: ``name, date, until``."""
    rows = [(name, *span) for name, spans in _SCHOOL.items() for span in spans]
    return pd.DataFrame(rows, columns=["name", "date", "until"]).sort_values("date", ignore_index=True)


def hour_effects() -> dict[tuple[str, int], float]:
    """True effect of each hour on each kind of day: they average to zero."""
    hour = np.arange(24)
    morning, evening = np.exp(-(((hour - 7.0) / 1.8) ** 2)), np.exp(-(((hour - 19.0) / 2.5) ** 2))
    late = np.exp(-(((hour - 9.5) / 2.4) ** 2))
    night = -0.28 * ((hour < 5) | (hour > 22))
    shapes = np.array(
        [
            0.32 * morning + 0.2 * evening + night,
            0.24 * late + 0.16 * evening + night - 0.04,
            0.2 * late + 0.2 * evening + night - 0.07,
        ]
    )
    shapes -= shapes.mean()
    return {(kind, h): float(shapes[k, h]) for k, kind in enumerate(KINDS) for h in range(24)}


def _truth() -> dict[tuple[str, str], float]:
    name = "season in day by kind of day"
    hours = {(name, f"{name}: {kind} {hour:02d}:00"): effect for (kind, hour), effect in hour_effects().items()}
    return {**TRUTH, **hours}


def _year_share(hours: pd.DatetimeIndex) -> Array:
    """Share of the calendar year that has passed by the middle of each hour, on the wall clock."""
    wall = hours.tz_localize(None) + pd.Timedelta(minutes=30)
    opened = pd.to_datetime(wall.year.astype(str) + "-01-01")
    closed = pd.to_datetime((wall.year + 1).astype(str) + "-01-01")
    return np.asarray((wall - opened) / (closed - opened), dtype=float)


def wandering(n: int, carried: float, generator: np.random.Generator) -> Array:
    """A wandering series of unit spread, of which the share `carried` stays from hour to hour."""
    shocks = generator.standard_normal(n) * np.sqrt(1.0 - carried**2)
    values = np.zeros(n)
    for t in range(1, n):
        values[t] = carried * values[t - 1] + shocks[t]
    return values


def _drivers(hours: pd.DatetimeIndex, generator: np.random.Generator) -> pd.DataFrame:
    n = len(hours)
    share, clock = _year_share(hours), hours.hour.to_numpy()
    winter = np.cos(2.0 * np.pi * (share - 0.05))
    daily = np.cos(2.0 * np.pi * (clock - 15.0) / 24.0)
    temperature = 9.5 - 7.5 * winter + 2.2 * daily + 3.2 * wandering(n, 0.985, generator)
    height = np.clip(np.sin(np.pi * (clock - 6.0 - winter) / (12.0 - 2.0 * winter)), 0.0, None)
    clouds = np.clip(0.55 + 0.3 * wandering(n, 0.93, generator), 0.05, 1.0)
    beds = (
        2400.0 - 1300.0 * winter + 260.0 * (hours.day_of_week.to_numpy() >= 4) + 180.0 * wandering(n, 0.99, generator)
    )
    return pd.DataFrame(
        {
            "outside temperature": np.round(temperature, 1),
            "wind": np.round(np.abs(6.0 + 1.5 * winter + 3.0 * wandering(n, 0.95, generator)), 1),
            "sun": np.round((560.0 - 260.0 * winter) * height * clouds),
            "beds occupied": np.round(np.clip(beds, 0.0, None)).astype(int),
        },
        index=hours,
    )


def _log_mean(hours: pd.DatetimeIndex, drivers: pd.DataFrame, days: pd.DataFrame) -> Array:
    dates = pd.DatetimeIndex(hours.tz_localize(None).normalize())
    total = CONSTANT + TRUTH["trend", "trend: slope a year"] * np.arange(len(hours)) / 8766.0
    off = np.zeros(len(hours), dtype=bool)
    for term, table in (("holidays", days), ("school holidays", school_days())):
        for name, first, until in table.itertuples(index=False):
            inside = (dates >= pd.Timestamp(first)) & (dates <= pd.Timestamp(until))
            total = total + TRUTH[term, f"{term}: {name}"] * inside
            off |= np.asarray(inside) & (term == "holidays")
    weekday = hours.day_of_week.to_numpy()
    kind = np.where(off | (weekday == 6), 2, np.where(weekday == 5, 1, 0))
    effects = hour_effects()
    by_kind = np.array([[effects[each, h] for h in range(24)] for each in KINDS])
    total = total + by_kind[kind, hours.hour.to_numpy()]
    share = 2.0 * np.pi * _year_share(hours)
    for h in (1, 2):
        total = total + TRUTH["season", f"season: sin {h}"] * np.sin(h * share)
        total = total + TRUTH["season", f"season: cos {h}"] * np.cos(h * share)
    for name in drivers.columns:
        total = total + TRUTH[name, name] * drivers[name].to_numpy()
    return np.asarray(total, dtype=float)
