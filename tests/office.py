"""Workbooks as an office program sees them: LibreOffice calculates every formula again, whatever the file says."""

import io
import os
import re
import shutil
import subprocess
import zipfile
from pathlib import Path

import openpyxl
import pytest

#: LibreOffice trusts the values in a file unless its profile says otherwise.
ALWAYS = """<?xml version="1.0" encoding="UTF-8"?>
<oor:items xmlns:oor="http://openoffice.org/2001/registry">
<item oor:path="/org.openoffice.Office.Calc/Formula/Load"><prop oor:name="OOXMLRecalcMode" oor:op="fuse">
<value>0</value></prop></item>
<item oor:path="/org.openoffice.Setup/L10N"><prop oor:name="ooSetupSystemLocale" oor:op="fuse"><value>{locale}</value>
</prop></item></oor:items>"""


def wrong(content):
    """A workbook in which every formula's value is said to be 7."""
    before, after = zipfile.ZipFile(io.BytesIO(content)), io.BytesIO()
    with zipfile.ZipFile(after, "w", zipfile.ZIP_DEFLATED) as file:
        for each in before.infolist():
            data = before.read(each)
            if each.filename.startswith("xl/worksheets/sheet"):
                data, count = re.subn(rb"(</f><v>)[^<]*(</v>)", rb"\g<1>7\2", data)
                assert count or b"<f>" not in data
            file.writestr(each, data)
    return after.getvalue()


def recalculated(contents, folder, kind="xlsx", locale="en-US"):
    """The workbooks by name as LibreOffice has them in a country, all calculated again."""
    if shutil.which("soffice") is None:
        assert "OFFING_MUST_HAVE_OFFICE" not in os.environ, "LibreOffice is not installed"
        pytest.skip("LibreOffice is not installed")
    given, out, profile = (Path(folder) / name for name in ("given", "out", "profile"))
    for each in (given, out, profile / "user"):
        each.mkdir(parents=True, exist_ok=True)
    (profile / "user" / "registrymodifications.xcu").write_text(ALWAYS.format(locale=locale))
    for name, content in contents.items():
        (given / f"{name}.xlsx").write_bytes(content)
    command = ["soffice", f"-env:UserInstallation=file://{profile}", "--headless", "--convert-to", kind]
    files = [str(given / f"{name}.xlsx") for name in contents]
    subprocess.run([*command, "--outdir", str(out), *files], check=True, capture_output=True, timeout=280)
    if kind != "xlsx":
        return {name: (out / f"{name}.{kind}").read_text() for name in contents}
    return {name: openpyxl.load_workbook(out / f"{name}.xlsx", data_only=True) for name in contents}


def changed_in(content, change):
    """A workbook in which somebody has typed something; no formula has a value any more."""
    book = openpyxl.load_workbook(io.BytesIO(content))
    change(book)
    saved = io.BytesIO()
    book.save(saved)
    return saved.getvalue()


def column(sheet, name, count):
    """The numbers below a head."""
    heads = [cell.value for cell in sheet[8]]
    at = heads.index(name) + 1
    return [sheet.cell(9 + row, at).value for row in range(count)]
