"""Comparisons, what a change is worth, combinations, calibration."""

from dataclasses import replace

import numpy as np
import pandas as pd
import pytest
from scipy.optimize import minimize
from scipy.stats import binom, binomtest, norm
from scipy.stats import t as student

import offing as of
from offing.engine import (
    best_set,
    binomial_limits,
    binomial_p,
    equal_accuracy,
    least_squares_weights,
    mixed_quantiles,
    nested_accuracy,
)
from offing.evaluation.calibration import STEP
from offing.evaluation.combined_runs import learnt_weights
from offing.evaluation.fold_results import PROBABILITIES
from offing.evaluation.recalibration import margins, needed, scaled_errors
from offing.model.rows import SHOWN
from test_backtests import SEASONAL, monthly
from test_models import weekly


def recalibrated(run, method="conformal"):
    """The run with those quantiles that are shown, as errors known at each origin put them; NaN where too few are."""
    quantiles = run.quantiles
    if quantiles is None:
        return run
    found = np.full(quantiles.shape, np.nan)
    places = np.array([int(np.argmin(np.abs(PROBABILITIES - p))) for p in SHOWN])
    errors = scaled_errors(run)
    low, median, high = np.moveaxis(run.at(0.1, 0.5, 0.9), -1, 0)
    for fold in range(1, len(quantiles)):
        known = np.where(run.cuts.known_by(fold), errors, np.nan)[:fold]
        if np.isfinite(known).any():
            given = margins(known, np.array(SHOWN), method, STEP)
            found[fold][:, places] = given.placed(median[fold], (high[fold] - low[fold]) / 2.0)
    return replace(run, name=f"{run.name}, {method}", kind="combination", made=lambda: found)


def losses(n=40, seed=2):
    generator = np.random.default_rng(seed)
    return generator.normal(size=n) ** 2, generator.normal(size=n) ** 2 + 0.3


@pytest.mark.parametrize("overlap", [0, 1, 3])
def test_equal_accuracy_by_the_formulas(overlap):
    """Diebold & Mariano (1995), equations 5 and 6, with the factor of Harvey et al. (1997), equation 9."""
    first, second = losses()
    d, n, h = first - second, 40, overlap + 1
    centred = d - d.mean()
    gammas = [(centred[k:] * centred[: n - k]).sum() / n for k in range(h)]
    plain = d.mean() / np.sqrt((gammas[0] + 2.0 * sum(gammas[1:])) / n)
    corrected = plain * np.sqrt((n + 1 - 2 * h + h * (h - 1) / n) / n)
    found = equal_accuracy(first, second, overlap)
    assert found.statistic == pytest.approx(corrected)
    assert found.p == pytest.approx(2.0 * student.sf(abs(corrected), n - 1))


def test_nested_accuracy_by_the_formula():
    """Clark & West (2007), equation 3.1, which is a regression on a constant."""
    small, large = losses()
    apart = np.random.default_rng(3).random(40) * 0.2
    f = small - (large - apart)
    found = nested_accuracy(small, large, apart)
    statistic = f.mean() / (f.std(ddof=1) / np.sqrt(40))
    assert found.statistic == pytest.approx(statistic)
    assert found.p == pytest.approx(student.sf(statistic, 39))
    assert found.dof == 39


def test_six_origins_are_no_proof():
    """A ratio of mean to spread that a normal tail takes for certain: Student's t with 5 degrees of freedom does not."""
    f = np.array([1.0, 1.2, 0.9, 1.6, 0.3, 1.1])
    found = nested_accuracy(f, np.zeros(6), np.zeros(6))
    assert found.p == pytest.approx(student.sf(f.mean() / (f.std(ddof=1) / np.sqrt(6)), 5))
    assert found.p > 1e4 * norm.sf(found.statistic) or found.p > 5e-4


def test_exact_shares_agree_with_their_distributions():
    """Clopper & Pearson's limits invert the binomial tails; the exact test sums what is no likelier."""
    for held, n, share in ((3, 10, 0.5), (0, 7, 0.2), (19, 20, 0.8), (20, 20, 0.95)):
        low, high = binomial_limits(held, n)
        assert held == 0 or binom.sf(held - 1, n, low) == pytest.approx(0.025, rel=1e-9)
        assert held == n or binom.cdf(held, n, high) == pytest.approx(0.025, rel=1e-9)
        assert binomial_p(held, n, share) == pytest.approx(binomtest(held, n, share).pvalue, rel=1e-9)


