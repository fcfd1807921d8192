"""Text on its way to a terminal: what would steer the terminal is shown, not sent."""

from __future__ import annotations

import re

#: Control characters but the end of a line and the tabulator, and marks that turn the direction of writing.
_STEERING = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028\u2029\u202a-\u202e\u2066-\u2069]")


def printable(text: str) -> str:
    r"""The text with control characters as their codes, which JSON reads as these characters.

    Names, titles and notes come from files, and could otherwise move the cursor, hide text or set a window's title.

    Examples
    --------
    >>> from offing.base.printing import printable
    >>> print(printable("red: \x1b[31m"))
    red: \u001b[31m
    """
    return _STEERING.sub(lambda found: f"\\u{ord(found.group()):04x}", text)
