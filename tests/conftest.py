"""What several tests use: the made-up world, a demo folder, a database server, the command line."""

import os
import shutil
import socket
import subprocess
import tempfile
from pathlib import Path
from typing import NamedTuple

import pytest

from offing.demo import World, ferry


class Ran(NamedTuple):
    """Exit status and what was printed."""

    status: int
    out: str
    err: str


@pytest.fixture(scope="session")
def postgres():
    """Address of a real server: the one that OFFING_POSTGRES names, or one of our own on loopback."""
    named = os.environ.get("OFFING_POSTGRES")
    if named:
        yield named
        return
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin"))
    if not found:
        assert "OFFING_MUST_HAVE_POSTGRES" not in os.environ, "no PostgreSQL server is installed"
        pytest.skip("no PostgreSQL server is installed")
    tools = found[-1]
    # The server refuses to run as root, so there it runs as its own user, in a folder that this user may enter.
    root = os.geteuid() == 0
    base = Path(tempfile.mkdtemp(prefix="offing-server-"))
    if root:
        shutil.chown(base, "postgres")

    def run(*arguments):
        command = [*(["runuser", "-u", "postgres", "--"] if root else []), *map(str, arguments)]
        subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, cwd="/")

    run(f"{tools}/initdb", "-D", base / "data", "-A", "trust", "-U", "offing", "--no-sync", "-E", "UTF8")
    control = [f"{tools}/pg_ctl", "-D", base / "data", "-w", "-t", "30", "-l", base / "log"]
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    run(*control, "-o", f"-c listen_addresses=127.0.0.1 -p {port} -k {base} -c fsync=off", "start")
    try:
        yield f"postgresql+psycopg://offing@127.0.0.1:{port}/postgres"
    finally:
        run(*control, "-m", "fast", "stop")
        shutil.rmtree(base)


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
