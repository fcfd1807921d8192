"""Noise that carries on, and the target's own past: against dense Gaussian arithmetic and written-out recursions."""

import numpy as np
import pandas as pd
import pytest
from scipy.linalg import toeplitz
from scipy.optimize import minimize
from scipy.stats import multivariate_normal

import offing as of
from offing.engine import Chain, running
from offing.engine.ar_estimation import Dynamics, carry_on
from offing.engine.ar_filter import autocovariances, from_partial, multiplied, partial

GAPS = [1, 2, 9, *range(20, 29), 40]


def series(n=160, seed=3, phi=(0.5, 0.2), gaps=(), own=()):
    """Weeks with a driver, AR noise and own lags; made by a plain loop."""
    generator = np.random.default_rng(seed)
    fare, shock = generator.normal(10.0, 1.0, n + 200), generator.normal(0.0, 0.3, n + 200)
    noise, y = np.zeros(n + 200), np.zeros(n + 200)
    for t in range(60, n + 200):
        noise[t] = sum(p * noise[t - k] for k, p in enumerate(phi, 1)) + shock[t]
        y[t] = 2.0 - 0.4 * fare[t] + noise[t] + sum(p * y[t - k] for k, p in enumerate(own, 1))
    index = pd.date_range("2020-01-06", periods=n, freq="7D")
    frame = pd.DataFrame({"sold": 20.0 + y[200:], "fare": fare[200:]}, index)
    frame.iloc[list(gaps), 0] = np.nan
    return frame


@pytest.mark.parametrize("phi", [(0.7,), (0.5, -0.2), multiplied((0.4, 0.2), 0.5, 7), (-0.9,)])
def test_rows_over_gaps_are_predicted_as_by_the_dense_covariance(phi):
    times = np.setdiff1d(np.arange(60), GAPS)
    wide = toeplitz(autocovariances(phi, 75))
    dense, rows = wide[np.ix_(times, times)], np.random.default_rng(1).normal(size=(len(times), 3))
    chain = Chain(tuple(phi), times)
    white = chain.whiten(rows)
    assert np.allclose(white.T @ white, rows.T @ np.linalg.solve(dense, rows), rtol=1e-11, atol=1e-11)
    assert chain.log_determinant == pytest.approx(np.linalg.slogdet(dense)[1], abs=1e-10)
    at = np.arange(75)
    noted, spread = chain.ar_prediction(rows, at), chain.conditional_variances(at)
    for t in at:
        before = times[times < t]
        weights = wide[t, before] @ np.linalg.inv(wide[np.ix_(before, before)]) if len(before) else np.zeros(0)
        assert np.allclose(noted[t], weights @ rows[: len(before)], atol=1e-10)
        assert spread[t] == pytest.approx(wide[t, t] - weights @ wide[before, t], rel=1e-9)
    assert np.allclose(chain.related(rows[:40, 0]), wide[:40, :40] @ rows[:40, 0], rtol=1e-11)
    assert np.allclose(from_partial(partial(phi)), phi)


@pytest.mark.parametrize(("order", "season"), [(1, None), (2, None), (3, None), (1, 5)])
@pytest.mark.parametrize("gaps", [(), GAPS])
def test_learnt_dynamics_have_the_best_dense_likelihood(order, season, gaps):
    """The restricted likelihood, written out with dense matrices and climbed from there, leads nowhere better."""
    times = np.setdiff1d(np.arange(90), gaps)
    generator = np.random.default_rng(7)
    noise = running(generator.normal(size=140), (0.5, 0.2))[50:][times]
    x = np.column_stack([np.ones(len(times)), generator.normal(size=len(times))])
    y = x @ [1.0, 2.0] + noise
    free = np.array([-1, -1])
    found = carry_on(x, y, times, groups=free, bounded=np.zeros(0, bool), dynamics=Dynamics(order, season))

    def dense(parameters):
        phi = tuple(parameters[:order])
        phi = multiplied(phi, parameters[order], season) if season else phi
        if np.abs(partial(phi)).max() >= 1.0:
            return 1e9
        covariance = toeplitz(autocovariances(phi, 90))[np.ix_(times, times)]
        inner = np.linalg.solve(covariance, np.column_stack([x, y]))
        cross = x.T @ inner[:, :2]
        left = y - x @ np.linalg.solve(cross, x.T @ inner[:, 2])
        rss = left @ np.linalg.solve(covariance, left)
        return (len(y) - 2) * np.log(rss) + np.linalg.slogdet(cross)[1] + np.linalg.slogdet(covariance)[1]

    here = dense(found.parameters)
    climbed = minimize(dense, found.parameters, method="Nelder-Mead", options={"xatol": 1e-9, "fatol": 1e-12})
    assert here - climbed.fun < 1e-8
    assert np.allclose(climbed.x, found.parameters, atol=2e-5)
    step = 1e-3 * np.eye(len(found.parameters))
    curved = [
        [
            dense(found.parameters + a + b)
            - dense(found.parameters + a - b)
            - dense(found.parameters - a + b)
            + dense(found.parameters - a - b)
            for b in step
        ]
        for a in step
    ]
    errors = np.sqrt(np.diag(2.0 * np.linalg.inv(np.array(curved) / (4 * 1e-6))))
    assert np.allclose(found.errors, errors, rtol=2e-2)


