"""Many drivers to choose from: columns, lags and transformations crossed."""

from __future__ import annotations

from collections.abc import Sequence

from offing.base import InputError
from offing.terms import Driver
from offing.terms.transform_step import Stated
from offing.terms.transforms import steps_of


def candidates(
    columns: Sequence[str],
    lags: Sequence[int] = (0,),
    transforms: Sequence[Sequence[Stated]] = ((),),
    *,
    together: bool = False,
) -> list[Driver]:
    """Drivers to screen: every column with every transformation at every lag.

    Parameters
    ----------
    columns
        The columns, as ``column`` or ``table.column``.
    lags
        After how many periods each may act.
    transforms
        The transformations to try, each a list of steps; an empty list leaves the values as they are.
    together
        Whether the lags of a column enter and leave together.

    Raises
    ------
    InputError
        If there are none.

    Examples
    --------
    >>> import offing as of
    >>> [each.name for each in of.candidates(["rain", "wind"], lags=[0, 1], transforms=[[], ["log"]])][:4]
    ['rain', 'rain (lag 1)', 'log rain', 'log rain (lag 1)']
    """
    if isinstance(columns, str) or not columns or not lags or not transforms:
        raise InputError(f"found {columns!r}", "Give columns, lags and transforms to choose from.", key="columns")
    found = []
    for column in columns:
        for transform in transforms:
            stem = column.partition(".")[2] or column
            stem = " ".join((*(step.name for step in reversed(steps_of(list(transform)))), stem))
            if together:
                found.append(Driver(column, transform=list(transform), lags=list(lags), name=stem))
                continue
            for lag in lags:
                words = "" if lag == 0 else f" (lag {lag})" if lag > 0 else f" (lead {-lag})"
                found.append(Driver(column, transform=list(transform), lags=[lag], name=stem + words))
    return found
