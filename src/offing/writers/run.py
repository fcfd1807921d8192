"""The record of a run: with which versions, on which data, with which options."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from offing.base.versions import versions
from offing.engine import SEED


def run_record(fingerprints: Mapping[str, str], options: Mapping[str, Any]) -> dict[str, Any]:
    """What ``run.json`` holds. There is no clock time in it: the same run gives the same file.

    `fingerprints` are the SHA-256 of every file that was read; `seed` is that of joint paths, the only draws there are.
    """
    return {
        "versions": versions(),
        "seed": SEED,
        "fingerprint": dict(fingerprints),
        "options": dict(options),
    }
