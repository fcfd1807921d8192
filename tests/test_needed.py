"""Values that enter, and what stands for those that are missing: lags, winters, levels never seen, plans."""

import numpy as np
import pandas as pd
import pytest

import offing as of
from test_models import weekly


def mixed(skip):
    """Quarters from months, of which the newest are skipped."""
    generator = np.random.default_rng(1)
    index = generator.normal(50.0, 5.0, 126)
    orders = pd.Series(
        index[6:126].reshape(40, 3).sum(axis=1) + generator.normal(0, 1, 40),
        pd.period_range("2015Q3", periods=40, freq="Q"),
    )
    tables = {
        "orders": of.read(orders.rename("orders")),
        "fast": of.read(pd.Series(index, pd.period_range("2015-01", periods=126, freq="M"), name="index")),
    }
    return of.Model("orders.orders", [of.Driver("fast.index", weights="flat", span=3, skip=skip)]), tables


def test_skipped_values_are_neither_needed_nor_missing(tmp_path, run_cli):
    """Three months are skipped: all that the next quarter needs is known, and a change of it still means something."""
    model, tables = mixed(3)
    ahead = model.fit(tables).forecast(1)
    assert ahead.drivers["mark"].tolist() == ["actual"] * 3
    assert ahead.drivers["period"].dt.strftime("%Y-%m").tolist() == ["2025-04", "2025-05", "2025-06"]
    assert "missing" not in str(ahead)
    # Nothing is still to come that could be changed: that is said, and explaining goes on.
    for name, table in tables.items():
        table.frame.to_csv(tmp_path / f"{name}.csv", index_label="date")
    (tmp_path / "study.toml").write_text("""format = 1
[sources.orders]
file = "orders.csv"
frequency = "quarter"
stamp = "start"
[sources.fast]
file = "fast.csv"
frequency = "month"
stamp = "start"
[target]
data = "orders.orders"
[[terms]]
type = "driver"
data = "fast.index"
weights = "flat"
span = 3
skip = 3
[forecast]
horizon = 1
""")
    for command in ("forecast", "explain"):
        ran = run_cli(command, tmp_path / "study.toml", "--out", tmp_path / command)
        assert (ran.status, ran.err) == (0, "")
    rows = pd.read_csv(tmp_path / "explain" / "drivers.csv")
    assert "missing" not in rows["mark"].tolist()


def test_a_winter_of_two_years_is_asked_for_and_taken_whole():
    data = weekly(250)
    data.index = pd.date_range("2020-03-02", periods=250, freq="7D")
    fit = of.Model("sold", [of.Driver("fare")]).fit(data)
    assert str(fit.axis.after(13).index[0].date()) == "2024-12-16"
    with pytest.raises(of.InputError, match=r'Say which winter: "2020/21" or "2021/22"'):
        of.scenarios(fit, [of.Scenario("cold", {"fare": of.AsIn(2021)})], 13)
    found = of.scenarios(fit, [of.Scenario("cold", {"fare": of.AsIn("2021/22")})], 13).of("cold")
    start = data.index.get_loc("2021-12-20")
    assert np.array_equal(found.drivers["value"], data["fare"].iloc[start : start + 13])
    with pytest.raises(of.InputError, match="There is one in: 2020/21, 2021/22, 2022/23"):
        of.scenarios(fit, [of.Scenario("cold", {"fare": of.AsIn("2015/16")})], 13)
    inside = of.Model("sold", [of.Driver("fare")]).fit(data.iloc[:200])
    with pytest.raises(of.InputError, match="lie within one year"):
        of.scenarios(inside, [of.Scenario("cold", {"fare": of.AsIn("2021/22")})], 4)
    assert of.scenarios(inside, [of.Scenario("cold", {"fare": of.AsIn(2022)})], 4).of("cold").mean.size == 4


def test_a_level_never_seen_may_stand_for_the_average():
    days = pd.date_range("2024-01-01", periods=40, freq="D")
    kind = np.array(["Tern", "Auk", "Auk", "Gull"] * 10)
    noise = np.random.default_rng(1).normal(size=40)
    data = pd.DataFrame(
        {"sold": np.select([kind == "Tern", kind == "Auk"], [9.0, 5.0], 2.0) + noise, "ship": kind}, days
    )
    plan = pd.DataFrame({"ship": ["Skua", "Auk"]}, pd.date_range("2024-02-10", periods=2, freq="D"))
    for compared in ("mean", "Auk"):
        fit = of.Model("sold", [of.Category("ship", unseen="mean", compared_with=compared)]).fit(data)
        ahead = fit.forecast(2, plan=plan)
        assert ahead.mean[0] == pytest.approx(data["sold"].mean()), "each level as often as it came"
        assert ahead.mean[1] == pytest.approx(data.loc[kind == "Auk", "sold"].mean())
        (found,) = [each for each in ahead.findings if each.check == "unseen level"]
        assert found.severity == "warning"
        assert "'Skua' of 'ship' never came" in found.message
    with pytest.raises(of.InputError, match='or state unseen = "mean"'):
        of.Model("sold", [of.Category("ship")]).fit(data).forecast(2, plan=plan)
    with pytest.raises(of.InputError, match="refuse"):
        of.Category("ship", unseen="guess")


def test_a_plan_that_contradicts_repeats_or_is_idle_is_reported():
    data = weekly(100)
    fit = of.Model("sold", [of.Driver("fare")]).fit(data)
    weeks = pd.date_range(data.index[97], periods=8, freq="7D")
    plan = pd.DataFrame({"fare": 30.0, "sold": 99.0, "moon": 1.0}, weeks)
    found = {each.check: each for each in fit.forecast(3, plan=plan).findings}
    assert "In 3 weeks plan has another 'fare' than is known: 30 in " in found["plan and known values differ"].message
    assert "'sold', the target" in found["target in the plan"].message
    assert found["unused plan"].message.startswith("Not used of plan: 'moon'")
    same = data[["fare"]].iloc[97:].reindex(weeks).fillna(30.0)
    assert not {"plan and known values differ", "target in the plan", "unused plan"} & {
        each.check for each in fit.forecast(3, plan=same).findings
    }


def test_a_combination_goes_until_a_date():
    sold = weekly(100)[["sold"]]
    models = [of.Model("sold", name="plain"), of.Model("sold", [of.Trend()], name="trend")]
    until = f"{sold.index[-1] + pd.Timedelta(days=27):%Y-%m-%d}"
    for method in ("mean", "past errors"):
        one, other = (
            of.combine(models, sold, until=until, method=method),
            of.combine(models, sold, horizon=3, method=method),
        )
        assert np.array_equal(one.mean, other.mean)
