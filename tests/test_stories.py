"""The story: pages of plain sentences, word for word, and what they are compared with on the command line."""

import json
import shutil

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.demo import forecast_only

LAST_YEAR = """\
ferry tickets: 13 weeks from 2026-06-29 to 2026-09-21

The forecast is 223,169 tickets: 6,514 tickets or 2.8 % less than the year before, 229,683 (95 % −18,170 to +5,890,
  counting noise, coefficients and drivers; the coefficients alone −11,579 to −1,450); so the outcome may be higher or
  lower.

What raises it (intervals count the coefficients alone)
'price' adds 3,490 tickets, 1.52 points of growth (95 % between +1,009 and +5,972).
'storm hours' adds 1,725 tickets, 0.751 points of growth (95 % between +1,367 and +2,084).
'calendar' adds 1,022 tickets, 0.445 points of growth (95 % between +824 and +1,220).

What lowers it (intervals count the coefficients alone)
'trend' takes away 6,043 tickets, 2.63 points of growth (95 % between −10,144 and −1,942).
'cruise calls' takes away 3,202 tickets, 1.39 points of growth (95 % between −3,835 and −2,568).
'sailings' takes away 325 tickets, 0.142 points of growth (95 % between −395 and −256).

What no driver accounts for
What no term explained in the year before accounts for −2,196 tickets.

What is not significant
What the periods before carry on (−1,030 tickets).

How sure
ferry tickets, total of 13 weeks from 2026-06-29 to 2026-09-21: 223,169 tickets, with 95 % chance between 211,513 and
  235,573 (5,000 joint paths, normal noise).
ferry tickets exceeds 23,000 tickets in some week with 48 % chance, most likely in 2026-08-24 (42 %); what lies beyond
  adds up to 522 tickets on average.
The total of 13 weeks from 2026-06-29 to 2026-09-21 exceeds 230,000 tickets with 14 % chance; where it does, by 3,305
  tickets on average.

What moves it most
'promotion' on against off from here on moves ferry tickets of 13 weeks from 2026-06-29 to 2026-09-21 by +58,281
  tickets, +26 % (95 % between +44,843 and +71,719).
'fare' +10 % from here on moves them by −15,755 tickets, −7.1 % (95 % between −20,425 and −11,085).
'sailings' +10 % from here on moves them by +10,137 tickets, +4.5 % (95 % between +7,855 and +12,420).

What if
'dearer': −4,822 tickets (−2.2 %, 95 % between −6,282 and −3,378). It assumes 'fare' +5 % from 2026-08-03.
'stormy and dearer': −7,593 tickets (−3.4 %, 95 % between −9,077 and −6,152). It assumes 'fare' +5 % from 2026-08-03;
  'storm hours' as in 13 weeks from 2022-07-04 to 2022-09-26, of 4 years seen the worst: that of the lowest forecast.
'unknown': −3,558 tickets (−1.6 %, 95 % between −10,630 and +4,261); the interval includes zero. It assumes 'sailings'
  forecast by a separate model (season, own lags; RMSE 3.74 sailings over 6 back-tests); 'storm hours' forecast by a
  separate model (season; RMSE 14.8 hours over 6 back-tests).
Beyond what history has seen, 'dearer' and 'stormy and dearer': In 10 weeks of the forecast 'fare' lies outside what
  was fitted (up to 21.651 EUR; fitted 16.22 to 20.51 EUR).

By hand
2026-08-10 to 2026-08-17: +4 % by hand, +1,347 tickets in 2 weeks. harbour office: the sailing school's jubilee.

What it rests on
warning: In 4 weeks of the forecast 'fare' lies outside what was fitted (up to 20.75 EUR; fitted 16.22 to 20.51 EUR).
  There the model extrapolates.
Cost of unknown drivers: RMSE 1,348 of 'main' ex-ante, with what was known or expected of them, and 807 ex-post, with
  their actual values (+67 %).
"""

