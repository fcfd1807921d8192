"""How likely: joint paths against what is known in closed form, and what they say of thresholds."""

import numpy as np
import pandas as pd
import pytest
from scipy.stats import t as student

import offing as of
from offing.demo import forecast_only
from test_models import weekly


def months(n=96, seed=3):
    noise = np.random.default_rng(seed).normal(0.0, 2.0, n)
    return pd.Series(100.0 + noise, pd.period_range("2016-01", periods=n, freq="M"), name="sold")


def related(n=160, seed=4):
    generator = np.random.default_rng(seed)
    noise = np.zeros(n)
    for t in range(1, n):
        noise[t] = 0.7 * noise[t - 1] + generator.normal()
    return pd.Series(50.0 + noise, pd.date_range("2021-01-04", periods=n, freq="7D"), name="sold")


def test_totals_agree_with_their_closed_form():
    """Years of a level forecast with related noise: quantiles of the sums are those of Student's t within 2 %."""
    ahead = of.Model("sold", [of.Trend()], errors="ar").fit(related()).forecast(52)
    found = of.paths(ahead, count=20_000)
    exact = of.totals(ahead, "year")
    at = [i for i, status in enumerate(exact.status) if exact.ahead[i] and not exact.known[i]]
    table = found.totals("year")
    widths = (exact.high - exact.low)[at]
    assert np.allclose((table["q0.975"] - table["q0.025"]).to_numpy()[-len(at) :], widths, rtol=0.03)
    assert np.allclose(found.table["mean"], ahead.mean, rtol=1e-12), "mirror images leave the mean where it is"
    whole = found.totals().iloc[0]
    assert whole["mean"] == pytest.approx(ahead.mean.sum())
    assert np.allclose(found.table["q0.9"], ahead.quantiles([0.9])["q0.9"], rtol=0.01)


def test_chances_of_single_periods_are_those_of_students_t():
    ahead = of.Model("sold").fit(months()).forecast(4)
    spread = np.sqrt(ahead.path.variances + np.square(ahead.spread))
    exact = student.sf((103.0 - ahead.mean) / spread, ahead.fit.estimate.dof)
    found = of.paths(ahead, count=20_000).reaching(103.0)
    assert np.allclose(found.by_period, exact, atol=0.012)
    below = of.paths(ahead, count=20_000).reaching(103.0, side="below")
    assert np.allclose(found.by_period + below.by_period, 1.0)


def test_any_first_and_total_go_together():
    ahead = of.Model("sold", [of.OwnLags([1])]).fit(related()).forecast(12)
    joint = of.paths(ahead)
    found = joint.reaching(51.5)
    assert found.by_period.max() <= found.in_any <= found.by_period.sum() + 1e-12
    assert found.first.sum() == pytest.approx(found.in_any)
    assert found.in_any < 1.0 - np.prod(1.0 - found.by_period), "related periods pass together"
    beyond = np.maximum(joint.values - 51.5, 0.0)
    assert found.shortfall == pytest.approx(beyond.sum(axis=1).mean())
    assert found.shortfall_if == pytest.approx(found.shortfall / found.in_any)
    total = joint.reaching(610.0, side="below", total=True)
    sums = joint.values.sum(axis=1)
    assert total.in_any == pytest.approx((sums < 610.0).mean())
    assert total.by_period.index.tolist() == [ahead.axis.spell()]
    assert "falls below 610.0 with" in total.sentence or "falls below 610 with" in total.sentence


def test_paths_are_seeded():
    data = weekly(156)
    ahead = (
        of.Model("sold", [of.Trend(), of.Driver("fare", lags=[52]), of.Season()], scale="log").fit(data).forecast(52)
    )
    assert np.array_equal(of.paths(ahead).values, of.paths(ahead).values)
    assert not np.array_equal(of.paths(ahead).values, of.paths(ahead, seed=1).values)
    assert of.paths(ahead, count=1001).values.shape == (1250, 52)


def test_resampled_noise_keeps_tails_and_variance():
    """With noise of heavy tails, resampled paths pass a far threshold more often than normal ones; spreads agree."""
    generator = np.random.default_rng(8)
    heavy = generator.standard_t(3, 400)
    sold = pd.Series(100.0 + heavy, pd.date_range("2023-01-01", periods=400, freq="D"), name="sold")
    ahead = of.Model("sold").fit(sold).forecast(30)
    normal, own = of.paths(ahead), of.paths(ahead, noise="resampled")
    assert own.values.std() == pytest.approx(normal.values.std(), rel=0.06)
    far = 100.0 + 4.5 * heavy.std()
    assert (own.values > far).mean() > 3.0 * (normal.values > far).mean()


def test_limits_and_logs_hold_on_every_path():
    sold = months().clip(lower=97.0)
    ahead = of.Model("sold", lower_limit=97.0).fit(sold).forecast(6)
    assert of.paths(ahead).values.min() == 97.0
    logged = of.Model("sold", [of.Trend()], scale="log").fit(months()).forecast(6)
    found = of.paths(logged, count=20_000)
    assert (found.values > 0.0).all()
    assert np.allclose(found.table["mean"], logged.mean, rtol=0.002)