def test_a_model_equal_to_a_reference_does_not_beat_it():
    months = pd.period_range("2015-01", periods=72, freq="M")
    sold = pd.Series(100.0 + np.arange(72.0) + np.random.default_rng(1).normal(size=72), months, name="sold")
    model = of.Model("sold", [of.Trend(), of.Season("year", harmonics=3)])
    found = of.backtest([model, of.Model("sold", name="worse")], sold, horizon=6, origins=6)
    assert found.compared.skill == 0.0
    assert "'main' forecasts the same as the plain reference 'trend and season'" in found.sentences
    assert "beats" not in found.sentences


def test_all_lines_of_a_back_test_are_about_one_model():
    months = pd.period_range("2015-01", periods=72, freq="M")
    sold = pd.Series(100.0 + np.arange(72.0) + np.random.default_rng(1).normal(size=72), months, name="sold")
    found = of.backtest(
        [of.Model("sold", name="bad"), of.Model("sold", [of.Trend()], name="good")], sold, horizon=6, origins=6
    )
    assert found.lead == "good"
    assert "bad" not in str(found)
    assert found.sentences.count("'good'") >= 3


def test_references_repeat_whole_cycles_and_what_is_stated():
    days = pd.date_range("2024-01-01", periods=200, freq="D")
    sold = pd.Series(np.random.default_rng(1).normal(50.0, 5.0, 200), days, name="sold")
    found = of.backtest(of.Model("sold"), sold, horizon=10, origins=3, repeats={"three weeks before": 21})
    runs = {run.name: run for run in found.references}
    ends = found.cuts().ends
    for fold, end in enumerate(ends.tolist()):
        assert runs["newest periods"].mean[fold].tolist() == sold.iloc[end - 14 : end - 4].tolist()
        assert runs["three weeks before"].mean[fold].tolist() == sold.iloc[end - 21 : end - 11].tolist()
    week = of.backtest(of.Model("sold"), sold, horizon=7, origins=2)
    assert "newest periods" not in {run.name for run in week.references}, "the week before says the same"
    with pytest.raises(of.InputError, match="whole number of periods"):
        of.backtest(of.Model("sold"), sold, horizon=7, origins=2, repeats={"odd": 0})


def test_equal_forecasts_are_seldom_reported_apart():
    """Over 600 worlds of equal accuracy the test at 10 % rejects in 10 %, the set of the best keeps the best in 90 %."""
    rejected, kept = 0, 0
    for seed in range(600):
        generator = np.random.default_rng(seed)
        first, second = generator.normal(size=(2, 24)) ** 2
        rejected += equal_accuracy(first, second).p < 0.1
    for seed in range(150):
        table = np.random.default_rng(seed).normal(size=(30, 4)) ** 2
        kept += (best_set(table, draws=400, seed=seed) >= 0.1)[seed % 4]
    assert 40 < rejected < 80
    assert kept > 0.86 * 150


def test_the_set_of_the_best_knows_order_and_scale():
    generator = np.random.default_rng(5)
    table = generator.normal(size=(60, 4)) ** 2 + np.array([0.0, 0.1, 1.5, 3.0])
    p = best_set(table)
    assert p[0] >= 0.1
    assert (p[2:] < 0.1).all()
    order = np.array([2, 0, 3, 1])
    assert np.allclose(best_set(table[:, order]), p[order]), "whatever the order of the candidates"
    assert np.allclose(best_set(7.0 * table), p), "and whatever the unit"


