"""What planted faults got past the other tests with: each number from arithmetic of its own."""

import numpy as np
import pandas as pd
import pytest
from scipy.optimize import minimize
from scipy.stats import t as student

import offing as of
from offing.engine import cross_correlation
from test_models import weekly

DAYS = pd.date_range("2024-01-01", periods=300, freq="D")


def test_a_coefficient_at_its_bound_takes_no_degree_of_freedom():
    """The data say minus; held at zero it is gone, and the rest is least squares without its column."""
    generator = np.random.default_rng(1)
    x, z = generator.normal(size=(2, 40))
    data = pd.DataFrame({"sold": 5.0 - 1.0 * x + 2.0 * z + generator.normal(size=40), "x": x, "z": z}, DAYS[:40])
    fit = of.Model("sold", [of.Driver("x", sign="positive"), of.Driver("z")]).fit(data)
    design = np.column_stack([np.ones(40), z])
    beta, (rss,), *_ = np.linalg.lstsq(design, data["sold"], rcond=None)
    error = np.sqrt(rss / 38 * np.linalg.inv(design.T @ design)[1, 1])
    row = fit.coefficients.set_index("column").loc["z"]
    assert row["coefficient"] == pytest.approx(beta[1], rel=1e-10)
    # The bound is not known beforehand: the covariance is the unrestricted one, with the variance of the bounded fit.
    whole = np.column_stack([np.ones(40), x, z])
    free = np.sqrt(rss / 38 * np.linalg.inv(whole.T @ whole)[2, 2])
    assert row["std_error"] == pytest.approx(free, rel=1e-9) or row["std_error"] == pytest.approx(error, rel=1e-9)
    assert row["high"] - row["low"] == pytest.approx(2.0 * student.ppf(0.975, 38) * row["std_error"], rel=1e-9)


def test_noise_and_strengths_maximise_the_restricted_likelihood_with_all_its_determinants():
    """AR(1) noise beside a free trend and shrunk columns, by dense matrices: −2 log REML, minimised from scratch."""
    generator = np.random.default_rng(4)
    n, m = 90, 6
    z = generator.normal(size=(n, m))
    noise = np.zeros(n)
    for i in range(1, n):
        noise[i] = 0.6 * noise[i - 1] + generator.normal()
    y = 10 + 0.05 * np.arange(n) + z @ generator.normal(0, 0.5, m) + noise
    names = [f"z{j}" for j in range(m)]
    data = pd.DataFrame(z, DAYS[:n], names).assign(sold=y)
    drivers = [of.Driver(name, shrink_with="all") for name in names]
    fit = of.Model("sold", [of.Trend(), *drivers], errors="ar").fit(data)
    free = np.column_stack([np.ones(n), np.arange(n)])
    scaled = z / z.std(axis=0)
    gaps = np.abs(np.arange(n)[:, None] - np.arange(n))

    def deviance(parameters):
        phi, ratio = np.tanh(parameters[0]), np.exp(parameters[1])
        covariance = phi**gaps / (1 - phi**2) + ratio * scaled @ scaled.T
        inverse = np.linalg.inv(covariance)
        inner = free.T @ inverse @ free
        projected = inverse - inverse @ free @ np.linalg.solve(inner, free.T @ inverse)
        logs = np.linalg.slogdet(covariance)[1] + np.linalg.slogdet(inner)[1]
        # The spread's own factor keeps it from zero (Chung et al. 2013).
        return logs + (n - 2) * np.log(y @ projected @ y) - np.log(ratio)

    best = minimize(
        deviance, [0.5, -1.0], method="Nelder-Mead", options={"xatol": 1e-8, "fatol": 1e-10, "maxiter": 4000}
    )
    rows = fit.coefficients.set_index("column")["coefficient"]
    assert rows["noise: carried to the next period"] == pytest.approx(np.tanh(best.x[0]), abs=2e-4)
    assert rows["all, spread"] ** 2 / fit.estimate.variance == pytest.approx(np.exp(best.x[1]), rel=5e-3)


