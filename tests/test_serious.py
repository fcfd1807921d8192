"""What forbids the use of a result is said first: leaks that explain everything, absurd forecasts, idle drivers."""

import dataclasses

import numpy as np
import pandas as pd
import pytest

import offing as of

MONTHS = pd.period_range("2019-01", periods=60, freq="M")
NEXT = pd.period_range("2024-01", periods=3, freq="M")


def sales(seed=1):
    generator = np.random.default_rng(seed)
    a, b, rain = 100 + generator.normal(0, 5, 60), 50 + generator.normal(0, 3, 60), generator.normal(10, 3, 60)
    data = pd.DataFrame({"sold": a + b, "a": a, "b": b, "rain": rain}, MONTHS)
    return data.assign(copy=data["sold"], line=3 * data["sold"] - 7, still=5.0, rounded=data["sold"].round(2))


def plan(**values):
    return pd.DataFrame({name: np.broadcast_to(value, 3) for name, value in values.items()}, NEXT)


LEAKS = {
    "copy": (["copy"], {"copy": 150.0}, "'copy' gives the target exactly (R² = 1)"),
    "linear": (["line", "rain"], {"line": 440.0, "rain": 9.0}, "'line' gives the target exactly"),
    "identity": (["rain", "a", "b"], {"a": 99.0, "b": 50.0, "rain": 9.0}, "'a' and 'b' give the target exactly"),
    "rounded": (["rounded"], {"rounded": 150.0}, "'rounded' gives the target all but exactly"),
}


@pytest.mark.parametrize("scale", ["level", "log"])
@pytest.mark.parametrize("leak", LEAKS)
def test_a_driver_that_is_the_target_is_the_first_line(leak, scale):
    drivers, values, words = LEAKS[leak]
    transform = ["log"] if scale == "log" else []
    if scale == "log" and leak in ("linear", "identity"):
        return  # neither is exact on the log scale
    fit = of.Model("sold", [of.Trend(), *(of.Driver(name, transform=transform) for name in drivers)], scale).fit(
        sales()
    )
    (found,) = [each for each in fit.findings if each.check == "identity"]
    assert found.severity == "serious"
    assert words in found.message
    for text in (str(fit), str(fit.forecast(3, plan=plan(**values)))):
        assert text.splitlines()[0].startswith(f"serious: {words}")
    assert fit.details, "all statistics of an exact fit can be shown"


def test_an_honest_strong_driver_is_no_leak():
    """A partial correlation of 0.99 is a strong driver, and a lagged copy is known before the target."""
    data = sales()
    data["strong"] = data["sold"] + np.random.default_rng(2).normal(0, 0.7, 60)
    data["ago"] = data["sold"].shift(-1)
    fits = [of.Model("sold", [of.Driver("strong")]).fit(data), of.Model("sold", [of.Driver("ago", lags=[1])]).fit(data)]
    assert not [each for each in fits[0].findings if each.check in ("identity", "exact fit")]
    assert [each.check for each in fits[1].findings if each.severity == "serious"] == []
    line = of.Model("sold", [of.Trend()]).fit(pd.Series(np.arange(60.0), MONTHS, name="sold"))
    assert [each.check for each in line.findings] == ["exact fit"]


@pytest.mark.parametrize("value", [0.0, 5.0, 1e-100])
@pytest.mark.parametrize("scale", ["level", "log"])
def test_a_constant_target_is_forecast_as_that_constant(value, scale):
    data = sales().assign(sold=value)
    model = of.Model("sold", [of.Trend(knots="found"), of.Season("year"), of.Driver("rain")], scale=scale)
    fit = model.fit(data)
    ahead = fit.forecast(3)
    assert (ahead.table.drop(columns="horizon").to_numpy() == value).all()
    assert [(each.check, each.severity) for each in ahead.findings] == [("constant target", "warning")]
    assert "R² undefined" in str(fit)
    found = of.backtest(model, data, horizon=3, origins=3)
    rows = found.scores().query("basis == 'ex-ante'").set_index("model").loc["main"]
    assert rows[["MASE", "RMSSE"]].isna().all()
    assert rows[["MAPE", "sMAPE", "WAPE"]].isna().all() == (value == 0.0)
    assert rows["MAE"] == 0.0
    assert "Coverage" not in str(found)
    assert str(found.compare())


def test_a_constant_driver_is_left_out_and_its_change_reported():
    data = sales()
    fit = of.Model("sold", [of.Driver("still"), of.Driver("rain")]).fit(data)
    (found,) = [each for each in fit.findings if each.check == "constant driver"]
    assert found.severity == "warning"
    assert "'still' is the same in all fitted periods" in found.message
    moved, same = (fit.forecast(3, plan=plan(still=value, rain=9.0)) for value in (7.0, 5.0))
    alone = of.Model("sold", [of.Driver("rain")]).fit(data).forecast(3, plan=plan(rain=9.0))
    for ahead in (moved, same):
        assert np.allclose(ahead.table.to_numpy(), alone.table.to_numpy(), rtol=1e-12)
        assert (ahead.contributions.table.query("term == 'still'")["contribution"] == 0.0).all()
    assert "cannot count what another value does" in str(moved)
    assert "cannot count" not in str(same)


