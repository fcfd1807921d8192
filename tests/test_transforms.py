"""Transformed targets and drivers: the way there, the way back, and what is refused."""

import itertools

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.engine import quantile

MONTHS = pd.period_range("2018-01", periods=84, freq="M")
TARGETS = {
    "difference": (["difference"], "level"),
    "difference of logs": (["difference"], "log"),
    "both differences": (["difference", "seasonal difference"], "level"),
    "seasonal difference of logs": (["seasonal difference"], "log"),
    "over three months": ([{"difference": 3}], "level"),
    "log difference": (["log difference"], "level"),
    "growth": (["growth"], "level"),
    "real": ([{"deflate": "prices", "base": "2019"}], "log"),
    "real, per head, differenced": ([{"deflate": "prices"}, {"per": "people"}, "difference"], "log"),
    "per day": (["per day"], "log"),
    "index, per working day, in thousands": ([{"index": "2018"}, "per working day", {"times": 0.001}], "level"),
}


@pytest.fixture(scope="module")
def data():
    generator = np.random.default_rng(5)
    n = len(MONTHS)
    cold = generator.normal(5.0, 2.0, n)
    level = 4.0 + 0.004 * np.arange(n) + 0.1 * np.sin(2 * np.pi * MONTHS.month / 12) + 0.02 * cold
    sold = np.exp(level + np.cumsum(generator.normal(0.0, 0.01, n)))
    prices = 100.0 * 1.002 ** np.arange(n)
    frame = {"sold": sold, "cold": cold, "prices": prices, "people": 2000.0 + np.arange(n)}
    return pd.DataFrame(frame, index=MONTHS)


@pytest.fixture(scope="module")
def plan():
    generator = np.random.default_rng(6)
    ahead = pd.period_range("2025-01", periods=18, freq="M")
    frame = {"cold": generator.normal(5.0, 2.0, 18), "prices": np.linspace(120, 124, 18), "people": np.full(18, 2090.0)}
    return pd.DataFrame(frame, index=ahead)


def fitted(data, case):
    transform, scale = TARGETS[case]
    terms = [of.Driver("cold"), of.Season(harmonics=1), of.Trend()]
    return of.Model("sold", terms=terms, scale=scale, transform=transform).fit(data)


@pytest.mark.parametrize("case", TARGETS)
def test_everything_adds_up_and_comes_back_in_the_targets_unit(case, data, plan):
    fit = fitted(data, case)
    ahead = fit.forecast(18, plan=plan)
    for contributions, mean in ((fit.contributions, fit.fitted["fitted"]), (ahead.contributions, ahead.mean)):
        sums = contributions.values.sum(axis=0)
        assert np.allclose(sums, mean, rtol=1e-9, equal_nan=True)
        assert contributions.table["contribution"].isna().groupby(contributions.table["period"]).nunique().max() == 1
    assert np.isfinite(ahead.table.to_numpy()).all()
    lost = fit.scale.before
    assert fit.fitted["fitted"].isna().sum() == lost
    # Fitted means are near the outcome, so nothing is out by a factor or a period.
    inside = fit.fitted.dropna()
    assert np.abs(inside["residual"] / inside["target"]).mean() < 0.06
    assert (ahead.table["q0.025"] < ahead.table["forecast"]).all()
    assert (ahead.table["forecast"] < ahead.table["q0.975"]).all()
    assert fit.scale.name("sold") in fit.equation
    of.figure(ahead)
    of.figure(ahead.contributions)


def test_a_differenced_model_is_the_textbook_random_walk_with_drift(data):
    """Mean y + h·d, variance s² (h + h²/m) with m changes seen (Box & Jenkins 1970)."""
    fit = of.Model("sold", transform=["difference"]).fit(data[["sold"]])
    ahead = fit.forecast(6, levels=[0.8])
    changes = np.diff(data["sold"])
    h, m = np.arange(1, 7), len(changes)
    assert np.allclose(ahead.mean, data["sold"].iloc[-1] + h * changes.mean(), rtol=1e-12)
    spread = changes.std(ddof=1) * np.sqrt(h + h**2 / m)
    assert np.allclose(ahead.table["q0.9"], ahead.mean + float(quantile(0.9, m - 1)) * spread, rtol=1e-10)
    wide = ahead.contributions.wide
    assert np.allclose(wide["baseline"], ahead.mean)


