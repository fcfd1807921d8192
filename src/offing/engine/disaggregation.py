"""A series of few sums spread over the finer periods that make them up."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import block_array, csc_array, diags_array
from scipy.sparse.linalg import spsolve

from offing.base.arrays import Array


def spread_smoothly(sums: Array, place: NDArray[np.intp], pattern: Array | None = None) -> Array:
    """Values (n,) that add up to the `sums` (m,) of the periods at `place` (n,), with the least squared bends.

    Least Σ (Δ² (x − p))² under A x = s (Denton 1971, with second differences). Without a `pattern` (n,) p is zero; with
    one it is a + b times it, a and b from the regression of the sums on those of the pattern (Chow & Lin 1971).

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine.disaggregation import spread_smoothly
    >>> spread_smoothly(np.array([3.0, 12.0]), np.array([0, 0, 0, 1, 1, 1])).round(6).tolist()
    [0.0, 1.0, 2.0, 3.0, 4.0, 5.0]
    """
    n, m = len(place), len(sums)
    whole = csc_array((np.ones(n), (place, np.arange(n))), shape=(m, n))
    base = np.zeros(n)
    if pattern is not None and m > 2 and np.ptp(np.asarray(whole @ pattern)) > 0.0:
        design = np.column_stack([np.ones(n), pattern])
        base = design @ np.linalg.lstsq(whole @ design, sums, rcond=None)[0]
    remaining = sums - whole @ base
    counts = np.bincount(place, minlength=m)
    if n < 3 or m == 1:  # nothing to bend between
        return np.asarray(base + (remaining / counts)[place])
    bands: list[Any] = [np.ones(n - 2), np.full(n - 2, -2.0), np.ones(n - 2)]
    second = diags_array(bands, offsets=[0, 1, 2], shape=(n - 2, n))
    rows: list[list[Any]] = [[second.T @ second, whole.T], [whole, None]]
    found = spsolve(block_array(rows, format="csc"), np.concatenate([np.zeros(n), remaining]))
    return np.asarray(base + found[:n])
