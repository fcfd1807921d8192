"""Progress of long work: to standard error, only to a terminal, and only when it takes long enough to wonder."""

from __future__ import annotations

import sys
import time
from dataclasses import dataclass, field
from typing import TextIO

from offing.base.printing import printable

#: Seconds before anything is shown, and between two updates.
PATIENCE, PACE = 1.0, 0.2


@dataclass
class Progress:
    """Share done and an estimate of the time left, on one line that erases itself.

    Examples
    --------
    >>> from offing.base.progress import Progress
    >>> with Progress("reading t.csv") as progress:
    ...     progress.update(0.5)  # nothing is printed unless standard error is a terminal
    """

    what: str
    stream: TextIO = field(default_factory=lambda: sys.stderr)
    started: float = field(default_factory=time.monotonic)
    shown: float = 0.0

    def update(self, share: float) -> None:
        """Tell that this share of the work (0 to 1) is done; work without a name is part of other work."""
        now = time.monotonic()
        if not self.what or not self.stream.isatty() or now - self.started < PATIENCE or now - self.shown < PACE:
            return
        self.shown = now
        left = (now - self.started) * (1.0 - share) / max(share, 1e-9)
        self.stream.write(f"\r{printable(self.what)}: {100 * min(share, 1.0):.0f} %, about {left:.0f} s left  ")
        self.stream.flush()

    def __enter__(self) -> Progress:
        return self

    def __exit__(self, *_: object) -> None:
        self.end()

    def end(self) -> None:
        """Erase the line."""
        if self.shown:
            self.stream.write("\r\033[K")
            self.stream.flush()
