"""Responses, lag profiles, residuals, stability, shares and clusters: against written-out computation."""

from itertools import permutations

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.explain.residuals import SIDES

N = 160
DAYS = pd.date_range("2023-01-02", periods=N, freq="D")


def frame(seed=1, noise=0.4):
    generator = np.random.default_rng(seed)
    data = pd.DataFrame(generator.gamma(2.0, 2.0, (N, 3)), DAYS, ["ads", "rain", "wind"])
    data["wind"] += 0.6 * data["rain"]
    data["sold"] = 30.0 + 2.0 * data["ads"] - 1.0 * data["rain"] + 0.5 * data["wind"] + noise * generator.normal(size=N)
    return data


def drivers(*names):
    return [of.Driver(name) for name in names]


def test_a_response_is_the_model_run_at_each_value():
    data = frame()
    carried = np.convolve(data["ads"], 0.5 ** np.arange(60))[:N]
    data["sold"] = np.exp(2.0 + 0.05 * carried / 2.0 + 0.02 * np.random.default_rng(2).normal(size=N))
    term = of.Driver("ads", transform=["log"], lags=[0, 1])
    fit = of.Model("sold", scale="log", terms=[term]).fit(data)
    found = of.response(fit, "ads")
    total = fit.coefficients["coefficient"].iloc[1:].sum()
    used = data["ads"].to_numpy()[fit.used]
    assert np.allclose(found.effect, (found.value / used.mean()) ** total - 1.0)
    error = fit.estimate.standard_errors(np.array([[0.0, 1.0, 1.0]]))[0]
    half = (np.log1p(found.high) - np.log1p(found.low)) / 2.0
    assert np.ptp(half[1:] / np.abs(np.log(found.value[1:] / used.mean())) / error) < 1e-6
    assert found.table["seen"].sum() < len(found.value)
    shaped = of.Model("sold", terms=[of.Driver("ads", above="estimated")]).fit(frame())
    line = of.response(shaped)
    assert np.all(np.diff(line.effect) >= -1e-9)
    with pytest.raises(of.InputError, match="does nothing"):
        of.response(of.Model("sold", transform=["difference"], terms=drivers("ads")).fit(frame()))


def test_a_lag_profile_is_what_one_changed_period_does_to_all_others():
    data = frame(2)
    terms = [of.Driver("ads", lags=[-1, 0, 2]), of.OwnLags([1])]
    fit = of.Model("sold", terms=terms).fit(data)
    b = fit.coefficients.set_index("column")["coefficient"]
    found = of.lag_profile(fit, "ads")
    direct = {-1: b["ads (lead 1)"], 0: b["ads"], 2: b["ads (lag 2)"]}
    expected, before = [], 0.0
    for lag in range(-1, 10):
        before = direct.get(lag, 0.0) + b["own lags: lag 1"] * before
        expected.append(before * found.change)
    assert found.change == pytest.approx(data["ads"][fit.used].std(ddof=0))
    at = {int(lag): effect for lag, effect in zip(found.lag, found.effect, strict=True)}
    for lag, effect in zip(range(-1, 10), expected, strict=True):
        if lag in at:
            assert at[lag] == pytest.approx(effect, abs=1e-9)
    assert set(range(3)) <= set(at)


def test_shares_are_the_average_over_all_orders():
    data = frame(3)
    fit = of.Model("sold", terms=drivers("ads", "rain", "wind")).fit(data)

    def r2(names):
        x = np.column_stack([np.ones(N), data[list(names)]]) if names else np.ones((N, 1))
        left = data["sold"] - x @ np.linalg.lstsq(x, data["sold"], rcond=None)[0]
        return 1.0 - (left**2).sum() / ((data["sold"] - data["sold"].mean()) ** 2).sum()

    gains = {name: [] for name in ("ads", "rain", "wind")}
    for order in permutations(gains):
        for i, name in enumerate(order):
            gains[name].append(r2(order[: i + 1]) - r2(order[:i]))
    found = of.variance_shares(fit)
    assert np.allclose(found.share, [np.mean(each) for each in gains.values()], atol=1e-12)
    assert found.share.sum() == pytest.approx(fit.statistics.r_squared, abs=1e-12)
    wide = pd.concat([data, pd.DataFrame(np.random.default_rng(4).normal(size=(N, 11)), DAYS).add_prefix("x")], axis=1)
    many = of.variance_shares(
        of.Model("sold", terms=drivers("ads", "rain", "wind", *(f"x{i}" for i in range(11)))).fit(wide)
    )
    assert (many.error > 0.0).all()
    exact = of.variance_shares(fit).share
    assert (np.abs(many.share[:3] - exact) < 4.0 * many.error[:3] + 0.02).all()
    assert "± " in str(many)


