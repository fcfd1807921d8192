"""Records that travel with data and results: what was changed, what was noticed."""

from __future__ import annotations

from dataclasses import dataclass, field
from math import nan
from typing import Literal

Severity = Literal["note", "warning", "serious"]


@dataclass(frozen=True)
class Treatment:
    """A logged change to the user's data: one cell or row, before and after, and why.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> days = pd.to_datetime(["2024-01-02", "2024-01-01", "2024-01-03"])
    >>> of.read(pd.Series([2.0, 1.0, 3.0], days, name="sold")).treatments[0].reason
    'dates were not sorted'
    """

    source: str
    column: str
    period: str
    before: str
    after: str
    reason: str


@dataclass(frozen=True)
class Finding:
    """A remark of a check in plain language.

    `severity` is ``note`` (good to know), ``warning`` (a result is weaker than it looks) or ``serious``
    (do not use the result before it is settled); `evidence` holds the numbers behind the message.

    Examples
    --------
    >>> from offing.results import Finding
    >>> print(Finding("stamp", "note", "The Mondays are read as first days.", advice='State stamp = "start".'))
    note: The Mondays are read as first days. State stamp = "start".
    """

    check: str
    severity: Severity
    message: str
    term: str = ""
    advice: str = ""
    evidence: dict[str, float | str] = field(default_factory=dict, hash=False)

    def __str__(self) -> str:
        return f"{self.severity}: {self.message}" + (f" {self.advice}" if self.advice else "")


@dataclass(frozen=True)
class Verdict:
    """What a check measured, whether or not it has anything to say.

    `value` of the `statistic` is compared with `limit`, and `p` is its chance where nothing is amiss, if it has one.
    `findings` are empty where the check is passed.
    """

    check: str
    statistic: str
    value: float
    limit: float
    p: float = nan
    findings: tuple[Finding, ...] = ()