@pytest.mark.parametrize(
    ("call", "message"),
    [
        (lambda ahead: of.paths(ahead, count=10), "found 10. Give a whole number from 500 to a million."),
        (lambda ahead: of.paths(ahead, noise="blocks"), "found 'blocks'"),
        (lambda ahead: of.paths(ahead).reaching(float("nan")), "found nan. Give a number."),
        (lambda ahead: of.paths(ahead).reaching(101.0, side="over"), "found 'over'"),
        (lambda ahead: of.paths(ahead).totals("month"), "a series by month has no sums by month"),
    ],
)
def test_what_is_asked_wrongly_is_reported(call, message):
    ahead = of.Model("sold").fit(months()).forecast(4)
    with pytest.raises(of.InputError) as error:
        call(ahead)
    assert message in str(error.value)


def test_thresholds_beyond_all_paths_have_a_chance_below_what_they_show():
    found = of.paths(of.Model("sold").fit(months()).forecast(4))
    assert found.reaching(1e6).in_any == 0.0
    assert "in some month with less than 0.1 % chance: none of 5,000 paths does." in found.reaching(1e6).sentence
    assert "with less than 0.1 % chance; none of 5,000 paths does." in found.reaching(1e6, total=True).sentence
    assert "with more than 99.9 % chance" in found.reaching(1.0, total=True).sentence
    assert of.figure(found.reaching(1e6)).axes


def test_equations_by_horizon_have_no_joint_paths():
    direct = of.Model("sold", [of.OwnLags([1])]).fit(related()).forecast(3, method="direct")
    with pytest.raises(of.InputError, match="equations by horizon do not say how the periods vary together"):
        of.paths(direct)


def test_chances_are_drawn_and_reported():
    ahead = of.Model("sold").fit(months()).forecast(4)
    joint = of.paths(ahead)
    found = joint.reaching(103.0)
    axes = of.figure(found).axes[0]
    assert np.allclose(axes.get_lines()[0].get_ydata(), 100.0 * found.by_period)
    assert np.allclose(axes.get_lines()[1].get_ydata(), 100.0 * found.first.cumsum())
    total = joint.reaching(404.0, total=True)
    bars = of.figure(total).axes[0].patches
    assert sum(bar.get_height() for bar in bars) == pytest.approx(100.0)
    shown = sum(bar.get_height() for bar in bars if bar.get_x() + bar.get_width() / 2.0 > 404.0)
    assert shown == pytest.approx(100.0 * total.in_any, abs=3.0)
    assert str(joint).startswith("sold, total of 4 months from 2024-01 to 2024-04: ")
    assert "with 95 % chance between" in " ".join(str(joint).split())
    assert "sold exceeds 103" in " ".join(str(found).split())
    assert "<table" in joint._repr_html_()


def test_a_study_asks_how_likely(demo_folder, tmp_path, run_cli):
    import shutil

    shutil.copytree(demo_folder, tmp_path / "islands")
    study = tmp_path / "islands" / "study.toml"
    text = (
        forecast_only(study.read_text())
        + """
[[chances]]                           # of the boats' capacity in some week, and of the budget
threshold = 24000

[[chances]]
threshold = 225000
side = "below"
total = true
"""
    )
    study.write_text(text)
    ran = run_cli("forecast", study, "--out", tmp_path / "out")
    assert ran.status == 0, ran.err
    words = " ".join(ran.out.split())
    assert "ferry tickets exceeds 24,000 tickets in some week with" in words
    assert "falls below 225,000 tickets with" in words
    rows = pd.read_csv(tmp_path / "out" / "chances.csv")
    assert rows.columns.tolist() == [
        "series",
        "model",
        "scenario",
        "threshold",
        "side",
        "of",
        "period",
        "chance",
        "first",
    ]
    assert rows["of"].tolist() == ["period"] * 13 + ["total"]
    assert rows["chance"].between(0.0, 1.0).all()
    study.write_text(text.replace("24000", "9e9"))
    ran = run_cli("forecast", study)
    assert ran.status == 0, "next month's forecast does not fail for a threshold that lies far off by then"
    assert "with less than 0.1 % chance" in ran.out


def test_totals_of_a_span_and_of_several_series():
    """The total of a span and of two series is that of the analytic normal case, within simulation error."""
    months = pd.period_range("2018-01", periods=72, freq="M")
    both = {}
    for name, seed in (("north", 1), ("south", 2)):
        noise = np.random.default_rng(seed).normal(0.0, 3.0, 72)
        both[name] = of.Model("sold").fit(pd.Series(100.0 + noise, months, name="sold")).forecast(12)
    joint = of.paths(both, count=20_000)
    exact = [of.totals(each, "quarter") for each in both.values()]
    half = np.hypot(*[each.high[-4] - each.total[-4] for each in exact])
    part = joint.within("2024-Q1")
    row = part.totals().iloc[0]
    assert part.mean.sum() == pytest.approx(sum(each.total[-4] for each in exact))
    assert row["q0.975"] - row["q0.025"] == pytest.approx(2.0 * half, rel=0.03)
    assert "sold, 2 series together, total of 3 months from 2024-01 to 2024-03" in part.sentence
    assert part.reaching(float(row["q0.9"]), total=True).in_any == pytest.approx(0.1, abs=0.001)
    alone = of.paths(both["north"]).within(("2024-02-01", "2024-03-31"))
    assert alone.values.shape == (5000, 2)
    assert alone.table.index.month.tolist() == [2, 3]
    with pytest.raises(of.InputError, match="lies in 2031"):
        joint.within("2031")
    with pytest.raises(of.InputError, match="has other periods"):
        of.paths({"a": both["north"], "b": both["south"].fit.forecast(3)})
