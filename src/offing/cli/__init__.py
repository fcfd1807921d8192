"""The command line: parse, call the library, print."""

from __future__ import annotations

import gc
import os
import sys

#: How many new objects are made before Python looks for circles among them, and how many such looks before it looks at
#: older ones too. Fits make many small objects that stay; at Python's own 700 looking takes a tenth of a run.
_SELDOM = (20_000, 20, 20)

#: What sets the threads of linear algebra. Products of tall, thin matrices, of which a run has thousands, are no faster
#: on two threads, and these wait for each other: a run then takes half as much processor time again.
_THREADS = ("OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS", "OMP_NUM_THREADS")


def main(arguments: list[str] | None = None) -> None:
    """Run the command line and exit with its status: 0 done, 1 a fault of ours, 2 the input is wrong."""
    gc.set_threshold(*_SELDOM)
    if not any(name in os.environ for name in _THREADS):
        os.environ.update(dict.fromkeys(_THREADS, "1"))
    from offing.cli.commands import offing  # noqa: PLC0415  click is of no use to those who import the library

    sys.exit(offing.main(arguments, prog_name="offing", standalone_mode=True))
