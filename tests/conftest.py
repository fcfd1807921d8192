"""What several tests use: the made-up world, a demo folder, the command line."""

from typing import NamedTuple

import pytest

from offing.demo import World, ferry


class Ran(NamedTuple):
    """Exit status and what was printed."""

    status: int
    out: str
    err: str


@pytest.fixture(scope="session")
def world() -> World:
    return ferry()


@pytest.fixture
def run_cli(capsys: pytest.CaptureFixture[str]):
    """Run the command line in this process."""
    from offing.cli import main

    def run(*arguments: object) -> Ran:
        with pytest.raises(SystemExit) as stop:
            main([str(each) for each in arguments])
        printed = capsys.readouterr()
        return Ran(int(stop.value.code or 0), printed.out, printed.err)

    return run
