"""What must not happen: half-written results, lost work, steered terminals, traces, memory without end."""

import json
import os
import signal
import subprocess
import sys
import time

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.base.printing import printable
from offing.writers.files import MANIFEST, Bundle, whole
from test_models import weekly

STUDY = """format = 1
title = "{title}"
[sources.data]
file = "data.csv"
stamp = "start"
[target]
data = "data.sold"
[[terms]]
type = "trend"
[backtest]
horizon = 2
origins = 6
[forecast]
horizon = 2
"""


@pytest.fixture
def study(tmp_path):
    weekly(60)[["sold", "fare"]].rename_axis("week").to_csv(tmp_path / "data.csv")
    (tmp_path / "study.toml").write_text(STUDY.format(title="Sales"))
    return tmp_path / "study.toml"


def test_a_killed_run_leaves_no_mixture_unsaid(tmp_path):
    """Runs killed at many moments: the manifest vouches for one run's files or is not there; the next run cleans up."""
    script = tmp_path / "write.py"
    script.write_text(
        "import itertools, sys\nfrom pathlib import Path\nfrom offing.writers.files import Bundle\nprint('go', flush=True)\n"
        "for i in itertools.count():\n"
        "    Bundle({f'f{k}.csv': (f'{i} ' * 20000).encode() for k in range(12)}).write(Path(sys.argv[1]))\n"
    )
    folder, vouched = tmp_path / "out", 0
    for turn in range(60):
        if turn >= 6 and vouched:
            break  # on a slow disk a run is seldom killed between two writes
        run = subprocess.Popen([sys.executable, script, folder], stdout=subprocess.PIPE)
        run.stdout.readline()
        time.sleep(0.01 + 0.006 * (turn % 20))
        run.kill()
        run.wait()
        run.stdout.close()
        files = {path.name: path.read_bytes() for path in folder.glob("f*.csv")} if folder.exists() else {}
        if whole(folder):
            vouched += 1
            assert len({content.split(b" ")[0] for content in files.values()}) == 1
            assert len(files) == 12
        Bundle({"mine.csv": b"1"}).write(folder)
        assert [path.name for path in folder.iterdir() if path.name.startswith(".")] == []
        assert whole(folder)
        left = {path.read_bytes().split(b" ")[0] for path in folder.glob("f*.csv")}
        assert len(left) <= 1, "what was written whole was moved whole"
    assert vouched
    (folder / "mine.csv").write_bytes(b"2")
    assert not whole(folder)


def test_a_reader_that_has_seen_enough_is_no_fault(study):
    reading, writing = os.pipe()
    os.close(reading)
    ran = subprocess.run(
        [sys.executable, "-c", "from offing.cli import main; main()", "fit", study],
        stdout=writing,
        stderr=subprocess.PIPE,
        check=False,
    )
    os.close(writing)
    assert (ran.returncode, ran.stderr) == (1, b"")


def test_a_full_disk_leaves_the_old_results(tmp_path, monkeypatch):
    from pathlib import Path

    Bundle({"a.csv": b"old", "b.csv": b"old"}).write(tmp_path)
    usual, calls = Path.write_bytes, []

    def full(self, content):
        calls.append(self)
        if len(calls) > 1:
            raise OSError(28, "No space left on device")
        return usual(self, content)

    monkeypatch.setattr(Path, "write_bytes", full)
    with pytest.raises(of.InputError, match="No space left"):
        Bundle({"a.csv": b"new", "b.csv": b"new"}).write(tmp_path)
    assert sorted(path.name for path in tmp_path.iterdir()) == ["a.csv", "b.csv", MANIFEST]
    assert (tmp_path / "a.csv").read_bytes() == b"old"
    assert whole(tmp_path)


def test_the_manifest_lists_what_a_command_wrote(study, tmp_path, run_cli):
    assert run_cli("forecast", study, "--out", tmp_path / "out").status == 0
    listed = json.loads((tmp_path / "out" / MANIFEST).read_text())["files"]
    assert set(listed) == {path.name for path in (tmp_path / "out").iterdir()} - {MANIFEST}
    assert whole(tmp_path / "out")


