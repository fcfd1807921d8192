"""The search: what it finds, what it honestly says of it, its time, its record; the commands that judge."""

import importlib
import json
import shutil
from concurrent.futures import ThreadPoolExecutor
from types import SimpleNamespace

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.evaluation.scoring import score_of
from test_backtests import monthly, panel
from test_models import weekly

MODEL = of.Model("sold", [of.Trend(), of.Season("year", harmonics=3)])


def noise_world(seed, n=160, columns=12):
    """A target of which no column knows anything."""
    generator = np.random.default_rng(seed)
    days = pd.date_range("2024-01-01", periods=n, freq="D")
    data = pd.DataFrame(generator.normal(size=(n, columns)), days, [f"x{i}" for i in range(columns)])
    return data.assign(sold=10.0 + generator.normal(size=n))


def test_the_best_is_found_and_scored_like_a_back_test():
    sold = monthly(132)
    found = of.search(
        MODEL, sold, {"season.harmonics": [1, 2, 3], "scale": ["level", "log"]}, optional=["trend"], horizon=6
    )
    assert found.space.size == len(found.tried) == 12
    assert found.chosen == {"season.harmonics": 1, "scale": "level", "trend": "in"}
    cuts = found.held.cuts()
    assert cuts.rows.ravel().tolist() == list(range(120, 132)), "the newest twelve months, once"
    again = of.backtest(found.model, sold.iloc[:120], horizon=6)
    assert found.found == pytest.approx(score_of(again.own[0], "RMSE")), "the search saw nothing of these"
    by_hand = [found.model.fit(sold.iloc[:end]).forecast(6).mean - sold.iloc[end : end + 6] for end in (120, 126)]
    assert found.honest == pytest.approx(np.sqrt(np.square(by_hand).mean()))
    assert found.fits[""].axis.n == 132, "in the end it is fitted to everything"
    assert found.table["score"].is_monotonic_increasing
    assert "Best of 12 of 12 candidates (100 %): season.harmonics 1, scale level, trend in." in str(found)


def test_hostile_held_back_values_do_not_reach_the_search():
    sold = monthly(132)
    worse = sold.copy()
    worse.iloc[120:] = 1.0
    choices = {"season.harmonics": [1, 2, 3]}
    one, two = (of.search(MODEL, each, choices, horizon=6) for each in (sold, worse))
    assert [each.score for each in one.tried] == [each.score for each in two.tried]
    assert one.chosen == two.chosen
    assert one.honest != two.honest


@pytest.mark.parametrize("method", ["grid", "random", "narrowing"])
def test_every_way_is_seeded_and_finds_the_planted_column(method):
    data = noise_world(1)
    data["sold"] += 3.0 * data["x4"]
    model = of.Model("sold", [of.Driver(f"x{i}") for i in range(8)])
    options = {
        "optional": [f"x{i}" for i in range(8)],
        "horizon": 5,
        "basis": "ex-post",
        "method": method,
        "tries": 60,
        "origins": 12,
    }
    one, two = (of.search(model, data, seed=3, **options) for _ in range(2))
    assert [each.digits for each in one.tried] == [each.digits for each in two.tried]
    assert one.chosen["x4"] == "in"
    assert len({each.digits for each in one.tried}) == 60
    other = of.search(model, data, seed=4, **options)
    assert [each.digits for each in one.tried] != [each.digits for each in other.tried]
    if method == "narrowing":
        folds = [each.folds for each in one.tried]
        assert sorted(set(folds)) == [2, 4, 12]
        assert folds.count(12) < 10 < folds.count(2), "few reach the last round"


def test_the_honest_score_is_unbiased_and_that_of_the_search_is_not():
    """Over 150 worlds of pure noise: the future error less the honest score is zero within three standard errors, less
    the search's score it is far above."""
    gaps = []
    for seed in range(150):
        data = noise_world(seed, n=420, columns=8)
        model = of.Model("sold", [of.Driver(f"x{i}") for i in range(8)])
        past = data.iloc[:120]
        found = of.search(
            model,
            past,
            optional=[f"x{i}" for i in range(8)],
            horizon=4,
            basis="ex-post",
            origins=6,
            held_back=40,
            score="MAE",
            tries=120,
        )
        fit = found.model.fit(past)
        ahead = fit.forecast(300, plan=data.iloc[120:].drop(columns="sold"))
        future = float(np.abs(ahead.mean - data["sold"].iloc[120:]).mean())
        gaps.append((future - found.honest, future - found.found))
    gaps = np.array(gaps)
    error = gaps.std(axis=0, ddof=1) / np.sqrt(len(gaps))
    assert abs(gaps[:, 0].mean()) < 3.0 * error[0]
    assert gaps[:, 1].mean() > 4.0 * error[1]


