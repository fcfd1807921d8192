"""A folder of messy tables through the command line: each is read rightly, or refused with the line to paste."""

import inspect
import json
import os
import re
import shlex
import zipfile
from dataclasses import fields
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import offing as of
from messy import CASES
from offing.study.drafted import Request, drafted
from offing.study.schema import SourceSpec
from offing.tables.read_options import Reading


def made(case, folder):
    for name, content in case.files.items():
        (folder / name).write_bytes(content if isinstance(content, bytes) else content.encode())
    return [name for name in case.files if name != "days.csv"]


@pytest.mark.parametrize("name", CASES)
def test_a_messy_table_is_read_or_refused_with_what_to_do(name, tmp_path, monkeypatch, run_cli):
    case = CASES[name]
    monkeypatch.chdir(tmp_path)
    files = made(case, tmp_path)
    ran = run_cli("inspect", *files, *case.options)
    text = ran.out if case.status == 0 else ran.err
    assert ran.status == case.status, ran.out + ran.err
    flat = " ".join(text.split())
    for words in case.says:
        assert words in flat, f"{words!r} is not in:\n{text}"
    for words in case.not_says:
        assert words not in flat
    if case.status:
        assert text.count("\n") == 1, "one message, in one line"
        assert "SOURCE" not in text, "never a placeholder"
    else:
        assert len(text.splitlines()) <= 25
    if case.status and case.pasted:
        offered = re.search(r"--set ('[^']*'|\S+)", text)
        assert offered, f"nothing to paste in:\n{text}"
        again = run_cli("inspect", *files, *case.options, "--set", shlex.split(offered[1])[0])
        assert again.status == 0, again.err


def test_there_are_enough_of_them():
    assert len(CASES) >= 60


def test_the_page_shows_what_the_command_prints(tmp_path, monkeypatch, run_cli):
    page = (Path(__file__).parents[1] / "docs" / "your-table.md").read_text()
    blocks = re.findall(r"<!-- table: (.*?) -->\n```text\n(.*?)```", page, re.DOTALL)
    assert len(blocks) >= 20
    for name, block in blocks:
        folder = tmp_path / re.sub(r"\W", "-", name)
        folder.mkdir()
        monkeypatch.chdir(folder)
        made(CASES[name], folder)
        command, printed = re.fullmatch(r"(?:.*\n)?\$ offing (.*?)\n(.*)", block, re.DOTALL).groups()
        ran = run_cli(*shlex.split(command))
        assert (ran.out + ran.err).rstrip() == printed.rstrip(), name


def test_help_lists_every_option_of_reading_and_the_study_and_the_command_take_it(tmp_path, run_cli):
    shown = inspect.signature(of.read).parameters
    keys = list(Reading.__dataclass_fields__)
    assert list(shown) == ["source", *keys]
    assert shown["frequency"].default is None
    heads = re.findall(r"^([a-z_, ]+)$", inspect.getdoc(of.read), re.MULTILINE)
    assert {*keys} <= {word for head in heads for word in head.split(", ")}
    assert {*keys} < {each.name for each in fields(SourceSpec)}
    for key in keys:
        assert key in str(nearest_of(key, run_cli, tmp_path))


def nearest_of(key, run_cli, folder):
    """What --set says of a key with a slip in it."""
    (folder / "t.csv").write_text("month,sold\n2024-01,1\n")
    return run_cli("inspect", folder / "t.csv", "--set", f"t.{key}x=1").err


def test_what_was_resolved_stands_in_the_study_and_is_no_note_of_later_runs(tmp_path, monkeypatch, run_cli):
    monkeypatch.chdir(tmp_path)
    for name in (
        "dollars",
        "German months",
        "titles above",
        "yes and no",
        "euros after",
        "business days",
        "other letters",
    ):
        made(CASES[name], tmp_path)
        study = tmp_path / re.sub(r"[^a-z]", "", name) / "study.toml"
        study.parent.mkdir()
        study.write_text(drafted([Path("t.csv")], Request(budget="1s")).study(study.parent), encoding="utf-8")
        opened = of.open_study(study)
        table = opened.tables["t"]
        assert not table.settings, name
        assert not [
            f
            for f in table.findings
            if f.check in ("notation", "number marks", "locale", "header", "encoding", "business days")
        ]
        ran = run_cli("fit", study)
        assert ran.status == 0, ran.err
        assert set(opened.accounts()["column"]) == set(table.accounts["column"])