@pytest.mark.parametrize("command", ["backtest", "compare"])
def test_an_interrupted_back_test_keeps_what_is_finished(command, study, tmp_path, run_cli, monkeypatch):
    from offing.evaluation import refit

    study.write_text(study.read_text() + '[estimation]\nerrors = "ar"\n')
    usual, calls = refit._job_folds, []

    def interrupted(job, folds):
        calls.append(folds)
        if len(calls) == 4:
            raise KeyboardInterrupt
        return usual(job, folds)

    whole_run = pd.read_csv(_written(run_cli, command, study, tmp_path / "usual") / "backtest.csv")
    monkeypatch.setattr(refit, "_job_folds", interrupted)
    calls.clear()
    ran = run_cli(command, study, "--out", tmp_path / "out")
    assert (ran.status, ran.err) == (0, "")
    assert "It was interrupted: forecasts of 3 of 6 origins are there, and scored." in ran.out
    rows = pd.read_csv(tmp_path / "out" / "backtest.csv")
    rows, whole_run = (each[each["model"] == "main"] for each in (rows, whole_run))
    done = rows["forecast"].notna().to_numpy()
    assert done.sum() == 6
    assert np.array_equal(rows["forecast"].to_numpy()[done], whole_run["forecast"].to_numpy()[done])
    calls.extend([()] * 2)  # the next call is the fourth: nothing is finished
    calls[:] = calls[:3]
    assert run_cli(command, study).status == 1


def _written(run_cli, command, study, folder):
    assert run_cli(command, study, "--out", folder).status == 0
    return folder


def test_ctrl_c_on_the_command_line_ends_with_results(tmp_path):
    """A real signal to a real process while it works."""
    weekly(250)[["sold", "fare"]].rename_axis("week").to_csv(tmp_path / "data.csv")
    slow = (
        STUDY.format(title="Slow").replace('type = "trend"', 'type = "trend"\nknots = "found"').replace("= 6", "= 60")
    )
    (tmp_path / "study.toml").write_text(slow)
    run = subprocess.Popen(
        [
            sys.executable,
            "-c",
            "from offing.cli import main; main()",
            "backtest",
            tmp_path / "study.toml",
            "--out",
            tmp_path / "out",
        ],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        env={**os.environ, "PYTHONPATH": os.pathsep.join(sys.path)},
    )
    deadline = time.monotonic() + 60.0
    out = err = ""
    time.sleep(2.5)
    while time.monotonic() < deadline and run.poll() is None:
        run.send_signal(signal.SIGINT)
        try:
            out, err = run.communicate(timeout=15.0)
        except subprocess.TimeoutExpired:
            continue
    assert "Traceback" not in err
    assert ("It was interrupted" in out and whole(tmp_path / "out")) or "Aborted" in err or run.returncode == 0


def test_an_error_that_came_of_ctrl_c_is_no_fault(monkeypatch, run_cli, study):
    """What is just being loaded may answer an interrupt with an error of its own."""

    def interrupted(*_, **__):
        try:
            raise KeyboardInterrupt
        except KeyboardInterrupt:
            raise RuntimeError("half loaded")  # noqa: B904  as such code does

    monkeypatch.setattr("offing.study.open_study", interrupted)
    ran = run_cli("fit", study)
    assert "Aborted" in ran.err
    assert "fault of Offing" not in ran.err


def test_names_cannot_steer_a_terminal(study, run_cli):
    hostile = "red \\u001b[31m \\u009b2J \\u202e up"
    study.write_text(STUDY.format(title=hostile))
    for arguments in (("forecast", study), ("forecast", study, "--json"), ("fit", study), ("backtest", study)):
        ran = run_cli(*arguments)
        assert ran.status == 0
        assert not {"\x1b", "\x9b", "\u202e", "\x07"} & set(ran.out + ran.err)
    assert "\\u001b[31m" in run_cli("fit", study).out
    noted = json.loads(run_cli("forecast", study, "--json").out)
    assert noted["run"]["options"]["title"] == "red \x1b[31m \x9b2J \u202e up", "and JSON still says what it was"
    study.write_text(study.read_text().replace("data.sold", "data.so\\u001b[2Jld"))
    ran = run_cli("fit", study)
    assert ran.status == 2
    assert "\x1b" not in ran.err
    assert printable("two\nlines\tand\x00") == "two\nlines\tand\\u0000"


