"""Choosing among many drivers: the best of every size, judged by forecasts that the choice has not seen."""

from itertools import combinations

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.engine import triangle
from offing.engine.subset_selection import forward, least_angle, subsets


def world(seed=0, n=200, m=12, beta=None, noise=1.0):
    generator = np.random.default_rng(seed)
    x = generator.normal(size=(n, m)) + 0.5 * generator.normal(size=(n, 1))
    beta = {2: 0.8, 7: -0.6, 9: 0.4} if beta is None else beta
    y = 5.0 + sum(b * x[:, j] for j, b in beta.items()) + noise * generator.normal(size=n)
    names = [f"x{j}" for j in range(m)]
    return pd.DataFrame(x, pd.date_range("2020-01-06", periods=n, freq="7D"), names).assign(sold=y), names


def rss(x, y, columns):
    left = y - x[:, list(columns)] @ np.linalg.lstsq(x[:, list(columns)], y, rcond=None)[0] if len(columns) else y
    return float(left @ left)


@pytest.mark.parametrize("seed", range(2))
def test_every_way_finds_what_it_promises(seed):
    generator = np.random.default_rng(seed)
    x = generator.normal(size=(60, 8)) @ (np.eye(8) + 0.4 * generator.normal(size=(8, 8)))
    y = x[:, [1, 4, 6]] @ [1.0, -0.7, 0.5] + generator.normal(size=60)
    corner = triangle(np.column_stack([x, y]))
    greedy = ()
    for kept in forward(corner, [[j] for j in range(8)], 5)[1:]:
        greedy = (*greedy, min(set(range(8)) - set(greedy), key=lambda j: rss(x, y, (*greedy, j))))
        assert kept == greedy
    for size, kept in enumerate(subsets(corner, 5)):
        assert kept == min(combinations(range(8), size), key=lambda each: rss(x, y, each))
    # The active sets of the L1 path, by coordinate descent on a fine grid of penalties.
    lengths = np.linalg.norm(x, axis=0)
    for mix in (1.0, 0.6):
        scaled, beta, seen = x / lengths, np.zeros(8), {0: ()}
        top = np.abs(scaled.T @ y).max()
        for level in top * np.geomspace(1.0, 1e-3, 500):
            for _ in range(200):
                before = beta.copy()
                for j in range(8):
                    pull = scaled[:, j] @ (y - scaled @ beta) + beta[j]
                    beta[j] = np.sign(pull) * max(abs(pull) - level, 0.0) / (1.0 + (1.0 - mix) / mix)
                if np.abs(beta - before).max() < 1e-12:
                    break
            active = tuple(np.flatnonzero(beta))
            seen.setdefault(len(active), active)
        noted = [kept for kept in least_angle(corner, 5, mix) if len(kept) in seen]
        assert len(noted) >= 4
        assert all(tuple(sorted(kept)) == seen[len(kept)] for kept in noted)


def test_grouped_columns_enter_together():
    generator = np.random.default_rng(3)
    x = generator.normal(size=(80, 6))
    y = x[:, 0] * 0.5 + x[:, 1] * 0.5 + x[:, 5] * 0.6 + 0.5 * generator.normal(size=80)
    corner = triangle(np.column_stack([x, y]))
    steps = [[0, 1], [2, 3], [4], [5]]
    first = min(range(4), key=lambda i: rss(x, y, steps[i]))
    path = forward(corner, steps, 3)
    assert path[1] == (first,)
    assert set(path[2]) == {0, 3}


def test_pure_noise_gains_nothing_where_scoring_on_the_same_rows_would():
    """40 candidates that say nothing: hardly ever is one proposed, and the chosen models forecast worse than none."""
    proposed, worse, fooled = [], [], []
    for seed in range(25):
        data, names = world(seed, 150, 40, beta={})
        found = of.screen(data, of.Model("sold"), of.candidates(names))
        proposed.append(found.size)
        worse.append(found.error[10] / found.error[0])
        x, y = data[names].to_numpy(), data["sold"].to_numpy()
        kept = [names.index(each.data) for each in found.drivers(10)]
        fooled.append(rss(np.column_stack([np.ones(150), x[:, kept]]), y, range(11)) / rss(np.ones((150, 1)), y, [0]))
    assert np.mean(np.array(proposed) == 0) >= 0.85
    assert np.mean(worse) > 1.05
    assert np.mean(fooled) < 0.85, "the trap is there: on the same rows ten of them look useful"