def test_residuals_leverage_and_distance_are_those_of_the_textbook():
    data = frame(5)
    fit = of.Model("sold", terms=drivers("ads", "rain")).fit(data)
    x = np.column_stack([np.ones(N), data[["ads", "rain"]]])
    hat = np.diag(x @ np.linalg.inv(x.T @ x) @ x.T)
    left = data["sold"].to_numpy() - x @ fit.estimate.beta
    s2 = left @ left / (N - 3)
    table = of.residuals(fit).table
    assert np.allclose(table["residual"], left / np.sqrt(s2))
    assert np.allclose(table["leverage"], hat)
    assert np.allclose(table["distance"], left**2 * hat / (3.0 * s2 * (1.0 - hat) ** 2))
    lags = of.residuals(fit, "lags").lags
    assert lags["correlation"].iloc[2] == pytest.approx(left[3:] @ left[:-3] / (left @ left))
    quantiles = of.residuals(fit, "quantiles").quantiles
    assert quantiles["residual"].is_monotonic_increasing
    with pytest.raises(of.InputError, match="'lags'"):
        of.residuals(fit, "lag")
    trouble = data.assign(sold=data["sold"] + np.where(np.arange(N) == 70, 60.0, 0.0))
    assert "2023-03-13" in of.residuals(of.Model("sold", terms=drivers("ads")).fit(trouble)).sentence


def test_stability_is_that_of_fits_to_ever_more_periods():
    data = frame(6)
    fit = of.Model("sold", terms=drivers("ads", "rain")).fit(data)
    found = of.parameter_stability(fit)
    x, y = np.column_stack([np.ones(N), data[["ads", "rain"]]]), data["sold"].to_numpy()
    for place in (0, 40, len(found.date) - 1):
        n = DAYS.get_loc(found.date[place]) + 1
        part = of.Model("sold", terms=drivers("ads", "rain")).fit(data.iloc[:n])
        assert np.allclose(found.estimate[place], part.estimate.beta[1:])
        assert np.allclose(found.error[place], part.estimate.standard_errors(np.eye(3))[1:])
    first = DAYS.get_loc(found.date[0]) + 1
    total = 0.0
    for t in range(first, N):
        inverse = np.linalg.inv(x[:t].T @ x[:t])
        ahead = y[t] - x[t] @ inverse @ x[:t].T @ y[:t]
        total += ahead / np.sqrt(1.0 + x[t] @ inverse @ x[t])
    assert found.cusum[-1] == pytest.approx(total / np.sqrt(fit.estimate.variance), rel=1e-8)
    both = of.parameter_stability(fit, at="2023-03-20")

    def rss(rows):
        left = y[rows] - x[rows] @ np.linalg.lstsq(x[rows], y[rows], rcond=None)[0]
        return left @ left

    cut = DAYS.get_loc("2023-03-20")
    apart = rss(np.arange(cut)) + rss(np.arange(cut, N))
    assert both.f == pytest.approx((rss(np.arange(N)) - apart) / 3 / (apart / (N - 6)), rel=1e-8)
    changed = data.assign(sold=data["sold"] + np.where(np.arange(N) > 90, 1.5, 0.0) * data["ads"])
    other = of.Model("sold", terms=drivers("ads", "rain")).fit(changed)
    assert of.parameter_stability(other, at="2023-04-03").p < 1e-6
    assert "changed" in of.parameter_stability(other).sentence
    with pytest.raises(of.InputError, match="too few"):
        of.parameter_stability(fit, at="2023-01-03")


