"""Run the code of README, docs and docstrings as tests, in a folder that holds the demo's data."""

import functools
import os
import shutil
import tempfile
import time
from pathlib import Path

# Small matrices are no work for two threads, which wait for each other: one halves the time of the tests.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import pytest
from sybil import Sybil
from sybil.parsers.markdown import PythonCodeBlockParser
from sybil.parsers.rest import DocTestParser

from offing.demo import run_demo


@functools.cache
def demo_once():
    """A folder with the demo's data, study and results, made once; who changes them takes a copy."""
    run = os.environ.get("PYTEST_XDIST_TESTRUNUID")
    if run is None:
        folder = Path(tempfile.mkdtemp()) / "islands"
        run_demo(folder, lambda line: None)
        return folder
    # The workers of one run share it: the first makes it, the others wait until it lies in its place.
    shared = Path(tempfile.gettempdir()) / f"offing-demo-{run}"
    try:
        shared.mkdir()
    except FileExistsError:
        while not (shared / "islands").exists():
            time.sleep(0.2)
        return shared / "islands"
    run_demo(shared / "being-made", lambda line: None)
    return (shared / "being-made").rename(shared / "islands")


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
