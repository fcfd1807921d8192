"""A folder of messy tables through the command line: each is read rightly, or refused with the line to paste."""

import re
import shlex

import pytest

from messy import CASES


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
