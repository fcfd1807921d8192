"""The boatyard's quarters with months and weeks: demo, study and command line, against the known truth."""

import json
import tomllib

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.demo import boatyard


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    path = tmp_path_factory.mktemp("yard")
    lines = []
    from offing.demo import run_boatyard

    run_boatyard(path, lines.append)
    (path / "said.txt").write_text("\n".join(map(str, lines)))
    return path


def table(folder, name):
    return pd.read_csv(folder / "results" / f"{name}.csv")


def test_the_demo_show_the_quarter_on_three_dates(folder):
    said = (folder / "said.txt").read_text()
    for words in (
        "2026-04-24: 2026-Q2 is estimated at",
        "values still expected",
        "what was expected, times",
        "their mean by past squared errors",
        "true effects lie in their 95 % intervals",
    ):
        assert words in said
    running = table(folder, "running")
    assert running.columns[:5].tolist() == ["series", "model", "scenario", "origin", "period"]
    weighted = running[running["model"] == "weighted"]
    assert (np.diff(weighted["q0.975"] - weighted["q0.025"]) < 0.0).all()
    assert (weighted["q0.025"] < boatyard().outcome).all()
    releases = table(folder, "releases")
    own = releases[releases["model"] == "weighted"]
    for date, steps in own.groupby("to"):
        before, after = weighted["forecast"][weighted["origin"] <= date].to_numpy()[-2:]
        assert steps["effect"].sum() == pytest.approx(after - before, abs=1e-6)
    combined = table(folder, "combined")
    members = combined[combined["member"] != "combined"]
    assert members["weight"].sum() == pytest.approx(1.0)
    assert combined["forecast"].iloc[-1] == pytest.approx((members["weight"] * members["forecast"]).sum())
    weights = table(folder, "weights")
    assert weights.groupby("term")["weight"].sum().tolist() == pytest.approx([1.0, 1.0])


def test_contributions_by_indicator_add_up_to_the_estimate(folder):
    rows = table(folder, "contributions")
    ahead = rows[(rows["model"] == "weighted") & (rows["period"] == "2026-04-01")]
    assert {"charter bookings", "web enquiries"} <= set(ahead["term"])
    planned = table(folder, "forecast").query("scenario != 'bookings stall' and scenario != 'web dries up'")
    ahead = ahead[ahead["scenario"] == "as planned"]
    forecast = planned.set_index("model")["forecast"]
    assert ahead["contribution"].sum() == pytest.approx(forecast["weighted"], rel=1e-9)


def test_intervals_hold_the_truth_and_the_outcome_over_many_worlds():
    hits, shown, worlds = None, 0, 60
    for seed in range(worlds):
        yard = boatyard(seed)
        data = {
            "yard": of.read(yard.orders, release_delay="14 days"),
            "charter": of.read(yard.bookings, release_delay="21 days"),
            "web": of.read(yard.enquiries, stamp="start"),
        }
        terms = [
            of.Trend(),
            of.Season("year", harmonics=1),
            of.Driver("charter.charter bookings", weights="beta", span=6),
            of.Driver("web.web enquiries", weights="beta", span=13),
        ]
        fit = of.Model("yard.orders", terms).fit(data, as_of="2026-05-25")
        both = yard.truth.merge(fit.coefficients, on=["term", "column"])
        inside = ((both["low"] <= both["true"]) & (both["true"] <= both["high"])).to_numpy()
        hits = inside.astype(float) if hits is None else hits + inside
        ahead = fit.forecast(1).table.iloc[0]
        shown += ahead["q0.025"] <= yard.outcome <= ahead["q0.975"]
    assert len(hits) == 9
    assert 0.9 <= hits.mean() / worlds <= 0.98, hits
    assert (hits / worlds >= 0.82).all(), hits
    assert 0.86 <= shown / worlds <= 1.0