class Clock:
    """A clock that only candidates move: each costs what it costs for each origin, those of one kind more."""

    def __init__(self, monkeypatch, cost):
        self.now, self.cost = 0.0, cost
        hunt, search = (importlib.import_module(f"offing.evaluation.{name}") for name in ("search_loop", "search"))
        for module in (hunt, search):
            monkeypatch.setattr(
                module, "time", SimpleNamespace(monotonic=lambda: self.now, perf_counter=lambda: self.now)
            )
        monkeypatch.setattr(hunt.Workers, "worth", lambda workers, seconds: False)
        plain, held = hunt.SearchContext.tried, hunt.SearchContext.held

        def tried(scene, batch, folds):
            self.now += sum(self.cost(scene.space.named(digits)) * folds for digits in batch)
            return plain(scene, batch, folds)

        def last(scene, winner):
            self.now += 2 * 2 * self.cost(scene.space.named(winner.digits))
            return held(scene, winner)

        monkeypatch.setattr(hunt.SearchContext, "tried", tried)
        monkeypatch.setattr(hunt.SearchContext, "held", last)


@pytest.mark.parametrize("method", ["grid", "random", "narrowing"])
@pytest.mark.parametrize("budget", [3.0, 10.0, 40.0])
@pytest.mark.parametrize("cost", [0.002, 0.05, 0.3])
def test_the_time_is_kept_and_reported(method, budget, cost, monkeypatch):
    """Whatever candidates cost, and though some cost thrice as much, all is done within 1.1 of the time."""
    data = monthly(132)
    clock = Clock(monkeypatch, lambda chosen: cost * (3.0 if chosen["scale"] == "log" else 1.0))
    said = []
    found = of.search(
        MODEL,
        data,
        {"season.harmonics": [1, 2, 3, 4, 5], "scale": ["level", "log"], "half_life": [None, 50.0, 100.0]},
        optional=["trend"],
        horizon=6,
        budget=budget,
        method=method,
        report=said.append,
        origins=4,
    )
    whole = len(found.tried) == 60
    alone = 4 * 2 * 3.0 * cost + 12.0 * cost  # no search can do with less than the first two and the winner's test
    assert clock.now <= max(1.1 * budget, alone)
    assert said[0].startswith("A candidate takes ")
    assert f"60 fit into {budget:g} s." in said[0]
    if method != "narrowing":
        assert whole or found.stopped == "The time was up before all were tried."
        assert whole or clock.now > 0.4 * budget or budget < 40.0 * cost, "the time is used"
    assert found.seconds == pytest.approx(clock.now)


def test_what_cannot_be_fitted_is_reported_and_left():
    data = weekly(150)
    model = of.Model("sold", [of.Trend(), of.Driver("fare")], errors="ar", scale="log")
    found = of.search(
        model, data, {"loss": ["squares", "huber"], "order": [1, 2]}, horizon=6, basis="ex-post", origins=3
    )
    failed = {each.digits: each.why for each in found.tried if each.why}
    assert set(failed) == {(1, 0), (1, 1)}, "huber and ar do not go together"
    assert all("a robust loss" in why for why in failed.values())
    assert "2 candidates could not be fitted." in found.sentences