def test_clusters_sum_the_scores_of_their_periods():
    data = frame(7)
    common = np.random.default_rng(8).normal(size=30)[(np.arange(N) // 7)]
    data["sold"] += common
    fit = of.Model("sold", terms=drivers("ads", "rain"), covariance="clustered", clusters="week").fit(data)
    x, y = np.column_stack([np.ones(N), data[["ads", "rain"]]]), data["sold"].to_numpy()
    inverse = np.linalg.inv(x.T @ x)
    left = y - x @ inverse @ x.T @ y
    weeks = DAYS.to_period("W").asi8
    sums = np.array([(x[weeks == week] * left[weeks == week, None]).sum(axis=0) for week in np.unique(weeks)])
    g = len(sums)
    covariance = inverse @ sums.T @ sums @ inverse * g / (g - 1) * (N - 1) / (N - 3)
    rows = fit.coefficients
    assert np.allclose(rows["std_error"], np.sqrt(np.diag(covariance)), rtol=1e-10)
    assert fit.estimate.dof == g - 1
    with pytest.raises(of.InputError, match="Give both"):
        of.Model("sold", covariance="clustered")
    with pytest.raises(of.InputError, match="one year"):
        of.Model("sold", covariance="clustered", clusters="year").fit(data)


def test_each_side_has_its_figure_led_by_what_was_found():
    data = frame(9)
    fit = of.Model("sold", terms=[of.Driver("ads", curve="smooth"), of.Driver("rain")]).fit(data)
    screening = of.screen(data, of.Model("sold"), of.candidates(["ads", "rain", "wind"]))
    for result in (
        of.response(fit, "ads"),
        of.lag_profile(fit, "rain"),
        of.parameter_stability(fit),
        screening,
        *(of.residuals(fit, side) for side in SIDES),
    ):
        picture = of.figure(result)
        assert picture.texts[0].get_text()
        assert picture.axes[0].has_data()
        assert result._repr_html_()
        assert str(result)


def test_the_study_writes_them_and_full_statistics_are_one_option_further(demo_folder, tmp_path, run_cli):
    ran = run_cli("fit", demo_folder / "study.toml", "--out", tmp_path / "out")
    assert ran.status == 0
    made = {path.name for path in (tmp_path / "out").iterdir()}
    assert {f"residuals-{side}.png" for side in SIDES} | {"stability.png"} <= made
    assert "std_error" not in ran.out
    full = run_cli("fit", demo_folder / "study.toml", "--full").out
    for words in ("std_error", "partial R²", "share", "<0.001"):
        assert words in full
    body = (demo_folder / "study.toml").read_text()
    for name in ("tickets.csv", "plan.csv", "island_days.csv"):
        (tmp_path / name).write_bytes((demo_folder / name).read_bytes())
    study = body.replace('errors = "ar"', 'errors = "independent"').replace("harmonics = 3", "harmonics = 2")
    study = study.replace('above = "estimated"', "above = 8").replace('carry_over = "estimated"', "carry_over = 0.5")
    study = study.replace('table = "island_days.csv"', 'table = "island_days.csv"\npooling = "none"')
    study += '\n[driver_selection]\ncolumns = ["tickets.fare", "tickets.storm hours"]\nlags = [1, 2, 3]\nmost = 3\n'
    (tmp_path / "study.toml").write_text(study)
    ran = run_cli("search", tmp_path / "study.toml", "--drivers", "--out", tmp_path / "chosen")
    assert (ran.status, ran.err) == (0, "")
    table = pd.read_csv(tmp_path / "chosen" / "screening.csv")
    assert table.columns.tolist() == ["series", "model", "scenario", "size", "error", "one_se", "drivers", "proposed"]
    assert table["size"].tolist() == [0, 1, 2, 3]
    assert table["proposed"].sum() == 1
    assert (tmp_path / "chosen" / "screening.png").exists()
    assert len(pd.read_csv(tmp_path / "chosen" / "stability.csv")) == 6
    (tmp_path / "study.toml").write_text(body)
    assert "does not say what to choose from" in run_cli("search", tmp_path / "study.toml", "--drivers").err
