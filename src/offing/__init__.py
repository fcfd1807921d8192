"""Offing: forecasts of sales and energy series, split into what each driver contributes.

The classes of results, for annotations, are those of `offing.results`.

>>> import offing as of
>>> of.Model("sold", scale="log", terms=[of.Trend(), of.Season("year", harmonics=3)]).name
'main'
"""

from __future__ import annotations

from types import FunctionType
from typing import Any

import lazy_loader

__version__ = "0.1.0"

# ``__init__.pyi`` lists the public names. Each is loaded when first used, so that importing the package and asking the
# command line for help stay light.
_loaded, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)


def __getattr__(name: str) -> Any:
    if name in __all__ or name.startswith("_"):
        return _public(name)
    from offing.base import nearest

    words = nearest(name, __all__)
    # The nearest name; not all of them where none is alike.
    advice = words if words.startswith("Did") else "dir(offing) lists all names; offing.results has those of results."
    raise AttributeError(f"offing has no {name!r}. {advice}")


def _public(name: str) -> Any:
    """What a name stands for; of functions, one that names the nearest keyword instead of a wrong one."""
    found = _loaded(name)
    if not isinstance(found, FunctionType):
        return found
    from offing.base import checked_keywords

    globals()[name] = checked_keywords(found)
    return globals()[name]