def test_a_search_goes_on_where_it_was_stopped(tmp_path, monkeypatch):
    data = monthly(132)
    choices = {"season.harmonics": [1, 2, 3, 4, 5], "scale": ["level", "log"], "half_life": [None, 50.0]}
    record = tmp_path / "search-record.jsonl"
    module = importlib.import_module("offing.evaluation.search_loop")
    plain, calls = module.SearchContext.tried, []

    def interrupted(scene, batch, folds):
        calls.append(len(batch))
        if len(calls) == 3:
            raise KeyboardInterrupt
        return plain(scene, batch, folds)

    monkeypatch.setattr(module.SearchContext, "tried", interrupted)
    stopped = of.search(MODEL, data, choices, horizon=6, budget=600.0, record=record)
    monkeypatch.undo()
    assert stopped.stopped == "It was interrupted: this is the best so far."
    done = len(stopped.tried)
    assert 0 < done < 20
    lines = [json.loads(line) for line in record.read_text().splitlines()]
    assert set(lines[0]) == {"format", "search"}
    assert len(lines) == 1 + done
    record.write_text(record.read_text() + record.read_text().splitlines()[-1][:-5])  # killed while it wrote
    counted = []
    monkeypatch.setattr(
        module.SearchContext,
        "tried",
        lambda scene, batch, folds: counted.append(len(batch)) or plain(scene, batch, folds),
    )
    resumed = of.search(MODEL, data, choices, horizon=6, record=record)
    assert sum(counted) == 20 - done, "only what was left"
    whole = of.search(MODEL, data, choices, horizon=6)
    assert resumed.chosen == whole.chosen
    assert sorted(each.score for each in resumed.tried) == pytest.approx(sorted(each.score for each in whole.tried))
    with pytest.raises(of.InputError, match="it is the record of another search"):
        of.search(MODEL, data.iloc[:-1], choices, horizon=6, record=record)
    for wrong in ("no record\n", "[1]\n", "7\n", '{"format": 1}\n', "\x00\n"):
        (tmp_path / "text").write_text(wrong)
        with pytest.raises(of.InputError, match=r"cannot be used as a record|it is the record of another search"):
            of.search(MODEL, data, choices, horizon=6, record=tmp_path / "text")
        assert (tmp_path / "text").read_text() == wrong, "whatever it is, it is left as it was"
    with pytest.raises(of.InputError, match="cannot be used as a record"):
        of.search(MODEL, data, choices, horizon=6, record=tmp_path)


def test_many_series_share_one_choice():
    found = of.search(MODEL, panel(), {"season.harmonics": [1, 2]}, horizon=3, score="MASE")
    assert set(found.fits) == {"p0", "p1", "p2"}
    runs = [run for run in found.held.own if run.name == found.model.name]
    assert found.honest == pytest.approx(np.mean([score_of(run, "MASE") for run in runs]))


@pytest.mark.parametrize(
    ("options", "message"),
    [
        ({}, "there is nothing to choose"),
        ({"choices": {"season.harmonic": [1]}}, "'season' has no 'harmonic'. Did you mean 'harmonics'?"),
        ({"choices": {"saison.harmonics": [1]}}, "there is nothing called 'saison.harmonics' to choose"),
        ({"choices": {"season.harmonics": []}}, "found [] for 'season.harmonics'"),
        ({"optional": ["fare"]}, "there is no term 'fare'"),
        ({"optional": ["trend"], "method": "all"}, "found 'all'"),
        ({"optional": ["trend"], "method": "random"}, "a random search needs an end"),
        ({"optional": ["trend"], "budget": -1.0}, "found -1.0. Give a number of seconds."),
        ({"optional": ["trend"], "held_back": 2}, "found 2. Hold back at least the horizon, 6."),
        ({"optional": ["trend"], "score": "coverage 80 %"}, "which is not the better the smaller"),
        ({"choices": {"season.harmonics": [40]}}, "no candidate could be scored: key 'harmonics'"),
    ],
)
def test_what_is_asked_wrongly_is_reported(options, message):
    with pytest.raises(of.InputError) as error:
        of.search(MODEL, monthly(132), horizon=6, **options)
    assert message in str(error.value)


STUDY = """format = 1
title = "Boats"
[sources.boats]
file = "boats.csv"
time = "month"
[sources.boats.unit]
sold = "boats"
[target]
data = "boats.sold"
[[terms]]
type = "trend"
[[terms]]
type = "season"
harmonics = 2
[[terms]]
type = "driver"
data = "boats.fair"
[models.whole]
terms = ["trend", "season", "fair"]
[models.calendar]
terms = ["trend", "season"]
[forecast]
horizon = 4
[backtest]
origins = 8
planned = ["boats.fair"]
combinations = ["mean", "least squares"]
sums = ["quarter"]
without = true
[[backtest.external]]
name = "harbour office"
file = "office.csv"
[search]
optional = ["fair"]
choices = { "season.harmonics" = [1, 2, 3], scale = ["level", "log"] }
"""


