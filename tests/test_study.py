"""The study file and the commands, as a user meets them."""

import json
import shutil
import subprocess
import sys

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.demo import forecast_only
from offing.study.toml_lines import lines_of

KEYS = ["series", "model", "scenario"]
FILES = {
    "forecast": [
        *KEYS,
        "origin",
        "period",
        "horizon",
        "forecast",
        "q0.025",
        "q0.1",
        "q0.25",
        "q0.5",
        "q0.75",
        "q0.9",
        "q0.975",
    ],
    "contributions": [*KEYS, "period", "term", "contribution", "low", "high"],
    "coefficients": [*KEYS, "term", "column", "kind", "coefficient", "std_error", "t", "p", "low", "high", "status"],
    "fitted": [*KEYS, "period", "target", "fitted", "residual", "status"],
    "treatments": [*KEYS, "source", "column", "period", "before", "after", "reason"],
}


@pytest.fixture
def folder(demo_folder, tmp_path):
    """A copy of the demo's data and study that a test may change."""
    for name in ("tickets.csv", "plan.csv", "island_days.csv", "study.toml"):
        shutil.copy(demo_folder / name, tmp_path / name)
    (tmp_path / "study.toml").write_text(forecast_only((tmp_path / "study.toml").read_text()))
    return tmp_path


def change(folder, old, new, file="study.toml"):
    text = (folder / file).read_text()
    assert old in text
    (folder / file).write_text(text.replace(old, new, 1))


def test_the_demo_leaves_the_contracts_files(demo_folder):
    results = demo_folder / "results"
    for name, columns in FILES.items():
        assert pd.read_csv(results / f"{name}.csv").columns.tolist() == columns, name
    every = pd.read_csv(results / "forecast.csv", index_col="period")
    assert every["scenario"].unique().tolist() == ["as planned", "dearer", "stormy and dearer", "unknown", "by hand"]
    forecast = every[every["scenario"] == "as planned"]
    assert len(forecast) == 13
    assert forecast["origin"].unique().tolist() == ["2026-06-29"]
    rows = pd.read_csv(results / "contributions.csv")
    sums = rows.groupby(["scenario", "period"], dropna=False)["contribution"].sum()
    ahead = sums["as planned"]
    assert np.allclose(ahead, forecast["forecast"].reindex(ahead.index), rtol=1e-9, atol=0.0)
    past = sums[sums.index.get_level_values("scenario").isna()].droplevel("scenario")
    fitted = pd.read_csv(results / "fitted.csv", index_col="period")["fitted"].dropna()
    assert len(past) == 208
    assert np.allclose(past, fitted.reindex(past.index), rtol=1e-9, atol=0.0)
    findings = json.loads((results / "findings.json").read_text())
    assert {"check", "severity", "term", "message", "evidence", "advice"} <= set(findings[0])
    record = json.loads((results / "run.json").read_text())
    assert set(record) == {"versions", "seed", "fingerprint", "options", "columns"}
    assert {"source": "tickets", "column": "fare", "use": "driver of the term 'fare'"} in record["columns"]
    assert set(record["fingerprint"]) == {"study.toml", "tickets.csv", "plan.csv", "island_days.csv"}
    assert {"forecast.png", "contributions.png", "effects.png"} <= {path.name for path in results.iterdir()}
    assert not [path for path in results.iterdir() if path.name.startswith(".")]


def test_the_study_and_python_agree(demo_folder):
    """The example's own calls, against the files that the commands wrote."""
    tickets = of.read(demo_folder / "tickets.csv", stamp="start")
    plan = of.read(demo_folder / "plan.csv", stamp="start")
    terms = [
        of.Trend(knots=["2024-04-01"]),
        of.Season("year", harmonics=3),
        of.Holidays(table=demo_folder / "island_days.csv"),
        of.Driver("fare", transform=["log"], sign="negative"),
        of.Driver("sailings", transform=["log"]),
        of.Driver("cruise calls"),
        of.Driver("storm hours", above="estimated", sign="negative"),
        of.Driver("promotion", carry_over="estimated", sign="positive"),
    ]
    ahead = of.Model("sold", scale="log", terms=terms, errors="ar").fit(tickets).forecast(13, plan=plan)
    written = pd.read_csv(demo_folder / "results" / "forecast.csv", dtype=str)
    written = written[written["scenario"] == "as planned"]
    assert [float(text) for text in written["forecast"]] == ahead.mean.tolist()
    assert [float(text) for text in written["q0.975"]] == ahead.table["q0.975"].tolist()