def test_seasonal_differences_of_logs_follow_their_recursion(data):
    fit = of.Model("sold", transform=["seasonal difference"], scale="log").fit(data[["sold"]])
    ahead = fit.forecast(18)
    logs, drift = np.log(data["sold"].to_numpy()), fit.estimate.beta[0]
    median = [logs[-12 + i % 12] + drift * (1 + i // 12) for i in range(18)]
    assert np.allclose(np.log(ahead.table["q0.5"]), median, rtol=1e-12)
    variance = fit.estimate.variance * np.repeat([1, 2], [12, 6])
    assert np.allclose(ahead.mean, np.exp(median + variance / 2.0), rtol=1e-12)


def test_differenced_forecasts_cover_as_stated():
    """95 % bands of a differenced level, growth within and beyond a year: within four standard errors over 300 draws."""
    generator = np.random.default_rng(11)
    quarters = pd.period_range("2005Q1", periods=60, freq="Q")
    draws, inside = 300, {"difference": [], "growth": []}
    for _ in range(draws):
        walk = 100.0 + np.cumsum(1.0 + generator.normal(0.0, 2.0, 66))
        grown = [100.0, 110.0, 95.0, 105.0]
        for _ in range(62):
            grown.append(grown[-4] * (1.0 + (2.0 + generator.normal(0.0, 3.0)) / 100.0))
        for how, path in (("difference", walk), ("growth", np.array(grown))):
            sold = pd.Series(path[:60], quarters, name="sold")
            band = of.Model("sold", transform=[how]).fit(sold).forecast(6).quantiles((0.025, 0.975)).to_numpy()
            inside[how].append((band[:, 0] <= path[60:66]) & (path[60:66] <= band[:, 1]))
    reach = 4.0 * np.sqrt(0.95 * 0.05 / draws)
    for how, covered in inside.items():
        assert np.abs(np.mean(covered, axis=0) - 0.95).max() < reach, (how, np.mean(covered, axis=0))


def test_drivers_transform_step_by_step(data):
    x = data["cold"].abs() + 1.0
    frame = data.assign(cold=x)
    logs = np.log(x)
    expected = {
        "log": logs,
        "difference": x.diff(),
        "seasonal difference": x.diff(12),
        "log difference": 100 * logs.diff(),
        "growth": 100 * (x / x.shift(12) - 1),
        "index": 100 * x / x["2018"].mean(),
        "deflated": x * data["prices"]["2019"].mean() / data["prices"],
        "chained": logs.diff(3),
    }
    stated = {
        "index": [{"index": "2018"}],
        "deflated": [{"deflate": "prices", "base": "2019"}],
        "chained": ["log", {"difference": 3}],
    }
    for name, values in expected.items():
        driver = of.Driver("cold", transform=stated.get(name, [name]), lags=[0, 1])
        fit = of.Model("sold", terms=[driver]).fit(frame)
        column = fit.design[:, 1]
        assert np.allclose(column, values, rtol=1e-12, equal_nan=True), name
        assert np.allclose(fit.design[1:, 2], values[:-1], rtol=1e-12, equal_nan=True), name
        assert len(of.effects(fit).effects) == 1
    names = of.Model("sold", terms=[of.Driver("cold", transform=["log", "difference"])]).fit(frame).layout.names
    assert names == ["constant", "difference of log cold"]


def test_working_days_are_counted_by_hand(data):
    fit = of.Model("sold", terms=[of.Driver("cold", transform=[{"per working day": "NO"}])]).fit(data)
    # May 2018: 23 weekdays; the 1st, 10th, 17th and 21st were holidays.
    assert fit.design[4, 1] == pytest.approx(data["cold"].iloc[4] / 19.0)


def test_days_are_counted_by_hand_and_hours_have_none(data):
    fit = of.Model("sold", terms=[of.Driver("cold", transform=["per day"])]).fit(data)
    assert fit.design[:4, 1] == pytest.approx(data["cold"].iloc[:4] / [31.0, 28.0, 31.0, 30.0])
    hours = pd.Series(np.arange(48.0), pd.date_range("2024-01-01", periods=48, freq="h"), name="sold")
    with pytest.raises(of.InputError, match="shorter than a day"):
        of.Model("sold", transform=["per day"]).fit(hours)


BAD = {
    "log on a target": (lambda d: of.Model("sold", transform=["log"]), 'State scale = "log" instead'),
    "order": (lambda d: of.Model("sold", transform=["difference", {"times": 2.0}]), "Put differences last"),
    "growth of logs": (lambda d: of.Model("sold", transform=["growth"], scale="log"), "the growth stands alone"),
    "two changes": (lambda d: of.Model("sold", transform=["log difference", "difference"]), "stands alone"),
    "unknown": (lambda d: of.Driver("cold", transform=["diference"]), "found 'diference'. Did you mean 'difference'?"),
    "no value": (lambda d: of.Driver("cold", transform=["deflate"]), "'deflate' needs a value"),
    "wrong value": (lambda d: of.Driver("cold", transform=[{"difference": "a"}]), "Give a whole number from 1 on"),
    "stray key": (lambda d: of.Driver("cold", transform=[{"deflate": "p", "bass": "2019"}]), "Did you mean 'base'?"),
    "not a list": (lambda d: of.Driver("cold", transform="log"), "Give a list"),
    "base outside": (
        lambda d: of.Model("sold", terms=[of.Driver("cold", transform=[{"index": "2030"}])]).fit(d),
        "the base 2030 is not known in full at the origin",
    ),
    "no deflator ahead": (
        lambda d: of.Model("sold", transform=[{"deflate": "prices"}]).fit(d).forecast(2),
        "'prices' has no value there, but the way back to the target needs it",
    ),
    "a hole at the end": (
        lambda d: (
            of.Model("sold", transform=["growth"]).fit(d.assign(sold=d["sold"].where(np.arange(84) != 80))).forecast(2)
        ),
        "2024-09: the target is missing there, but the forecast of its changes starts from it",
    ),
    "unknown deflator": (
        lambda d: of.Model("sold", transform=[{"deflate": "price"}]).fit(d),
        "Did you mean 'prices'?",
    ),
}


@pytest.mark.parametrize("case", BAD)
def test_what_has_no_way_back_is_refused(case, data):
    call, message = BAD[case]
    with pytest.raises(of.InputError) as noted:
        call(data)
    assert message in str(noted.value)


def test_a_transformed_target_needs_no_more_than_it_says(data, plan):
    """Values after the origin change nothing, whatever the transformation."""
    for case, hostile in itertools.product(("growth", "both differences", "real"), (1e9, 1e-9)):
        whole = data.iloc[:70]
        later = data.copy()
        later.iloc[70:, :] = hostile
        later.iloc[70:, 0] = np.nan
        cut, full = fitted(whole, case), fitted(later, case)
        assert cut.estimate.beta.tolist() == full.estimate.beta.tolist()


def test_transformations_are_said_in_the_study(run_cli, tmp_path, data, plan):
    frame = data.reset_index(names="month")
    frame.to_csv(tmp_path / "sales.csv", index=False)
    plan.reset_index(names="month").to_csv(tmp_path / "plan.csv", index=False)
    study = """
format = 1
[sources.sales]
file = "sales.csv"
[sources.plan]
file = "plan.csv"
plan_for = "sales"
[target]
data = "sales.sold"
scale = "log"
transform = [{ deflate = "sales.prices", base = "2019" }, "difference"]
[[terms]]
type = "driver"
data = "sales.cold"
transform = [{ difference = 1 }]
[forecast]
horizon = 6
"""
    (tmp_path / "study.toml").write_text(study)
    ran = run_cli("explain", tmp_path / "study.toml", "--out", tmp_path / "out")
    assert ran.status == 0, ran.err
    assert "the difference of ln(real sold)" in ran.out
    rows = pd.read_csv(tmp_path / "out" / "contributions.csv")
    means = pd.read_csv(tmp_path / "out" / "forecast.csv").set_index("period")["forecast"]
    ahead = rows[rows["scenario"] == "as planned"]
    assert {"baseline", "cold", "log bias correction"} == set(ahead["term"])
    assert np.allclose(ahead.groupby("period")["contribution"].sum(), means, rtol=1e-12)
    cold = of.Driver("sales.cold", transform=[{"difference": 1}])
    same = of.Model(
        "sales.sold",
        terms=[cold],
        scale="log",
        transform=[{"deflate": "sales.prices", "base": "2019"}, "difference"],
    ).fit({"sales": of.read(data)})
    assert np.allclose(same.forecast(6, plan={"sales": of.read(plan)}).mean, means, rtol=1e-12)
    (tmp_path / "study.toml").write_text(study.replace('"difference"]', '"diference"]'))
    ran = run_cli("fit", tmp_path / "study.toml")
    assert ran.status == 2
    assert "found 'diference'. Did you mean 'difference'?" in ran.err
    assert "study.toml, line" in ran.err
