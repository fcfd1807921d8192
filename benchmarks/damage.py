"""Damage a study and its tables at random, run every command on them, and print what no user should meet.

``python benchmarks/damage.py 600`` takes ten minutes, ``python benchmarks/damage.py 600 7`` with another seed. Each run
has its own process. It fails where a run ends with a trace or a fault of Offing, takes more than 20 seconds, or prints
or writes a number that is not finite while its status says that all is well. Damaged files of such runs are kept.
"""

from __future__ import annotations

import csv
import io
import math
import multiprocessing
import os
import random
import re
import shutil
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path

import numpy as np
import pandas as pd

from offing.cli import main as command_line

SECONDS = 20.0
VALUES = (
    "",
    "nan",
    "inf",
    "-inf",
    "-1",
    "0",
    "1e308",
    "1e-300",
    "-1e150",
    "1e16",
    "12,5",
    "1.234,5",
    "abc",
    "=1+1",
    "é\u202e",
    "\x1b[31m",
    "\x00",
    "2024-13-45",
    "1700-01-01",
    "9999-12-31",
    "true",
    "'",
    '"',
    ";",
    "None",
    "99999999999999999999",
)
NUMBERS = ("0", "-1", "1", "2", "7", "400", "1e9", "1e308", "nan", "inf", "0.5", '"x"', "true", "[]", "{}")
WORDS = (
    "trend",
    "season",
    "driver",
    "sold",
    "data.sold",
    "data.fare",
    "week",
    "chosen",
    "estimated",
    "found",
    "linear",
    "log",
    "data.csv",
    "nowhere.csv",
    "",
    "🛶",
    "a" * 3000,
)
LINES = (
    'scale = "log"',
    "chosen = 3",
    '[output]\nfigures = "all"',
    "offset = 1e9",
    "[[terms]]",
    "lower_limit = 1e5",
    'transform = ["difference"]',
    'weights = "beta"',
    "lags = [1, 2]",
    'pooling = "full"',
    "carry_over = 0.5",
    'curve = "rising"',
    "window = 3",
)
COMMANDS = (
    ["fit"],
    ["fit", "--full"],
    ["forecast"],
    ["explain"],
    ["backtest"],
    ["compare"],
    ["screen"],
    ["search"],
    ["inspect"],
)
STUDY = """format = 1
title = "Ferry"
[sources.data]
file = "data.csv"
stamp = "start"
[target]
data = "data.sold"
[[treatments]]
data = "data.fare"
missing = "linear"
[[terms]]
type = "trend"
knots = ["2022-06-06"]
[[terms]]
type = "season"
harmonics = 2
[[terms]]
type = "driver"
data = "data.fare"
transform = ["log"]
[[terms]]
type = "driver"
data = "data.temp"
below = "estimated"
[[terms]]
type = "event"
name = "fair"
dates = ["2022-03-07", "2023-03-06"]
[estimation]
errors = "ar"
[driver_selection]
columns = ["data.fare", "data.temp", "data.wind"]
most = 2
[search]
model = "full"
optional = ["fare", "temp"]
tries = 6
[backtest]
horizon = 3
origins = 4
[forecast]
horizon = 3
levels = [0.8, 0.95]
missing_plans = "expected"
[models.full]
terms = ["trend", "season", "fare", "temp", "fair"]
[models.plain]
terms = ["trend"]
"""


def data() -> pd.DataFrame:
    """Three years of weeks."""
    noise = np.random.default_rng(5)
    weeks = pd.date_range("2021-01-04", periods=150, freq="7D")
    t = np.arange(150)
    temp = 10.0 + 9.0 * np.sin(t / 8.3) + noise.normal(0.0, 1.0, 150)
    fare = 10.0 + noise.uniform(-1.0, 1.0, 150)
    sold = 300.0 + 0.3 * t - 8.0 * fare + 3.0 * np.maximum(12.0 - temp, 0.0) + noise.normal(0.0, 5.0, 150)
    frame = pd.DataFrame({"week": weeks.strftime("%Y-%m-%d"), "sold": sold, "fare": fare, "temp": temp}).round(3)
    return frame.assign(wind=noise.normal(5.0, 1.0, 150).round(3), flag=(noise.random(150) < 0.1).astype(int))


def damaged_table(text: str, pick: random.Random) -> str:
    """The table with one thing wrong."""
    rows = list(csv.reader(io.StringIO(text)))
    n, m = len(rows), len(rows[0])
    row, column = pick.randrange(1, n), pick.randrange(m)
    value, kind = pick.choice(VALUES), pick.randrange(13)
    if kind <= 2:
        rows[row][column] = value
    elif kind == 3:
        rows = rows[:1] + [[*each[:column], value, *each[column + 1 :]] for each in rows[1:]]
    elif kind == 4:
        del rows[row : row + pick.choice((1, 1, 5, 60))]
    elif kind == 5:
        rows.insert(row, rows[pick.randrange(1, n)])
    elif kind == 6:
        rows[0][column] = pick.choice(("", rows[0][(column + 1) % m], value))
    elif kind == 7:
        rows = [[each for i, each in enumerate(line) if i != column] for line in rows]
    elif kind == 8:
        rows = rows[: pick.choice((1, 2, 4, 9, 25, 60))]
    elif kind == 9:
        rows[row] = rows[row][: pick.randrange(m)]
    elif kind == 10:
        size = 10.0 ** pick.choice((-200, -12, 9, 120, 200))
        rows = rows[:1] + [
            [repr(float(each) * size) if i == max(column, 1) else each for i, each in enumerate(line)]
            for line in rows[1:]
        ]
    else:
        out = io.StringIO()
        csv.writer(out).writerows(rows)
        text, at = out.getvalue(), pick.randrange(len(text))
        return text[:at] if kind == 11 else text[:at] + pick.choice(VALUES) + text[at + 1 :]
    out = io.StringIO()
    csv.writer(out, delimiter=pick.choice(",,,,;\t")).writerows(rows)
    return out.getvalue()


