"""Sums with joint intervals, stated totals split over periods, and forecasts brought to them."""

import numpy as np
import pandas as pd
import pytest
from scipy.stats import t as student

import offing as of
from offing.demo import forecast_only

MONTHS = pd.period_range("2019-01", periods=78, freq="M")
SHAPE = np.array([0.7, 0.75, 0.9, 1.0, 1.1, 1.25, 1.4, 1.35, 1.05, 0.95, 0.8, 0.75])


def related(n, phi, spread, seed):
    shocks, noise = np.random.default_rng(seed).normal(0.0, spread, n), np.zeros(n)
    for i in range(n):
        noise[i] = shocks[i] / np.sqrt(1.0 - phi**2) if i == 0 else phi * noise[i - 1] + shocks[i]
    return noise


def series(scale, phi=0.0, seed=4, spread=0.06):
    t = np.arange(78.0)
    logs = np.log(100.0 + 0.5 * t) + np.log(np.tile(SHAPE, 7)[:78]) + related(78, phi, spread, seed)
    return pd.Series(np.exp(logs), MONTHS, name="sold")


def fitted(scale="log", phi=0.0, **more):
    model = of.Model("sold", terms=[of.Trend(), of.Season()], scale=scale, errors="ar" if phi else None, **more)
    return model.fit(series(scale, phi))


def covariance(ahead):
    """Dense covariance of a level forecast's outcomes: coefficients, and noise from the last fitted period on."""
    fit, h = ahead.fit, ahead.axis.n
    phi, s2 = (fit.estimate.chain.phi or (0.0,))[0], fit.estimate.variance
    n = fit.axis.n
    lag = np.abs(np.subtract.outer(np.arange(n), np.arange(n)))
    inverse = np.linalg.inv(phi**lag / (1.0 - phi**2)) if phi else np.eye(n)
    beta = np.linalg.inv(fit.design.T @ inverse @ fit.design)
    echo = phi ** np.arange(1, h + 1) if phi else np.zeros(h)
    rest = ahead.design - echo[:, None] * fit.design[-1]
    noise = np.array(
        [[sum(phi ** (i - k) * phi ** (j - k) for k in range(min(i, j) + 1)) for j in range(h)] for i in range(h)]
    )
    return s2 * (rest @ beta @ rest.T + noise)


@pytest.mark.parametrize("phi", [0.0, 0.6])
def test_sums_on_the_level_scale_have_the_exact_joint_interval(phi):
    ahead = fitted("level", phi).forecast(18)
    table = of.totals(ahead).table
    assert table["status"].tolist() == ["actual"] * 6 + ["part forecast", "forecast"][:1] + ["forecast"]
    whole = covariance(ahead)
    for row, part in ((6, slice(0, 6)), (7, slice(6, 18))):
        half = student.ppf(0.975, ahead.fit.estimate.dof) * np.sqrt(whole[part, part].sum())
        low, high = table["low"].iloc[row], table["high"].iloc[row]
        assert (high - low) / 2.0 == pytest.approx(half, rel=1e-9)
        assert table["total"].iloc[row] == pytest.approx((low + high) / 2.0, rel=1e-12)
    actual = series("level", phi).groupby(MONTHS.year).sum()
    np.testing.assert_allclose(table["actual"].iloc[:7], actual)


def test_sums_on_the_log_scale_agree_with_paths_drawn_apart():
    ahead = fitted("log", 0.5).forecast(18)
    found = of.totals(ahead).table.iloc[7]
    generator = np.random.default_rng(99)
    root = np.linalg.cholesky(covariance(ahead))
    dof = ahead.fit.estimate.dof
    swell = np.sqrt(dof / generator.chisquare(dof, 200_000))
    paths = np.exp(ahead.path.levels[:, None] + root @ generator.standard_normal((18, 200_000)) * swell)
    low, high = np.quantile(paths[6:].sum(axis=0), [0.025, 0.975])
    # 4,000 paths leave about 2 % of the width on each end.
    assert found["low"] == pytest.approx(low, abs=0.05 * (high - low))
    assert found["high"] == pytest.approx(high, abs=0.05 * (high - low))
    assert found["forecast"] == pytest.approx(ahead.mean[6:].sum())


