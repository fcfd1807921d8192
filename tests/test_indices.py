"""Season indices against the textbook, and how growth bends the classical ratios."""

import numpy as np
import pandas as pd
import pytest

import offing as of

MONTHS = pd.period_range("2016-01", periods=84, freq="M")
EFFECT = np.log([0.75, 0.72, 0.8, 0.9, 1.0, 1.2, 1.5, 1.45, 1.1, 0.95, 0.85, 0.7])
INDEX = np.exp(EFFECT) / np.exp(EFFECT).mean()


def monthly(growth=0.0, noise=0.0, seed=1):
    generator = np.random.default_rng(seed)
    logs = 5.0 + growth * np.arange(84) / 12 + EFFECT[MONTHS.month - 1] + noise * generator.normal(size=84)
    return pd.Series(np.exp(logs), MONTHS, name="sold")


def test_without_growth_all_three_arithmetics_agree():
    table = of.indices(of.Model("sold", [of.Season()], "log").fit(monthly())).table
    for column in ("index", "own_year", "grand"):
        assert np.allclose(table[column], INDEX, rtol=1e-10), column
    assert table["position"].tolist()[0] == "January"
    assert np.allclose(table["percent"], 100 * (INDEX - 1))
    assert table["index"].mean() == pytest.approx(1.0)


def test_growth_bends_the_classical_ratios_and_not_the_indices():
    """With 24 % growth a year the own year's average lies below December by more than a tenth: a closed form."""
    growth = 0.24
    found = of.indices(of.Model("sold", [of.Trend(), of.Season()], "log").fit(monthly(growth)))
    assert np.allclose(found.index, INDEX, rtol=1e-10)
    within = np.exp(growth * np.arange(12) / 12)
    assert np.allclose(found.bend, within / within.mean() - 1.0, rtol=1e-9)
    ratio = np.exp(EFFECT) * within
    assert np.allclose(found.own_year, ratio / ratio.mean(), rtol=1e-9)
    (noted,) = found.findings
    assert "up to 11 % off (December)" in noted.message
    assert not of.indices(of.Model("sold", [of.Season()], "log").fit(monthly(noise=0.02))).findings
    picture = of.figure(found)
    assert "July" in picture.texts[0].get_text()


def test_intervals_cover_as_stated():
    inside = []
    for seed in range(300):
        fit = of.Model("sold", [of.Trend(), of.Season()], "log").fit(monthly(0.05, 0.06, seed))
        table = of.indices(fit).table
        inside.append((table["low"] <= INDEX) & (table["high"] >= INDEX))
    covered = np.mean(inside, axis=0)
    assert np.abs(covered - 0.95).max() < 4.0 * np.sqrt(0.95 * 0.05 / 300), covered


def test_effects_of_a_level_season_sum_to_zero():
    """On balanced data without trend, dummies are season averages less the grand average."""
    values = 40.0 + np.tile([3.0, -1.0, 2.0, -4.0], 6) + np.random.default_rng(1).normal(size=24)
    sold = pd.Series(values, pd.period_range("2018Q1", periods=24, freq="Q"), name="sold")
    found = of.indices(of.Model("sold", [of.Season()]).fit(sold))
    by_quarter = values.reshape(6, 4).mean(axis=0)
    assert np.allclose(found.index, by_quarter - by_quarter.mean())
    assert np.allclose(found.share, found.index / values.mean())
    spread = np.sqrt(np.square(values.reshape(6, 4) - by_quarter).sum() / 20)
    width = 2.0859634472658364 * spread * np.sqrt(3 / 4 / 6)  # t with 20 degrees of freedom
    assert np.allclose(found.high - found.index, width, rtol=1e-9)
    of.figure(found)


def test_harmonics_weeks_and_several_seasons():
    days = pd.date_range("2022-01-03", periods=728, freq="D")
    load = pd.Series(
        50.0 + 5.0 * (days.day_of_week == 6) + np.sin(2 * np.pi * days.day_of_year / 365.25), days, name="load"
    )
    fit = of.Model("load", [of.Season(harmonics=2), of.Season("week")]).fit(load)
    week = of.indices(fit, "season in week")
    assert week.table["index"].round(2).tolist() == [-0.71] * 6 + [4.29]
    assert "highest in Sunday" in str(week)
    year = of.indices(fit, "season")
    assert len(year.positions) == 12
    assert np.isnan(year.own_year).sum() == 0
    with pytest.raises(of.InputError, match=r"there are several seasons\. Choose from: season, season in week"):
        of.indices(fit)
    with pytest.raises(of.InputError, match="there is no season 'week'"):
        of.indices(fit, "week")
    with pytest.raises(of.InputError, match="the model has no season"):
        of.indices(of.Model("load").fit(load))


def test_explain_writes_them(demo_folder):
    rows = pd.read_csv(demo_folder / "results" / "indices.csv")
    assert rows.columns.tolist()[:6] == ["series", "model", "scenario", "term", "position", "index"]
    assert rows["index"].mean() == pytest.approx(1.0)
