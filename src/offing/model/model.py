"""The model as users meet it: a target, a scale and terms."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields
from typing import Self

from offing.base import InputError, Progress, checked_keywords
from offing.model.fit import Data, Fit, SeriesFits, public
from offing.model.fitting import fit_at
from offing.model.option_checks import check_estimation, check_options, check_together
from offing.model.options import DriverOptions, ModelOptions
from offing.model.target_transform import check_target_steps
from offing.tables import Information, Panel, Table, Treat, not_in_all, read, split_series
from offing.terms import Term
from offing.terms.transforms import steps_of


@dataclass(frozen=True)
class Model(ModelOptions):
    """A forecast as a sum of terms, plus a constant that is always there.

    Parameters
    ----------
    target
        The column to forecast, as ``column`` or ``table.column``.
    terms
        The pieces: `Trend`, `Season`, `Holidays`, `Driver`. Their names must differ.
    scale
        ``level``, where terms add up, or ``log``, where they multiply and the target must be positive.
    treatments
        How columns are treated before the terms see them: a `Treat` each.
    transform
        What becomes of the target before the fit, as for a `Driver`: factors such as ``{"deflate": "prices.index"}`` or
        ``per day`` first, then changes such as ``difference``. Forecasts, quantiles and contributions come
        back in the target's own unit.
    offset
        On the log scale: what is added before the logarithm, for a target that can be zero.
    lower_limit, upper_limit
        What the target cannot pass. Forecasts, quantiles and contributions respect it.
    errors
        ``independent``, or ``ar``: noise of which a share comes back in the next period, learnt by restricted maximum
        likelihood. By default independent, unless a term learns from how neighbouring periods change, as bends that
        are found from the data do.
    order
        With ``ar``: over how many periods noise carries on; ``chosen`` for the best of 0 to 6 by Schwarz's criterion.
    seasonal_lag
        With ``ar``: a number of periods after which noise comes back as well, such as 52 for weeks or 24 for hours.
    loss
        ``squares``; ``huber``, to which a large residual counts by its size alone; or ``tukey``, to which a very large
        one does not count at all.
    half_life
        After how many periods an observation counts half, for a world that changes; by default all count alike.
    window
        How many of the newest periods are fitted; by default all of them.
    covariance
        Of the coefficients: ``classical`` for noise of one variance; ``hc0`` to ``hc3`` where it may differ from period
        to period, of which hc3 is the most careful with few rows; ``newey-west`` where neighbours may be alike too;
        ``clustered`` where all periods of a cluster may be alike in any way.
    clusters
        With ``clustered``: ``year``, ``quarter``, ``month`` or ``week``. There should be thirty or more of them.
    widen_intervals
        By which factor, from 1 on, forecasts' intervals are wider than noise and coefficients make them; 1 by default.
        A model that was chosen among many fits the past better than what comes, and no fit shows by how much: a draft
        learns the factor from past forecasts.
    chosen
        Names of terms that were chosen on the data to be fitted: no p value is given for them, as none would
        mean what it says.
    driver_selection
        A `DriverSelection`: drivers selected at every fit from what it knows, beside the terms.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2020-01", periods=36, freq="M")
    >>> sold = pd.Series(100.0 + np.arange(36) + 10 * (months.month == 12), months, name="sold")
    >>> fit = of.Model("sold", terms=[of.Trend(), of.Season("year")]).fit(sold)
    >>> fit.forecast(2).table["forecast"].round(6).tolist()
    [136.0, 137.0]
    """

    def __post_init__(self) -> None:
        if not isinstance(self.target, str) or not self.target:
            raise InputError(f"found {self.target!r}", "Give the target's column.", key="target")
        if self.scale not in ("level", "log"):
            raise InputError(f"found {self.scale!r}", 'Give "level" or "log".', key="scale")
        if isinstance(self.terms, Term):
            raise InputError("found one term", "Give a list of terms.", key="terms")
        for term in self.terms:
            if not isinstance(term, Term):
                raise InputError(f"found {term!r}, which is not a term", "Give terms such as Trend().", key="terms")
        names = [term.name for term in self.terms]
        for name in names:
            if names.count(name) > 1:
                raise InputError(f"two terms are called '{name}'", "Give one of them another name.", key="terms")
        for each in self.treatments:
            if not isinstance(each, Treat):
                raise InputError(f"found {each!r}, which is no treatment", "Give a list of Treat.", key="treatments")
        columns = [each.data for each in self.treatments]
        for column in columns:
            if columns.count(column) > 1:
                raise InputError(f"{column!r} has two treatments", "Put them into one.", key="treatments")
        check_target_steps(steps_of(self.transform), log=self.scale == "log")
        check_options(self)
        check_together(self)
        check_estimation(self)
        super().__post_init__()

    @checked_keywords
    def fit(self, data: Data, *, as_of: object = None) -> Fit:
        """Estimate the model by least squares on all periods from the target's first value to its last.

        Parameters
        ----------
        data
            A Table from `offing.read`, a DataFrame or Series with dates as its index, or several Tables by name.
        as_of
            A date or time: only what was known then counts, by the release delays of the sources. By default the
            moment at which the target's last value became known; or later, with drivers that tick at another
            frequency, when the last of their values did.

        Returns
        -------
        Fit
            Periods whose target or drivers are unknown are left out and still get a fitted value where the
            drivers allow one.

        Raises
        ------
        InputError
            If a column is missing or not numeric, the target is constant or without values, not positive with the
            log scale, or the rows do not suffice for the columns.

        Examples
        --------
        >>> import pandas as pd, offing as of
        >>> days = pd.date_range("2024-01-01", periods=6, freq="D")
        >>> data = pd.DataFrame({"sold": [3.0, 5.0, 4.0, 6.0, 5.0, 7.2], "rain": [1, 0, 1, 0, 1, 0]}, days)
        >>> fit = of.Model("sold", terms=[of.Driver("rain")]).fit(data)
        >>> fit.coefficients["coefficient"].round(2).tolist()
        [6.07, -2.07]
        """
        fits = self.fit_each(data, as_of=as_of)
        if len(fits) > 1:
            raise InputError(f"there are {len(fits)} series", "Use fit_each, which gives a fit for each.", key="id")
        return next(iter(fits.values()))

    def fit_each(self, data: Data, *, as_of: object = None) -> SeriesFits:
        """Fit each series of a target that has several, by id; a source without ids serves all of them.

        A series that cannot be fitted does not stop the others: ``left_out`` of what is returned names it, and why.

        Raises
        ------
        InputError
            As `fit`, if no series can be fitted.

        Examples
        --------
        >>> import pandas as pd, offing as of
        >>> months = ["2024-01", "2024-02", "2024-03"] * 2
        >>> rows = pd.DataFrame({"month": months, "port": ["N"] * 3 + ["S"] * 3, "sold": [3, 4, 6, 1, 5, 2]})
        >>> list(of.Model("sold").fit_each(of.read(rows, id="port")))
        ['N', 'S']
        """
        given = tables_of(data)
        every = split_series(given, self.target)
        fits = SeriesFits()
        bar = Progress("fitting series")
        for done, (series, tables) in enumerate(every.items()):
            bar.update(done / len(every))
            try:
                fits[series] = self.fit_at(Information(tables, series, as_of))
            except InputError as error:
                if not series:
                    raise
                error.found = f"series {series!r}: {error.found}"
                fits.leave_out(series, error)
        bar.end()
        if not fits:
            raise next(iter(fits.left_out.values()))
        fits.left_out |= not_in_all(given, self.target)
        return fits

    @classmethod
    def of(cls, options: ModelOptions) -> Self:
        """The model of some options."""
        return cls(**{each.name: getattr(options, each.name) for each in fields(options)})

    def fit_at(self, information: Information) -> Fit:
        """Fit one series from an information set: the one door through which every fit and refit goes."""
        return public(fit_at(self, information))


@dataclass(frozen=True)
class DriverModel(Model, DriverOptions):
    """A driver's own model, whose target is the driver as the terms of another model see it, smoothed or not."""


def tables_of(data: Data) -> dict[str, Table | Panel]:
    """The tables by name, whatever was given."""
    if isinstance(data, (Table, Panel)):
        return {"data": data}
    if isinstance(data, Mapping):
        for name, table in data.items():
            if not isinstance(table, (Table, Panel)):
                raise InputError(f"found {type(table).__name__} under {name!r}", "Give Tables made by read.")
        return dict(data)
    return {"data": read(data)}
