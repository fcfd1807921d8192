"""Outliers: hardly ever in what trend, season and autocorrelated noise explain, and found where a value is off."""

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.engine import departures
from offing.tables.outliers import judge, yearly_spike

#: Unit, periods, series: short ones most, since there chance plays most.
SIZES = [
    ("quarter", 24, 50),
    ("month", 24, 50),
    ("month", 60, 20),
    ("week", 110, 20),
    ("day", 60, 40),
    ("business day", 130, 30),
    ("day", 800, 8),
    ("hour", 1500, 6),
]
OFF = 8.0


def simulated(axis, generator, rho=0.5):
    """A trend, a season, the days of the week, and AR(1) noise of innovations 1."""
    n, a_year, unit = axis.n, axis.frequency.periods_a_year, axis.frequency.unit
    noise = np.empty(n)
    noise[0] = generator.normal() / np.sqrt(1.0 - rho**2)
    for t, shock in enumerate(generator.normal(size=n - 1), 1):
        noise[t] = rho * noise[t - 1] + shock
    at, season = np.arange(n), 0.0
    if n >= 2 * a_year:
        season = sum(
            generator.normal(0.0, 3.0) * np.sin(2 * np.pi * (k * at / a_year + generator.uniform())) for k in (1, 2)
        )
    week = {"day": 7, "business day": 5}.get(unit)
    if week:
        season = season + generator.normal(0.0, 2.0, week)[at % week]
    if unit == "hour":
        season = season + generator.normal(0.0, 3.0, 24)[at % 24] + generator.normal(0.0, 2.0, 7)[at // 24 % 7]
    return 100.0 + generator.normal(0.0, 0.02) * at + season + noise


@pytest.mark.parametrize(("unit", "n", "series"), SIZES)
def test_noise_hardly_ever_has_one_and_a_value_that_is_off_is_found(unit, n, series):
    frequency = of.Frequency(unit)
    axis = of.Axis(frequency, of.Axis.between(frequency, "2019-01-01", "2019-01-01").first, n)
    generator = np.random.default_rng([n, series])
    false, found = 0, 0
    for _ in range(series):
        values = simulated(axis, generator)
        false += len(judge(axis, values).beyond())
        at = int(generator.integers(n))
        values[at] += OFF * generator.choice([-1.0, 1.0]) / np.sqrt(1.0 - 0.25)
        found += at in judge(axis, values).beyond()
    # Two standard errors of a share of 0.2 %, if every value were by itself.
    assert false <= series * n * 0.002 + 2.0 * np.sqrt(series * n * 0.002)
    assert found >= 0.95 * series


def test_a_step_of_the_level_is_no_outlier_and_several_far_values_do_not_hide_each_other():
    months = of.Axis.between(of.Frequency("month"), "2015-01-01", "2022-12-01")
    values = simulated(months, np.random.default_rng(3))
    stepped = values + 15.0 * (np.arange(96) >= 50)
    assert judge(months, stepped).steps == (50,)
    assert not len(judge(months, stepped).beyond())
    values[[20, 21, 70]] += (25.0, 22.0, -30.0)
    assert judge(months, values).beyond().tolist() == [20, 21, 70]


def test_scores_are_those_of_a_dense_model():
    """The pulse's studentised coefficient under AR(1), against generalised least squares written out."""
    generator = np.random.default_rng(5)
    n = 40
    values = np.cumsum(np.zeros(n)) + generator.normal(size=n)
    values[17] += 9.0
    values[5] = np.nan
    fixed = np.column_stack([np.ones(n), np.arange(n)])
    found = departures(values, fixed, [np.empty((n, 0))], np.empty((n, 0)))
    assert np.flatnonzero(found.far).tolist() == [17]
    phi, known = found.phi, np.isfinite(values)
    lags = np.abs(np.subtract.outer(np.arange(n), np.arange(n)))
    inverse = np.linalg.inv((phi**lags / (1.0 - phi**2))[np.ix_(known, known)])
    design = np.column_stack([fixed, np.arange(n) == 17])[known]
    beta = np.linalg.solve(design.T @ inverse @ design, design.T @ inverse @ values[known])
    assert values[17] - found.expected[17] == pytest.approx(beta[2], rel=0.02), "but for the end of the gap"


def test_what_a_model_explains_is_no_outlier():
    days = pd.date_range("2022-01-01", periods=360, freq="D")
    generator = np.random.default_rng(2)
    feast = pd.DataFrame({"name": ["Feast"] * 2, "date": [f"{days[100]:%Y-%m-%d}", f"{days[300]:%Y-%m-%d}"]})
    sold = 50.0 + generator.normal(size=360)
    sold[[100, 300]] += 30.0
    data = pd.DataFrame({"sold": sold}, days)
    treat = [of.Treat("sold", outliers="exclude")]
    without = of.Model("sold", [of.Trend()], treatments=treat).fit(data)
    assert [entry.period for entry in without.treatments] == ["2022-04-11", "2022-10-28"]
    holidays = of.Holidays(table=feast)
    assert not of.Model("sold", [of.Trend(), holidays], treatments=treat).fit(data).treatments


def test_a_launch_and_what_was_before_it_are_no_outliers():
    months = of.Axis.between(of.Frequency("month"), "2019-01-01", "2022-12-01")
    values = simulated(months, np.random.default_rng(6))
    values[:20] = 0.0
    values[20] += 25.0
    assert not len(judge(months, values).beyond())


def test_a_yearly_spike_asks_whether_it_is_a_season_or_an_event():
    months = pd.period_range("2016-01", periods=84, freq="M")
    noise = np.random.default_rng(8).normal(size=84)
    smooth = 100.0 + 4.0 * np.sin(2 * np.pi * months.month.to_numpy() / 12) + noise
    spiky = pd.Series(smooth + 12.0 * (months.month == 8), months, name="sold")
    text = " ".join(str(of.inspect(spiky)).split())
    assert "sold departs in August of 7 years: a season, or an event?" in text
    assert 'type = "season", style = "dummies"' in text
    assert 'type = "event", date = "2022-08-01"' in text
    assert "an event?" not in str(of.inspect(pd.Series(smooth, months, name="sold")))
    axis = of.Axis.between(of.Frequency("month"), "2016-01-01", "2022-12-01")
    assert yearly_spike(axis, smooth) is None
    assert yearly_spike(axis, spiky.to_numpy())[0] == "August"
