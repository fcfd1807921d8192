"""A run again, with new rows: what has changed since the results that are there."""

import pandas as pd
import pytest

import offing as of
from test_saved import STUDY, study  # noqa: F401  the fixture


@pytest.fixture
def again(study, run_cli):  # noqa: F811
    """Run the forecast into a folder, and give what is said of changes."""

    def run(text=STUDY, *options):
        (study / "study.toml").write_text(text + '\n[output]\nfigures = "none"\n')
        ran = run_cli("forecast", study / "study.toml", "--out", study / "out", *options)
        assert ran.status == 0, ran.err
        return ran.out.partition("\nSince the forecast of ")[2]

    return run


def test_new_rows_revised_values_and_the_plan_are_said_and_walked(again, study):  # noqa: F811
    assert not again(), "nothing was there"
    assert again().splitlines()[1:5] == [
        "No new rows of sold.",
        "No value of the past was revised.",
        "The plan of the drivers is the same.",
        "The forecast is the same.",
    ]
    before = (
        pd.read_csv(study / "out" / "forecast.csv").query("scenario == 'as planned'").set_index("period")["forecast"]
    )
    tickets, plan = pd.read_csv(study / "tickets.csv"), pd.read_csv(study / "plan.csv")
    tickets.loc[[10, 50], "sold"] += 3.0
    pd.concat([tickets, pd.read_csv(study / "newer.csv").iloc[:2]]).to_csv(study / "tickets.csv", index=False)
    plan.loc[3:5, "fare"] += 1.0
    plan.to_csv(study / "plan.csv", index=False)
    lines = again().splitlines()
    assert lines[0] == "2024-07-01:"
    assert lines[1] == "2 new weeks of sold, up to 2024-07-08."
    assert lines[2].startswith("2 values of the past revised: 2022-03-14 from ")
    assert lines[3] == "The plan has changed: 'fare' in 3 weeks."
    after = (
        pd.read_csv(study / "out" / "forecast.csv").query("scenario == 'as planned'").set_index("period")["forecast"]
    )
    both = before.index.intersection(after.index)
    assert len(both) == 4
    change = after[both].sum() - before[both].sum()
    words = " ".join(lines[4:6])
    assert "forecast of 4 weeks from 2024-07-15 to 2024-08-05" in words
    assert f"against {before[both].sum():.1f}" in words
    assert f"{abs(change):.3g}" in words
    assert any(line.startswith("'fare'") for line in lines)


def test_results_that_are_not_whole_are_not_compared(again, study):  # noqa: F811
    again()
    (study / "out" / "forecast.csv").write_text("period\n2024-07-01\n")
    assert not again(), "a file is not as its manifest says"
    again()
    for name in ("fitted.csv", "contributions.csv"):
        (study / "out" / name).unlink()
    assert not again()


def test_packed_results_and_several_series_are_compared_as_well(again, study):  # noqa: F811
    data = pd.read_csv(study / "tickets.csv")
    ports = [data.assign(port=f"P{i}", sold=data["sold"] * (1.0 + i)) for i in range(4)]
    pd.concat(ports).to_csv(study / "tickets.csv", index=False)
    text = STUDY.replace('file = "tickets.csv"', 'file = "tickets.csv"\nid = "port"').replace(
        "unknown_drivers_cost = true\n", ""
    )
    packed = text + '\n[output]\nfigures = "none"\nformat = "parquet"\n'
    (study / "study.toml").write_text(packed)
    from offing.study.outputs import StudyOutput
    from offing.study.repeated import changes_since

    first = of.open_study(study / "study.toml")
    StudyOutput(first, "forecast").bundle().write(study / "packed")
    said = changes_since(of.open_study(study / "study.toml"), study / "packed")
    assert said.count("The forecast is the same.") == 3
    assert said.endswith("1 more fit is not compared one by one.")
