"""Quarterly orders of the Tern Islands' boatyard, made up with monthly and weekly indicators of known weights."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from offing.base.arrays import Array
from offing.demo.heat import wandering

#: The quarters with orders, and the last instant up to which indicators are there: the day on which all is looked at.
FIRST_QUARTER, QUARTERS, TODAY = "2002-01-01", 97, "2026-06-24"
BOOKINGS_OUT = 21  # days after a month's end
#: The dates on which the running quarter is estimated.
DATES = ("2026-04-24", "2026-05-25", "2026-06-24")

CONSTANT, NOISE = 40.0, 7.0
#: Spans of the weights, in months and weeks, and how many quarters back the first values must reach.
SPANS = {"charter bookings": 6, "web enquiries": 13}
#: True coefficients by term and column: slopes of one more in every period of the span, and the weights' shapes.
TRUTH: dict[tuple[str, str], float] = {
    ("trend", "trend: slope a year"): 3.0,
    ("season", "season: sin 1"): -14.0,
    ("season", "season: cos 1"): 22.0,
    ("charter bookings", "charter bookings"): 2.4,
    ("charter bookings", "charter bookings: weights: a"): 2.2,
    ("charter bookings", "charter bookings: weights: b"): 3.6,
    ("web enquiries", "web enquiries"): 0.7,
    ("web enquiries", "web enquiries: weights: a"): 1.9,
    ("web enquiries", "web enquiries: weights: b"): 3.8,
}


@dataclass(frozen=True)
class Yard:
    """The boatyard's tables, the true effects, and what the running quarter will be.

    `orders`, `bookings` and `enquiries` are what is published today; `weights` the true weights by driver.
    """

    orders: pd.DataFrame
    bookings: pd.DataFrame
    enquiries: pd.DataFrame
    truth: pd.DataFrame
    weights: dict[str, Array]
    outcome: float


def boatyard(seed: int = 7) -> Yard:
    """Make up 97 quarters of orders and their indicators, the same for the same seed.

    The arithmetic is written out here and shares nothing with the models, so that agreement means something.
    """
    generator = np.random.default_rng(seed)
    quarters = pd.date_range(FIRST_QUARTER, periods=QUARTERS + 1, freq="QS", name="quarter")
    months = pd.date_range(quarters[0] - pd.DateOffset(months=12), "2026-06-01", freq="MS", name="month")
    weeks = pd.date_range("2001-06-04", "2026-06-29", freq="7D", name="week")
    bookings = 60.0 + 8.0 * np.sin(2.0 * np.pi * months.month / 12.0) + 9.0 * wandering(len(months), 0.75, generator)
    enquiries = 140.0 + 25.0 * wandering(len(weeks), 0.85, generator)
    ends = quarters + pd.DateOffset(months=3)
    weights = {
        name: beta_weights(span, TRUTH[name, f"{name}: weights: a"], TRUTH[name, f"{name}: weights: b"])
        for name, span in SPANS.items()
    }
    mean = CONSTANT + TRUTH["trend", "trend: slope a year"] * np.arange(len(quarters)) / 4.0
    turn = 2.0 * np.pi * (quarters.quarter.to_numpy() - 1.0) / 4.0
    mean = mean + TRUTH["season", "season: sin 1"] * np.sin(turn) + TRUTH["season", "season: cos 1"] * np.cos(turn)
    rounded = {"charter bookings": np.round(bookings, 1), "web enquiries": np.round(enquiries)}
    finished = {"charter bookings": months + pd.DateOffset(months=1), "web enquiries": weeks + pd.Timedelta(days=7)}
    for name, values in rounded.items():
        for i, end in enumerate(ends):
            newest = int(np.flatnonzero(finished[name] <= end)[-1])
            past = values[newest - SPANS[name] + 1 : newest + 1][::-1]
            mean[i] += TRUTH[name, name] * float(weights[name] @ past)
    orders = np.round(mean + NOISE * generator.standard_normal(len(quarters)), 1)
    today = pd.Timestamp(TODAY)
    out = {
        "charter bookings": finished["charter bookings"] + pd.Timedelta(days=BOOKINGS_OUT) <= today,
        "web enquiries": finished["web enquiries"] <= today,
    }
    truth = pd.DataFrame([(*key, value) for key, value in TRUTH.items()], columns=["term", "column", "true"])
    return Yard(
        pd.DataFrame({"orders": orders[:-1]}, quarters[:-1]),
        pd.DataFrame({"charter bookings": rounded["charter bookings"]}, months)[out["charter bookings"]],
        pd.DataFrame({"web enquiries": rounded["web enquiries"].astype(int)}, weeks)[out["web enquiries"]],
        truth,
        weights,
        float(orders[-1]),
    )


def beta_weights(span: int, a: float, b: float) -> Array:
    """Weights (span,) in proportion to u^(a−1) (1 − u)^(b−1) at the middles of `span` parts of 0 to 1."""
    u = (np.arange(span) + 0.5) / span
    raw = u ** (a - 1.0) * (1.0 - u) ** (b - 1.0)
    return np.asarray(raw / raw.sum())
