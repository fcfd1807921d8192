"""The page that leads from a spreadsheet to a forecast: every command, with its output."""

import sys
from pathlib import Path

import pandas as pd
import pytest

import offing as of
from offing.demo import cafe as cafe_of

sys.path.insert(0, str(Path(__file__).parents[1] / "docs"))
from played import PAGE, played, written


def test_every_command_of_the_page_prints_what_stands_there(tmp_path, monkeypatch, run_cli):
    monkeypatch.chdir(tmp_path)
    written(tmp_path)

    def run(arguments):
        ran = run_cli(*arguments)
        assert ran.status == 0, ran.err
        return ran.out

    text = PAGE.read_text(encoding="utf-8")
    for want, found in zip(text.splitlines(), played(text, tmp_path, run).splitlines(), strict=False):
        assert found == want
    study = of.open_study(tmp_path / "first" / "study.toml")
    effects = study.fits["main"].coefficients.set_index("column")["coefficient"]
    assert effects["temperature"] == pytest.approx(cafe_of.PER_DEGREE, rel=0.4)
    assert effects["ships"] == pytest.approx(cafe_of.PER_SHIP, rel=0.2)


def test_a_workbook_is_drafted_as_the_text_is(tmp_path, run_cli):
    written(tmp_path)
    for name in ("sales", "next"):
        pd.read_csv(tmp_path / f"{name}.csv").to_excel(tmp_path / f"{name}.xlsx", index=False)
    found = [
        run_cli("draft", tmp_path / f"sales.{kind}", tmp_path / f"next.{kind}").out.splitlines()
        for kind in ("csv", "xlsx")
    ]
    assert [line for line in found[0] if "sales." not in line] == [line for line in found[1] if "sales." not in line]