def test_a_comparison_show_a_good_model_from_a_useless_one():
    sold = monthly()
    line = of.Model("sold", [of.Trend()], name="line")
    found = of.backtest([line, SEASONAL], sold, horizon=3, origins=14).compare()
    assert found.best == "seasonal"
    table = found.table.set_index("model")
    assert table.loc["seasonal", "among_best"]
    assert not table.loc["line", "among_best"]
    runs = {run.name: run for run in found.backtest.own}
    assert table.loc["line", "RMSE"] == pytest.approx(np.sqrt((runs["line"].error ** 2).mean()))
    assert table.loc["line", "rank"] == pytest.approx(found.by_origin.rank(axis=1)["line"].mean())
    assert found.skill == pytest.approx(1.0 - found.overall["seasonal"] / found.overall[found.best_reference])
    assert found.verdict.startswith("'seasonal' beats the best plain reference, 'trend and season', by")
    tests = found.tests[found.tests["against"] == "seasonal"].set_index("model")
    assert tests.loc["line", "test"] == "nested"
    assert tests.loc["line", "p"] < 0.01
    assert tests.loc["mean", "test"] == "equal"
    noise = pd.Series(np.random.default_rng(1).normal(100.0, 5.0, 96), sold.index, name="sold")
    poor = of.backtest(of.Model("sold", [of.Trend(form="polynomial", degree=4)], name="wild"), noise, horizon=6)
    assert poor.compare().verdict.startswith("'wild' does not beat the plain reference")
    with pytest.raises(of.InputError, match="found 'bias', which is best at a value"):
        poor.compare(score="bias")
    with pytest.raises(of.InputError, match="there is nothing ex-post"):
        poor.compare(basis="ex-post")


def test_what_each_term_is_worth():
    data = weekly(150)
    data["noise"] = np.random.default_rng(9).normal(size=150)
    terms = [of.Driver("fare", transform=["log"]), of.Driver("flag"), of.Driver("noise")]
    both = of.Interaction(["flag", "noise"])
    model = of.Model("sold", [*terms, both], scale="log")
    models = of.without_each(model)
    assert [each.name for each in models[1:]] == [
        "without fare",
        "without flag",
        "without noise",
        f"without {both.name}",
    ]
    assert [str(term.name) for term in models[2].terms] == ["fare", "noise"], "an interaction leaves with its terms"
    plain = of.Model("sold", terms, scale="log")
    found = of.term_gain(of.backtest(of.without_each(plain), data, horizon=4, origins=16).compare(basis="ex-post"))
    assert found.table["term"].iloc[0] == "flag"
    rows = found.table.set_index("term")
    assert rows.loc["flag", "p"] < 0.001
    assert rows.loc["noise", "p"] > 0.01
    assert abs(rows.loc["noise", "change"]) < 0.05
    assert "Without 'flag' RMSE would be +" in str(found)
    both_ways = of.backtest([plain, models[2]], data, horizon=4, origins=16).compare(basis="ex-post")
    change = of.change(both_ways, "without flag", "main")
    assert change.share < -0.2
    assert change.by_horizon.shape == (4, 3)


def test_weights_are_the_best_within_their_bounds():
    generator = np.random.default_rng(6)
    errors = generator.normal(size=(60, 3)) @ np.array([[1.0, 0.6, 0.3], [0.0, 1.0, 0.4], [0.0, 0.0, 2.0]])
    errors[:, 2] += errors[:, 0]
    found = least_squares_weights(errors)
    start = np.full(3, 1.0 / 3.0)
    other = minimize(
        lambda w: np.square(errors @ w).sum(),
        start,
        bounds=[(0.0, 1.0)] * 3,
        tol=1e-14,
        constraints={"type": "eq", "fun": lambda w: w.sum() - 1.0},
    )
    assert found.sum() == pytest.approx(1.0)
    assert (found >= 0.0).all()
    assert np.square(errors @ found).sum() <= np.square(errors @ other.x).sum() * (1.0 + 1e-9)
    assert np.allclose(found, least_squares_weights(1e6 * errors))


def test_mixtures_of_normal_variables():
    """Quantiles of a mixture against those found from its distribution function."""
    q = np.stack([norm.ppf(PROBABILITIES, 0.0, 1.0), norm.ppf(PROBABILITIES, 3.0, 0.5)])[:, None]
    found = mixed_quantiles(q, np.array([[0.25, 0.75]]), PROBABILITIES)[0]
    reached = 0.25 * norm.cdf(found, 0.0, 1.0) + 0.75 * norm.cdf(found, 3.0, 0.5)
    assert np.abs(reached - PROBABILITIES).max() < 0.004
    same = mixed_quantiles(np.concatenate([q[:1], q[:1]]), np.array([[0.3, 0.7]]), PROBABILITIES)
    assert np.allclose(same[0], q[0, 0])