def test_an_estimated_base_is_softened_over_a_stated_width():
    """At the base itself the softened excess is w ln 2, with w a twenty-fifth of the span from 10 to 90 %."""
    generator = np.random.default_rng(5)
    temp = generator.uniform(0, 30, 250)
    data = pd.DataFrame(
        {"load": 20 + 2 * np.maximum(temp - 14, 0) + generator.normal(0, 0.5, 250), "temp": temp}, DAYS[:250]
    )
    fit = of.Model("load", [of.Driver("temp", above="estimated")]).fit(data)
    rows = fit.coefficients.set_index("column")["coefficient"]
    plan = pd.DataFrame({"temp": [rows["temp: base above"], -40.0]}, DAYS[250:252])
    at, far = fit.forecast(2, plan=plan).mean
    width = 0.04 * np.diff(np.quantile(temp, [0.1, 0.9]))[0]
    assert at - far == pytest.approx(rows["temp above a base"] * width * np.log(2.0), rel=1e-6)


def test_the_correlation_band_counts_autocorrelation():
    generator = np.random.default_rng(6)
    y, x = np.zeros(400), np.zeros(400)
    for i in range(1, 400):
        y[i], x[i] = 0.9 * y[i - 1] + generator.normal(), 0.9 * x[i - 1] + generator.normal()
    _, _, band = cross_correlation(y, x, 12)
    own = [np.correlate(v - v.mean(), v - v.mean(), "full")[399:] for v in (y, x)]
    both = 1.0 + 2.0 * sum(own[0][k] / own[0][0] * own[1][k] / own[1][0] for k in range(1, 13))
    assert band == pytest.approx(2.576 * np.sqrt(both / 400), rel=1e-9)
    assert band > 1.8 * 2.576 / np.sqrt(400)


def test_what_was_carried_in_may_have_any_sign():
    """The effect is positive, what was left of the time before the data is not, and has no bound."""
    generator = np.random.default_rng(7)
    x, carried = generator.gamma(2.0, 1.0, 80), np.zeros(80)
    for i in range(80):
        carried[i] = x[i] + (0.7 * carried[i - 1] if i else 0.0)
    before = 0.7 ** (np.arange(80) + 1.0)
    y = 10 + 2 * carried - 6 * before + generator.normal(0, 0.1, 80)
    driver = of.Driver("x", carry_over=0.7, sign="positive")
    fit = of.Model("sold", [driver]).fit(pd.DataFrame({"sold": y, "x": x}, DAYS[:80]))
    design = np.column_stack([np.ones(80), carried, before])
    assert fit.coefficients["coefficient"].tolist() == pytest.approx(np.linalg.lstsq(design, y, rcond=None)[0].tolist())
    assert fit.coefficients["coefficient"].iloc[2] < -5.0


def test_a_lead_needs_the_period_after_the_last():
    data = weekly(80)
    fit = of.Model("sold", [of.Driver("fare", lags=[-1])]).fit(data)
    weeks = pd.date_range(data.index[-1] + pd.Timedelta(days=7), periods=4, freq="7D")
    with pytest.raises(of.InputError, match=f"{weeks[3]:%Y-%m-%d}"):
        fit.forecast(3, plan=pd.DataFrame({"fare": 20.0}, weeks[:3]))
    assert np.isfinite(fit.forecast(3, plan=pd.DataFrame({"fare": 20.0}, weeks)).mean).all()


def test_resampled_noise_keeps_neighbours_together():
    """Residuals that are alike from day to day make sums vary more than as many independent ones."""
    generator = np.random.default_rng(8)
    noise = np.zeros(300)
    for i in range(1, 300):
        noise[i] = 0.8 * noise[i - 1] + generator.normal()
    fit = of.Model("sold").fit(pd.Series(100 + noise, DAYS, name="sold"))
    ahead = fit.forecast(6)
    sums = {
        kind: of.paths(ahead, noise=kind, count=20_000).values.sum(axis=1).std() for kind in ("normal", "resampled")
    }
    left = noise - noise.mean()
    six = np.lib.stride_tricks.sliding_window_view(left, 6).sum(axis=1).std() / (left.std() * np.sqrt(6))
    assert sums["resampled"] / sums["normal"] > 1.0 + 0.5 * (six - 1.0)


