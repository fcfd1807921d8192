"""What a fit leaves unexplained, seen from several sides; each leads with what was found there."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pandas as pd
from scipy.linalg import solve_triangular
from scipy.special import ndtri

from offing.base import InputError, nearest
from offing.base.arrays import Array
from offing.base.results import Entry, Result, register
from offing.base.text import text_table
from offing.calendar import Axis
from offing.engine import autocorrelations
from offing.model.fitted import Fitted

SIDES = ("time", "season", "lags", "quantiles", "influence")


@dataclass(frozen=True)
class Residuals(Result, figure="residuals.draw_residuals"):
    """What is left unexplained, free of what carries on, in its own standard deviations. Made by `offing.residuals`.

    Attributes
    ----------
    axis, used
        The fitted periods and which of them were used (n,).
    value
        Residuals (n,) in standard deviations, NaN where not used.
    leverage, distance
        How much (n,) each period could move its own fitted value, and Cook's (1977) distance.
    side
        From which side it is looked at: ``time``, ``season``, ``lags``, ``quantiles`` or ``influence``.
    said
        What the fit's findings say of each side.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0, 5.0], pd.period_range("2024-01", periods=5, freq="M"), name="sold")
    >>> of.residuals(of.Model("sold").fit(sold)).table["leverage"].round(6).tolist()
    [0.2, 0.2, 0.2, 0.2, 0.2]
    """

    axis: Axis
    used: np.ndarray
    value: Array
    leverage: Array
    distance: Array
    label: str
    side: str
    said: dict[str, str]

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a period: ``residual, leverage, distance``."""
        return pd.DataFrame(
            {"residual": self.value, "leverage": self.leverage, "distance": self.distance}, index=self.axis.index
        )

    @cached_property
    def lags(self) -> pd.DataFrame:
        """One row a lag: ``lag, correlation, limit``; beyond the limit lies one in twenty of independent noise."""
        n = int(self.used.sum())
        most = min(max(24, 2 * round(min(self.axis.frequency.periods_a_year, 30))), n // 4, 60)
        found = autocorrelations(np.nan_to_num(self.value), max(most, 1))
        return pd.DataFrame({"lag": np.arange(1, len(found) + 1), "correlation": found, "limit": 1.96 / np.sqrt(n)})

    @cached_property
    def quantiles(self) -> pd.DataFrame:
        """One row a period in order of size: ``normal, residual`` with the quantile that normal noise would have."""
        inner = np.sort(self.value[self.used])
        return pd.DataFrame({"normal": ndtri((np.arange(len(inner)) + 0.5) / len(inner)), "residual": inner})

    @property
    def sentence(self) -> str:
        """What was found on this side."""
        usual = {
            "time": "What is left unexplained keeps its size and side over time",
            "season": "No part of the year is left unexplained more than another",
            "lags": "No significant autocorrelation is left over all lags together",
            "quantiles": "What is left unexplained is spread as normal noise is",
            "influence": "No single period moves the coefficients beyond measure",
        }
        return self.said.get(self.side) or usual[self.side]

    def __str__(self) -> str:
        lines = [self.said.get(side, "") for side in SIDES]
        lags = self.lags.iloc[:12]
        cells = [[str(lag) for lag in lags["lag"]], [f"{each:.2f}" for each in lags["correlation"]]]
        return "\n".join([*filter(None, lines), self.sentence, "", text_table(["lag", "correlation"], cells)])


#: The side on which a finding shows.
_SHOWS = {
    "autocorrelation": "lags",
    "long-lag autocorrelation": "lags",
    "autocorrelation beside own lags": "lags",
    "non-normal noise": "quantiles",
    "influence": "influence",
    "drift": "time",
    "heteroscedastic noise": "time",
    "unexplained step": "time",
    "unexplained pulse": "time",
}


def residuals(fit: Fitted, side: str = "time") -> Residuals:
    """What a fit leaves unexplained, for figures and tables.

    Parameters
    ----------
    side
        ``time``, ``season`` (by part of the year, week or day), ``lags`` (autocorrelations), ``quantiles`` (against
        normal noise) or ``influence`` (leverage and Cook's distance): what `offing.figure` draws.

    Raises
    ------
    InputError
        For another side.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=60, freq="D")
    >>> noise = pd.Series(np.random.default_rng(1).normal(size=60), days, name="sold")
    >>> of.residuals(of.Model("sold").fit(noise)).table["residual"].std().round(2)
    np.float64(1.0)
    """
    if side not in SIDES:
        raise InputError(f"found {side!r}", nearest(side, SIDES), key="side")
    estimate, used = fit.estimate, fit.used
    white = estimate.chain.whiten(fit.design[used])
    noise = estimate.chain.whiten(fit.residual[used])
    inner = solve_triangular(estimate.root, white[:, estimate.kept].T, trans="T", check_finite=False)
    leverage = np.minimum(np.square(inner).sum(axis=0), 1.0 - 1e-9)
    scale = np.sqrt(estimate.variance)
    distance = np.square(noise / scale / (1.0 - leverage)) * leverage / max(len(estimate.root), 1)
    wide = [np.full(fit.axis.n, np.nan) for _ in range(3)]
    for each, values in zip(wide, (noise / scale, leverage, distance), strict=True):
        each[used] = values
    said: dict[str, str] = {}
    for finding in fit.findings:
        if finding.check in _SHOWS:
            said.setdefault(_SHOWS[finding.check], finding.message.rstrip("."))
    return Residuals(fit.axis, used, wide[0], wide[1], wide[2], fit.label, side, said)


register(
    Entry(
        "residuals",
        title="What is left unexplained",
        of=lambda study, name: {side: residuals(study.fits[name], side) for side in SIDES},
        figure_for=["fit"],
    )
)
