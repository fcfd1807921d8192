"""Elasticities against their closed forms, on both scales and through forms and lags."""

import numpy as np
import pandas as pd
import pytest

import offing as of

N = 150
WEEKS = pd.date_range("2022-01-03", periods=N, freq="7D")


def table(seed=1):
    generator = np.random.default_rng(seed)
    frame = pd.DataFrame({"fare": generator.gamma(40.0, 0.5, N), "ads": generator.gamma(2.0, 30.0, N) + 1.0}, WEEKS)
    frame["flag"] = (generator.random(N) < 0.3).astype(float)
    frame["sold"] = np.exp(6.0 - 0.7 * np.log(frame["fare"]) + 0.1 * frame["flag"] + generator.normal(0, 0.05, N))
    return frame


def fitted(own, frame=None, **more):
    return of.Model("sold", terms=own, **more).fit(of.read(table() if frame is None else frame, stamp="start"))


def test_a_logged_driver_on_the_log_scale_has_its_coefficients_sum():
    fit = fitted([of.Driver("fare", transform=["log"], lags=[0, 1]), of.Driver("flag")], scale="log")
    found = of.elasticities(fit)
    assert found.drivers == ("fare",)  # a flag has no percent more
    beta = fit.coefficients.set_index("column")["coefficient"]
    assert found.overall[0] == pytest.approx(beta["log fare"] + beta["log fare (lag 1)"], rel=1e-7)
    function = np.array([[0.0, 1.0, 1.0, 0.0]])
    error = fit.estimate.standard_errors(function)[0]
    assert found.high[0] - found.low[0] == pytest.approx(2 * 1.9763 * error, rel=1e-3)
    np.testing.assert_allclose(found.by_period[0, 1:], found.overall[0], rtol=1e-7)
    assert found.sentences == "A 10 % higher 'fare' lowers sold by 5.9 % (95 % interval 5.1 % to 6.6 %)."


def test_on_the_level_scale_it_is_the_slope_times_the_ratio():
    fit = fitted([of.Driver("fare"), of.Driver("ads")])
    found = of.elasticities(fit)
    slope = fit.estimate.beta[1]
    mean, fare = fit.means, table()["fare"].to_numpy()
    np.testing.assert_allclose(found.by_period[0], slope * fare / mean, rtol=1e-6)
    assert found.overall[0] == pytest.approx(slope * fare.mean() / mean.mean(), rel=1e-6)


def test_it_runs_through_saturation_and_carry_over():
    frame = table()
    frame["sold"] += 60.0 * frame["ads"] / (frame["ads"] + 50.0)
    fit = fitted([of.Driver("ads", saturation=50.0)], frame)
    ads, beta = frame["ads"].to_numpy(), fit.estimate.beta[1]
    expected = beta * 50.0 * ads / np.square(ads + 50.0) / fit.means
    np.testing.assert_allclose(of.elasticities(fit).by_period[0], expected, rtol=1e-5)
    carried = fitted([of.Driver("ads", carry_over=0.5)], frame)
    moved = carried.rows.blocks[0].columns[:, 0] * carried.estimate.beta[1]
    np.testing.assert_allclose(of.elasticities(carried).by_period[0], moved / carried.means, rtol=1e-6)


def test_intervals_cover_the_truth():
    inside = []
    for seed in range(150):
        fit = fitted([of.Driver("fare", transform=["log"]), of.Driver("flag")], table(seed), scale="log")
        found = of.elasticities(fit)
        inside.append(found.low[0] <= -0.7 <= found.high[0])
    assert 0.90 <= np.mean(inside) <= 0.99


def test_changes_have_none_and_explain_says_them(run_cli, demo_folder):
    with pytest.raises(of.InputError, match="Fit the target itself"):
        of.elasticities(fitted([of.Driver("fare")], transform=["difference"]))
    said = run_cli("explain", demo_folder / "study.toml").out
    assert "A 10 % higher 'fare' lowers ferry tickets by 7.1 % (95 % interval 5.0 % to 9.1 %)." in said
