"""Run the code of README, docs and docstrings as tests, in a folder that holds the demo's data."""

import functools
import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

# Small matrices are no work for two threads, which wait for each other: one halves the time of the tests.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import pytest
from sybil import Sybil
from sybil.parsers.markdown import PythonCodeBlockParser
from sybil.parsers.rest import DocTestParser


@functools.cache
def demo_once():
    """A folder with the demo's data, study and results, made once; who changes them takes a copy."""
    run = os.environ.get("PYTEST_XDIST_TESTRUNUID")
    if run is None:
        return demo_in(Path(tempfile.mkdtemp()) / "islands")
    # The workers of one run share it: the first makes it, the others wait until it lies in its place.
    shared = Path(tempfile.gettempdir()) / f"offing-demo-{run}"
    try:
        shared.mkdir()
    except FileExistsError:
        while not (shared / "islands").exists():
            time.sleep(0.2)
        return shared / "islands"
    return demo_in(shared / "being-made").rename(shared / "islands")


def demo_in(folder):
    """Run the demo in a process of its own that has no network; what it says lies beside its results."""
    code = (
        "import socket, sys\n"
        "def refuse(*a, **k): raise OSError('no network')\n"
        "socket.socket.connect = socket.create_connection = socket.getaddrinfo = refuse\n"
        f"from offing.cli import main\nmain(['demo', {str(folder)!r}])"
    )
    home = {"HOME": tempfile.mkdtemp(), "OPENBLAS_NUM_THREADS": "1"}
    home |= {key: os.environ[key] for key in ("PYTHONPATH", "PATH") if key in os.environ}
    done = subprocess.run([sys.executable, "-c", code], check=False, capture_output=True, text=True, env=home)
    assert done.returncode == 0, done.stderr
    (folder / "said.txt").write_text(done.stdout)
    return folder


@pytest.fixture(scope="session")
def demo_folder():
    """The demo's data, study and results; tests that change them take a copy."""
    return demo_once()


def into_demo_folder(namespace):
    """Enter a fresh folder with the demo's data and study."""
    namespace["came_from"], namespace["folder"] = Path.cwd(), Path(tempfile.mkdtemp())
    shutil.copytree(demo_once(), namespace["folder"], dirs_exist_ok=True)
    os.chdir(namespace["folder"])


def back(namespace):
    """Leave the folder and remove it."""
    os.chdir(namespace["came_from"])
    shutil.rmtree(namespace["folder"])


pages = Sybil(
    parsers=[PythonCodeBlockParser()], patterns=["README.md", "docs/*.md"], setup=into_demo_folder, teardown=back
)
docstrings = Sybil(parsers=[DocTestParser()], patterns=["src/offing/*.py", "src/offing/*/*.py", "src/offing/*/*/*.py"])
pytest_collect_file = (pages + docstrings).pytest()
