"""`figure`: the figure of any result, by the function that its class names."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING

from offing.base import InputError
from offing.base.results import Result

if TYPE_CHECKING:
    from offing.draw.style import Picture


def figure(result: object) -> Picture:
    """Draw a result: a fit, a forecast, contributions, effects, totals, a walk, scenarios, a back-test, a draft …

    Every result has a figure, also the views of a `Survey` and of a `Backtest`.

    Parameters
    ----------
    result
        Anything that Offing answers; a study, a table or a series is none.

    Returns
    -------
    Picture
        A Matplotlib figure of 12.8 x 8 inches, shown by notebooks and saved with ``savefig``.

    Raises
    ------
    InputError
        If there is no figure of such a thing, or nothing to draw.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 4.0, 6.0, 6.5], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
    >>> of.figure(of.Model("sold", terms=[of.Trend()]).fit(sold)).get_size_inches().tolist()
    [12.8, 8.0]
    """
    if not isinstance(result, Result) or not result.plotted_by:
        raise InputError(
            f"there is no figure of a {type(result).__name__}",
            "Give what a function or method of Offing answers, such as a forecast.",
        )
    from offing.draw.style import styled, unbroken_dates  # noqa: PLC0415  Matplotlib loads when first drawn with

    module, function = result.plotted_by.split(".")
    with styled():
        return unbroken_dates(getattr(import_module(f"offing.draw.{module}"), function)(result))
