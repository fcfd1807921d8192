"""How many threads linear algebra uses."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache

from threadpoolctl import ThreadpoolController

#: Products and factorisations of fewer multiplications than this are over before threads have met.
_SMALL = 1e9


@cache
def _pools() -> ThreadpoolController:
    # Found once: looking for the loaded libraries takes longer than a fit.
    return ThreadpoolController()


@contextmanager
def threads_for(rows: int, columns: int) -> Iterator[None]:
    """One thread for linear algebra inside, where the matrix is too small for several to be of use.

    NumPy and SciPy come with a pool of threads each. A search that goes through hundreds of small factorisations in
    turn lets one pool wait for the other, and takes up to ten times as long as on one thread.
    """
    if rows * columns * columns > _SMALL:
        yield
        return
    with _pools().limit(limits=1, user_api="blas"):
        yield
