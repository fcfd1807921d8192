"""How the noise carries on, as rows of the table of coefficients."""

from __future__ import annotations

import pandas as pd

from offing.engine import Carried


def carried_rows(carried: Carried) -> pd.DataFrame:
    """One row a parameter: ``term, column, kind, coefficient, std_error``."""
    order = carried.dynamics.order or 0
    names = ["noise: carried to the next period" if order == 1 else f"noise: lag {k + 1}" for k in range(order)]
    if carried.dynamics.season:
        names.append(f"noise: carried {carried.dynamics.season} periods on")
    return pd.DataFrame(
        {
            "term": "noise",
            "column": names,
            "kind": "error",
            "coefficient": carried.parameters,
            "std_error": carried.errors,
        }
    )