def test_a_fault_of_ours_is_one_line_and_its_trace_a_file(study, tmp_path, run_cli, monkeypatch):
    from offing.study.study import Study

    def broken(self):
        raise ZeroDivisionError("by chance")

    monkeypatch.setattr(Study, "fits", property(broken))
    ran = run_cli("fit", study)
    assert ran.status == 1
    assert ran.err.startswith(
        "Error: a fault of Offing, not of your data (ZeroDivisionError). Run 'offing --trace FILE"
    )
    assert ran.err.count("\n") == 1
    traced = run_cli("--trace", tmp_path / "trace.txt", "fit", study)
    assert traced.status == 1
    assert "by chance" in (tmp_path / "trace.txt").read_text()
    assert "by chance" not in traced.err
    lost = run_cli("--trace", tmp_path / "none" / "trace.txt", "fit", study)
    assert "could not be written" in lost.err


LIMITS = {
    "origins": ("origins = 6", "origins = 1000000000", "1,000,000,000 origins are too many"),
    "forecasts": ("horizon = 2\norigins = 6", "horizon = 5000\norigins = 6000", "30,000,000 forecasts"),
    "horizon": ("[forecast]\nhorizon = 2", "[forecast]\nhorizon = 100000", "100,000 periods are too far ahead"),
    "test horizon": ("horizon = 2\norigins", "horizon = 100000\norigins", "100,000 periods are too far ahead"),
    "nested": ('title = "Sales"', "title = " + 900 * "[" + 900 * "]", "nested too deeply"),
    "tables": ('title = "Sales"', "title = " + 900 * "{a = " + "1" + 900 * "}", "nested too deeply"),
}


@pytest.mark.parametrize("case", LIMITS)
def test_limits_are_checked_before_memory_is_taken(case, study, run_cli):
    old, new, message = LIMITS[case]
    study.write_text(study.read_text().replace(old, new))
    started = time.monotonic()
    ran = run_cli("backtest" if case != "horizon" else "forecast", study)
    assert ran.status == 2, ran.err
    assert message in ran.err
    assert ran.err.count("\n") == 1
    assert time.monotonic() - started < 5.0


def test_values_near_the_smallest_numbers_give_no_trace(tmp_path, run_cli):
    for factor in (5e-300, 1e-160, 1e150, 1e300):
        data = weekly(60)[["sold", "fare"]] * factor
        data.rename_axis("week").to_csv(tmp_path / "data.csv")
        text = STUDY.format(title="tiny") + '[estimation]\nerrors = "ar"\n'
        (tmp_path / "study.toml").write_text(
            text.replace('type = "trend"', 'type = "trend"\n[[terms]]\ntype = "driver"\ndata = "data.fare"\nlags = [4]')
        )
        for command in ("fit", "forecast", "explain", "backtest"):
            ran = run_cli(command, tmp_path / "study.toml")
            assert ran.status in (0, 2), ran.err
            assert "nan" not in ran.out.lower().split()


def test_an_outside_forecast_is_no_address(study, tmp_path, run_cli):
    opened = []
    sys.addaudithook(lambda event, _: opened.append(event) if event in ("socket.connect", "urllib.Request") else None)
    for place in ("http://127.0.0.1:9/x.csv", "s3://bucket/x.csv", "ftp://127.0.0.1/x"):
        with pytest.raises(of.InputError, match="There is no file"):
            of.external_forecast(place, "office")
    assert opened == []
    (tmp_path / "o.csv").write_text("origin;period;forecast\n2022-12-26;2022-12-26;5\n")
    assert of.external_forecast(tmp_path / "o.csv", "office").rows["forecast"].tolist() == [5.0]
