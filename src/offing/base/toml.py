"""Values as TOML writes them."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any


def toml(value: Any) -> str:
    """A value as TOML writes it.

    Examples
    --------
    >>> from offing.base.toml import toml
    >>> print(toml({"fare €": [1.5, True], "lag": "none"}))
    { "fare €" = [1.5, true], lag = "none" }
    """
    if isinstance(value, Mapping):
        return "{ " + ", ".join(f"{toml_key(str(key))} = {toml(each)}" for key, each in value.items()) + " }"
    if isinstance(value, (list, tuple)):
        return "[" + ", ".join(toml(each) for each in value) + "]"
    # Strings of JSON are strings of TOML, but for the one control character that JSON leaves as it is.
    return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007F")


def toml_key(name: str) -> str:
    """A key, in quotes where it needs them."""
    bare = name and all(letter.isascii() and (letter.isalnum() or letter in "_-") for letter in name)
    return name if bare else toml(name)