def test_combinations_are_learnt_again_at_each_origin():
    """Weights of an origin come from errors that were known there, by hand; whole quantiles and contributions follow."""
    sold = monthly()
    line = of.Model("sold", [of.Trend()], name="line")
    found = of.backtest([line, SEASONAL], sold, horizon=3, origins=9, every=2)
    ways = ("mean", "median", "trimmed mean", "past errors", "least squares")
    for method in ways:
        found = found.combined(method=method, members=["line", "seasonal", "drift"], name=f"by {method}")
    runs = {run.name: run for run in found.runs}
    parts = [runs["line"], runs["seasonal"], runs["drift"]]
    means = np.stack([part.mean for part in parts], axis=-1)
    assert np.allclose(runs["by mean"].mean, means.mean(axis=-1))
    assert np.allclose(runs["by median"].mean, np.median(means, axis=-1))
    assert np.allclose(runs["by trimmed mean"].mean, np.median(means, axis=-1)), "of three one goes at either end"
    weights = learnt_weights(parts, "past errors")
    errors = np.stack([part.error for part in parts], axis=-1)
    ends, rows = found.cuts().ends, found.cuts().rows
    for fold in range(9):
        known = errors[rows < ends[fold]]
        origins_known = {k for k in range(9) if rows[k][0] < ends[fold]}
        by_hand = 1.0 / (known**2).mean(axis=0) if len(origins_known) >= 4 else np.ones(3)
        assert np.allclose(weights[fold], by_hand / by_hand.sum())
    quantiles = sum(weights[..., i : i + 1] * part.quantiles for i, part in enumerate(parts))
    assert np.allclose(runs["by past errors"].quantiles, quantiles)
    shown = found.member_weights("by past errors").table
    assert shown.iloc[-1].idxmax() == "seasonal"
    wide = found.combined(method="mean", members=["line", "seasonal"], pooling="probabilities", name="pool")
    pool = next(run for run in wide.own if run.name == "pool")
    vincent = (parts[0].quantiles + parts[1].quantiles) / 2.0
    gap = (pool.at(0.975) - pool.at(0.025)).mean() / (vincent[..., -2] - vincent[..., 2]).mean()
    assert gap > 1.0, "a mixture is wider where members disagree"
    with pytest.raises(of.InputError, match="found 1 members"):
        found.combined(members=["line"])
    with pytest.raises(of.InputError, match="found 'best'"):
        found.combined(method="best")


@pytest.mark.parametrize("method", ["mean", "median", "trimmed mean", "past errors", "least squares"])
def test_contributions_of_a_combination_add_up(method):
    data = weekly(100)
    models = [
        of.Model("sold", [of.Trend(), of.Driver("fare", lags=[4])], name="fare", scale="log"),
        of.Model("sold", [of.Trend(), of.Driver("flag", lags=[4])], name="flag"),
        of.Model("sold", [of.Season("year", harmonics=1)], name="season"),
    ]
    found = of.combine(models, data, horizon=4, method=method, origins=6)
    assert np.allclose(found.pointwise.sum(axis=1), 1.0)
    assert np.allclose(found.contributions.values.sum(axis=0), found.mean, rtol=1e-12)
    assert found.contributions.rows == ("baseline", "trend", "fare", "flag", "season")
    assert (np.diff(found.quantiles.to_numpy(), axis=1) > 0.0).all()


def test_conformal_margins_by_hand():
    """Ranks of past errors, on the safe side of each probability; too few errors give none."""
    errors = 2.0 * np.random.default_rng(4).normal(size=(30, 2))
    found = margins(errors, np.array([0.1, 0.5, 0.9]))
    assert not found.pooled
    for h in range(2):
        own = np.sort(errors[:, h])
        assert found.values[h].tolist() == [own[3 - 1], own[16 - 1], own[28 - 1]]
    pooled = margins(errors[:7], np.array([0.1, 0.5, 0.9]))
    assert pooled.pooled
    assert (pooled.values[0] == pooled.values[1]).all()
    assert needed(0.975) == 39
    assert needed(0.1) == 9
    few = margins(errors[:3], np.array([0.025, 0.5, 0.975]))
    assert np.isnan(few.values[:, [0, 2]]).all()
    exact = np.mean(
        [
            norm.cdf(margins(np.random.default_rng(seed).normal(size=(39, 1)), np.array([0.975])).values[0, 0])
            for seed in range(400)
        ]
    )
    assert exact == pytest.approx(0.975, abs=0.004), "in the mean the level is held exactly"