def test_lags_are_chosen_by_the_bayesian_criterion():
    """Degrees 1 to 3 over twelve months, by hand; worlds in which another penalty would choose otherwise are among them."""
    differing = 0
    for seed in range(12):
        generator = np.random.default_rng(seed)
        months = generator.normal(50.0, 5.0, 132)
        place = np.linspace(-1.0, 1.0, 12)
        weights = 1.0 + 0.8 * place + 0.55 * place**2
        lags = np.array([months[11 + 3 * q : None if q < 0 else 3 * q - 1 if q else None : -1][:12] for q in range(40)])
        y = lags @ weights / 12 + generator.normal(0, 3.2, 40)
        quarters = pd.Series(y, pd.period_range("2015Q4", periods=40, freq="Q"), name="orders")
        tables = {
            "orders": of.read(quarters),
            "fast": of.read(pd.Series(months[: 12 + 117], pd.period_range("2015-01", periods=129, freq="M"), name="i")),
        }
        fit = of.Model("orders.orders", [of.Driver("fast.i", weights="polynomial", span=12)]).fit(tables)
        values = {"bic": {}, "aic": {}}
        for degree in (1, 2, 3):
            design = np.column_stack([np.ones(40), *(lags @ place**power for power in range(degree + 1))])
            rss = float(np.square(y - design @ np.linalg.lstsq(design, y, rcond=None)[0]).sum())
            for name, penalty in (("bic", np.log(40)), ("aic", 2.0)):
                values[name][degree] = 40 * np.log(rss / 40) + penalty * (degree + 2)
        best = {name: min(each, key=each.get) for name, each in values.items()}
        (choice,) = [each for each in fit.findings if each.check == "choice"]
        assert f"of degree {best['bic']}" in choice.message
        differing += best["bic"] != best["aic"]
    assert differing >= 2, "the criteria must differ for this to be a test"


def test_a_scenario_that_states_a_driver_is_as_sure_of_it_as_a_plan():
    data = weekly(120)
    fit = of.Model("sold", [of.Driver("fare"), of.Driver("flag")]).fit(data)
    weeks = pd.date_range(data.index[-1] + pd.Timedelta(days=7), periods=4, freq="7D")
    plan = pd.DataFrame({"flag": 0.0}, weeks)
    scenario = of.Scenario("stated", {"fare": 21.0})
    stated = fit.forecast(4, plan=plan, missing_plans="expected", scenario=scenario)
    planned = fit.forecast(4, plan=plan.assign(fare=21.0))
    assert np.allclose(stated.quantiles([0.1, 0.9]), planned.quantiles([0.1, 0.9]), rtol=1e-10)
    unsure = fit.forecast(4, plan=plan, missing_plans="expected")
    expected = unsure.drivers.query("driver == 'fare'")["value"].to_numpy()
    certain = fit.forecast(4, plan=plan.assign(fare=expected)).quantiles([0.1, 0.9])
    assert (np.diff(unsure.quantiles([0.1, 0.9])) > np.diff(certain)).all(), "a modelled driver is not known for sure"
    from offing.model.reapply import rerun

    ahead = fit.forecast(4, plan=plan, missing_plans="expected")
    view, _ = scenario.on(fit, ahead.view, ahead.axis)
    assert np.allclose(rerun(ahead, view).quantiles([0.1, 0.9]), planned.quantiles([0.1, 0.9]), rtol=1e-10)


def test_a_driver_s_own_model_stays_above_zero_where_the_driver_did():
    generator = np.random.default_rng(9)
    storms = np.maximum(60.0 - 0.6 * np.arange(100) + generator.normal(0, 2, 100), 0.0)
    data = pd.DataFrame(
        {"sold": 100 - storms + generator.normal(size=100), "storms": storms},
        pd.date_range("2016-01-01", periods=100, freq="MS"),
    )
    ahead = of.Model("sold", [of.Driver("storms")]).fit(data).forecast(24, missing_plans="expected")
    assert (ahead.drivers["value"] >= 0.0).all()
    below = data.assign(storms=storms - 30.0)
    assert (
        of.Model("sold", [of.Driver("storms")]).fit(below).forecast(24, missing_plans="expected").drivers["value"] < 0
    ).any()


