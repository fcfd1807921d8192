"""Looking at data before any model: what is found."""

import json

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.demo.ferry_story import draft_messy
from offing.engine import peaks
from offing.study.inspection import inspected


def weekly(n=220, seed=1):
    generator = np.random.default_rng(seed)
    at = np.arange(n)
    rain = generator.gamma(2.0, 3.0, n)
    before = np.concatenate([[0.0, 0.0], rain[:-2]])
    year = np.exp(0.3 * np.sin(2 * np.pi * at / 52.18))
    sold = 500.0 * year * np.exp(-0.02 * rain + 0.015 * before + generator.normal(0.0, 0.04, n))
    return pd.DataFrame({"sold": sold, "rain": rain}, index=pd.date_range("2021-01-04", periods=n, freq="7D"))


def test_the_messy_tables_hold_what_the_clean_ones_do(demo_folder):
    messy = draft_messy(demo_folder / "raw", budget="4s").survey
    clean = inspected([demo_folder / name for name in ("tickets.csv", "plan.csv", "island_days.csv")], None, None, ())
    assert messy.own["sales"].values("tickets").tolist() == clean.own["tickets"].values("sold").tolist()
    assert messy.guess.options["sales"]["combine"] == {"tickets": "sum"}, "line numbers and clerks are no quantities"
    assert [entry.reason for entry in messy.treatments] == ["the week is partial", "dates were not sorted"]


def test_cycles_are_found_when_no_term_states_them_and_refused_when_seen_less_than_twice():
    at = np.arange(365.0 * 2)
    days = pd.date_range("2022-01-01", periods=len(at), freq="D")
    noise = np.random.default_rng(2).normal(size=len(at))
    values = 50.0 + 3.0 * np.sin(2 * np.pi * at / 10.4) + 2.0 * (at % 7 == 6) + noise
    cycles = of.inspect(pd.Series(values, days, name="load")).cycles
    assert cycles["periods"].round(1).tolist() == [10.4, 7.0]
    assert cycles["name"].tolist() == ["", "a week"]
    assert (cycles["verdict"] == "usable").all()
    slow = pd.Series(50.0 + 9.0 * np.sin(2 * np.pi * at[:200] / 130.0) + noise[:200], days[:200], name="load")
    refused = of.inspect(slow).cycles
    assert refused["verdict"].iloc[0] == "refused: seen less than twice"
    ar = np.zeros(600)
    for t in range(1, 600):
        ar[t] = 0.8 * ar[t - 1] + noise[t]
    assert peaks(ar) == [], "slow noise is no cycle"


def test_shares_of_variance_add_up_and_show_the_parts():
    months = pd.period_range("2015-01", periods=96, freq="M")
    at = np.arange(96.0)
    season = 10.0 * np.sin(2 * np.pi * months.month / 12)
    trend = 0.3 * at
    noise = np.random.default_rng(1).normal(0.0, 2.0, 96)
    shares = of.inspect(pd.Series(200.0 + trend + season + noise, months, name="sold")).variance.set_index("part")[
        "share"
    ]
    assert shares.sum() == pytest.approx(1.0)
    whole = trend + season + noise
    for part, name in ((trend, "trend"), (season, "cycle of a year"), (noise, "rest")):
        assert shares[name] == pytest.approx(np.cov(part, whole)[0, 1] / np.var(whole, ddof=1), abs=0.03), name


