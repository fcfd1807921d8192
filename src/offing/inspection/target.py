"""The column that an analyst most likely wants to forecast."""

from __future__ import annotations

import re
from copy import copy

from offing.base import InputError
from offing.tables import Panel, Table
from offing.tables.aggregation_rules import looks_like_key

#: Words of names of what people forecast.
_WORDS = frozenset(
    (
        "absatz",
        "amount",
        "bookings",
        "calls",
        "consumption",
        "demand",
        "energy",
        "generation",
        "gwh",
        "heat",
        "kwh",
        "load",
        "mwh",
        "nights",
        "orders",
        "passengers",
        "production",
        "qty",
        "quantity",
        "revenue",
        "sale",
        "sales",
        "shipments",
        "sold",
        "target",
        "tickets",
        "turnover",
        "umsatz",
        "units",
        "vendite",
        "ventas",
        "ventes",
        "visitors",
        "visits",
        "volume",
        "y",
    )
)


def likely_target(table: Table | Panel) -> str:
    """The first column that is named like sales or load, else the first that looks like numbers.

    Raises
    ------
    InputError
        If that column cannot be read: none of the others is taken in its place.
    """
    first: Table = next(iter(table.values())) if isinstance(table, Panel) else table
    names = [
        name for name in dict.fromkeys([*first.uses, *first.columns, *first.unusable]) if _is_candidate(first, name)
    ]
    if not names:
        keys = list(first.columns)
        if keys:
            return keys[0]
        raise InputError("no column holds numbers", f"Its columns are: {_listed(first)}.", file=first.name)
    chosen = next((name for name in names if _WORDS & set(re.split(r"[\W_]+", name.lower()))), names[0])
    if chosen in first.unusable:
        error = copy(first.unusable[chosen])
        error.found = (
            f"{error.found}; '{chosen}' is most likely what is to be forecast, and no other column is taken for it"
        )
        raise error
    return chosen


def _is_candidate(table: Table, name: str) -> bool:
    if table.uses.get(name) or looks_like_key(name):
        return False
    if name in table.columns:
        return True
    return name in table.unusable and (name not in table.texts or table.mostly_numbers(name))


def _listed(table: Table) -> str:
    return "; ".join(f"{column} ({use})" for column, use in table.accounts.itertuples(index=False))
