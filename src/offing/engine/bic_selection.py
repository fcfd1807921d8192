"""Which columns the data are evidence of, by the Bayesian information criterion, read off one triangle."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.linalg import qr

from offing.base.arrays import Array
from offing.engine.qr import solve, take


@dataclass(frozen=True)
class Menu:
    """Steps, each a set of columns, of which some are taken: the first ones, or any that lie `apart`.

    With `nested` from `least` to `at_most` of the first steps; else up to `at_most` of any, each a single column, whose
    places count as estimated.
    """

    steps: tuple[tuple[int, ...], ...]
    at_most: int
    nested: bool
    least: int
    apart: int


def criterion(rss: float, rows: int, estimated: float) -> float:
    """Schwarz's (1978) criterion for normal noise: n ln(rss / n) + k ln n."""
    return float(rows * np.log(max(rss, 1e-300) / rows) + estimated * np.log(rows))


def choose(whole: Array, rows: int, always: Sequence[int], menus: Sequence[Menu]) -> list[tuple[int, ...]]:
    """The steps to keep of every menu, from the triangle `whole` of [X | y].

    Menus are gone through in turn, each against the choice made of the others, until nothing changes. Steps of a menu
    that is not nested are added one by one where they help most, and then moved one by one.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import triangle
    >>> from offing.engine.bic_selection import Menu, choose
    >>> x = np.random.default_rng(1).normal(size=(80, 4))
    >>> whole = triangle(np.column_stack([x, 3.0 * x[:, 0] + x[:, 1] + np.tile([0.5, -0.5], 40)]))
    >>> choose(whole, 80, [0], [Menu(((1,), (2,), (3,)), 3, True, 0, 1)])
    [(0,)]
    """
    kept: list[tuple[int, ...]] = [tuple(range(menu.at_most)) if menu.nested else () for menu in menus]
    for _ in range(10):
        before = list(kept)
        for i, menu in enumerate(menus):
            others = [column for j, other in enumerate(menus) if j != i for s in kept[j] for column in other.steps[s]]
            kept[i] = _best(whole, rows, [*always, *others], menu)
        if kept == before:
            break
    return kept


def _best(whole: Array, rows: int, held: list[int], menu: Menu) -> tuple[int, ...]:
    corner, places, free = _beside(whole, held, menu)
    if menu.nested:

        def value(kept: tuple[int, ...]) -> float:
            own = [places[column] for step in kept for column in menu.steps[step]]
            found = solve(take(corner, [*own, corner.shape[1] - 1]))
            return criterion(float(found.rss[0]), rows, free + float(found.kept.sum()))

        return min((tuple(range(m)) for m in range(menu.least, menu.at_most + 1)), key=value)
    steps = corner[:, [places[step[0]] for step in menu.steps]]
    best: tuple[int, ...] = ()
    path = [(float(corner[:, -1] @ corner[:, -1]), best)]
    for _ in range(menu.at_most):
        rss, kept = _with_one_more(steps, corner[:, -1], path[-1][1], menu.apart)
        if len(kept) == len(path[-1][1]):
            break
        path.append(_moved(steps, corner[:, -1], (rss, kept), menu.apart))
    return min(path, key=lambda each: criterion(each[0], rows, free + 2.0 * len(each[1])))[1]


def _with_one_more(steps: Array, target: Array, kept: tuple[int, ...], apart: int) -> tuple[float, tuple[int, ...]]:
    """The `kept` columns of `steps` (m, k) with the one that helps most, `apart` from them, and what they leave."""
    basis = qr(steps[:, list(kept)], mode="economic")[0] if kept else np.zeros((len(steps), 0))
    free, residual = steps - basis @ (basis.T @ steps), target - basis @ (basis.T @ target)
    lengths = np.square(free).sum(axis=0)
    open_to = lengths > 1e-12 * np.square(steps).sum(axis=0)
    for step in kept:
        open_to[max(step - apart + 1, 0) : step + apart] = False
    if not open_to.any():
        return float(residual @ residual), kept
    gain = np.where(open_to, np.square(free.T @ residual) / np.where(open_to, lengths, 1.0), -1.0)
    step = int(np.argmax(gain))
    return float(residual @ residual - gain[step]), tuple(sorted((*kept, step)))


def _moved(
    steps: Array, target: Array, start: tuple[float, tuple[int, ...]], apart: int
) -> tuple[float, tuple[int, ...]]:
    """Steps moved one by one for as long as that helps."""
    best = start
    for _ in range(20):
        others = [tuple(each for each in best[1] if each != step) for step in best[1]]
        moved = min((_with_one_more(steps, target, rest, apart) for rest in others), key=lambda each: each[0])
        if moved[0] >= best[0] * (1.0 - 1e-12):
            break
        best = moved
    return best


def _beside(whole: Array, held: list[int], menu: Menu) -> tuple[Array, dict[int, int], int]:
    """What the `held` columns leave of the menu's columns and the target, where each is, and how many were held."""
    last = whole.shape[1] - 1
    kept = [held[i] for i in np.flatnonzero(solve(take(whole, [*held, last])).kept)]
    own = list(dict.fromkeys(column for step in menu.steps for column in step))
    corner = take(whole, [*kept, *own, last])[len(kept) :, len(kept) :]
    lost = np.linalg.norm(corner[:, :-1], axis=0) <= 1e-9 * np.linalg.norm(whole[:, own], axis=0)
    corner[:, np.flatnonzero(lost)] = 0.0
    return corner, {column: i for i, column in enumerate(own)}, len(kept)