@pytest.fixture
def folder(tmp_path):
    """A study of boats sold, with a forecast that the harbour office made."""
    sold = monthly(120)
    fair = (np.random.default_rng(7).random(120) < 0.2).astype(float)
    frame = pd.DataFrame({"month": sold.index.astype(str), "sold": sold.to_numpy() + 15.0 * fair, "fair": fair})
    frame.to_csv(tmp_path / "boats.csv", index=False)
    rows = [
        (sold.index[end].start_time.date(), sold.index[end + h].start_time.date(), 300.0)
        for end in range(60, 117)
        for h in range(4)
        if end + h < 120
    ]
    pd.DataFrame(rows, columns=["origin", "period", "forecast"]).to_csv(tmp_path / "office.csv", index=False)
    (tmp_path / "study.toml").write_text(STUDY)
    return tmp_path


def test_commands_judge_a_study(folder, run_cli):
    ran = run_cli("backtest", folder / "study.toml", "--out", folder / "out")
    assert ran.status == 0, ran.err
    lines = ran.out.splitlines()
    assert lines[2] == "sold: 8 origins from 2022-05-01 to 2024-09-01, 4 months ahead"
    assert lines[3].startswith("'whole' beats the best plain reference, 'trend and season', by ")
    rows = pd.read_csv(folder / "out" / "backtest.csv")
    assert rows.columns.tolist() == [
        "series",
        "model",
        "scenario",
        "basis",
        "origin",
        "period",
        "horizon",
        "target",
        "forecast",
        "q0.025",
        "q0.1",
        "q0.25",
        "q0.5",
        "q0.75",
        "q0.9",
        "q0.975",
    ]
    assert set(rows.loc[rows["model"] == "whole", "basis"]) == {"ex-post", "ex-ante"}
    assert {"harbour office", "mean of models", "last value"} <= set(rows["model"])
    scores = pd.read_csv(folder / "out" / "scores.csv", keep_default_na=False)
    assert scores.columns.tolist() == [
        "series",
        "model",
        "scenario",
        "basis",
        "set",
        "origin",
        "horizon",
        "season",
        "score",
        "value",
        "note",
    ]
    assert {"test", "train", "sum of horizon", "sum of quarter"} == set(scores["set"])
    one = scores.query(
        "model == 'whole' and basis == 'ex-ante' and set == 'test' and score == 'RMSE' "
        "and origin == '' and horizon == '' and season == ''"
    )
    own = rows.query("model == 'whole' and basis == 'ex-ante'")
    assert float(one["value"].item()) == pytest.approx(np.sqrt(((own["forecast"] - own["target"]) ** 2).mean()))
    office = scores.query("model == 'harbour office' and score == 'CRPS' and set == 'test' and origin == ''")
    assert set(office["note"]) == {"it has no intervals"}
    for name in ("backtest", "by-horizon", "calibration-1", "calibration-2", "timeline"):
        assert (folder / "out" / f"{name}.png").stat().st_size > 10_000

    ran = run_cli("compare", folder / "study.toml", "--out", folder / "compared")
    assert ran.status == 0, ran.err
    assert "RMSE would be +" in " ".join(ran.out.split())
    assert "From 'whole' to 'calendar' RMSE goes from" in " ".join(ran.out.split())
    changed = pd.read_csv(folder / "compared" / "change.csv", keep_default_na=False)
    assert changed["origin"].ne("").sum() == 8
    assert changed["horizon"].ne("").sum() == 4
    table = pd.read_csv(folder / "compared" / "comparison.csv")
    assert {"whole", "calendar", "without fair", "harbour office", "least squares"} <= set(table["model"])
    assert (folder / "compared" / "term_gain.csv").exists()
    assert list((folder / "compared").glob("member-weights-least-squares-*.png"))

    ran = run_cli("search", folder / "study.toml", "--budget", "20s", "--out", folder / "searched")
    assert ran.status == 0, ran.err
    assert "Best of 12 of 12 candidates" in ran.out
    assert "Honest RMSE, on the 8 months that the search never saw" in ran.out
    assert "fit into " in ran.err
    assert len(pd.read_csv(folder / "searched" / "search.csv")) == 12
    assert (
        pd.read_csv(folder / "searched" / "coefficients.csv")["term"]
        .isin(["constant", "trend", "season", "fair"])
        .all()
    )
    again = run_cli("search", folder / "study.toml", "--out", folder / "searched", "--json")
    assert len(json.loads(again.out)["search"]) == 12