@pytest.mark.parametrize(
    ("step", "files", "words"),
    [
        ("fit", 15, "each driver changes ferry tickets in each week by"),
        ("forecast", 11, "Each week's outcome lies between q0.025 and q0.975 with 95 % probability, if the drivers"),
        ("explain", 28, "Contributions to ferry tickets (tickets), measured from a baseline of the trend"),
    ],
)
def test_commands_print_words_and_write_files(step, files, words, run_cli, folder):
    (folder / "out").mkdir()
    (folder / "out" / "mine.txt").write_text("left alone")
    ran = run_cli(step, folder / "study.toml", "--out", folder / "out")
    assert (ran.status, ran.err) == (0, "")
    assert words in ran.out
    assert len(list((folder / "out").iterdir())) == files + 2, "with the manifest"
    assert (folder / "out" / "mine.txt").read_text() == "left alone"
    machine = json.loads(run_cli(step, folder / "study.toml", "--json").out)
    assert len(machine["coefficients"]) == 24
    assert ("forecast" in machine) == (step != "fit")


def test_a_fit_needs_no_plan(run_cli, folder):
    (folder / "plan.csv").unlink()
    ran = run_cli("fit", folder / "study.toml", "--out", folder / "out")
    assert ran.status == 0
    assert "plan.csv" not in json.loads((folder / "out" / "run.json").read_text())["fingerprint"]
    ran = run_cli("forecast", folder / "study.toml", "--out", folder / "out2")
    assert (ran.status, (folder / "out2").exists()) == (2, False)


def test_several_models_in_one_study(run_cli, folder):
    more = '[models.plain]\nterms = ["trend", "season"]\n[models.full]\nterms = ["trend", "season", "fare"]\n[forecast]'
    change(folder, "[forecast]", more)
    ran = run_cli("forecast", folder / "study.toml", "--out", folder / "out")
    assert ran.status == 0
    assert "model 'plain'" in ran.out
    assert "model 'full'" in ran.out
    table = pd.read_csv(folder / "out" / "forecast.csv")
    assert table["model"].value_counts().to_dict() == {"plain": 13, "full": 13}
    assert (folder / "out" / "forecast-plain.png").exists()


def test_later_rows_and_an_end_date_in_the_study(run_cli, folder):
    tickets, plan = (pd.read_csv(folder / name) for name in ("tickets.csv", "plan.csv"))
    pd.concat([tickets, plan]).to_csv(folder / "tickets.csv", index=False)
    text = (folder / "study.toml").read_text()
    before, _, rest = text.partition("[sources.plan]")
    text = before.replace('stamp = "start"', 'stamp = "start"\nlater_rows = "plan"', 1) + rest[rest.index("[target]") :]
    (folder / "study.toml").write_text(text.replace("horizon = 13", "until = 2026-07-08"))
    machine = json.loads(run_cli("forecast", folder / "study.toml", "--json").out)
    assert [row["period"] for row in machine["forecast"]] == ["2026-06-29", "2026-07-06"]


