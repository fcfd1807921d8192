"""The command line: parse, call the library, print."""

from __future__ import annotations

import sys


def main(arguments: list[str] | None = None) -> None:
    """Run the command line and exit with its status: 0 done, 1 a fault of ours, 2 the input is wrong."""
    from offing.cli.commands import offing  # noqa: PLC0415  click is of no use to those who import the library

    sys.exit(offing.main(arguments, prog_name="offing", standalone_mode=True))