def test_a_plan_that_says_nothing_of_the_past_is_reported(folder, run_cli):
    """A driver with a plan that is not listed as planned: ex-ante has a model of its own, and the output says so."""
    text = (folder / "study.toml").read_text()
    plan = pd.DataFrame({"month": pd.period_range("2025-01", periods=4, freq="M").astype(str), "fair": 0.0})
    plan.to_csv(folder / "plan.csv", index=False)
    text = text.replace("[target]", '[sources.plan]\nfile = "plan.csv"\ntime = "month"\nplan_for = "boats"\n[target]')
    (folder / "study.toml").write_text(text.replace("without = true\n", ""))
    assert "boats.fair: there is a plan" not in run_cli("backtest", folder / "study.toml").out
    (folder / "study.toml").write_text(text.replace('planned = ["boats.fair"]\n', "").replace("without = true\n", ""))
    ran = run_cli("backtest", folder / "study.toml", "--out", folder / "out")
    assert ran.status == 0, ran.err
    assert "note: boats.fair: there is a plan for the future" in " ".join(ran.out.split())
    noted = json.loads((folder / "out" / "findings.json").read_text())
    assert "missing_plans" in {each["check"] for each in noted}


def test_several_studies_are_compared(folder, run_cli):
    other = (folder / "study.toml").read_text().replace("harmonics = 2", "harmonics = 3").replace("without = true", "")
    (folder / "other.toml").write_text(other)
    ran = run_cli("compare", folder / "study.toml", folder / "other.toml")
    assert ran.status == 0, ran.err
    assert "study: whole" in ran.out
    assert "other: calendar" in ran.out
    shutil.copy(folder / "boats.csv", folder / "boats2.csv")
    cut = pd.read_csv(folder / "boats.csv").iloc[:-2]
    cut.to_csv(folder / "boats2.csv", index=False)
    (folder / "short.toml").write_text(other.replace('"boats.csv"', '"boats2.csv"'))
    ran = run_cli("compare", folder / "study.toml", folder / "short.toml")
    assert ran.status == 2
    assert "short.toml: its target or its origins are not those of study.toml." in ran.err


@pytest.mark.parametrize(
    ("before", "after", "message"),
    [
        ("origins = 8", "origns = 8", "line 25, key 'backtest.origns': there is no such key. Did you mean 'origins'?"),
        ("origins = 8", "origins = 80", "80 origins, 4 periods apart, reach back before the target's first value"),
        (
            '"boats.fair"]',
            '"boats.fare"]',
            "line 24: there is no column 'boats.fare' in boats.csv. Did you mean 'boats.fair'?",
        ),
        ("[1, 2, 3]", '[1, "two"]', "key 'search.choices.season.harmonics'"),
        ('"season.harmonics"', '"season.harmony"', "there is no such key. Did you mean 'harmonics'?"),
        ('optional = ["fair"]', 'budget = "soon"', "key 'budget': found 'soon'"),
        ('optional = ["fair"]', 'optional = ["fare"]', "line 33, key 'optional': there is no term 'fare'"),
        ('file = "office.csv"', 'file = "nowhere.csv"', "there is no file"),
    ],
)
def test_slips_in_a_study_are_reported(folder, run_cli, before, after, message):
    text = (folder / "study.toml").read_text()
    assert before in text
    (folder / "study.toml").write_text(text.replace(before, after))
    ran = run_cli(
        "search" if "search" in message or "soon" in message or "optional" in after else "backtest",
        folder / "study.toml",
    )
    assert ran.status == 2
    assert message in ran.err
    assert "Traceback" not in ran.err


def test_a_study_can_ask_for_intervals_of_past_errors(folder, run_cli):
    text = (folder / "study.toml").read_text()
    (folder / "study.toml").write_text(
        text.replace(
            "horizon = 4\n", 'horizon = 4\nmissing_plans = "expected"\nintervals = "conformal"\nlevels = [0.8]\n'
        )
    )
    ran = run_cli("forecast", folder / "study.toml", "--out", folder / "out")
    assert ran.status == 0, ran.err
    assert "moved, widened or narrowed by 32 past errors of all horizons together" in " ".join(ran.out.split())
    rows = pd.read_csv(folder / "out" / "forecast.csv")
    assert rows["q0.9"].notna().all()
    assert rows["q0.975"].isna().all(), "39 errors would be needed"


