"""Which columns the data are evidence of, by the Bayesian information criterion, read off one triangle."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from offing.engine.triangle import Array, solve, take


@dataclass(frozen=True)
class Menu:
    """Steps, each a set of columns, of which so many are taken: the first ones, or any that lie `apart`.

    With `nested` from `least` to `at_most` of the first steps; else up to `at_most` of any, whose places count as
    estimated.
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
    >>> from offing.engine.choose import Menu, choose
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

    def value(kept: tuple[int, ...]) -> float:
        own = [places[column] for step in kept for column in menu.steps[step]]
        found = solve(take(corner, [*own, corner.shape[1] - 1]))
        estimated = free + float(found.kept.sum()) + (0.0 if menu.nested else len(kept))
        return criterion(float(found.rss[0]), rows, estimated)

    if menu.nested:
        return min((tuple(range(m)) for m in range(menu.least, menu.at_most + 1)), key=value)
    best: tuple[int, ...] = ()
    path = [best]
    for _ in range(menu.at_most):
        added = [kept for step in range(len(menu.steps)) if (kept := _with(menu, path[-1], step)) is not None]
        if not added:
            break
        path.append(_moved(min(added, key=value), menu, value))
    return min(path, key=value)


def _moved(kept: tuple[int, ...], menu: Menu, value: Callable[[tuple[int, ...]], float]) -> tuple[int, ...]:
    """Steps moved one by one for as long as that helps."""
    for _ in range(20):
        best = kept
        for step in kept:
            rest = tuple(each for each in kept if each != step)
            moved = [other for place in range(len(menu.steps)) if (other := _with(menu, rest, place)) is not None]
            best = min([best, *moved], key=value)
        if best == kept:
            break
        kept = best
    return kept


def _with(menu: Menu, kept: tuple[int, ...], step: int) -> tuple[int, ...] | None:
    """The steps with one more, or None where it is too near to another."""
    both = tuple(sorted((*kept, step)))
    return both if all(b - a >= menu.apart for a, b in pairwise(both)) else None


def _beside(whole: Array, held: list[int], menu: Menu) -> tuple[Array, dict[int, int], int]:
    """What the `held` columns leave of the menu's columns and the target, where each is, and how many were held."""
    last = whole.shape[1] - 1
    kept = [held[i] for i in np.flatnonzero(solve(take(whole, [*held, last])).kept)]
    own = list(dict.fromkeys(column for step in menu.steps for column in step))
    corner = take(whole, [*kept, *own, last])[len(kept) :, len(kept) :]
    lost = np.linalg.norm(corner[:, :-1], axis=0) <= 1e-9 * np.linalg.norm(whole[:, own], axis=0)
    corner[:, np.flatnonzero(lost)] = 0.0
    return corner, {column: i for i, column in enumerate(own)}, len(kept)