def test_the_truth_is_found_with_its_equation_and_no_p_is_reported():
    hits = 0
    for seed in range(12):
        data, names = world(seed, 240, 30)
        found = of.screen(data, of.Model("sold"), of.candidates(names, lags=[0, 1]))
        hits += {each.name for each in found.drivers()} == {"x2", "x7", "x9"}
    assert hits >= 8
    fit = found.fit()
    rows = fit.coefficients.set_index("column")
    assert rows.loc["x2", ["t", "p"]].isna().all()
    assert np.isfinite(rows.loc["constant", "p"])
    assert [finding.check for finding in fit.findings if finding.check == "chosen"] == ["chosen"]
    again = of.Model("sold", terms=found.drivers()).fit(data)
    assert np.allclose(again.coefficients["coefficient"], fit.coefficients["coefficient"])
    assert "x2" in fit.equation
    assert "chosen" not in {finding.check for finding in again.findings}
    stable = found.stability.set_index("driver")["share"]
    assert stable[["x2", "x7"]].min() > 0.9
    assert stable.drop(["x2", "x7", "x9"]).max() < 0.5
    assert found.table["drivers"].iloc[0] == ""


def test_the_choice_before_an_origin_does_not_see_what_comes_after():
    data, names = world(1, 240, 20)
    candidates = of.candidates(names, transforms=[["standardised"]])
    model = of.Model("sold", terms=[of.Trend()])
    usual = of.screen(data, model, candidates, most=4)
    hostile = data.copy()
    hostile.iloc[230:, :-1] *= 50.0
    hostile.iloc[230:, -1] += 100.0
    other = of.screen(hostile, model, candidates, most=4)
    assert np.array_equal(usual.errors[:7], other.errors[:7])
    assert not np.allclose(usual.errors[7], other.errors[7])
    assert np.array_equal(usual.errors, of.screen(data, model, candidates, most=4).errors), "same data, same answer"
    # An error by hand: the third origin, two drivers.
    rows = np.array_split(np.arange(160, 240), 8)[2]
    train = np.arange(rows[0])
    x, y = data[names].to_numpy(), data["sold"].to_numpy()
    base = np.column_stack([np.ones(240), np.arange(240)])
    kept = []
    for _ in range(2):
        kept.append(
            min(
                set(range(20)) - set(kept),
                key=lambda j: rss(np.column_stack([base, x[:, [*kept, j]]])[train], y[train], range(3 + len(kept))),
            )
        )
    design = np.column_stack([base, x[:, kept]])
    beta = np.linalg.lstsq(design[train], y[train], rcond=None)[0]
    assert usual.errors[2, 2] == pytest.approx(np.mean((y[rows] - design[rows] @ beta) ** 2), rel=1e-9)


def test_rows_lost_to_long_lags_are_reported_and_the_same_for_all():
    data, names = world(2, 150, 5, {2: 0.8})
    found = of.screen(data, of.Model("sold"), of.candidates(names, lags=[0, 9], together=True), most=3)
    assert found.lost == 9
    assert "9 weeks" in str(found)
    none = of.screen(data, of.Model("sold"), of.candidates(names), most=3)
    assert "rows lost" not in {finding.check for finding in none.findings}
    assert {
        finding.check
        for finding in of.screen(world(3, 150, 5, {})[0], of.Model("sold"), of.candidates(names), most=3).findings
    } == {"no gain"}