STUDY_FAULTS = {
    "unknown key": (
        'scale = "log"',
        'scal = "log"',
        "study.toml, line {line}, key 'target.scal': there is no such key. Did you mean 'scale'?",
    ),
    "unknown term key": (
        "harmonics = 3",
        "harmonic = 3",
        "study.toml, line {line}, key 'terms[2].harmonic': there is no such key. Did you mean 'harmonics'?",
    ),
    "unknown source key": (
        'note = "made',
        'notes = "made',
        "study.toml, line {line}, key 'sources.tickets.notes': there is no such key. Did you mean 'note'?",
    ),
    "wrong type": (
        "harmonics = 3",
        'harmonics = "3"',
        "study.toml, line {line}, key 'terms[2].harmonics': found '3'. Allowed: \"chosen\", or give a whole number.",
    ),
    "wrong type in a list": (
        'above = "estimated"',
        'lags = [0, "1"]',
        "line {line}, key 'terms[7].lags[2]': found '1'. Give a whole number.",
    ),
    "wrong choice": (
        'scale = "log"',
        'scale = "logs"',
        "line {line}, key 'target.scale': found 'logs'. Allowed: \"level\" or \"log\".",
    ),
    "unknown kind": (
        'type = "season"',
        'type = "saison"',
        "line {line}, key 'terms[2].type': found 'saison'. Did you mean 'season'?",
    ),
    "kind in a list": (
        'type = "season"',
        'type = ["season"]',
        "line {line}, key 'terms[2].type': found ['season']. Did you mean 'season'?",
    ),
    "horizon 0": (
        "horizon = 13",
        "horizon = 0",
        "line {line}, key 'forecast.horizon': found 0. Give a number of at least 1.",
    ),
    "horizon without end": (
        "horizon = 13",
        "horizon = 99999999999999999999",
        "key 'horizon': 99,999,999,999,999,999,999 periods are too far ahead.",
    ),
    "an end far off": ("horizon = 13", "until = 9999-12-31", "periods are too far ahead. Give at most 5,217."),
    "no levels": (
        "levels = [0.5, 0.8, 0.95]",
        "levels = []",
        "line {line}, key 'forecast.levels': found []. It must not be empty.",
    ),
    "no kind": ('type = "season"', "", "key 'terms[2].type': the kind of term is missing. Add type = \"trend\", say."),
    "level": (
        "levels = [0.5, 0.8, 0.95]",
        "levels = [0.5, 80]",
        "line {line}, key 'forecast.levels[2]': found 80. Give a number below 1.",
    ),
    "no target": (
        '[target]\ndata = "tickets.sold"',
        "[target]",
        "line {line}, key 'target.data': 'data' is missing. Add it.",
    ),
    "format": ("format = 1", "format = 2", "line {line}, key 'format': found 2. Allowed: 1."),
    "reserved": (
        'data = "tickets.fare"',
        'data = "tickets.fare"\nname = "baseline"',
        "'baseline' is the name of a row of the results",
    ),
    "unknown source of a plan": (
        'plan_for = "tickets"',
        'plan_for = "ticket"',
        "line {line}, key 'sources.plan.plan_for': there is no source 'ticket'. Did you mean 'tickets'?",
    ),
    "unknown column": (
        'data = "tickets.fare"',
        'data = "tickets.fair"',
        "study.toml, line 34, term 'fair': there is no column 'tickets.fair' in tickets.csv. Did you mean 'tickets.fare'?",
    ),
    "two of a name": (
        'data = "tickets.fare"',
        'data = "tickets.sailings"',
        "line 40, key 'terms[5]': two terms are called 'sailings'. Give one of them another name.",
    ),
    "broken TOML": (
        "horizon = 13",
        "horizon = ",
        "study.toml: the text is not valid TOML: Invalid value (at line {line}, column 11).",
    ),
    "too many harmonics": (
        "harmonics = 3",
        "harmonics = 30",
        "study.toml, line {line}, key 'harmonics', term 'season': a series by week determines at most 26",
    ),
    "knot outside": (
        'knots = ["2024-04-01"]',
        'knots = ["1934-04-01"]',
        "study.toml, line {line}, key 'knots', term 'trend': 1934-04-01 lies before",
    ),
    "no horizon": (
        "horizon = 13",
        "",
        "study.toml: the study does not say how far to forecast. Add [forecast] with horizon = 13, say.",
    ),
    "horizon beyond the plan": (
        "horizon = 13",
        "horizon = 27",
        "study.toml, line 34, period 2026-12-28, term 'fare': the driver has no value there. plan.csv ends with 2026-12-21: add rows, or forecast fewer periods.",
    ),
    "missing data file": ('file = "tickets.csv"', 'file = "no.csv"', "no.csv'. Check the path."),
    "errors of another kind": (
        'errors = "ar"',
        'errors = "arr"',
        "key 'estimation.errors': found 'arr'. Allowed: \"independent\" or \"ar\".",
    ),
    "model's unknown term": (
        "[forecast]",
        '[models.a]\nterms = ["trent"]\n[forecast]',
        "key 'models.a.terms[1]': there is no term 'trent'. Did you mean 'trend'?",
    ),
    "model's name": (
        "[forecast]",
        '[models."../a"]\nterms = []\n[forecast]',
        "found the name '../a'. Names of models are letters",
    ),
}