def test_a_date_on_the_command_line_hides_what_was_not_out(folder, tmp_path, run_cli):
    study = (folder / "study.toml").read_text()
    plain = (
        study.split("[combination]", maxsplit=1)[0].replace("dates = ", "# dates = ") + '\n[output]\nfigures = "none"\n'
    )
    for name in ("orders.csv", "bookings.csv", "enquiries.csv"):
        (tmp_path / name).write_bytes((folder / name).read_bytes())
    (tmp_path / "study.toml").write_text(plain)
    ran = run_cli("forecast", tmp_path / "study.toml", "--as-of", "2026-05-25", "--out", tmp_path / "out")
    assert ran.status == 0
    ahead = pd.read_csv(tmp_path / "out" / "forecast.csv").query("scenario == 'as planned'").set_index("model")
    running = table(folder, "running").set_index(["model", "origin"])["forecast"]
    assert ahead.loc["weighted", "forecast"] == pytest.approx(running["weighted", "2026-05-25"], rel=1e-9)
    assert ahead.loc["weighted", "origin"] == "2026-05-25"
    assert json.loads((tmp_path / "out" / "run.json").read_text())
    dated = study.split("[combination]", maxsplit=1)[0]
    (tmp_path / "dated.toml").write_text(dated)
    noted = run_cli("forecast", tmp_path / "dated.toml", "--as-of", "2026-05-25").out
    assert "2026-05-25: 2026-Q2 is estimated at" in noted
    assert "2026-06-24" not in noted
    said = run_cli("explain", tmp_path / "study.toml", "--as-of", "2026-05-25").out
    assert "On 2026-05-25 values with" in said
    assert "That timing does not matter has p" in said
    shifted = plain.replace("horizon = 1", 'horizon = 2\nunreleased = "shifted"')
    (tmp_path / "study.toml").write_text(shifted)
    assert "of each horizon's own equation" in run_cli("forecast", tmp_path / "study.toml").out
    assert "which is not a date" in run_cli("forecast", tmp_path / "study.toml", "--as-of", "soon").err
    for bad, words in (
        ('weights = "bata"', 'Allowed: "flat", "free"'),
        ("spam = 6", "Did you mean 'span'"),
        ('unreleased = "sharp"', "expected"),
    ):
        key = bad.split(" ", maxsplit=1)[0]
        line = next(each for each in shifted.splitlines() if each.startswith({"spam": "span"}.get(key, key)))
        (tmp_path / "study.toml").write_text(shifted.replace(line, bad, 1))
        refused = run_cli("fit", tmp_path / "study.toml")
        assert (refused.status, words in refused.err) == (2, True), refused.err


def test_a_draft_of_the_boatyard_reads_delays_and_weights_faster_series(folder, tmp_path, run_cli):
    files = [folder / name for name in ("orders.csv", "bookings.csv", "enquiries.csv")]
    ran = run_cli("inspect", *files)
    assert ran.status == 0
    assert "its last value ends 21 days before the newest of all" in ran.out
    ran = run_cli("draft", *files, "--out", tmp_path / "d", "--budget", "9s")
    assert ran.status == 0, ran.err
    study = tomllib.loads((tmp_path / "d" / "study.toml").read_text())
    assert study["sources"]["bookings"]["release_delay"] == "21 days"
    assert [term for term in study["terms"] if term["type"] == "driver"], ran.out
    # At every past origin the months and weeks were out as far into the quarter as they are today.
    assert study["backtest"]["first_origin"] > "2000", study["backtest"]
    assert study["forecast"]["missing_plans"] == "expected"
    assert run_cli("forecast", tmp_path / "d" / "study.toml").status == 0


@pytest.mark.parametrize("name", ["weighted", "averaged"])
def test_pictures_of_the_running_quarter_are_drawn(folder, name):
    made = {path.name for path in (folder / "results").glob("*.png")}
    assert {f"running-{name}.png", f"forecast-{name}.png", "combined.png", "inputs-weighted.png"} <= made