@pytest.mark.parametrize(
    ("options", "words"),
    [
        ({"method": "backward"}, "forward"),
        ({"most": 0}, "whole number"),
        ({"most": 90}, "too few to choose"),
        ({"origins": 1}, "from 2 on"),
        ({"method": "subsets"}, "too many"),
        ({"method": "path", "mix": 0.0}, "above 0"),
        ({"candidates": []}, "no drivers"),
        ({"candidates": [of.Driver("x1", curve="smooth")]}, "found again"),
        ({"candidates": [of.Driver("x1", lags=[0, 1])], "method": "path"}, "stay together only"),
        ({"candidates": [of.Driver("x1"), of.Driver("x1")]}, "two drivers"),
        ({"model": of.Model("sold", terms=[of.Trend(knots="found")])}, "State them for the choice"),
    ],
)
def test_what_cannot_be_screened_is_refused(options, words):
    data, names = world(1, 120, 20)
    requested = {"model": of.Model("sold"), "candidates": of.candidates(names), **options}
    with pytest.raises(of.InputError, match=words):
        of.screen(data, requested.pop("model"), requested.pop("candidates"), **requested)


def test_own_lags_are_scored_over_the_whole_horizon():
    """The forecast's own values feed the lags: a recursion by hand, with nothing of the outcomes."""
    generator = np.random.default_rng(4)
    x, y = generator.normal(size=(2, 160))
    for t in range(1, 160):
        y[t] += 0.8 * y[t - 1] + 0.5 * x[t]
    data = pd.DataFrame({"x": x, "sold": 20.0 + y}, pd.date_range("2020-01-06", periods=160, freq="7D"))
    found = of.screen(data, of.Model("sold", [of.OwnLags([1])]), of.candidates(["x"]), most=1, origins=4)
    assert found.size == 1
    sold, part = data["sold"].to_numpy(), np.array_split(np.arange(107, 160), 4)[1]
    train = np.arange(1, part[0])
    beta = np.linalg.lstsq(np.column_stack([np.ones(len(train)), sold[train - 1], x[train]]), sold[train], rcond=None)[
        0
    ]
    path = [sold[part[0] - 1]]
    for t in part:
        path.append(beta @ [1.0, path[-1], x[t]])
    assert found.errors[1, 1] == pytest.approx(np.mean((sold[part] - path[1:]) ** 2), rel=1e-8)


def test_a_back_test_of_selected_drivers_is_reported_and_repeating_the_selection_is_honest():
    """Pure noise: the model selected on the outcomes looks better than none, the one that selects in each fold not."""
    gains, honest = [], []
    for seed in range(8):
        data, names = world(seed, 160, 30, beta={})
        found = of.screen(data, of.Model("sold"), of.candidates(names), most=4)
        models = [of.Model("sold", name="none"), found.model(4), found.selecting_model(4)]
        past = of.backtest(models, data, horizon=10, origins=5, basis="ex-post")
        error = past.scores(score="RMSE")["ex-post"]
        gains.append(error["main with 4 drivers"] / error["none"])
        honest.append(error["main with selected drivers"] / error["none"])
        assert "Scores of 'main with 4 drivers' are too good" in str(past)
        assert "'main with selected drivers' are" not in str(past)
        assert "are too good" in str(past.compare())
    assert np.mean(gains) < 0.99
    assert np.mean(honest) > 1.0


def test_every_size_can_compete_in_one_study(tmp_path, run_cli):
    data, _ = world(1, 200, 6, {2: 0.8})
    data.rename_axis("week").to_csv(tmp_path / "data.csv")
    text = """format = 1
[sources.data]
file = "data.csv"
stamp = "start"
[target]
data = "data.sold"
[[terms]]
type = "trend"
[driver_selection]
columns = ["data.x0", "data.x2", "data.x3"]
lags = [0, 1]
most = 2
[backtest]
horizon = 4
origins = 6
basis = "ex-post"
"""
    study = tmp_path / "study.toml"
    study.write_text(text)
    ran = run_cli("search", study, "--drivers", "--out", tmp_path / "out")
    assert ran.status == 0
    assert 'data = "data.x2"' in ran.out
    lines = (tmp_path / "out" / "selected.toml").read_text()
    study.write_text(text + lines + '[models.selecting]\nterms = ["trend"]\ndriver_selection = true\n')
    compared = run_cli("compare", study)
    assert compared.status == 0, compared.err
    for name in ("main with 0 drivers", "main with 1 driver", "main with 2 drivers", "selecting"):
        assert name in compared.out
    study.write_text(text.replace("[driver_selection]", "[models.a]\nterms = []\ndriver_selection = true\n[other]"))
    assert "other" in run_cli("compare", study).err