def test_a_search_with_workers_is_the_same():
    data = weekly(120)
    model = of.Model("sold", [of.Trend(), of.Driver("fare"), of.Driver("flag")], errors="ar", scale="log")
    options = {"optional": ["fare", "flag"], "horizon": 4, "origins": 6, "basis": "ex-post"}
    alone = of.search(model, data, {"order": [1, 2]}, **options)
    with ThreadPoolExecutor(2) as pool:
        together = of.search(model, data, {"order": [1, 2]}, executor=pool, **options)
    assert [each.digits for each in alone.tried] == [each.digits for each in together.tried]
    assert [each.score for each in alone.tried] == [each.score for each in together.tried]
    assert alone.honest == together.honest


def test_drivers_without_a_plan_are_expected_if_asked():
    """Refused by default; asked for, the driver's own model says what is expected, and the band counts its doubt."""
    generator = np.random.default_rng(2)
    days = pd.date_range("2023-01-02", periods=150, freq="7D")
    wave = 10.0 + 3.0 * np.sin(2.0 * np.pi * np.arange(150) / 52.18) + generator.normal(0.0, 0.5, 150)
    data = pd.DataFrame({"sold": 5.0 * wave + generator.normal(size=150), "wave": wave, "flat": 2.0}, days)
    fit = of.Model("sold", [of.Driver("wave")]).fit(data)
    with pytest.raises(of.InputError, match="the driver has no value there"):
        fit.forecast(8)
    with pytest.raises(of.InputError, match="found 'maybe'"):
        fit.forecast(8, missing_plans="maybe")
    ahead = fit.forecast(8, missing_plans="expected")
    own = of.Model("wave", [of.Trend(), of.Season("year", harmonics=3), of.OwnLags([1])], lower_limit=0.0).fit(data)
    expected = own.forecast(8).mean
    assert ahead.drivers["value"].to_numpy() == pytest.approx(expected)
    assert set(ahead.drivers["mark"]) == {"modelled"}
    known = fit.forecast(8, plan=pd.DataFrame({"wave": expected}, ahead.axis.index))
    assert ahead.mean == pytest.approx(known.mean)
    assert (ahead.table["q0.9"] - ahead.table["q0.1"] > 1.5 * (known.table["q0.9"] - known.table["q0.1"])).all()
    assert "expected by the drivers' own models" in ahead.sentence
    half = pd.DataFrame({"wave": expected[:3]}, ahead.axis.index[:3])
    mixed = fit.forecast(8, plan=half, missing_plans="expected")
    assert mixed.drivers["mark"].tolist() == ["plan"] * 3 + ["modelled"] * 5


def test_weights_of_series_reach_the_files(tmp_path, run_cli):
    """Means over series with stated weights; a series without one is reported."""
    data = panel()
    rows = [
        pd.DataFrame(
            {
                "month": pd.period_range("2015-01", periods=72, freq="M").astype(str),
                "port": name,
                "sold": data[name].values("sold"),
            }
        )
        for name in data
    ]
    pd.concat(rows).to_csv(tmp_path / "ports.csv", index=False)
    text = """format = 1
[sources.ports]
file = "ports.csv"
time = "month"
id = "port"
[target]
data = "ports.sold"
[[terms]]
type = "trend"
[backtest]
horizon = 3
weights = { p0 = 1, p1 = 0, p2 = 3 }
"""
    (tmp_path / "study.toml").write_text(text)
    ran = run_cli("backtest", tmp_path / "study.toml", "--out", tmp_path / "out")
    assert ran.status == 0, ran.err
    table = pd.read_csv(tmp_path / "out" / "scores.csv", keep_default_na=False)
    whole = table.query("set == 'test' and origin == '' and horizon == '' and season == '' and score == 'MAE'")
    own = whole[whole["model"] == "main"].set_index("series")["value"].astype(float)
    assert own["mean of series"] == pytest.approx((own["p0"] + 3.0 * own["p2"]) / 4.0)
    (tmp_path / "study.toml").write_text(text.replace("p1 = 0, ", ""))
    ran = run_cli("backtest", tmp_path / "study.toml", "--out", tmp_path / "out")
    assert ran.status == 2
    assert "there is no weight of series 'p1'" in ran.err


def test_a_folder_that_cannot_be_made_is_reported(folder, run_cli):
    (folder / "taken").write_text("a file")
    ran = run_cli("search", folder / "study.toml", "--out", folder / "taken" / "results")
    assert ran.status == 2
    assert "the folder cannot be written to" in ran.err
