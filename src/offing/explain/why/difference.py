"""What lies between two accounts of a target, row by row and exactly."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array
from offing.engine import paired, quantile
from offing.model.decomposition import ADJUSTMENT, Account, Row


@dataclass(frozen=True)
class Pieces:
    """The difference of two accounts in some groups of periods.

    Attributes
    ----------
    names, labels
        The rows of both (J,).
    amounts, half
        What each row adds (J, g), and how far its 95 % interval reaches either way; NaN where nothing is said.
    start, end
        The values between which it lies (g,).
    total_half
        How far the 95 % interval of the whole difference reaches (g,).
    """

    names: tuple[str, ...]
    labels: tuple[str, ...]
    amounts: Array
    half: Array
    start: Array
    end: Array
    total_half: Array


def between(start: Account, end: Account, owners: NDArray[np.intp], groups: int, *, pooled: bool) -> Pieces:
    """What lies between periods of the `end` and those of the start at their places, or the mean of all, `pooled`.

    `owners` shows the group of each period of the end. Rows are shared out on the working scale and weighted by the
    logarithmic mean of both values (Ang 2005), pair by pair: no order of the rows enters, a row that is the same on
    both sides adds nothing, and the amounts add up to the difference. Intervals count the coefficients, which both
    sides must share, with the weights held.
    """
    if start.log != end.log:
        start, end = start.plain(), end.plain()
    if end.alike(start) and len(start.rows) > 1:
        # With the same coefficients a reference that moves is no step: a term is what it is worth, wherever from.
        start, end = start.absolute(), end.absolute()
    worth, back = paired(end.whole, start.whole, owners, groups, log=end.log, pooled=pooled)
    _, mean = paired(end.whole, start.whole, owners, groups, log=False, pooled=pooled)
    member = np.zeros((groups, len(owners)))
    member[owners, np.arange(len(owners))] = 1.0
    sides = (end, member * worth), (start, -back)
    known = end.alike(start)
    names = list(dict.fromkeys((*end.names, *start.names)))
    rows = [[(row, weights) for each, weights in sides for row in each.rows if row.name == name] for name in names]
    labels = [each[0][0].label for each in rows]
    amounts = [sum(weights @ row.values for row, weights in each) for each in rows]
    # Of the whole difference the derivative needs no mean of two values.
    whole = (end, member * _size(end)), (start, -mean * _size(start))
    rows.append([(row, weights) for each, weights in whole for row in each.rows])
    *half, total_half = _halves(end, rows) if known else np.full((len(rows), groups), np.nan)
    extra = member @ end.extra - mean @ start.extra
    if extra.any():
        names, labels = [*names, ADJUSTMENT], [*labels, ADJUSTMENT]
        amounts, half = [*amounts, extra], [*half, np.zeros(groups)]
    return Pieces(
        tuple(names),
        tuple(labels),
        np.array(amounts),
        np.array(half),
        mean @ start.mean,
        member @ end.mean,
        total_half,
    )


def _size(side: Account) -> Array:
    return np.exp(side.whole) if side.log else np.ones(len(side.ordinals))


def _halves(end: Account, every: Sequence[Sequence[tuple[Row, Array]]]) -> Array:
    """How far the 95 % intervals of several sets of weighted rows reach (s, g)."""
    estimate, groups = end.estimate, len(every[0][0][1])
    if estimate is None:
        return np.full((len(every), groups), np.nan)
    gradients = np.array([sum(weights @ row.gradient for row, weights in rows) for rows in every])
    errors = estimate.standard_errors(gradients.reshape(-1, gradients.shape[2])).reshape(gradients.shape[:2])
    return np.asarray(quantile(0.975, estimate.dof) * np.hypot(errors, [_alone(rows) for rows in every]))


def _alone(rows: Sequence[tuple[Row, Array]]) -> Array:
    """The standard error (g,) of what only the future holds: of a term the same on both sides of two forecasts."""
    width = max(row.future_columns.shape[1] for row, _ in rows)
    found = np.zeros((len(rows[0][1]), width))
    for row, weights in rows:
        found[:, : row.future_columns.shape[1]] += weights @ row.future_columns
    return np.asarray(np.sqrt(np.square(found).sum(axis=1)))