def test_what_is_there_is_counted():
    data = weekly()
    data.iloc[[30, 31, 90], 0] = np.nan
    data.iloc[[60, 61], 0] = 0.0
    data.iloc[150, 1] = 90.0
    survey = of.inspect(of.read(data, stamp="start", unit={"sold": "boxes"}))
    row = survey.overview.set_index("column").loc["sold"]
    assert row[["periods", "missing", "zeros", "unit"]].tolist() == [220, 3, 2, "boxes"]
    assert survey.gaps[["from", "to", "periods"]].to_numpy().tolist() == [
        ["2021-08-02", "2021-08-09", 2],
        ["2022-09-26", "2022-09-26", 1],
    ]
    far = survey.outliers.set_index(["column", "period"])
    assert ("rain", "2023-11-20") in far.index
    assert ("sold", "2022-02-28") in far.index, "zeros are far from usual"
    assert any(finding.check == "zeros" for finding in survey.findings)
    text = str(survey)
    assert "3 values missing in 2 runs" in text
    assert "no sale" in text


def test_every_view_has_its_numbers_and_its_figure():
    data = weekly()
    survey = of.inspect(data)
    views = survey.views()
    assert list(views) == ["history", "years", "seasons", "scatter", "lead_lags", "coverage"]
    history = views["history"]
    assert history.coarse.labels()[0] == "2021-01"
    # A week counts in the month that holds its middle: the first four weeks do, the fifth does not.
    assert history.means[0] == pytest.approx(data["sold"].iloc[:4].mean())
    assert [year for year, _, _ in views["years"].years] == [2021, 2022, 2023, 2024, 2025]
    assert views["seasons"].by_ratio
    assert views["scatter"].drivers[0][3] == pytest.approx(np.corrcoef(data["sold"], data["rain"])[0, 1])
    _, lags, r, band = views["lead_lags"].drivers[0]
    assert lags[np.argsort(-np.abs(r))[:2]].tolist() == [0, 2]
    assert band > 2.576 / np.sqrt(220) * 0.4
    (sold, _) = views["coverage"].bars
    assert sold[:3] == ("data", "sold", "week")
    for view in (*views.values(), survey):
        of.figure(view)
    short = of.inspect(pd.Series([1.0, 3.0, 2.0, 5.0], pd.period_range("2020", periods=4, freq="Y"), name="a"))
    assert list(short.views()) == ["history", "coverage"]
    of.figure(short)


def test_inspect_prints_json_and_takes_a_study(demo_folder, run_cli):
    ran = run_cli("inspect", demo_folder / "study.toml", "--json")
    noted = json.loads(ran.out)
    assert {
        "accounts",
        "overview",
        "gaps",
        "outliers",
        "variance",
        "cycles",
        "questions",
        "findings",
        "treatments",
    } == set(noted)
    assert noted["overview"][0]["column"] == "sold"
    ran = run_cli(
        "inspect", demo_folder / "tickets.csv", "--set", "tickets.stamp=start", "--target", "tickets.sailings"
    )
    assert ran.status == 0
    assert "Target: sailings, 208 weeks" in ran.out


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (
            ["tickets.csv", "--set", "tickets.stmp=start"],
            "found 'tickets.stmp=start'. Write it as tickets.stamp=start. Did you mean 'stamp'?",
        ),
        (["tickets.csv", "--set", "ticket.stamp=start"], "there is no source 'ticket'. Did you mean 'tickets'?"),
        (["tickets.csv", "--to", "fortnight"], "found 'fortnight'. Give one of hour, day"),
        (["tickets.csv", "--target", "tickets.solt"], "Did you mean 'tickets.sold'?"),
        (["study.toml", "--to", "week"], "a study says itself how its files are read"),
        (["island_days.csv"], "there is no table of series among the files"),
        (["raw/sales.csv"], "State --set sales.id=clerk for a series each, or --set sales.rows=lines to add"),
        (["none.csv"], "there is no file 'none.csv'"),
    ],
)
def test_inspect_says_what_it_cannot_do(arguments, message, demo_folder, run_cli, monkeypatch):
    monkeypatch.chdir(demo_folder)
    ran = run_cli("inspect", *arguments)
    assert ran.status == 2
    assert message.lower() in ran.err.lower()
    assert ran.err.count("\n") == 1


