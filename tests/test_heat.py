"""The hourly study of the district heat, through the command line, against the truth that it was made with."""

import json

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.demo import heat
from offing.demo.compared import compare
from offing.draw.cycle import draw_cycle


@pytest.fixture(scope="module")
def ran(tmp_path_factory):
    """The demo's folder and what it said."""
    from offing.demo import run_heat

    folder = tmp_path_factory.mktemp("heat")
    lines = []
    study = run_heat(folder, lines.append)
    return folder, "\n".join(lines), study


def test_the_story_show_itself_and_leaves_each_figure(ran):
    folder, said, _ = ran
    for words in (
        "17,520 hours",
        "for the 503 hours that follow",
        "highest in workday 07:00",
        "'Summer Weeks' does most",
        "true effects, 72 of them not listed, lie in their 95 % intervals",
    ):
        assert words in said
    made = {path.name.split("-")[0].split(".")[0] for path in (folder / "results").glob("*.png")}
    assert made == {"contributions", "scenarios", "walk", "cycle", "holidays", "year"}
    # Beds were made to follow the season, and nothing else is wrong with these data.
    findings = json.loads((folder / "results" / "findings.json").read_text())
    assert [(each["check"], each["term"]) for each in findings] == [("collinear column", "beds occupied")]


def test_true_effects_lie_in_their_intervals(ran):
    _, _, study = ran
    compared = compare(study.fits["main"], heat().truth)
    # Of 89 at 95 %, 77 or fewer would happen once in two hundred times.
    assert compared["inside"].sum() >= 78
    chain = study.fits["main"].estimate.chain
    assert chain.phi[0] == pytest.approx(0.8, abs=0.02)


def test_clock_changes_are_in_history_and_future(ran):
    _, _, study = ran
    ahead = study.forecasts["main"]
    index = ahead.table.index
    days = pd.Series(1, index).groupby(index.strftime("%F")).size()
    assert days["2026-03-29"] == 23
    assert set(days.drop("2026-03-29")) == {24}
    assert index[-1].isoformat() == "2026-04-04T23:00:00+01:00"
    night = pd.read_csv(study.path.parent / "heat.csv")["hour"]
    assert night[night.str.startswith("2024-10-27T01")].tolist() == [
        "2024-10-27T01:00:00+01:00",
        "2024-10-27T01:00:00+00:00",
    ]
    # The morning peak stays at seven o'clock on the wall, whatever the offset.
    hours = study.forecasts["main"].contributions.wide["season in day by kind of day"]
    workdays = hours[(index.day_of_week < 5)]
    peaks = workdays.groupby(workdays.index.strftime("%F")).idxmax()
    assert {peak.hour for peak in peaks} == {7}


def test_months_add_up_and_the_last_is_part_forecast(ran):
    _, _, study = ran
    (made,) = study.totals["main"]
    table = made.table
    assert made.axis.labels()[-2:] == ["2026-03", "2026-04"]
    assert made.status[-2:] == ("part forecast", "incomplete")
    assert (made.known + made.ahead)[-2] == 31 * 24 - 1
    load = pd.read_csv(study.path.parent / "heat.csv")["load"]
    assert table["actual"].sum() == pytest.approx(load.sum())
    contributions = study.forecasts["main"].contributions
    np.testing.assert_allclose(contributions.values.sum(axis=0), contributions.mean, rtol=1e-12)


def test_the_heat_map_shows_the_indices(ran):
    _, _, study = ran
    shape = of.cycle(study.fits["main"], "season in day by kind of day")
    image = draw_cycle(shape).axes[0].images[0].get_array()
    assert image.shape == (3, 24)
    np.testing.assert_allclose(image.ravel(), shape.indices.table["index"])
    assert of.figure(shape).axes[0].get_yticklabels()[1].get_text() == "Saturday"


def test_the_command_takes_a_story(run_cli, tmp_path):
    ran = run_cli("demo", tmp_path, "--story", "tides")
    assert ran.status == 2
    assert "'ferry', 'heat'" in ran.err
