"""Results as the rows of the contract's files: the key columns ``series, model, scenario`` first."""

from __future__ import annotations

from collections.abc import Mapping

import pandas as pd

from offing.base import InputError


def left_out_rows(left_out: Mapping[str, InputError]) -> pd.DataFrame:
    """Rows of ``treatments.csv`` for series that have no result."""
    rows = [
        {
            "series": name,
            "model": "",
            "scenario": "",
            "source": error.file or "",
            "column": error.column or "",
            "period": error.period or "",
            "before": "the series",
            "after": "left out",
            "reason": error.found,
        }
        for name, error in left_out.items()
    ]
    return pd.DataFrame(rows)
