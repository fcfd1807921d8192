"""Forecasts of every kind of model, as planned and with a changed plan: what every form that is handed over must give."""

from __future__ import annotations

from functools import cache

import numpy as np
import pandas as pd

import offing as of
from offing.model.forecast_formulas import formulas_of
from test_equation import MODELS, YEAR, N, table

AHEAD = 15
DATA = table()
PLAN = DATA.iloc[N:].drop(columns="sold")

MORE = {
    "changes": {"terms": [of.Driver("fare")], "transform": ["difference"]},
    "changes on the year, of logarithms": {
        "terms": [of.Driver("fare"), of.Season("year", harmonics=1)],
        "scale": "log",
        "transform": ["seasonal difference"],
        "errors": "ar",
    },
    "changes of changes": {"terms": [of.Driver("fare")], "transform": ["difference", "seasonal difference"]},
    "growth beyond a year": {"terms": [of.Driver("fare")], "transform": ["growth"]},
    "changes in percent": {"terms": [of.Driver("fare"), of.Driver("temp")], "transform": ["log difference"]},
    "per day and in thousands": {
        "terms": [TREND := of.Trend(), of.Driver("fare")],
        "transform": ["per day", {"times": 0.001}],
        "scale": "log",
    },
    "real, as an index": {
        "terms": [TREND, of.Driver("adverts")],
        "transform": [{"deflate": "temp", "base": "2018"}, {"index": "2018"}],
    },
    "per head, with an offset": {
        "terms": [of.Driver("adverts")],
        "transform": [{"per": "temp"}],
        "scale": "log",
        "offset": 2.0,
        "errors": "ar",
    },
    "within limits": {
        "terms": [of.Driver("fare"), TREND],
        "lower_limit": 0.0,
        "upper_limit": float(DATA["sold"].iloc[:N].max()),
    },
    "own lags of changes": {"terms": [of.OwnLags([1, 3]), of.Driver("fare")], "transform": ["difference"]},
    "own lags on the log scale, a year back": {
        "terms": [of.OwnLags([1, 12]), of.Driver("temp"), of.Driver("fare", transform=["log"])],
        "scale": "log",
    },
    "own lags and noise that carries on": {"terms": [of.OwnLags([12]), of.Driver("fare")], "errors": "ar"},
    "noise of a year before": {"terms": [of.Driver("fare")], "errors": "ar", "seasonal_lag": 12},
    "a level that wanders": {"terms": [of.Trend(form="stochastic", slope="constant"), of.Driver("fare")]},
    "many bends": {"terms": [of.Trend(knots="found"), of.Driver("fare")]},
    "all that looks back": {
        "terms": [
            of.Driver("fare", transform=[{"mean": 3}], lags=[0, 2]),
            of.Driver("temp", transform=["difference"], name="warmer"),
            of.Driver("temp", transform=["growth"], name="on the year before"),
            of.Driver("adverts", transform=["log difference"], name="more adverts"),
            of.Driver("adverts", carry_over=0.6, above=4.0),
        ]
    },
    "two columns in one": {
        "terms": [
            of.Driver("fare", transform=[{"minimum_with": "adverts"}, {"power": 2.0}]),
            of.Driver("temp", transform=[{"at_least": 10.0}, {"times": 2.0}, "standardised"], name="not too cold"),
            of.Driver("adverts", transform=[{"per": "fare"}, "per day"], name="adverts per fare"),
        ]
    },
    "shared between both": {
        "terms": [of.Driver("fare"), of.Driver("temp"), of.Interaction(["fare", "temp"], shared=True)],
        "scale": "log",
    },
    "a base by a word": {
        "terms": [of.Driver("temp", above=14.0), of.Category("kind"), of.Interaction(["temp", "kind"])],
    },
    "a rising curve": {"terms": [of.Driver("fare", curve="rising"), of.Driver("temp", above=[10.0, 20.0])]},
    "growing with the trend": {
        "terms": [TREND, of.Season("year", harmonics=2, grows_with="trend"), of.Driver("temp", above=12.0)],
        "errors": "ar",
    },
    "words that are new": {"terms": [of.Category("kind", unseen="mean"), YEAR, of.Driver("fare", reference=9.0)]},
    "a limit that is a column": {"terms": [of.Trend("saturating", lower=0.0, upper="ceiling"), of.Driver("fare")]},
    "next to no effect": {"terms": [of.Driver("calm")], "scale": "log"},
    "no driver": {"terms": [TREND, YEAR], "scale": "log"},
    "several calendars of days": {"terms": [of.Holidays(country="NO", bridge_days=True), of.Season("year")]},
}


