"""A fit as users meet it, and several of them: what one may ask of the estimate."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, fields
from pathlib import Path
from typing import Literal

import pandas as pd

from offing.base import InputError, checked_keywords
from offing.model.direct_forecast import by_horizon
from offing.model.fitted import Fitted
from offing.model.forecast import Forecast
from offing.model.make_forecast import Assumptions, forecast
from offing.model.renew import applied, refitted, updated
from offing.model.saved import save_models
from offing.tables import Panel, Table
from offing.terms import Term

Data = Table | Panel | pd.DataFrame | pd.Series | Mapping[str, Table | Panel]


@dataclass(frozen=True)
class Fit(Fitted, figure="series.draw_fit"):
    """A fitted model: the estimate and views of it. Made by ``Model.fit``; ``print`` it for one screen of words.

    Attributes are those of `Fitted`: ``model``, ``view``, ``states``, ``target``, ``used``, ``estimate``, ``series``…

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
    >>> fit = of.Model("sold", terms=[of.Trend()]).fit(sold)
    >>> print(fit.equation)
    sold = 3.3
      + 9.6 * [trend: slope a year]
    where
      [trend: slope a year]: years since 2024-01; a year has 12 months; 0.8 a month
    >>> fit.fitted["fitted"].round(6).tolist(), round(fit.statistics.r_squared, 6)
    ([3.3, 4.1, 4.9, 5.7], 0.64)
    """

    @checked_keywords
    def forecast(
        self,
        horizon: int | None = None,
        *,
        until: object = None,
        plan: Table | Panel | pd.DataFrame | Mapping[str, Table | Panel] | None = None,
        levels: Sequence[float] = (0.5, 0.8, 0.95),
        method: Literal["recursion", "direct"] = "recursion",
        unreleased: Literal["expected", "shifted"] = "expected",
        missing_plans: Literal["refuse", "expected"] = "refuse",
        scenario: Assumptions | None = None,
    ) -> Forecast:
        """Forecast the periods after the target's last value.

        Parameters
        ----------
        horizon
            How many periods ahead.
        until
            A date in the last period to forecast, instead of `horizon`.
        plan
            The drivers' future values: a table, or several by the name of the table that each continues. Rows
            after the target's end that their source declares as ``plan`` or ``actual`` serve as well.
        levels
            Probabilities of the central intervals, each giving two quantiles.
        method
            With own lags: ``recursion``, in which a forecast is the later ones' past; or ``direct``, one equation for
            each horizon, whose lags count from the origin. It is less exact where the model is right, and forgives
            more where it is not (Marcellino, Stock & Watson 2006); it gives no intervals of sums.
        unreleased
            Where values of drivers of another frequency are not yet published: ``expected`` takes what models of their
            own expect (trend, season, the period before), whose uncertainty the intervals count; ``shifted`` fits one
            equation for each horizon, with the lags that are published at the origin; it gives no intervals of sums.
        missing_plans
            Where a driver of the target's own frequency has neither a value nor a plan: ``refuse``, since a forecast
            should say what it rests on; or ``expected``, which asks a model of the driver's own, as `unreleased` does.
        scenario
            What is assumed of the drivers instead of what is planned: a `Scenario`.

        Raises
        ------
        InputError
            If a driver or holiday table does not reach far enough, naming it and the first period; or if the future
            needs an effect that the fitted periods cannot show.

        Examples
        --------
        >>> import pandas as pd, offing as of
        >>> days = pd.date_range("2024-01-01", periods=6, freq="D")
        >>> data = pd.DataFrame({"sold": [3.0, 5.0, 4.0, 6.0, 5.0, 7.2], "rain": [1, 0, 1, 0, 1, 0]}, days)
        >>> fit = of.Model("sold", terms=[of.Driver("rain")]).fit(data)
        >>> plan = pd.DataFrame({"rain": [0, 1]}, pd.date_range("2024-01-07", periods=2, freq="D"))
        >>> fit.forecast(2, plan=plan).table[["horizon", "forecast"]].round(2).to_numpy().tolist()
        [[1.0, 6.07], [2.0, 4.0]]
        """
        if method not in ("recursion", "direct"):
            raise InputError(f"found {method!r}", 'Give "recursion" or "direct".', key="method")
        if unreleased not in ("expected", "shifted"):
            raise InputError(f"found {unreleased!r}", 'Give "expected" or "shifted".', key="unreleased")
        if missing_plans not in ("refuse", "expected"):
            raise InputError(f"found {missing_plans!r}", 'Give "refuse" or "expected".', key="missing_plans")
        expect = missing_plans == "expected"
        if method == "direct" or unreleased == "shifted":
            return by_horizon(
                self,
                horizon,
                until,
                plan,
                levels,
                direct=method == "direct",
                shifted=unreleased == "shifted",
                expect=expect,
                scenario=scenario,
            )
        return forecast(self, horizon, until, plan, levels, expect=expect, scenario=scenario)

    def save(self, path: str | Path) -> None:
        """Write the fit into a file of its own, from which `offing.load` makes it again, every number the same.

        The file is JSON, described by its schema on the page "next month". It holds what was learnt, and the columns
        of the data that the fit draws on, so that forecasts, scenarios and explanations need nothing else. Addresses
        of databases and services are not in it.

        Parameters
        ----------
        path
            Such as ``ferry.model.json``. A file of that name is replaced, whole or not at all.

        Raises
        ------
        InputError
            If the file cannot be written, or a term of another package was registered under no name.

        Examples
        --------
        >>> import pathlib, tempfile, pandas as pd, offing as of
        >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
        >>> file = pathlib.Path(tempfile.mkdtemp()) / "sold.model.json"
        >>> of.Model("sold", terms=[of.Trend()]).fit(sold).save(file)
        >>> of.load(file).forecast(1).table["forecast"].round(6).tolist()
        [6.5]
        """
        save_models(Path(path), {self.model.name: self})

    def apply(self, data: Data) -> Fit:
        """The fit with its old coefficients on its own rows and newer ones: forecasts start after these.

        Parameters
        ----------
        data
            Newer rows, or all rows again, as for `Model.fit`: where both have a value the newer counts. Of several
            tables a dictionary by name, of those that have newer rows. Columns are in the units that the fit has.

        Raises
        ------
        InputError
            If the rows are of another frequency, or lack a column that the fit draws on.

        Examples
        --------
        >>> import pandas as pd, offing as of
        >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
        >>> fit = of.Model("sold", terms=[of.Trend()]).fit(sold)
        >>> newer = pd.Series([9.0], pd.period_range("2024-05", periods=1, freq="M"), name="sold")
        >>> fit.apply(newer).forecast(1).table["forecast"].round(6).to_dict()
        {Timestamp('2024-06-01 00:00:00'): 7.3}
        """
        return public(applied(self, data))

    def update(self, data: Data) -> Fit:
        """The fit with newer rows joined to it: the same coefficients as of all rows together, without the old ones.

        The new rows are joined to the triangle of the old ones (Golub 1965). Strengths of shrinkage, dynamics of the
        noise, what transformations learnt and values that treatments set apart stay as they were; shape parameters
        move by one step of Gauss and Newton. `refit` learns everything again.

        Parameters
        ----------
        data
            Newer rows, as for `apply`; revised values of periods that were fitted change nothing.

        Raises
        ------
        InputError
            As `apply`; or with a robust loss, which judges every row beside all others.

        Examples
        --------
        >>> import pandas as pd, offing as of
        >>> months = pd.period_range("2024-01", periods=5, freq="M")
        >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0, 9.0], months, name="sold")
        >>> model = of.Model("sold", terms=[of.Trend()])
        >>> updated, whole = model.fit(sold[:4]).update(sold[4:]), model.fit(sold)
        >>> bool(abs(updated.coefficients["coefficient"] - whole.coefficients["coefficient"]).max() < 1e-12)
        True
        """
        return public(updated(self, data))

    def refit(self, data: Data) -> Fit:
        """The model as it was stated, fitted to its own rows and newer ones; see `apply` for `data`.

        Raises
        ------
        InputError
            As `apply` and `Model.fit`.

        Examples
        --------
        >>> import pandas as pd, offing as of
        >>> months = pd.period_range("2024-01", periods=5, freq="M")
        >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0, 9.0], months, name="sold")
        >>> fit = of.Model("sold", terms=[of.Trend()]).fit(sold[:4])
        >>> fit.refit(sold[4:]).axis.n
        5
        """
        return public(refitted(self, data))

    def again(self, terms: Sequence[Term]) -> Fit:
        """The same data fitted with other terms, from what was known at the same origin."""
        return public(super().again(terms))


def public(fitted: Fitted) -> Fit:
    """A fit with all that one may ask of it."""
    return Fit(**{each.name: getattr(fitted, each.name) for each in fields(fitted)})


class SeriesFits(dict[str, "Fit"]):
    """A fit by series; `left_out` says of the series that cannot be fitted, or forecast, why."""

    def __init__(self) -> None:
        super().__init__()
        self.left_out: dict[str, InputError] = {}

    def save(self, path: str | Path) -> None:
        """Write all fits into one file, from which `offing.load_each` makes them again; see `Fit.save`.

        Raises
        ------
        InputError
            As `Fit.save`; or if there is no fit.
        """
        if not self:
            raise InputError("there is no fit to be saved", "Fit a series first.")
        save_models(Path(path), self)

    def apply_each(self, data: Data) -> SeriesFits:
        """Each fit on newer rows with its old coefficients; see `Fit.apply`."""
        return self._each(lambda fit: fit.apply(data))

    def update_each(self, data: Data) -> SeriesFits:
        """Each fit with newer rows joined to it; see `Fit.update`."""
        return self._each(lambda fit: fit.update(data))

    def refit_each(self, data: Data) -> SeriesFits:
        """Each model fitted to its own rows and newer ones; see `Fit.refit`."""
        return self._each(lambda fit: fit.refit(data))

    def _each(self, change: Callable[[Fit], Fit]) -> SeriesFits:
        found = SeriesFits()
        for name, fit in self.items():
            try:
                found[name] = change(fit)
            except InputError as error:
                error.found = f"series {fit.series!r}: {error.found}" if fit.series else error.found
                if not fit.series:
                    raise
                found.leave_out(name, error)
        if not found and found.left_out:
            raise next(iter(found.left_out.values()))
        return found

    def leave_out(self, series: str, error: InputError) -> None:
        """Keep the reason why a series has no result."""
        self.left_out[series] = error
        self.pop(series, None)