@pytest.mark.parametrize("case", STUDY_FAULTS)
def test_a_faulty_study_ends_with_one_message_and_status_2(case, run_cli, folder):
    old, new, message = STUDY_FAULTS[case]
    before = (folder / "study.toml").read_text().partition(old)[0]
    change(folder, old, new)
    line = before.count("\n") + 1
    ran = run_cli("forecast", folder / "study.toml", "--out", folder / "out")
    assert ran.status == 2
    assert ran.out == ""
    assert ran.err.startswith("Error: ")
    assert ran.err.count("\n") == 1
    assert message.replace("{line}", str(line)).lower() in ran.err.lower()
    assert not (folder / "out").exists(), "nothing is half written"


DATA_FAULTS = {
    "text in a column": (
        "tickets.csv",
        ",18.03,",
        ",cheap,",
        "tickets.csv, row 2, column 'fare', term 'fare': found 'cheap', which is not a number.",
    ),
    "doubled week": (
        "tickets.csv",
        "2022-07-11,",
        "2022-07-04,",
        "tickets.csv, period 2022-07-04: rows 2 and 3 both stand for it.",
    ),
    "a gap in the plan": (
        "plan.csv",
        "2026-07-13,",
        "2027-01-04,",
        "plan.csv: 2 weeks are missing between the first and the last: 2026-07-13, 2026-12-28.",
    ),
    "a hole in the plan": (
        "plan.csv",
        None,
        "",
        "period 2026-07-06, term 'fare': the driver has no value there. Fill in the cell in plan.csv.",
    ),
}


@pytest.mark.parametrize("case", DATA_FAULTS)
def test_faulty_data_end_with_one_message_and_status_2(case, run_cli, folder):
    file, old, new, message = DATA_FAULTS[case]
    lines = (folder / file).read_text().splitlines()
    if old is None:
        cells = lines[2].split(",")
        lines[2] = ",".join([cells[0], new, *cells[2:]])
    elif old.startswith(","):
        cells = lines[1].split(",")
        lines[1] = ",".join([*cells[:2], new.strip(","), *cells[3:]])
    else:
        lines = [line.replace(old, new) for line in lines]
    (folder / file).write_text("\n".join(lines))
    ran = run_cli("forecast", folder / "study.toml", "--out", folder / "out")
    assert ran.status == 2
    assert message in ran.err
    assert not (folder / "out").exists()


def test_outputs_are_whole_or_not_there(run_cli, folder):
    blocked = folder / "out"
    (blocked / "forecast.csv").mkdir(parents=True)
    ran = run_cli("forecast", folder / "study.toml", "--out", blocked)
    assert ran.status == 2
    assert "there is a folder called 'forecast.csv'" in ran.err
    assert [path.name for path in blocked.iterdir()] == ["forecast.csv"]


def test_text_in_files_is_never_a_formula(run_cli, folder):
    change(folder, "fare", "=2+3", "tickets.csv")
    change(folder, "fare", "=2+3", "plan.csv")
    study = (folder / "study.toml").read_text().replace('data = "tickets.fare"', 'data = "tickets.=2+3"')
    (folder / "study.toml").write_text(study.replace("fare = ", '"=2+3" = '))
    assert run_cli("forecast", folder / "study.toml", "--out", folder / "out").status == 0
    rows = pd.read_csv(folder / "out" / "contributions.csv")
    assert "'=2+3" in set(rows["term"])
    assert rows["contribution"].dtype == float


