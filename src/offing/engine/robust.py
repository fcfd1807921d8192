"""Medians of groups, which far values cannot move."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array


def group_medians(values: Array, groups: NDArray[np.intp]) -> Array:
    """Median of each group of `values` (n,), NaN where unknown; zero where a group has no known value.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import group_medians
    >>> group_medians(np.array([1.0, 5.0, 3.0, np.nan, 90.0]), np.array([0, 1, 0, 0, 0]))
    array([3., 5.])
    """
    order = np.lexsort((values, groups))  # NaN sorts to the end of its group
    sizes = np.bincount(groups)
    known = np.bincount(groups, np.isfinite(values), len(sizes)).astype(np.intp)
    starts = np.cumsum(sizes) - sizes
    inner = values[order]
    low = np.where(known > 0, inner[np.minimum(starts + np.maximum((known - 1) // 2, 0), len(inner) - 1)], 0.0)
    high = np.where(known > 0, inner[np.minimum(starts + known // 2, len(inner) - 1)], 0.0)
    return np.asarray((low + high) / 2.0)
