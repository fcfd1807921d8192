"""Estimates and forecasts against the truth behind made-up data."""

from dataclasses import replace

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.demo.compared import compare
from offing.demo.ferry import TRUTH, ferry
from offing.engine import quantile

DRAWS = 2000


def ferry_model(world):
    return of.Model(
        "sold",
        scale="log",
        terms=[
            of.Trend(knots=["2024-04-01"]),
            of.Season("year", harmonics=3),
            of.Holidays(table=world.days, pooling="none"),
            of.Driver("fare", transform=["log"]),
            of.Driver("sailings", transform=["log"]),
            of.Driver("cruise calls"),
            of.Driver("storm hours", above=8.0),
            of.Driver("promotion", carry_over=0.5),
        ],
    )


#: The linear effects by the names that columns have where the shapes are stated.
LINEAR = {
    (term, column.replace("above a base", "above 8")): value
    for (term, column), value in TRUTH.items()
    if term != "noise" and ": base" not in column and ": share" not in column
}


def test_the_study_finds_shapes_signs_and_dynamics_and_its_intervals_hold(demo_folder):
    """20 made-up histories: 95 % intervals of all 21 effects, shapes and dynamics included, hold the truth as stated."""
    study = of.open_study(demo_folder / "study.toml")
    (model,) = study.models
    hits, said = [], set()
    for seed in range(2, 22):
        world = ferry(seed)
        fit = replace(
            model,
            target="data.sold",
            terms=[
                replace(term, data=term.data.replace("tickets.", "data.")) if isinstance(term, of.Driver) else term
                for term in model.terms
            ],
        ).fit(of.read(world.history.reset_index(), stamp="start"))
        hits.append(compare(fit, world.truth)["inside"])
        said |= {finding.check for finding in fit.findings}
    held = np.array(hits)
    assert held.shape[1] == len(TRUTH) == 21
    assert 0.93 <= held.mean() <= 0.98, held.mean(axis=0)
    assert held.mean(axis=0).min() >= 0.8, held.mean(axis=0)
    assert said <= {"influence"}, "signs are right, shapes are reported, and noise is not mistaken"


def test_without_noise_the_truth_comes_back_exactly(world):
    exact = world.history.assign(sold=np.exp(world.log_mean[: len(world.history)]))
    fit = ferry_model(world).fit(exact)
    found = fit.coefficients.set_index("column")["coefficient"]
    for (_, column), value in LINEAR.items():
        assert found[column] == pytest.approx(value, abs=1e-9), column
    ahead = fit.forecast(26, plan=world.plan)
    assert np.allclose(np.log(ahead.mean), world.log_mean[-26:], atol=1e-9)


def test_intervals_cover_the_truth_over_many_draws(world):
    """95 % intervals of every effect and of every forecast, within four standard errors of 95 %."""
    history, horizon = len(world.history), 13
    generator = np.random.default_rng(2024)
    noise = world.noise * generator.standard_normal((DRAWS, history + horizon))
    working = world.log_mean[: history + horizon] + noise
    effects, forecasts = covered_by_arrays(world, working, horizon)
    reach = 4.0 * np.sqrt(0.95 * 0.05 / DRAWS)
    assert np.abs(effects.mean(axis=0) - 0.95).max() < reach, effects.mean(axis=0)
    assert np.abs(forecasts.mean(axis=0) - 0.95).max() < reach, forecasts.mean(axis=0)
    # The arrays are compared with the library itself on a few of the draws.
    for draw in range(5):
        fit = ferry_model(world).fit(world.history.assign(sold=np.exp(working[draw, :history])))
        table = fit.coefficients.set_index("column")
        truth = pd.Series({column: value for (_, column), value in LINEAR.items()})
        inside = (table["low"][truth.index] <= truth) & (truth <= table["high"][truth.index])
        assert inside.to_numpy().tolist() == effects[draw].tolist()
        band = fit.forecast(horizon, plan=world.plan).quantiles((0.025, 0.975)).to_numpy()
        outcome = np.exp(working[draw, history:])
        within = (band[:, 0] <= outcome) & (outcome <= band[:, 1])
        assert within.tolist() == forecasts[draw].tolist()