def test_conformal_intervals_cover_where_plain_ones_do_not():
    """Intervals that are far too narrow are widened to their level; the adaptive form follows a drifting size."""
    generator = np.random.default_rng(10)
    n = 400
    noise = generator.standard_t(2, n) * np.where(np.arange(n) > 200, 3.0, 1.0)
    sold = pd.Series(100.0 + noise, pd.date_range("2023-01-01", periods=n, freq="D"), name="sold")
    found = of.backtest(of.Model("sold", half_life=1000.0), sold, horizon=1, origins=300, every=1)
    run = found.own[0]
    outcome = run.cuts.outcome[150:]

    def held(each):
        low, high = np.moveaxis(each.at(0.1, 0.9)[150:], -1, 0)
        return float(((low <= outcome) & (outcome <= high)).mean())

    conformal, adaptive = held(recalibrated(run)), held(recalibrated(run, "adaptive"))
    assert 0.74 < adaptive < 0.86
    assert abs(adaptive - 0.8) < abs(held(run) - 0.8) or abs(held(run) - 0.8) < 0.03
    assert conformal != held(run)


def test_calibration_finds_what_is_too_narrow():
    """Stated and reached shares with their exact bounds; the finding comes with intervals that are wrong, not before."""
    generator = np.random.default_rng(12)
    n = 420
    walk = pd.Series(100.0 + np.cumsum(generator.normal(size=n)), pd.date_range("2024-01-01", periods=n), name="sold")
    line = of.backtest(of.Model("sold", [of.Trend()], name="line"), walk, horizon=5, origins=40)
    found = line.calibration()
    assert [each.check for each in found.findings][:1] == ["calibration"]
    assert "they are too narrow" in found.sentence
    row = found.table.query("level == 0.8 and horizon == '1'").iloc[0]
    inside = round(row["n"] * row["reached"] / 100.0)
    from scipy.stats import binomtest

    exact = binomtest(inside, int(row["n"]), 0.8).proportion_ci(0.95, "exact")
    assert (row["low"], row["high"]) == pytest.approx((100.0 * exact.low, 100.0 * exact.high))
    fair = of.backtest(of.Model("sold", [of.OwnLags([1])], name="walk"), walk, horizon=5, origins=40)
    assert not fair.calibration().findings
    _, counts = found.histogram
    assert counts.sum() == 200
    assert counts[[0, -1]].sum() > 80, "outcomes lie at the ends"
    wider = of.recalibrate(of.Model("sold", [of.Trend()], name="line").fit(walk).forecast(5, levels=[0.8]), line)
    plain = wider.plain.table
    assert (wider.table["q0.9"] > plain["q0.9"]).all(), "outcomes were mostly above"
    assert (wider.table["q0.5"] > plain["q0.5"]).all()
    assert "moved, widened or narrowed by 40 past errors of each horizon" in wider.sentence
    assert np.allclose(wider.mean, wider.plain.mean)
    with pytest.raises(of.InputError, match=r"past errors are too few for the quantile 0\.0005, which needs 1999"):
        of.recalibrate(wider.plain.fit.forecast(5, levels=[0.999]), line)


def test_false_alarms_of_calibration_are_rare():
    """Over 120 worlds in which intervals are right, the finding comes in at most one in twenty."""
    alarms = 0
    for seed in range(120):
        noise = np.random.default_rng(seed).normal(size=80)
        sold = pd.Series(100.0 + noise, pd.date_range("2024-01-01", periods=80), name="sold")
        alarms += bool(of.backtest(of.Model("sold"), sold, horizon=3, origins=12).calibration().findings)
    assert alarms <= 6