def test_ids_are_text_exactly_as_written_from_every_source_and_shape(tmp_path):
    lines = "day,product,qty\n" + "".join(
        f"2024-01-{d:02d},{p},{q}\n" for d in range(1, 29) for p, q in (("00007", 2), ("7", 3), ("7", 1))
    )
    (tmp_path / "lines.csv").write_text(lines)
    combined = {"rows": "lines", "frequency": "day", "combine": {"qty": "sum"}}
    panel = of.read(tmp_path / "lines.csv", id="product", **combined)
    assert {name: table.values("qty").sum() for name, table in panel.items()} == {"00007": 56.0, "7": 112.0}
    frame = pd.read_csv(tmp_path / "lines.csv", dtype={"product": str})
    assert list(of.read(frame, id="product", **combined)) == ["00007", "7"]
    frame.to_parquet(tmp_path / "lines.parquet")
    assert list(of.read(tmp_path / "lines.parquet", id="product", **combined)) == ["00007", "7"]
    wide = pd.DataFrame({"product": ["00007", "7"], **{f"2024-{m:02d}": [1.0, 2.0] for m in range(1, 13)}})
    assert list(of.read(wide, wide="qty", id="product")) == ["00007", "7"]
    from openpyxl import Workbook

    book = Workbook()
    book.active.append(["month", "product", "qty"])
    for month in ("2024-01", "2024-02"):
        for product, shape in ((7, "00000"), (7, "0")):
            book.active.append([month, product, 1.0])
            book.active.cell(book.active.max_row, 2).number_format = shape
    book.save(tmp_path / "t.xlsx")
    assert list(of.read(tmp_path / "t.xlsx", id="product")) == ["00007", "7"], "as the sheet shows them"


def test_a_column_with_one_value_in_each_series_is_an_id_and_no_driver():
    months = pd.period_range("2022-01", periods=24, freq="M").astype(str)
    rows = pd.DataFrame(
        {
            "month": list(months) * 3,
            "shop": np.repeat(["a", "b", "c"], 24),
            "region": np.repeat([1, 1, 2], 24),
            "sold": np.arange(72.0),
            "fare": np.tile(np.arange(24.0), 3),
        }
    )
    panel = of.read(rows, id="shop")
    uses = panel.accounts.set_index("column")["use"]
    assert uses["region"] == "an id: the same in every row of a series"
    survey = of.inspect(panel)
    assert "data.region" not in survey.drivers
    assert "data.fare" in survey.drivers


def test_a_bad_series_stops_no_other_in_any_command(tmp_path, run_cli):
    months = pd.period_range("2021-01", periods=48, freq="M").astype(str)
    generator = np.random.default_rng(4)
    good = [f"{m},{port},{100 + 10 * generator.normal():.1f}" for port in ("a", "b") for m in months]
    bad = [
        *(f"{m},one,5" for m in months[:1]),
        *(f"{m},none," for m in months),
        *(f"{m},doubled,1" for m in [*months, months[0]]),
        *(f"{m},zeros,0" for m in months),
        *(f"{m},words,closed" for m in months),
    ]
    (tmp_path / "t.csv").write_text("\n".join(["month,port,sold", *good, *bad]) + "\n")
    study = tmp_path / "study.toml"
    study.write_text(
        'format = 1\n[sources.t]\nfile = "t.csv"\nid = "port"\n[target]\ndata = "t.sold"\n[[terms]]\ntype = "trend"\n'
        '[forecast]\nhorizon = 2\n[backtest]\norigins = 4\n[output]\nfigures = "none"\n'
    )
    ran = run_cli("forecast", study, "--out", tmp_path / "out")
    assert ran.status == 0, ran.err
    rows = pd.read_csv(tmp_path / "out" / "forecast.csv")
    assert sorted(rows["series"].unique()) == ["a", "b", "zeros"]
    left = pd.read_csv(tmp_path / "out" / "treatments.csv").query("after == 'left out'").set_index("series")["reason"]
    assert sorted(left.index) == ["doubled", "none", "one", "words"]
    assert "both stand for it" in left["doubled"]
    named = {
        each["series"]
        for each in json.loads((tmp_path / "out" / "findings.json").read_text())
        if each["check"] == "series"
    }
    assert named == set(left.index)
    ran = run_cli("backtest", study)
    assert (ran.status, "series have no result" in ran.out) == (0, True), ran.err
    (tmp_path / "t.csv").write_text(
        "\n".join(["month,port,sold", *(each for each in bad if "zeros" not in each)]) + "\n"
    )
    ran = run_cli("forecast", study)
    assert (ran.status, ran.err.count("\n")) == (2, 1), "all of them fail"