def damaged_study(text: str, pick: random.Random) -> str:
    """The study with one thing wrong."""
    lines = text.splitlines()
    at, kind = pick.randrange(len(lines)), pick.randrange(8)
    if kind == 0:
        del lines[at]
    elif kind == 1:
        lines.insert(at, lines[pick.randrange(len(lines))])
    elif kind == 2:
        spots = [i for i, line in enumerate(lines) if re.search(r"= .*\d", line)]
        at = pick.choice(spots)
        lines[at] = re.sub(r"\d[\d.]*", pick.choice(NUMBERS), lines[at], count=1)
    elif kind in (3, 4):
        spots = [i for i, line in enumerate(lines) if re.search(r'"[^"]*"', line)]
        at = pick.choice(spots)
        lines[at] = re.sub(r'"[^"]*"', lambda _: f'"{pick.choice(WORDS)}"', lines[at], count=1)
    elif kind == 5:
        other = pick.randrange(len(lines))
        lines[at], lines[other] = lines[other], lines[at]
    elif kind == 6:
        place = pick.randrange(len(lines[at]) or 1)
        lines[at] = lines[at][:place] + pick.choice(['"', "[", "]", "=", "#", "\x07", "."]) + lines[at][place + 1 :]
    else:
        lines.insert(at, pick.choice(LINES))
    return "\n".join(lines) + "\n"


def run(folder: Path, command: list[str]) -> None:
    """One command in this process, with what it prints in files."""
    os.chdir(folder)
    status = 1
    with (folder / "out.txt").open("w") as out, (folder / "err.txt").open("w") as err:  # noqa: SIM117
        with redirect_stdout(out), redirect_stderr(err):
            try:
                command_line([command[0], "study.toml", *command[1:], "--out", "results"])
            except SystemExit as stop:
                status = int(stop.code or 0)
    os._exit(status)


def wrong(folder: Path, status: int | None) -> str:
    """What no user should meet; empty if there is nothing."""
    if status is None:
        return f"more than {SECONDS:g} seconds"
    out, err = ((folder / name).read_text(errors="replace") for name in ("out.txt", "err.txt"))
    if "Traceback" in out + err or "fault of Offing" in out + err or status not in (0, 2):
        return f"status {status}: {err.strip()[-300:]}"
    if "Warning" in err:
        return f"a warning: {err.strip()[:300]}"
    if status:
        return "" if err.startswith("Error: ") or err.startswith("Usage: ") else f"no clear error: {err.strip()[:300]}"
    if found := re.search(r"(?<![\w'.])-?(nan|inf)(?![\w'.])", out):
        return f"prints {found[0]}"
    for path in (folder / "results").glob("*.csv"):
        for line in csv.reader(path.open()):
            for cell in line:
                if cell.lower() in ("nan", "inf", "-inf") or (
                    _number(cell) is not None and not math.isfinite(_number(cell) or 0.0)
                ):
                    return f"{path.name} holds {cell}"
    return ""


def _number(cell: str) -> float | None:
    try:
        return float(cell)
    except ValueError:
        return None


def main() -> None:
    """Damage and run until the time is over."""
    seconds, seed = float(sys.argv[1]) if len(sys.argv) > 1 else 600.0, int(sys.argv[2]) if len(sys.argv) > 2 else 1
    pick = random.Random(seed)  # noqa: S311
    table = data().to_csv(index=False)
    context = multiprocessing.get_context("fork")
    kept = Path(tempfile.mkdtemp(prefix="damage-"))
    start, done, faults, slowest = time.monotonic(), 0, 0, 0.0
    ends: dict[int | None, int] = {}
    while time.monotonic() - start < seconds:
        folder = kept / f"{done:05d}"
        folder.mkdir()
        harm: list[Callable[[str, random.Random], str]] = [damaged_table, damaged_study]
        text, rows = STUDY, table
        for _ in range(pick.choice((1, 1, 2))):
            if pick.choice(harm) is damaged_table:
                try:
                    rows = damaged_table(rows, pick)
                except (csv.Error, ValueError, IndexError):  # what is damaged already
                    continue
            else:
                text = damaged_study(text, pick)
        (folder / "study.toml").write_text(text)
        (folder / "data.csv").write_text(rows)
        command = pick.choice(COMMANDS)
        began = time.monotonic()
        process = context.Process(target=run, args=(folder, command))
        process.start()
        process.join(SECONDS)
        slowest = max(slowest, time.monotonic() - began)
        status = process.exitcode
        if status is None:
            process.kill()
            process.join()
        ends[status] = ends.get(status, 0) + 1
        if fault := wrong(folder, status):
            faults += 1
            print(f"{folder} {' '.join(command)}: {fault}", flush=True)
        else:
            shutil.rmtree(folder)
        done += 1
    outcomes = ", ".join(f"{count} ended with {status}" for status, count in sorted(ends.items(), key=str))
    print(f"{done} runs: {outcomes}; the slowest took {slowest:.1f} s; {faults} faults", flush=True)
    sys.exit(bool(faults))


if __name__ == "__main__":
    main()