LAST_MONTH = """\
ferry tickets: 13 weeks from 2026-06-01 to 2026-08-24

The forecast of 2026-06-29 is 238,457 tickets: 5,039 tickets or 2.2 % more than the forecast of 2026-06-01, 233,417.

Step by step, in this order
Revised data: +260 tickets.
  What the periods before carry on adds 260 tickets, 0.111 points of growth.
Drivers' actual values: −0.369 tickets.
  1 small step adds up to −0.369 tickets.
Changed assumptions: −1,385 tickets.
  'price' takes away 1,385 tickets, 0.593 points of growth (95 % between −1,827 and −943).
New actual values: +4,565 tickets.
  What no term explains adds 2,521 tickets, 1.08 points of growth.
  What the periods before carry on adds 2,059 tickets, 0.882 points of growth (95 % between +651 and +3,467).
  1 more small step adds up to −15.3 tickets.
Re-estimated: +1,600 tickets.
  The level adds 765 tickets, 0.328 points of growth.
  'calendar' adds 614 tickets, 0.263 points of growth.
  'trend' adds 503 tickets, 0.215 points of growth.
  'sailings' takes away 263 tickets, 0.113 points of growth.
  What the periods before carry on takes away 239 tickets, 0.103 points of growth.
  4 more small steps add up to +220 tickets.
"""

BRIEF = """\
ferry tickets: 13 weeks from 2026-06-29 to 2026-09-21
- forecast 223,169 tickets, the year before 229,683: −6,514 (−2.8 %, 95 % −18,170 to +5,890, counting noise,
  coefficients and drivers; the coefficients alone −11,579 to −1,450)
- higher: price +3,490 (95 % between +1,009 and +5,972)
- higher: storm hours +1,725 (95 % between +1,367 and +2,084)
- higher: calendar +1,022 (95 % between +824 and +1,220)
- lower: trend −6,043 (95 % between −10,144 and −1,942)
- lower: cruise calls −3,202 (95 % between −3,835 and −2,568)
- lower: sailings −325 (95 % between −395 and −256)
- not explained the year before: −2,196 tickets
- not significant: autoregressive error −1,030
"""


def test_the_page_against_last_year_word_for_word(run_cli, demo_folder):
    ran = run_cli("explain", demo_folder / "study.toml", "--against", "last-year")
    assert (ran.status, ran.err) == (0, "")
    assert ran.out == LAST_YEAR


def test_the_page_from_last_month_word_for_word(run_cli, demo_folder, tmp_path):
    ran = run_cli("explain", demo_folder / "study.toml", "--against", "last-month/study.toml", "--out", tmp_path)
    assert ran.out.startswith(LAST_MONTH)
    assert sorted(path.name for path in tmp_path.iterdir()) == ["manifest.json", "story.txt", "walk.csv", "walk.png"]
    rows = pd.read_csv(tmp_path / "walk.csv")
    steps = rows[~rows["step"].isin(["start", "end"])]
    start, end = (float(rows[rows["step"] == each]["amount"].iloc[0]) for each in ("start", "end"))
    assert start + steps["amount"].sum() == pytest.approx(end, rel=1e-9)
    # Two values were revised, the plan of the fare changed, and four weeks came.
    sums = steps.groupby("phase")["amount"].sum()
    assert sums["revised data"] > 0.0
    assert sums["changed assumptions"] < 0.0


def test_the_points_word_for_word(run_cli, demo_folder):
    ran = run_cli("explain", demo_folder / "study.toml", "--against", "last-year", "--brief")
    assert ran.out.startswith(BRIEF)


def lean(demo_folder, folder, added=""):
    """The demo's study with its forecast only, and what is added to it."""
    for name in ("tickets.csv", "plan.csv", "island_days.csv"):
        shutil.copy(demo_folder / name, folder / name)
    study = folder / "study.toml"
    study.write_text(forecast_only((demo_folder / "study.toml").read_text()) + added)
    return study