def test_plans_of_panels_are_recognised_and_until_ends_ragged_series_together(tmp_path, run_cli):
    months = pd.period_range("2021-01", periods=40, freq="M").astype(str)
    generator = np.random.default_rng(4)
    text = [
        f"{m},{port},{100 + generator.normal():.2f},{generator.normal():.2f}"
        for port, n in (("a", 36), ("b", 34))
        for m in months[:n]
    ]
    (tmp_path / "shops.csv").write_text("\n".join(["month,port,sold,fare", *text]) + "\n")
    plan = [f"{m},{port},{generator.normal():.2f}" for port in ("a", "b") for m in months[36:]]
    (tmp_path / "ahead.csv").write_text("\n".join(["month,port,fare", *plan]) + "\n")
    ran = run_cli("inspect", tmp_path / "shops.csv", tmp_path / "ahead.csv")
    assert ran.status == 0, ran.err
    assert "plan: 2 series by port" in " ".join(ran.out.split())
    assert "they end at different dates" in " ".join(ran.out.split())
    assert len(ran.out.splitlines()) <= 20
    panel = of.read(tmp_path / "shops.csv", id="port", until="2023-06")
    assert {table.axis.spell() for table in panel.values()} == {"30 months from 2021-01 to 2023-06"}
    assert panel["a"].treatments[-1].reason == "until = 2023-06"
    assert "a: 36 months" in str(of.read(tmp_path / "shops.csv", id="port"))


@pytest.mark.parametrize(
    ("call", "words"),
    [
        (lambda _: of.Season(harmonic=3), "Season has no parameter 'harmonic'. Did you mean 'harmonics'?"),
        (lambda _: of.Model("a", term=[]), "Model has no parameter 'term'. Did you mean 'terms'?"),
        (lambda _: of.read("t.csv", decimals=","), "read has no parameter 'decimals'. Did you mean 'decimal'?"),
        (lambda data: of.backtest(of.Model("sold"), data, horizon=1).compare(score="mape"), "Did you mean 'MAPE'?"),
        (
            lambda data: of.Model("sold", [of.Driver("weather")]).fit(data),
            'a term of type = "category" (Category) has an effect',
        ),
    ],
)
def test_slips_in_python_have_the_nearest_name(call, words):
    data = pd.DataFrame(
        {"sold": np.arange(30.0), "weather": ["wet", "dry"] * 15}, pd.date_range("2024-01-01", periods=30)
    )
    with pytest.raises(of.InputError) as noted:
        call(data)
    assert words.lower() in str(noted.value).lower()
    with pytest.raises(AttributeError, match="Did you mean 'Season'"):
        _ = of.Seasons


def test_what_would_fill_the_memory_or_never_end_is_refused_at_once(tmp_path):
    os.mkfifo(tmp_path / "pipe.csv")
    for path, words in (
        (tmp_path / "pipe.csv", "a pipe or a device"),
        (Path("/dev/zero"), "a pipe or a device"),
        (tmp_path, "is a folder"),
    ):
        with pytest.raises(of.InputError, match=words):
            of.read(path)
    sheet = b"<row><c><v>1</v></c></row>" * 4_000_000
    with zipfile.ZipFile(tmp_path / "bomb.xlsx", "w", zipfile.ZIP_DEFLATED) as packed:
        packed.writestr("xl/worksheets/sheet1.xml", sheet)
    assert (tmp_path / "bomb.xlsx").stat().st_size < 400_000
    with pytest.raises(of.InputError, match="unpacks to 104 MB, more than the 100 MB"):
        of.read(tmp_path / "bomb.xlsx")