def test_a_fit_with_gaps_agrees_with_generalised_least_squares():
    frame = series(gaps=GAPS)
    fit = of.Model("sold", terms=[of.Driver("fare")], errors="ar", order=2).fit(frame)
    times = np.flatnonzero(frame["sold"].notna())
    x = np.column_stack([np.ones(160), frame["fare"]])
    wide = toeplitz(autocovariances(fit.estimate.chain.phi, 165))
    inverse = np.linalg.inv(wide[np.ix_(times, times)])
    x_used, y = x[times], frame["sold"].to_numpy()[times]
    cross = np.linalg.inv(x_used.T @ inverse @ x_used)
    beta = cross @ x_used.T @ inverse @ y
    left = y - x_used @ beta
    variance = left @ inverse @ left / (len(y) - 2)
    rows = fit.coefficients.set_index("column")
    assert np.allclose(rows["coefficient"].iloc[:2], beta, rtol=1e-10)
    assert np.allclose(rows["std_error"].iloc[:2], np.sqrt(variance * np.diag(cross)), rtol=1e-9)
    assert rows.index[2:].tolist() == ["noise: lag 1", "noise: lag 2"]
    assert (rows["std_error"].iloc[2:] > 0.0).all()
    ahead = fit.forecast(5, plan=pd.DataFrame({"fare": 10.0}, pd.date_range(frame.index[-1], periods=6, freq="7D")[1:]))
    weights = wide[160:165][:, times] @ inverse
    rows_ahead = np.column_stack([np.ones(5), np.full(5, 10.0)])
    assert np.allclose(ahead.table["forecast"], rows_ahead @ beta + weights @ left, rtol=1e-10)
    open_rows = rows_ahead - weights @ x_used
    spread = np.diag(wide[160:165, 160:165] - weights @ wide[times, 160:165])
    total = np.sqrt(variance * (spread + np.einsum("ij,jk,ik->i", open_rows, cross, open_rows)))
    t = (ahead.table["q0.975"] - ahead.table["forecast"]) / total
    assert np.ptp(t) < 1e-8
    wide_table = ahead.contributions.wide
    assert np.allclose(wide_table.drop(columns="total").sum(axis=1), ahead.table["forecast"])
    assert np.allclose(wide_table["autoregressive error"], weights @ left, atol=1e-9)


def test_the_order_is_chosen_and_a_season_in_the_noise_is_found():
    chosen = of.Model("sold", terms=[of.Driver("fare")], errors="ar", order="chosen")
    right = 0
    for seed in range(8):
        fit = chosen.fit(series(400, seed, (0.5, 0.3)))
        right += fit.dynamics.dynamics.order == 2
    assert right >= 6
    none = [chosen.fit(series(200, seed, ())).dynamics.dynamics.order for seed in range(8)]
    assert none.count(0) >= 6
    seasonal = series(400, 5, multiplied((0.4,), 0.6, 12))
    fit = of.Model("sold", terms=[of.Driver("fare")], errors="ar", seasonal_lag=12).fit(seasonal)
    rows = fit.coefficients.set_index("column")
    for column, truth in (("noise: carried to the next period", 0.4), ("noise: carried 12 periods on", 0.6)):
        assert abs(rows.loc[column, "coefficient"] - truth) < 3.0 * rows.loc[column, "std_error"] < 0.2


def test_intervals_of_dynamics_and_coefficients_cover():
    """120 series with AR(2) noise and 15 gaps each: 95 % intervals of the driver and of both lags hold the truth."""
    hits = np.zeros(3)
    model = of.Model("sold", terms=[of.Driver("fare")], errors="ar", order=2)
    for seed in range(120):
        gaps = np.random.default_rng(seed).choice(np.arange(1, 119), 15, replace=False)
        rows = model.fit(series(120, seed, (0.5, 0.2), gaps)).coefficients.iloc[1:]
        low, high = rows[["low", "high"]].to_numpy().T
        hits += (low <= [-0.4, 0.5, 0.2]) & (high >= [-0.4, 0.5, 0.2])
    assert (hits / 120 >= 0.91).all(), hits / 120
    assert hits[0] / 120 <= 0.985