def test_a_forecast_is_held_against_whatever_is_asked(run_cli, demo_folder, tmp_path):
    study = lean(demo_folder, tmp_path, BASE)
    noted = {
        "mean": "than the history's mean",
        "2025-07": "less than 2025-07, the mean of its weeks",
        "2025-06-30..2025-09-28": "than 2025-06-30 to 2025-09-28, the mean of its weeks",
        "a": "more than 'a'",
        "2026-06-01": "the forecast of 2026-06-01",
        "baseline": "more than baseline",
    }
    for against, words in noted.items():
        out = " ".join(run_cli("explain", study, "--against", against).out.split())
        assert words in out, against
    came = run_cli("explain", study, "--against", "outcome", "--as-of", "2026-03-30").out
    assert "The outcome is 155,816 tickets" in came
    assert "Drivers that turned out otherwise" in came
    machine = json.loads(run_cli("explain", study, "--against", "last-year", "--json").out)
    assert set(machine) == {"story", "walk"}
    for against, words in (
        ("outcome", "Say from when it is, with --as-of"),
        ("nothing", "to compare the forecast with"),
        ("1999", "no known period lies in 1999"),
        ("gone.toml", "There is no file"),
    ):
        ran = run_cli("explain", study, "--against", against)
        assert (ran.status, ran.out) == (2, ""), against
        assert words in ran.err


def test_explain_writes_what_the_study_asks(demo_folder):
    results = demo_folder / "results"
    made = {
        name: pd.read_csv(results / f"{name}.csv")
        for name in (
            "scenarios",
            "differences",
            "walks",
            "sensitivity",
            "solutions",
            "adjustments",
            "forecast",
            "contributions",
        )
    }
    for table in made.values():
        assert table.columns[:3].tolist() == ["series", "model", "scenario"]
    totals = made["forecast"].groupby("scenario")["forecast"].sum()
    stated = made["scenarios"].set_index("scenario")
    assert stated["total"].to_dict() == pytest.approx(totals.drop("by hand").to_dict())
    gaps = made["differences"].groupby("scenario")["difference"].sum()
    assert gaps.to_dict() == pytest.approx(stated["difference"].drop("as planned").to_dict())
    rows = made["contributions"].groupby(["scenario", "period"])["contribution"].sum()
    ahead = made["forecast"].set_index(["scenario", "period"])["forecast"]
    assert rows.loc[ahead.index].to_numpy() == pytest.approx(ahead.to_numpy(), rel=1e-9)
    marks = pd.read_csv(results / "drivers.csv").groupby(["scenario", "driver"])["mark"].agg(set)
    assert marks["as planned", "fare"] == {"plan"}
    assert marks["dearer", "fare"] == {"plan", "assumed"}, "the fare rises in August"
    assert marks["stormy and dearer", "storm hours"] == {"assumed"}
    assert marks["unknown", "sailings"] == {"modelled"}
    hand = made["adjustments"]["change"].sum()
    assert totals["by hand"] - totals["as planned"] == pytest.approx(hand)
    assert made["solutions"]["met"].all()


def test_explain_draws_every_figure_of_the_study_where_the_demo_draws_those_it_names(demo_folder, run_cli, tmp_path):
    assert {path.stem for path in (demo_folder / "results").glob("*.png")} == {
        "forecast",
        "contributions",
        "walk-1",
        "scenarios",
        "effects",
    }
    run_cli("explain", demo_folder / "study.toml", "--out", tmp_path)
    drawn = {path.stem: path.stat().st_size for path in tmp_path.glob("*.png")}
    assert {
        "walk-1",
        "walk-2",
        "walk-3",
        "scenarios",
        "sensitivity",
        "indices",
        "cycle",
        "holidays",
        "trend",
        "totals",
        "history",
        "fit",
        "effects",
        "chances-1",
        "response-promotion",
    } < set(drawn)
    assert min(drawn.values()) > 10_000
    csv = {path.name: path.read_bytes() for path in tmp_path.glob("*.csv")}
    assert csv == {name: (demo_folder / "results" / name).read_bytes() for name in csv}