def test_the_least_change_on_the_log_scale_follows_the_covariance_of_outcomes():
    """A total is met by moving periods along Σ 1, with Σ on the target's own scale: its slopes are the means."""
    generator = np.random.default_rng(10)
    sold = pd.Series(
        np.exp(4 + 0.02 * np.arange(60) + generator.normal(0, 0.1, 60)),
        pd.period_range("2019-01", periods=60, freq="M"),
        name="sold",
    )
    fit = of.Model("sold", [of.Trend()], "log").fit(sold)
    ahead = fit.forecast(12)
    total = 1.1 * ahead.mean.sum()
    found = of.reconcile(ahead, {"2024": total}, method="least change")
    x = np.column_stack([np.ones(60), np.arange(60.0)])
    later = np.column_stack([np.ones(12), np.arange(60.0, 72.0)])
    left = np.log(sold.to_numpy()) - x @ np.linalg.lstsq(x, np.log(sold.to_numpy()), rcond=None)[0]
    variance = left @ left / 58
    eta = variance * (later @ np.linalg.inv(x.T @ x) @ later.T + np.eye(12))
    covariance = ahead.mean[:, None] * eta * ahead.mean
    moved = covariance.sum(axis=1) / covariance.sum() * (total - ahead.mean.sum())
    assert found.mean == pytest.approx(ahead.mean + moved, rel=1e-7)


def test_a_narrowing_search_is_won_on_all_origins():
    """Few origins are luck: the winner's score is that of the most origins, even where others have a better one."""
    generator = np.random.default_rng(11)
    data = pd.DataFrame(generator.normal(size=(160, 9)), DAYS[:160], [f"x{i}" for i in range(9)])
    data["sold"] = 10.0 + generator.normal(size=160)
    model = of.Model("sold", [of.Driver(f"x{i}") for i in range(9)])
    found = of.search(
        model,
        data,
        optional=[f"x{i}" for i in range(9)],
        horizon=3,
        method="narrowing",
        tries=60,
        seed=2,
        basis="ex-post",
        origins=12,
    )
    assert found.winner.folds == max(each.folds for each in found.tried)
    assert min(each.score for each in found.tried) < found.winner.score, "fewer origins gave better scores by chance"


def test_the_first_held_back_period_is_unseen():
    months = pd.period_range("2012-01", periods=132, freq="M")
    sold = pd.Series(100 + np.random.default_rng(1).normal(size=132), months, name="sold")
    worse = sold.copy()
    worse.iloc[120] = 900.0
    model = of.Model("sold", [of.Trend(), of.Season("year", harmonics=3)])
    one, two = (of.search(model, each, {"season.harmonics": [1, 2]}, horizon=6) for each in (sold, worse))
    assert [each.score for each in one.tried] == [each.score for each in two.tried]
    assert one.honest != two.honest
    assert one.held.cuts().rows.min() == 120


def test_the_newest_outside_forecast_made_in_time_counts():
    months = pd.period_range("2020-01", periods=40, freq="M")
    sold = pd.Series(np.arange(40.0) + 50.0, months, name="sold")
    rows = pd.DataFrame(
        {
            "origin": ["2022-03-05", "2022-03-20", "2022-04-02"],
            "period": ["2022-04-01"] * 3,
            "forecast": [1.0, 2.0, 3.0],
        }
    )
    found = of.backtest(
        of.Model("sold"),
        sold,
        horizon=2,
        origins=["2022-03-01", "2022-04-01"],
        external=[of.external_forecast(rows, "office")],
    )
    run = next(run for run in found.own if run.name == "office")
    assert run.mean[1].tolist()[0] == 2.0, "made before the origin, the newest of these, of its own period"
    assert np.isnan(run.mean[0]).all()
    assert np.isnan(run.mean[1, 1])