def written_out(frame, fit, lags, plan=None):
    """Means, contributions and noise spread of a model with own lags, by loops over the coefficients."""
    b = fit.coefficients.set_index("column")["coefficient"]
    phi = {k: b[f"own lags: lag {k}"] for k in lags}
    y, fare = frame["sold"].to_numpy(), frame["fare"].to_numpy()
    n, first = len(y), max(lags)
    reference = b["fare"] * fare[fit.used].mean()
    level = (b["constant"] + reference) / (1.0 - sum(phi.values()))
    full = fare if plan is None else np.concatenate([fare, plan])
    mean, part, past = np.full(len(full), np.nan), np.zeros(len(full)), np.zeros(len(full))
    values = np.concatenate([y, np.zeros(len(full) - n)])
    for t in range(len(full)):
        part[t] = b["fare"] * full[t] - reference + sum(p * part[t - k] for k, p in phi.items() if t >= k)
        if t >= first:
            mean[t] = b["constant"] + b["fare"] * full[t] + sum(p * values[t - k] for k, p in phi.items())
            past[t] = mean[t] - level - part[t]
        if t >= n:
            values[t] = mean[t]
    return mean, level, part, past


def test_own_lags_forecast_and_contribute_by_the_recursion():
    frame = series(200, 2, (), own=(0.5, 0.0, 0.2))
    fit = of.Model("sold", terms=[of.Driver("fare"), of.OwnLags([1, 3])]).fit(frame)
    plan = np.random.default_rng(1).normal(10.0, 2.0, 12)
    index = pd.date_range(frame.index[-1], periods=13, freq="7D")[1:]
    ahead = fit.forecast(12, plan=pd.DataFrame({"fare": plan}, index))
    mean, level, part, past = written_out(frame, fit, [1, 3], plan)
    history = fit.contributions.wide
    assert np.isnan(fit.fitted["fitted"].iloc[:3]).all()
    assert np.allclose(fit.fitted["fitted"].iloc[3:], mean[3:200])
    assert np.allclose(ahead.table["forecast"], mean[200:])
    for wide, span in ((history.iloc[3:], slice(3, 200)), (ahead.contributions.wide, slice(200, 212))):
        assert wide.columns.tolist() == ["baseline", "fare", "autoregressive error", "total"]
        assert np.allclose(wide["baseline"], level)
        assert np.allclose(wide["fare"], part[span])
        assert np.allclose(wide["autoregressive error"], past[span])
        assert np.allclose(wide.iloc[:, :3].sum(axis=1), wide["total"])
    echo = running(np.eye(12)[:, 0], fit.own)
    narrow = fit.forecast(12, plan=pd.DataFrame({"fare": plan}, index), levels=[0.95])
    assert np.allclose(narrow.path.variances, np.cumsum(echo**2) * fit.estimate.variance)


def test_slopes_through_the_recursion_are_those_of_moved_coefficients():
    """Intervals of means and contributions: derivatives against differences of a fit with its coefficients moved."""
    from dataclasses import replace

    frame = series(120, 2, (), own=(0.6,))
    for scale in ("level", "log"):
        fit = of.Model("sold", scale=scale, terms=[of.Driver("fare"), of.OwnLags([1])]).fit(frame)
        index = pd.date_range(frame.index[-1], periods=7, freq="7D")[1:]
        plan = pd.DataFrame({"fare": [9.0, 12.0, 10.0, 8.0, 10.0, 11.0]}, index)
        half, moved = fit.forecast(6, plan=plan).cov_root, []
        inverse = np.linalg.inv(fit.estimate.root) * np.sqrt(fit.estimate.variance)
        for k in range(3):
            step = 1e-6 * inverse[:, k]
            both = [
                replace(fit, estimate=fit.estimate.moved(sign * step)).forecast(6, plan=plan).path.levels
                for sign in (1.0, -1.0)
            ]
            moved.append((both[0] - both[1]) / 2e-6)
        assert np.allclose(np.array(moved).T @ np.array(moved), half.T @ half, rtol=1e-5)


