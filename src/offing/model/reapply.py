"""A fit's coefficients on other data: what it would say of values that it never saw."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from offing.calendar import Axis
from offing.model.design import Design
from offing.model.fitted import Fitted
from offing.model.forecast import Forecast
from offing.tables import Information, Sources, View
from offing.tables.overlay import Assumed, Unplanned


def moved(fit: Fitted, sources: Sources, axis: Axis, origin: int, *, over: View | None = None) -> Fitted:
    """The fit with the same coefficients, shapes and dynamics on the periods `axis` of other data.

    The first period must be the same, since trends count from there. What a view `over` assumes of columns holds here.
    """
    information = Information(sources.tables, fit.series, origin, sources.plans, fit.view.known_ahead)
    view = information.view(origin, axis, fit.model.goal).treated(list(fit.view.patches.values()))
    if over is not None:
        view = replace(view, changes=tuple(each for each in over.changes if isinstance(each[1], (Assumed, Unplanned))))
    target = view.known(fit.model.target, axis).values
    factor = fit.scale.factor(view, fit.model.target, axis)
    levels = fit.scale.levels(target, factor, axis)
    transformed = fit.scale.transformed(levels, axis)
    view = view.walked(axis.first, transformed)
    design = fit.columns(view, axis)
    used = np.isfinite(transformed) & design.known
    chain = replace(fit.estimate.chain, times=axis.ordinals[used], worth=None)
    return replace(
        fit,
        view=view,
        target=target,
        factor=factor,
        levels=levels,
        transformed=transformed,
        used=used,
        rows=design,
        estimate=replace(fit.estimate, chain=chain),
    )


def rerun(ahead: Forecast, view: View) -> Forecast:
    """The forecast of the same fit with other values of the drivers."""
    ahead = ahead.bare
    view = ahead.fit.walked_on(view, ahead.axis)
    kept = tuple(each for each in ahead.outlooks if view.change(Assumed, view.sources.find(each.reference)) is None)
    return replace(ahead, view=view, rows=_rows(ahead, view), outlooks=kept)


def _rows(ahead: Forecast, view: View) -> Design:
    """The forecast's design as `view` has it, laid out again only where that differs in what it assumes of columns."""
    before = ahead.view
    same = all(getattr(view, name) is getattr(before, name) for name in ("sources", "rows", "patches", "path"))
    if not same or ahead.fit.own:
        return ahead.fit.columns(view, ahead.axis)
    own, others = ({(key, id(change)) for key, change in each.changes} for each in (view, before))
    return ahead.fit.with_moved(ahead.rows, view, ahead.axis, {key for key, _ in own ^ others})


def restart(ahead: Forecast, fit: Fitted, view: View, axis: Axis) -> Forecast:
    """The forecast of another fit, from a view with all that it needs on `axis`."""
    view = fit.walked_on(view, axis)
    return replace(ahead.bare, fit=fit, view=view, axis=axis, rows=fit.columns(view, axis), outlooks=())
