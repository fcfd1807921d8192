"""A study, as users meet it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import pandas as pd

from offing.base import InputError, count
from offing.evaluation import external_forecast
from offing.explain import (
    Walk,
    adjust_forecast,
    walk,
)
from offing.explain.monitoring import Monitoring, monitored
from offing.model.fitted import Fitted
from offing.model.renew import newer_rows
from offing.study.comparison_base import fit_then, held_against, made_then
from offing.study.what_if import (
    WhatIfStudy,
    is_over,
    last_of,
)


@dataclass(frozen=True)
class Study(WhatIfStudy):
    r"""A checked study file. Made by `offing.open_study`; each step runs when it is first asked for.

    Attributes are those of `StudyData`: ``path``, ``spec``, ``terms``, ``models``, ``scenarios``…

    Examples
    --------
    >>> import tempfile, pathlib, offing as of
    >>> folder = pathlib.Path(tempfile.mkdtemp())
    >>> _ = (folder / "boats.csv").write_text("month,sold\n2024-01,3\n2024-02,5\n2024-03,4\n2024-04,6\n")
    >>> text = 'format = 1\n[sources.boats]\nfile = "boats.csv"\n[target]\ndata = "boats.sold"\n'
    >>> _ = (folder / "study.toml").write_text(text + '[[terms]]\ntype = "trend"\n[forecast]\nhorizon = 1\n')
    >>> of.open_study(folder / "study.toml").forecasts["main"].table["forecast"].round(6).tolist()
    [6.5]
    """

    @cached_property
    def walks(self) -> dict[str, list[Walk]]:
        """The walks that ``[[walks]]`` asks for, by the names of their fits."""
        found: dict[str, list[Walk]] = {name: [] for name in self.fits}
        for i, requested in enumerate(self.spec.walks):
            with self.placing(("walks", i)):
                for name in self.fits:
                    if requested.scenario is None or requested.scenario in getattr(self.what_if.get(name), "names", ()):
                        found[name].append(
                            self.walk_of(
                                name,
                                requested.against,
                                by=requested.by,
                                span=requested.span,
                                scenario=requested.scenario,
                            )
                        )
        return found

    @cached_property
    def monitoring(self) -> dict[str, Monitoring]:
        """Whether the models still hold that made the archived forecasts, by the names of their fits.

        Watched is the fit of ``since`` in ``[monitor]``, by default of the first archived forecast.

        Raises
        ------
        InputError
            If the study has no archive and no such date, or as `offing.monitor`.
        """
        since = self.spec.monitor.since
        if self.archive is None and since is None:
            raise InputError(
                "the study has no archive, so that there is no forecast to be compared with what came",
                'Add [archive] with file = "forecasts.sqlite", or [monitor] with since = a date.',
                file=self.path.name,
            )
        outside = [
            external_forecast(self.path.parent / each.file, each.name, role=each.role)
            for each in self.spec.backtest.external
        ]
        found = {}
        with self.placing(("monitor",)):
            for name, fit in self.fits.items():
                day = since if since is not None else self._first_archived(fit)
                then = fit_then(self, name, day)
                rows = newer_rows(then, then.view.sources.tables)
                ahead = made_then(self, name, day) if fit.model.drivers else None
                found[name] = monitored(then, rows, self.archive, outside, ahead)
        return found

    def _first_archived(self, fit: Fitted) -> str:
        """The first origin from which a fit's model has an archived forecast."""
        listed = pd.DataFrame() if self.archive is None else self.archive.table
        if len(listed):
            listed = listed[(listed["series"] == fit.series_name) & (listed["model"] == fit.model.name)]
        if not len(listed):
            raise InputError(
                f"the archive holds no forecast by the model '{fit.model.name}'",
                "Forecast first: every run adds to it.",
                file=self.path.name,
                key="archive",
            )
        return str(listed["origin"].iloc[0])

    def keep(self) -> str:
        """Add the forecasts to the archive, if the study has one, and say so.

        Kept are the forecasts as planned, adjusted by hand, and combined; one that is there already is not added twice.

        Raises
        ------
        InputError
            As `Archive.append`.
        """
        if self.archive is None:
            return ""
        combined = [] if self.combination is None else [self.combination]
        made: list[Any] = [*self.forecasts.values(), *combined, *self.adjusted.values()]
        with self.placing(("archive",)):
            new = self.archive.append(made)
        if not new:
            return f"Archived before: {self.archive.tables.name} has this forecast."
        return f"Archived: {count(new, 'forecast')} in {self.archive.tables.name}."

    def walk_of(
        self, name: str, against: Any, *, by: str | None = None, span: Any = None, scenario: str | None = None
    ) -> Walk:
        """One walk of a fit, with the study's groups as far as the fit has their terms."""
        end, start = held_against(self, name, against, scenario)
        terms = {str(term.name) for term in self.fits[name].model.terms}
        groups = {group: [each for each in members if each in terms] for group, members in self.spec.groups.items()}
        where = tuple(span) if isinstance(span, list) else span
        found = walk(end, start, by=by, span=where, groups={group: own for group, own in groups.items() if own})
        return found if scenario is None else replace(found, scenario=scenario)

    @cached_property
    def adjustment_scores(self) -> dict[str, pd.DataFrame]:
        """How adjustments did whose outcome is known, and which say when they were made."""
        found = {}
        for name, fit in self.fits.items():
            rows = []
            for each in self.adjustments:
                if is_over(each, fit) and each.made is not None:
                    with self.placing(("adjustments",)):
                        until = each.span[-1] if isinstance(each.span, tuple) else each.span
                        ahead = made_then(self, name, each.made, last_of(until, fit))
                        rows.append(adjust_forecast(ahead, [each]).scored(fit))
            if rows:
                found[name] = pd.concat(rows, ignore_index=True)
        return found