BASE = "[scenarios.a]\ndrivers.fare = { percent = 5 }\n"
FAULTS = {
    "a circle": ('[scenarios.a]\nbase = "b"\n[scenarios.b]\nbase = "a"\n', "go round in a circle: a → b → a"),
    "an unknown base": ('[scenarios.a]\nbase = "c"\n', "key 'scenarios.a.base': there is no scenario 'c'"),
    "an unknown driver": ("[scenarios.a]\ndrivers.fares = 3.0\n", "there is no driver 'fares'. Did you mean 'fare'?"),
    "an unknown way": ('[scenarios.a]\ndrivers.fare = "as ever"\n', "there is no method 'as ever'"),
    "an unknown field": ("[scenarios.a]\ndrivers.fare = { percent = 5, when = 3 }\n", "has no 'when'"),
    "after the horizon": (
        '[scenarios.a]\ndrivers.fare = { percent = 5, since = "2027-01-01" }\n',
        "scenario 'a': no period of 'fare' lies in 2027-01-01",
    ),
    "an unknown key": ("[scenarios.a]\ndriver.fare = 3.0\n", "there is no such key. Did you mean 'drivers'?"),
    "a walk to nowhere": (BASE + '[[walks]]\nscenario = "b"\n', "there is no scenario 'b'"),
    "a group of nothing": ('[groups]\nprice = ["fares"]\n', "there is no term 'fares'. Did you mean 'fare'?"),
    "a term in two groups": ('[groups]\na = ["fare"]\nb = ["fare"]\n', "'fare' is in the group 'a' already"),
    "a goal of no driver": ('[[solve]]\ndriver = "fares"\ntotal = 3.0\n', "there is no driver 'fares'"),
    "a change of no driver": ("[changes]\nfares = 3.0\n", "there is no driver 'fares'"),
    "two adjustments": (
        '[[adjustments]]\nspan = "2026-07"\npercent = 1\nreason = "a"\nauthor = "A"\n'
        '[[adjustments]]\nspan = "2026-07-06"\npercent = 1\nreason = "b"\nauthor = "B"\n',
        "contradict each other",
    ),
    "an adjustment without an author": (
        '[[adjustments]]\nspan = "2026-07"\npercent = 1\n',
        "an adjustment has no reason",
    ),
}


@pytest.mark.parametrize("case", FAULTS)
def test_a_study_that_asks_for_nonsense_ends_with_one_message(case, run_cli, demo_folder, tmp_path):
    added, message = FAULTS[case]
    ran = run_cli("explain", lean(demo_folder, tmp_path, added), "--out", tmp_path / "out")
    assert (ran.status, ran.out) == (2, "")
    assert ran.err.startswith("Error: study.toml")
    assert ran.err.count("\n") == 1
    assert message in ran.err
    assert not (tmp_path / "out").exists()


def test_overrides_are_scored_when_their_outcome_is_known(run_cli, demo_folder, tmp_path):
    added = '[[adjustments]]\nspan = "2026-06"\npercent = 5\nreason = "a fair"\nauthor = "Ida"\nmade = "2026-05-04"\n'
    ran = run_cli("forecast", lean(demo_folder, tmp_path, added), "--out", tmp_path / "out")
    assert ran.status == 0
    assert "The adjustment of 2026-06 (Ida: a fair)" in ran.out
    (row,) = pd.read_csv(tmp_path / "out" / "adjustment_scores.csv").to_dict("records")
    assert row["periods"] == 4
    assert row["helped"] == (row["error_after"] < row["error_before"])