def test_own_lags_refuse_what_cannot_be_reported_apart_and_say_when_the_level_is_lost():
    frame = series(150, 2, (), own=(0.5,))
    with pytest.raises(of.InputError, match="lies within what the noise carries on"):
        of.Model("sold", terms=[of.OwnLags([1])], errors="ar")
    gone = frame.copy()
    gone.iloc[-2, 0] = np.nan
    with pytest.raises(of.InputError, match="own lags need it"):
        of.Model("sold", terms=[of.OwnLags([2])]).fit(gone).forecast(2)
    walk = frame.assign(sold=np.cumsum(np.random.default_rng(1).normal(0.3, 1.0, 150)))
    fit = of.Model("sold", terms=[of.Driver("fare"), of.OwnLags([1])]).fit(walk)
    plan = pd.DataFrame({"fare": 10.0}, pd.date_range(frame.index[-1], periods=5, freq="7D")[1:])
    wide = fit.forecast(4, plan=plan).contributions.wide
    assert not fit.returns
    assert abs(wide["baseline"].iloc[0] - walk["sold"].iloc[-1]) < 1.5
    assert np.allclose(wide.drop(columns="total").sum(axis=1), wide["total"])
    assert np.allclose(fit.contributions.wide.drop(columns="total").sum(axis=1).iloc[1:], fit.fitted["fitted"].iloc[1:])


def test_least_likely_paths_are_those_of_the_joint_distribution():
    """Sums of a forecast with own lags and AR noise vary as the dense joint distribution says."""
    frame = series(150, 4, (0.4,), own=(0.0, 0.0, 0.3))
    fit = of.Model("sold", terms=[of.Driver("fare"), of.OwnLags([3])], errors="ar").fit(frame)
    plan = pd.DataFrame({"fare": 10.0}, pd.date_range(frame.index[-1], periods=9, freq="7D")[1:])
    ahead = fit.forecast(8, plan=plan)
    lower = np.column_stack([running(np.eye(8)[:, i], fit.lingering) for i in range(8)])
    covariance = fit.estimate.variance * lower @ lower.T + ahead.cov_root.T @ ahead.cov_root
    from offing.model.joint_simulation import covariance_times

    assert np.allclose(covariance_times(ahead, np.eye(8)), covariance, rtol=1e-9)
    assert np.allclose(np.diag(covariance), ahead.path.variances + ahead.spread**2)
    assert multivariate_normal(np.zeros(8), covariance).logpdf(np.zeros(8)) > -100.0


def test_direct_equations_are_regressions_on_what_was_known():
    frame = series(200, 3, (), own=(0.6, 0.2))
    fit = of.Model("sold", terms=[of.Driver("fare"), of.OwnLags([1, 2])]).fit(frame)
    plan = pd.DataFrame({"fare": np.linspace(8.0, 12.0, 6)}, pd.date_range(frame.index[-1], periods=7, freq="7D")[1:])
    ahead = fit.forecast(6, plan=plan, method="direct")
    y, fare = frame["sold"].to_numpy(), frame["fare"].to_numpy()
    for h in range(1, 7):
        x = np.column_stack(
            [np.ones(200), fare, np.r_[np.full(h, np.nan), y[:-h]], np.r_[np.full(h + 1, np.nan), y[: -h - 1]]]
        )
        beta = np.linalg.lstsq(x[h + 1 :], y[h + 1 :], rcond=None)[0]
        expected = beta @ [1.0, plan["fare"].iloc[h - 1], y[-1], y[-2]]
        assert ahead.table["forecast"].iloc[h - 1] == pytest.approx(expected, rel=1e-9)
    wide = ahead.contributions.wide
    assert np.allclose(wide.drop(columns="total").sum(axis=1), ahead.table["forecast"])
    assert np.allclose(fit.forecast(1, plan=plan).table, fit.forecast(1, plan=plan, method="direct").table)
    with pytest.raises(of.InputError, match="vary together"):
        of.totals(ahead, "year")
    with pytest.raises(of.InputError, match="the model has none"):
        of.Model("sold").fit(frame).forecast(2, method="direct")


def test_effects_with_own_lags_are_those_of_the_long_run():
    frame = series(300, 3, (), own=(0.6,))
    fit = of.Model("sold", terms=[of.Driver("fare"), of.OwnLags([1])]).fit(frame)
    rows = fit.coefficients.set_index("column")["coefficient"]
    row = of.effects(fit).table.iloc[0]
    span = row["at_high"] - row["at_low"]
    assert row["change"] == pytest.approx(span * rows["fare"] / (1.0 - rows["own lags: lag 1"]), rel=1e-9)
    steady = np.array([rows["fare"] / (1 - rows["own lags: lag 1"]) ** 2, 1.0 / (1 - rows["own lags: lag 1"])])
    function = np.array([[0.0, steady[1], steady[0]]]) * span
    assert (row["high"] - row["low"]) / 2.0 / fit.estimate.standard_errors(function)[0] == pytest.approx(
        1.968, abs=2e-3
    )