PORTS = """
format = 1
[sources.sales]
file = "sales.csv"
id = ["port", "hall"]
stamp = "start"
[sources.plan]
file = "plan.csv"
plan_for = "sales"
id = ["port", "hall"]
stamp = "start"
[sources.weather]
file = "weather.csv"
later_rows = "plan"
stamp = "start"
[target]
data = "sales.sold"
[[terms]]
type = "driver"
data = "sales.fare"
[[terms]]
type = "driver"
data = "weather.rain"
[forecast]
horizon = 2
"""


@pytest.fixture
def ports(tmp_path):
    """Two ports with two halls each, a plan for each, weather for all."""
    generator = np.random.default_rng(3)
    days = pd.date_range("2023-01-02", periods=62, freq="7D").strftime("%Y-%m-%d")
    rain = generator.normal(5.0, 1.0, 62).round(2)
    pd.DataFrame({"week": days, "rain": rain}).to_csv(tmp_path / "weather.csv", index=False)
    sales, plan = [], []
    for k, (port, hall) in enumerate([("007", "a"), ("007", "b"), ("7", "a"), ("7", "b")]):
        fare = generator.normal(10.0, 1.0, 62).round(2)
        sold = 100.0 * (k + 1) - 3.0 * fare + rain + generator.normal(0.0, 0.5, 62)
        sales.append(pd.DataFrame({"week": days, "port": port, "hall": hall, "sold": sold, "fare": fare})[:60])
        plan.append(pd.DataFrame({"week": days, "port": port, "hall": hall, "fare": fare})[60:])
    pd.concat(sales).sample(frac=1, random_state=1).to_csv(tmp_path / "sales.csv", index=False)
    pd.concat(plan).to_csv(tmp_path / "plan.csv", index=False)
    (tmp_path / "study.toml").write_text(PORTS)
    return tmp_path


def test_several_series_meet_their_sources_by_id(ports, run_cli):
    study = of.open_study(ports / "study.toml")
    assert list(study.fits) == ["007 / a / main", "007 / b / main", "7 / a / main", "7 / b / main"]
    ran = run_cli("explain", ports / "study.toml", "--out", ports / "out")
    assert ran.status == 0, ran.err
    rows = pd.read_csv(ports / "out" / "forecast.csv", dtype={"series": str})
    assert rows["series"].unique().tolist() == ["007 / a", "007 / b", "7 / a", "7 / b"]
    assert rows.groupby("series")["forecast"].mean().diff().dropna().between(80, 120).all()
    assert len(list((ports / "out").glob("forecast-*.png"))) == 4
    panel = study.tables["sales"]
    alone = of.Model("sold", terms=[of.Driver("fare")]).fit(panel["7 / b"])
    assert alone.axis == study.fits["7 / b / main"].axis
    with pytest.raises(of.InputError, match="there are 4 series"):
        of.Model("sold").fit(panel)
    with pytest.raises(of.InputError, match="there is no series '7 / c'"):
        panel["7 / c"]
    survey = of.inspect(study.tables, plans=study.plans)
    assert len(survey.overview) == 4 * 2 + 1 + 4
    assert survey.series == "007 / a"


def test_a_source_with_ids_must_have_the_targets(ports, run_cli):
    rows = pd.read_csv(ports / "plan.csv", dtype=str)
    rows[rows["port"] == "007"].to_csv(ports / "plan.csv", index=False)
    ran = run_cli("forecast", ports / "study.toml")
    assert ran.status == 0, "the series with a plan are forecast"
    assert "2 series have no result:" in ran.out
    assert "there is no series '7 / a'" in ran.out
    text = (ports / "study.toml").read_text()
    (ports / "study.toml").write_text(text.replace('data = "sales.sold"', 'data = "weather.rain"'))
    ran = run_cli("fit", ports / "study.toml")
    assert ran.status == 2
    assert "sales.csv, key 'id': the source holds several series, but the target is one series" in ran.err
    assert not (ports / "out").exists()