def test_totals_cover_the_outcome_as_stated():
    inside = []
    for seed in range(120):
        t = np.arange(96.0)
        made = np.exp(np.log(100.0 + 0.5 * t) + np.log(np.tile(SHAPE, 8)) + related(96, 0.5, 0.06, seed))
        whole = pd.Series(made, pd.period_range("2019-01", periods=96, freq="M"), name="sold")
        model = of.Model("sold", terms=[of.Trend(), of.Season()], scale="log", errors="ar")
        found = of.totals(model.fit(whole[:84]).forecast(12)).table.iloc[-1]
        inside.append(found["low"] <= made[84:].sum() <= found["high"])
    assert 0.90 <= np.mean(inside) <= 0.99


def test_sums_of_a_random_walk_with_drift_by_hand():
    steps = np.random.default_rng(8).normal(0.4, 1.5, 78)
    walk = pd.Series(100.0 + np.cumsum(steps), MONTHS, name="sold")
    found = of.totals(of.Model("sold", transform=["difference"]).fit(walk).forecast(6)).table.iloc[-1]
    changes = np.diff(walk)
    spread = changes.var(ddof=1)
    # Shock k of six counts in 7 − k of the sums; the drift in 1 + 2 + … + 6 of them.
    variance = spread * (np.square(np.arange(1, 7)).sum() + 21.0**2 / len(changes))
    half = student.ppf(0.975, len(changes) - 1) * np.sqrt(variance)
    assert (found["high"] - found["low"]) / 2.0 == pytest.approx(half, rel=1e-9)
    assert found["forecast"] == pytest.approx(6 * walk.iloc[-1] + 21.0 * changes.mean())


def test_averages_quarters_and_gaps_are_reported():
    made = series("level")
    made.iloc[30] = np.nan
    ahead = of.Model("sold", terms=[of.Trend()]).fit(made).forecast(5)
    table = of.totals(ahead, "quarter", average=True).table
    assert table["status"].iloc[10] == "incomplete"
    assert table["missing"].iloc[10] == 1
    assert table["total"].iloc[0] == pytest.approx(made.iloc[:3].mean())
    assert table["periods"].iloc[-1] == 2
    assert table["status"].iloc[-1] == "incomplete"
    with pytest.raises(of.InputError, match=r"a series by month has no sums by month\. Longer are: quarter, year"):
        of.totals(ahead, "month")
    fiscal = pd.Series(np.arange(20.0) ** 1.1, pd.period_range("2020Q3", periods=20, freq="Q"), name="sold")
    table = of.read(fiscal, year_starts="july", frequency="quarter")
    years = of.totals(of.Model("sold", terms=[of.Trend()]).fit(table).forecast(4))
    assert years.axis.labels()[0] == "2020/21"
    assert years.complete.all()


@pytest.mark.parametrize("scale", ["level", "log"])
def test_a_split_follows_trend_and_season_and_adds_up(scale):
    made = series(scale, spread=1e-9)
    fit = of.Model("sold", terms=[of.Trend(), of.Season()], scale="log").fit(made)
    found = of.allocate(fit, {"2026": 2000.0, "2027-Q1": 300.0})
    assert found.table["value"].iloc[:12].sum() == pytest.approx(2000.0)
    assert found.table["value"].iloc[12:].sum() == pytest.approx(300.0)
    # The fitted indices times the trend, divided by their sum.
    index = of.indices(fit).table["index"].to_numpy()
    slope = fit.coefficients.set_index("column").loc["trend: slope a year", "coefficient"]
    weights = index * np.exp(slope * np.arange(12) / 12.0)
    np.testing.assert_allclose(found.table["share"].iloc[:12], weights / weights.sum(), rtol=1e-9)
    averaged = of.allocate(fit, {"2026": 2000.0 / 12.0}, average=True)
    np.testing.assert_allclose(averaged.value, found.value[:12])


def test_intervals_of_a_split_cover_the_shares():
    inside = []
    for seed in range(100):
        fit = of.Model("sold", terms=[of.Trend(), of.Season()], scale="log").fit(series("log", 0.0, seed)[:72])
        generator = np.random.default_rng(seed + 5000)
        t = np.arange(72.0, 84.0)
        outcome = np.exp(np.log(100.0 + 0.5 * t) + np.log(SHAPE) + generator.normal(0.0, 0.06, 12))
        found = of.allocate(fit, {"2025": float(outcome.sum())})
        inside += ((found.low <= outcome) & (outcome <= found.high)).tolist()
    assert 0.93 <= np.mean(inside) <= 0.97


