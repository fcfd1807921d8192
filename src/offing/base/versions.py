"""With which versions a result was made."""

from __future__ import annotations

import platform
from importlib.metadata import version

#: The packages on which numbers may depend.
_PACKAGES = ("offing", "numpy", "scipy", "pandas", "holidays")


def versions() -> dict[str, str]:
    """Versions of Python and of the packages on which numbers may depend."""
    return {"python": platform.python_version(), **{name: version(name) for name in _PACKAGES}}