def test_importance_puts_shares_beside_worth_and_says_why_they_differ():
    """A driver with a twin explains much but is worth little; one that acts rarely the other way round."""
    generator = np.random.default_rng(3)
    n = 160
    fare = generator.normal(size=n).cumsum() * 0.5
    twin, rare = fare + generator.normal(0.0, 0.05, n), (np.arange(n) % 16 == 5).astype(float)
    sold = 100.0 + 3.0 * fare + 4.0 * rare + generator.normal(0.0, 0.5, n)
    data = pd.DataFrame(
        {"sold": sold, "fare": fare, "twin": twin, "rare": rare}, pd.date_range("2020-01-06", periods=n, freq="7D")
    )
    model = of.Model("sold", terms=[of.Driver("fare"), of.Driver("twin"), of.Driver("rare")])
    judged = of.backtest(of.without_each(model), data, horizon=16, origins=5, basis="ex-post").compare()
    found = of.importance(model.fit(data), of.term_gain(judged))
    table = found.table.set_index("term")
    assert table["share"].sum() == pytest.approx(model.fit(data).statistics.r_squared)
    assert table.loc["fare", "share"] == pytest.approx(table.loc["twin", "share"], abs=0.05)
    assert table.loc["fare", "alone"] < 0.05 < table.loc["fare", "share"]
    assert "stand in for it" in table.loc["twin", "why"]
    assert table.loc["rare", "gain"] > 0.2
    assert found.terms[-1] == "rare"
    assert "without it RMSE ahead would be" in found.sentences


def test_several_series_and_a_combination_have_pages_of_their_own(run_cli, tmp_path):
    generator = np.random.default_rng(1)
    months = pd.period_range("2020-01", periods=66, freq="M").astype(str)
    parts = []
    for shop in ("north", "south"):
        price = 10.0 + generator.normal(0.0, 0.2, 66).cumsum()
        sold = 100.0 - 3.0 * price + generator.normal(size=66)
        parts.append(pd.DataFrame({"month": months, "shop": shop, "price": price, "sold": sold}))
    rows = pd.concat(parts)
    rows[rows["month"] < "2025-01"].to_csv(tmp_path / "sales.csv", index=False)
    rows[rows["month"] >= "2025-01"].drop(columns="sold").to_csv(tmp_path / "plan.csv", index=False)
    study = tmp_path / "study.toml"
    study.write_text("""format = 1
[sources.sales]
file = "sales.csv"
id = "shop"
[sources.plan]
file = "plan.csv"
id = "shop"
plan_for = "sales"
[target]
data = "sales.sold"
[[terms]]
type = "trend"
[[terms]]
type = "driver"
data = "sales.price"
[forecast]
horizon = 6
[scenarios.up]
drivers.price = { percent = 10 }
""")
    ran = run_cli("explain", study, "--against", "last-year", "--out", tmp_path / "out")
    assert ran.status == 0, ran.err
    assert ran.out.count("more than the year before") == 3, "north, south, and both"
    walk = pd.read_csv(tmp_path / "out" / "walk.csv")
    ends = walk[walk["step"] == "end"].set_index("series")["amount"]
    assert ends["all series"] == pytest.approx(ends["north"] + ends["south"])
    steps = walk[~walk["step"].isin(["start", "end"])]
    starts = walk[walk["step"] == "start"].set_index("series")["amount"]
    assert (starts + steps.groupby("series")["amount"].sum()).to_dict() == pytest.approx(ends.to_dict())
    assert run_cli("explain", study, "--against", "up").status == 0
    single = (
        study.read_text()
        .replace('id = "shop"\n', "")
        .replace(
            "[forecast]",
            """[models.price]
terms = ["price"]
[models.both]
terms = ["trend", "price"]
[combination]
[forecast]""",
        )
    )
    for name in ("sales", "plan"):
        frame = pd.read_csv(tmp_path / f"{name}.csv")
        frame[frame["shop"] == "north"].drop(columns="shop").to_csv(tmp_path / f"{name}.csv", index=False)
    study.write_text(single)
    ran = run_cli("explain", study, "--against", "last-year", "--out", tmp_path / "both")
    assert ran.status == 0, ran.err
    assert "how surely is not known" in ran.out
    walk = pd.read_csv(tmp_path / "both" / "walk.csv")
    assert set(walk["model"]) == {"price", "both", "all"}