@pytest.mark.parametrize("phi", [0.0, 0.6])
def test_least_change_is_the_conditional_mean_and_proportional_a_factor(phi):
    ahead = fitted("level", phi).forecast(18)
    known = float(series("level", phi)[72:].sum())
    stated = {"2025": known + 1.1 * float(ahead.mean[:6].sum()), "2026": 0.95 * float(ahead.mean[6:].sum())}
    rows = np.zeros((18, 2))
    rows[:6, 0], rows[6:, 1] = 1.0, 1.0
    wanted = np.array([stated["2025"] - known, stated["2026"]])
    whole = covariance(ahead)
    gain = whole @ rows @ np.linalg.inv(rows.T @ whole @ rows)
    least = of.reconcile(ahead, stated, method="least change")
    np.testing.assert_allclose(least.mean, ahead.mean + gain @ (wanted - rows.T @ ahead.mean), rtol=1e-9)
    np.testing.assert_allclose(np.square(least.deviation), np.diag(whole - gain @ rows.T @ whole), rtol=1e-7)
    simple = of.reconcile(ahead, stated)
    np.testing.assert_allclose(simple.mean[:6] / ahead.mean[:6], 1.1)
    np.testing.assert_allclose(simple.mean[6:] / ahead.mean[6:], 0.95)
    for made in (least, simple):
        np.testing.assert_allclose(rows.T @ made.mean, wanted)
        np.testing.assert_allclose(made.contributions.values.sum(axis=0), made.mean)
        assert made.contributions.terms[-1] == "adjustment"
    assert (least.deviation < np.sqrt(np.diag(whole))).all()
    assert "of it known; the forecast's" in least.statements[0]


def test_agreement_respects_limits():
    sold = pd.Series(np.tile([0.0, 1.0, 4.0, 9.0], 12) + related(48, 0, 0.2, 1).clip(0), MONTHS[:48], name="sold")
    fit = of.Model("sold", terms=[of.Season()], lower_limit=0.0).fit(sold)
    made = of.reconcile(fit.forecast(12), {"2023": 6.0}, method="least change")
    assert made.mean.min() >= 0.0
    assert made.mean.sum() == pytest.approx(6.0)
    assert (made.quantiles().to_numpy() >= 0.0).all()
    with pytest.raises(of.InputError, match="cannot be reached within the target's limits"):
        of.reconcile(fit.forecast(12), {"2023": -6.0}, method="least change")


@pytest.mark.parametrize(
    ("call", "message"),
    [
        (
            lambda a: of.reconcile(a, {"2026": 900.0}),
            "6 months of 2026 are neither known nor forecast. Forecast until 2026-12",
        ),
        (lambda a: of.reconcile(a, {"2031": 900.0}), "no forecast period lies in 2031"),
        (lambda a: of.reconcile(a, {"2025": 1.0, "2025-Q4": 3.0}), "2025 and 2025-Q4 overlap"),
        (
            lambda a: of.reconcile(a, {"next year": 1.0}),
            "'next year' is no year, quarter or month near the data. Write it as 2026 or 2026-Q1",
        ),
        (lambda a: of.reconcile(a, {"2025": float("nan")}), "found nan for 2025"),
        (lambda a: of.reconcile(a, {}), "no total is given"),
        (lambda a: of.reconcile(a, {"2025": 1.0}, method="evenly"), "Allowed: proportional, least change"),
        (lambda a: of.allocate(a.fit, {"2025-13": 1.0}), "'2025-13' is no year, quarter or month"),
    ],
)
def test_faulty_totals_are_reported(call, message):
    with pytest.raises(of.InputError, match=message):
        call(fitted().forecast(12))


