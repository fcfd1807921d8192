"""Packages that only some users need."""

from __future__ import annotations

from importlib import import_module
from types import ModuleType

from offing.base.errors import InputError


def optional(module: str, extra: str, purpose: str) -> ModuleType:
    """Import a package of an extra, or say how to install it.

    Raises
    ------
    InputError
        With the install command, if the package is not there.
    """
    try:
        return import_module(module)
    except ImportError as error:
        raise InputError(
            f"{purpose} needs the package '{module.partition('.')[0]}', which is not installed",
            f"Install it with: pip install 'offing[{extra}]'.",
        ) from error