def test_an_empty_driver_is_named_with_its_file_and_column(tmp_path):
    data = sales().assign(empty=np.nan, late=[np.nan] * 58 + [1.0, 2.0])
    data.rename_axis("month").to_csv(tmp_path / "ports.csv")
    table = of.read(tmp_path / "ports.csv")
    with pytest.raises(of.InputError) as error:
        of.Model("sold", [of.Driver("empty")]).fit(table)
    assert str(error.value).startswith("ports.csv, column 'empty', term 'empty'")
    with pytest.raises(of.InputError, match="only 2 months of 60 can be used, since 'late' is unknown in 58 of them"):
        of.Model("sold", [of.Driver("late"), of.Season("year", style="dummies")]).fit(table)


def test_a_smoothed_target_is_refused():
    with pytest.raises(of.InputError, match="the target itself cannot be smoothed"):
        of.Model("sold", treatments=[of.Treat("sold", smooth=3)]).fit(sales())


def test_an_elasticity_from_hardly_any_variation_is_the_first_line():
    """24 weeks of one price on the log scale: its elasticity means nothing, nor does a forecast at another price."""
    generator = np.random.default_rng(7)
    weeks = pd.date_range("2024-01-01", periods=24, freq="7D")
    price = 4.0 + generator.choice([0.0, 0.001], 24)
    data = pd.DataFrame({"sold": np.exp(generator.normal(3.0, 0.2, 24)), "price": price}, weeks)
    fit = of.Model("sold", [of.Driver("price", transform=["log"])], "log").fit(data)
    assert str(fit).startswith("serious: 'price' varies too little (4 to 4.001) to say what it does")
    ahead = fit.forecast(2, plan=pd.DataFrame({"price": [5.0, 5.0]}, pd.date_range("2024-06-17", periods=2, freq="7D")))
    checks = [each.check for each in ahead.findings if each.severity == "serious"]
    assert "uninformative driver" in checks
    assert {"far beyond the target", "wide on the log scale"} <= set(checks)
    assert str(ahead).startswith("serious: ")
    usual = fit.forecast(2, plan=pd.DataFrame({"price": [4.0, 4.0]}, pd.date_range("2024-06-17", periods=2, freq="7D")))
    assert [each.check for each in usual.findings if each.severity == "serious"] == ["uninformative driver"]


def test_a_usual_forecast_is_not_called_far():
    """Steady growth, forecast over half its history, has left no experience; three ranges beyond it has."""
    sold = pd.Series(100.0 + np.arange(60.0) + np.random.default_rng(1).normal(size=60), MONTHS, name="sold")
    fit = of.Model("sold", [of.Trend()]).fit(sold)
    assert "far beyond the target" not in {each.check for each in fit.forecast(30).findings}
    assert "far beyond the target" in {each.check for each in fit.forecast(300).findings}


def test_changes_are_checked_where_changes_are_what_the_model_looks_at():
    """A price that keeps growing is nothing new to its growth; a jump is; unknown values are no range."""
    price = np.cumsum(np.random.default_rng(3).normal(1.0, 0.2, 63)) + 50.0
    data = sales().assign(price=price[:60])
    fit = of.Model("sold", [of.Driver("price", transform=["log difference"])]).fit(data)
    steady = fit.forecast(3, plan=plan(price=price[60:]))
    assert "beyond the range" not in {each.check for each in steady.findings}
    jump = fit.forecast(3, plan=plan(price=[price[59], price[59] * 1.5, price[59] * 1.5]))
    (found,) = [each for each in jump.findings if each.check == "beyond the range"]
    assert "'log difference of price' lies outside what was fitted (up to 40.5" in found.message
    assert "nan" not in str(jump)


def test_nothing_lies_below_what_the_logarithm_allows():
    """Errors far wider than the model's put no quantile of a target with offset 2 below −2."""
    generator = np.random.default_rng(6)
    index = pd.period_range("2012-01", periods=140, freq="M")
    sold = pd.Series(np.exp(generator.normal(0.0, 1.0, 140)) - 1.5, index, name="sold")
    model = of.Model("sold", scale="log", offset=2.0)
    past = of.backtest(model, sold, horizon=1, origins=45)
    found = of.recalibrate(model.fit(sold).forecast(1, levels=[0.9]), past)
    wide = dataclasses.replace(found, given=dataclasses.replace(found.given, values=50.0 * found.given.values))
    low, high = wide.quantiles([0.05, 0.95]).to_numpy()[0]
    assert low == -2.0
    assert 10.0 < high < np.inf