def test_the_study_states_totals_limits_and_sums(run_cli, demo_folder, tmp_path):
    text = forecast_only((demo_folder / "study.toml").read_text()).replace(
        "horizon = 13", 'horizon = 26\nsums = ["year"]\naverages = ["quarter"]'
    )
    text += '[[totals]]\ntype = "reconcile"\ntotal = { "2026-Q3" = 240000 }\nmethod = "least change"\n'
    text += '[[totals]]\ntype = "allocate"\naverage = { "2027-Q1" = 9000 }\n'
    text = text.replace('scale = "log"', 'scale = "log"\nlower_limit = 0.0\noffset = 1.0')
    for name in ("tickets.csv", "plan.csv", "island_days.csv"):
        (tmp_path / name).write_bytes((demo_folder / name).read_bytes())
    days = (tmp_path / "island_days.csv").read_text() + "Founding Day,2027-06-09,2027-06-09\n"
    (tmp_path / "island_days.csv").write_text(days)
    (tmp_path / "study.toml").write_text(text)
    ran = run_cli("explain", tmp_path / "study.toml", "--out", tmp_path / "out")
    assert (ran.status, ran.err) == (0, "")
    made = {
        name: pd.read_csv(tmp_path / "out" / f"{name}.csv")
        for name in ("forecast", "contributions", "totals", "allocated")
    }
    reconciled = made["forecast"][made["forecast"]["scenario"] == "reconciled"]
    # A week counts where its middle lies: that of 28 September is of the third quarter, that of 29 June too.
    assert reconciled["forecast"].iloc[:13].sum() == pytest.approx(240000)
    planned = made["forecast"][made["forecast"]["scenario"] == "as planned"]
    np.testing.assert_allclose(reconciled["forecast"].iloc[13:], planned["forecast"].iloc[13:], rtol=1e-9)
    rows = made["contributions"][made["contributions"]["scenario"] == "reconciled"]
    np.testing.assert_allclose(rows.groupby("period")["contribution"].sum(), reconciled["forecast"], rtol=1e-9)
    assert set(made["totals"]["measure"]) == {"sum", "average"}
    assert len(made["allocated"]) == 12  # the week of 29 March belongs to April by its middle
    assert made["allocated"]["value"].mean() == pytest.approx(9000)
    assert {"reconciled.png", "allocated.png", "totals-1.png", "totals-2.png"} <= {
        p.name for p in (tmp_path / "out").iterdir()
    }


@pytest.mark.parametrize(
    ("keys", "message"),
    [
        ('type = "reconcile"', "key 'totals[1]': totals are sums or averages. Give one of total and average."),
        (
            'type = "allocate"\ntotal = { "2026" = 1 }\nmethod = "proportional"',
            "key 'totals[1].method': a split has one method. Remove it.",
        ),
        (
            'type = "reconcile"\ntotal = { "1926" = 1 }',
            "key 'totals': '1926' is no year, quarter or month near the data.",
        ),
        ('type = "reconcile"\ntotals = { "2026" = 1 }', "there is no such key. Did you mean 'total'?"),
    ],
)
def test_faulty_totals_in_a_study_name_their_line(keys, message, run_cli, demo_folder, tmp_path):
    for name in ("tickets.csv", "plan.csv", "island_days.csv"):
        (tmp_path / name).write_bytes((demo_folder / name).read_bytes())
    (tmp_path / "study.toml").write_text((demo_folder / "study.toml").read_text() + f"[[totals]]\n{keys}\n")
    ran = run_cli("forecast", tmp_path / "study.toml")
    assert ran.status == 2
    assert message in ran.err
    assert "study.toml, line" in ran.err


@pytest.mark.parametrize(
    ("frequency", "unit", "summed"), [("h", "kW", "kWh"), ("D", "MW", "MW·days"), ("D", "boats", "boats")]
)
def test_a_sum_of_power_is_energy_and_an_average_is_power(frequency, unit, summed):
    index = pd.date_range("2024-01-01", periods=96, freq=frequency)
    warm = np.tile([3.0, 5.0], 48)
    load = of.read(
        pd.DataFrame({"load": 50.0 - 2.0 * warm + np.tile([1.0, -1.0, 2.0], 32), "warm": warm}, index),
        unit={"load": unit},
    )
    fit = of.Model("load", [of.Driver("warm")]).fit(load)
    ahead = fit.forecast(6, plan=pd.DataFrame({"warm": 4.0}, pd.date_range(index[-1], periods=7, freq=frequency)[1:]))
    by = "day" if frequency == "h" else "month"
    assert f"({summed})" in of.totals(ahead, by).sentence
    assert f"({unit})" in of.totals(ahead, by, average=True).sentence
    assert f" {summed}," in of.paths(ahead).sentence
    assert f" {summed}" in of.walk(ahead, "mean").sentence
    assert f" {unit}" in of.effects(fit).lines[0]
    assert f" {summed}" in of.sensitivity(ahead).sentences
    assert (
        f" {summed} (sought"
        in of.solve_for(ahead, "warm", float(ahead.mean.sum()) + 1.0, limits=(-50.0, 50.0)).sentence
    )