def test_dates_of_toml_and_a_column_with_dots(folder):
    change(folder, "sold", "a.b.c", "tickets.csv")
    change(folder, 'data = "tickets.sold"', 'data = { source = "tickets", column = "a.b.c" }')
    study = (folder / "study.toml").read_text().replace("sold =", '"a.b.c" =')
    (folder / "study.toml").write_text(study.replace('["2024-04-01"]', "[2024-04-01]"))
    assert of.open_study(folder / "study.toml").fits["main"].column == "a.b.c"


def test_lines_are_found_for_every_kind_of_value():
    text = (
        'a.b = 1\n[t."x y"]\nc = { d = [1,\n 2] } # 3\n[[l]]\nk = 1\n[[l.m]]\nz = 0\n[[l]]\nk = [\n"p",\n# no\n"q"]\n'
    )
    lines = lines_of(text)
    assert lines["a", "b"] == 1
    assert (lines["t", "x y"], lines["t", "x y", "c", "d", 1]) == (2, 4)
    assert (lines["l", 0, "k"], lines["l", 0, "m", 0, "z"], lines["l", 1, "k"]) == (6, 8, 10)
    assert (lines["l", 1, "k", 0], lines["l", 1, "k", 1]) == (11, 13)


def test_help_and_import_stay_light():
    """Neither loads pandas, Matplotlib or the packages that only some commands need."""
    heavy = "{'numpy', 'pandas', 'scipy', 'matplotlib', 'holidays', 'pydantic', 'tree_sitter'}"
    checks = {
        "import offing": "",
        "from offing.cli import main\ntry: main(['--help'])\nexcept SystemExit: pass": "",
        "import offing, pandas\noffing.Model, offing.read, offing.Trend": "- {'numpy', 'pandas', 'scipy'}",
    }
    for code, allowed in checks.items():
        probe = f"{code}\nimport sys\nassert not {heavy} {allowed} & set(sys.modules), {heavy} & set(sys.modules)"
        subprocess.run([sys.executable, "-c", probe], check=True, capture_output=True)


def test_the_demo_without_a_network_show_each_step_and_its_numbers_are_those_of_another_process(
    tmp_path, demo_folder, run_cli
):
    said = (demo_folder / "said.txt").read_text()
    for words in (
        "1. Made up 208 weeks",
        "2. Drafted a forecast from the messy tables",
        "4. Forecast 13 weeks",
        "6. Compared the estimates with the truth",
        "20 of 21 true effects lie in their 95 % intervals",
        "Try next",
    ):
        assert words in said
    assert run_cli("forecast", demo_folder / "study.toml", "--out", tmp_path / "again").status == 0
    again = list((tmp_path / "again").glob("*.csv"))
    assert len(again) > 8
    for path in again:
        assert path.read_bytes() == (demo_folder / "results" / path.name).read_bytes(), path.name


def test_the_command_line_without_a_study(run_cli, tmp_path):
    assert "explain" in run_cli("--help").out
    assert run_cli("--version").out == "offing, version 0.1.0\n"
    ran = run_cli("fit", tmp_path / "none.toml")
    assert (ran.status, ran.err.endswith("none.toml'. Check the path.\n")) == (2, True)
    assert run_cli("fti").status == 2
    assert run_cli("demo", "/dev/null/x").status == 2


def test_public_names_are_documented_and_there():
    assert set(of.__all__) == set(dir(of))
    for name in of.__all__:
        if name != "__version__":
            assert ">>>" in getattr(of, name).__doc__, f"{name} lacks a runnable example"
    with pytest.raises(AttributeError, match=r"offing has no 'Modle'. Did you mean 'Model'"):
        of.Modle  # noqa: B018