def covered_by_arrays(world, working, horizon):
    """Which effects (S, k) and outcomes (S, h) lie in their intervals, for S draws of the logarithm at once.

    Written from the textbook: explicit inverse of the cross-products, not the library's triangle.
    """
    fit = ferry_model(world).fit(world.history)
    rows = fit.design[fit.used]
    ahead = fit.forecast(horizon, plan=world.plan).design
    inverse = np.linalg.inv(rows.T @ rows)
    target = working[:, : len(fit.used)][:, fit.used]
    beta = target @ rows @ inverse
    dof = len(rows) - rows.shape[1]
    deviation = np.sqrt(np.square(target - beta @ rows.T).sum(axis=1) / dof)
    reach = float(quantile(0.975, dof))
    names = fit.layout.names
    truth = np.array([LINEAR[owner, name] for owner, name in zip(fit.layout.owners[1:], names[1:], strict=True)])
    order = [names[1:].index(column) for _, column in LINEAR]
    error = deviation[:, None] * np.sqrt(np.diag(inverse))[1:]
    effects = np.abs(beta[:, 1:] - truth) <= reach * error
    spread = deviation[:, None] * np.sqrt(1.0 + np.einsum("ij,jk,ik->i", ahead, inverse, ahead))
    outcome = working[:, len(fit.used) :]
    return effects[:, order], np.abs(outcome - beta @ ahead.T) <= reach * spread


def test_the_log_scale_mean_is_unbiased_over_many_draws(world):
    """Fitted values are means, not medians: with this noise, medians would be 4.4 % too low."""
    history = len(world.history)
    fit = ferry_model(world).fit(world.history)
    rows = fit.design[fit.used]
    generator = np.random.default_rng(7)
    working = world.log_mean[:history] + 0.3 * generator.standard_normal((DRAWS, history))
    beta = working[:, fit.used] @ rows @ np.linalg.inv(rows.T @ rows)
    variance = np.square(working[:, fit.used] - beta @ rows.T).sum(axis=1) / (len(rows) - rows.shape[1])
    fitted = np.exp(beta @ rows.T + variance[:, None] / 2.0).mean()
    truth = np.exp(world.log_mean[:history][fit.used] + 0.09 / 2.0).mean()
    assert fitted / truth == pytest.approx(1.0, abs=0.01)
    assert np.allclose(fit.fitted["fitted"].to_numpy(), np.exp(rows @ fit.estimate.beta + fit.estimate.variance / 2))


def test_hourly_and_monthly_series_are_recovered():
    """Seasons of the day and the week by hour on the level scale, and dummies of the month."""
    hours = pd.date_range("2024-01-01", periods=24 * 7 * 6, freq="h", name="hour")
    day = np.sin(2 * np.pi * hours.hour / 24)
    weekend = np.where(np.arange(len(hours)) // 24 % 7 >= 5, -5.0, 2.0)  # the first day is a Monday
    heat = pd.DataFrame({"load": 50.0 + 8.0 * day + weekend}, index=hours)
    fit = of.Model("load", terms=[of.Season("day", harmonics=2), of.Season("week")]).fit(heat)
    found = fit.coefficients.set_index("column")["coefficient"]
    assert found["season in day: sin 1"] == pytest.approx(8.0, abs=1e-9)
    assert found["season in week: Sunday"] == pytest.approx(-5.0, abs=1e-9)
    assert found["season in week: Monday"] == pytest.approx(2.0, abs=1e-9)
    months = pd.period_range("2019-01", periods=60, freq="M")
    effect = np.array([3.0, 1.0, -4.0, 0.0, 0.0, 0.0, 5.0, 5.0, -5.0, -5.0, 1.0, -1.0])
    orders = pd.Series(20.0 + np.arange(60) / 12 + effect[months.month - 1], index=months, name="orders")
    fit = of.Model("orders", terms=[of.Trend(), of.Season()]).fit(orders)
    season = fit.coefficients[fit.coefficients["term"] == "season"]
    assert season["column"].tolist()[:2] == ["season: January", "season: February"]
    assert np.allclose(season["coefficient"], effect, atol=1e-9)
    assert fit.coefficients.set_index("column")["coefficient"]["trend: slope a year"] == pytest.approx(1.0)