def changed(plan):
    """A plan in which every number and some words are others."""
    generator = np.random.default_rng(9)
    other = plan.copy()
    for column in other.select_dtypes("number"):
        other[column] *= generator.uniform(0.8, 1.25, len(other))
    other["kind"] = np.roll(other["kind"].to_numpy(), 1)
    return other


@cache
def monthly(name):
    """The forecast of a monthly case as planned, and that with the changed plan."""
    data, plan = DATA, PLAN
    if name == "words that are new":
        plan = plan.assign(kind=["enormous", *plan["kind"].iloc[1:]])
    data, plan = (each.assign(ceiling=150.0 + np.arange(len(each)), calm=each["temp"]) for each in (data, plan))
    if name == "next to no effect":
        data = data.assign(sold=100.0 * np.exp(1e-6 * data["calm"] + 1e-8 * data["fare"]))
    fit = of.Model("sold", **(MODELS | MORE)[name]).fit(data.iloc[:N])
    horizon = min(AHEAD, len(plan))
    return fit.forecast(horizon, plan=plan), fit.forecast(horizon, plan=changed(plan))


@cache
def crossing(name):
    """The same of a case whose driver has another frequency."""
    term = CROSSING[name]
    months = pd.period_range("2012-01", periods=162, freq="M")
    wander = 50.0 + np.cumsum(np.random.default_rng(8).normal(size=162))
    quarters = pd.period_range("2012Q1", periods=50, freq="Q")
    sold = wander[2:150:3] + wander[1:150:3] + np.random.default_rng(4).normal(size=50)
    fast = pd.DataFrame({"orders": wander, "other": 2.0 + np.abs(np.sin(wander))}, months)
    slow = pd.DataFrame({"jobs": wander[:53] + 3.0}, pd.period_range("2012Q1", periods=53, freq="Q"))
    if "between" in name:
        own = pd.DataFrame({"sold": wander[:150], "pattern": fast["other"].to_numpy()[:150]}, months[:150])
        plan = {
            "own": fast[["other"]].iloc[150:159].rename(columns={"other": "pattern"}),
            "slow": slow.iloc[50:],
        }
        tables, target, horizon = {"own": own, "slow": slow.iloc[:50]}, "own.sold", 7
    else:
        own = pd.DataFrame({"sold": sold}, quarters)
        plan = {"fast": fast.iloc[150:]}
        tables, target, horizon = {"own": own, "fast": fast.iloc[:150]}, "own.sold", 4
    read = {key: of.read(each) for key, each in tables.items()}
    fit = of.Model(target, [term, of.Season("year", harmonics=1)]).fit(read)
    moved = {
        key: each * np.random.default_rng(2).uniform(0.8, 1.2, each.shape) for key, each in plan.items() if key != "own"
    }
    moved = plan | moved
    return [fit.forecast(horizon, plan={key: of.read(each) for key, each in own.items()}) for own in (plan, moved)]


CROSSING = {
    **{
        f"{weights} weights": of.Driver("fast.orders", span=6, skip=3, weights=weights)
        for weights in ("beta", "exponential", "polynomial", "smooth", "free", "flat")
    },
    "logarithms with weights": of.Driver("fast.orders", span=4, weights="beta", transform=["log", "difference"]),
    "ratios with weights": of.Driver("fast.orders", span=3, weights="free", transform=[{"per": "fast.other"}]),
    "the sum in the period": of.Driver("fast.orders", combine="sum", transform=["difference"]),
    "the mean, carried over": of.Driver("fast.orders", combine="mean", carry_over=0.5),
    "the last of the period": of.Driver("fast.orders", combine="last", lags=[0, 1]),
    "repeated between": of.Driver("slow.jobs", between="repeat"),
    "divided between": of.Driver("slow.jobs", between="divide", lags=[0, 1]),
    "a line between": of.Driver("slow.jobs", between="linear"),
    "smooth between": of.Driver("slow.jobs", between="smooth", transform=["log"]),
    "a pattern between": of.Driver("slow.jobs", between="smooth", keeps="mean", pattern="own.pattern"),
}
CASES = [*MODELS, *MORE, *CROSSING]


def case(name):
    """Both forecasts of a case."""
    return crossing(name) if name in CROSSING else monthly(name)


def contributions(forecast):
    """The rows of a forecast's contributions by name."""
    found = forecast.contributions
    return dict(zip(found.rows, found.values, strict=True))


def follows(forecast):
    """Whether the quantiles that are handed over follow a changed plan, as the means always do."""
    return formulas_of(forecast).intervals_follow
