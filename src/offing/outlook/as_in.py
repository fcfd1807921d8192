"""A driver as it was in another year, or as in the worst of all."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from offing.base import InputError
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.outlook.driver_future import Future
from offing.outlook.rule import Assumed, Rule

#: Two years, the second by its last digits.
_WINTER = re.compile(r"(\d{4})/(\d{2}|\d{4})")


@dataclass(frozen=True)
class AsIn(Rule):
    """As in an earlier year: one by its number, or the ``worst`` or ``best`` one seen, by what it does to the forecast.

    Periods that cross the end of a year have a winter of two years, ``"2021/22"``, which starts in the first.

    Drivers that are named `together` with it follow the same year, so that a cold winter is cold, windy and dark as it
    was.

    Examples
    --------
    >>> import offing as of
    >>> of.AsIn("worst", together=["wind"]).together
    ('wind',)
    """

    year: int | str
    together: Sequence[str] = ()
    method = "as in"

    def __post_init__(self) -> None:
        word = isinstance(self.year, str) and (self.year in ("worst", "best") or _WINTER.fullmatch(self.year))
        whole = isinstance(self.year, (int, np.integer)) and not isinstance(self.year, bool)
        if not (word or whole):
            raise InputError(
                f"found {self.year!r}", 'Give a year, two such as "2021/22", "worst" or "best".', key="year"
            )
        if isinstance(self.together, str):
            raise InputError(f"found {self.together!r}", "Give a list of drivers.", key="together")
        object.__setattr__(self, "together", tuple(self.together))

    def on(self, future: Future) -> Assumed:
        """The same periods of that year, in whole weeks where that keeps weekdays apart."""
        every = [future, *(future.beside(name) for name in self.together)]
        found = {}
        for k in range(1, 200):
            paths = [
                (each.reference, each.axis, each.actual(each.axis.shifted(-k * each.axis.frequency.year_back)))
                for each in every
            ]
            if any(each.axis.first - k * each.axis.frequency.year_back < each.past.first for each in every):
                break
            if all(np.isfinite(values).all() for *_, values in paths):
                found[k] = paths
        if not found:
            raise InputError(
                f"no earlier year of '{future.name}' holds all these periods", "State a path.", key=future.name
            )
        back = self._chosen(future, found)
        view = future.view
        for reference, axis, values in found[back]:
            view = view.assuming(reference, axis.first, values)
        named = future.axis.shifted(-back * future.axis.frequency.year_back).spell()
        side = {"worst": "lowest", "best": "highest"}.get(str(self.year))
        which = f", of {len(found)} years seen the {self.year}: that of the {side} forecast" if side else ""
        also = f", with {' and '.join(repr(name) for name in self.together)}" if self.together else ""
        return Assumed(view, f"as in {named}{which}{also}")

    def _chosen(self, future: Future, found: Mapping[int, list[tuple[str, Axis, Array]]]) -> int:
        if self.year in ("worst", "best"):
            effects = {k: future.effect(paths) for k, paths in found.items()}
            pick = min if self.year == "worst" else max
            return pick(effects, key=lambda k: effects[k])
        here, there = (_year_of(future.axis.part(at, at + 1)) for at in (0, future.axis.n - 1))
        crosses, winter = there > here, _WINTER.fullmatch(str(self.year))
        if crosses and not winter:
            raise InputError(
                f"found {self.year}, but {future.axis.spell()} cross the end of a year",
                f'Say which winter: "{_winter(int(self.year) - 1)}" or "{_winter(int(self.year))}".',
                key="year",
            )
        if winter and not crosses:
            raise InputError(
                f"found {self.year!r}, but {future.axis.spell()} lie within one year", "Give one year.", key="year"
            )
        back = here - int(winter.group(1) if winter else self.year)
        if back not in found:
            years = ", ".join(_winter(here - k) if crosses else str(here - k) for k in sorted(found, reverse=True))
            raise InputError(
                f"'{future.name}' has no whole run of these periods in {self.year}",
                f"There is one in: {years}.",
                key="year",
            )
        return back


def _winter(year: int) -> str:
    return f"{year}/{(year + 1) % 100:02d}"


def _year_of(axis: Axis) -> int:
    middle = axis.starts[:1] + (axis.ends[:1] - axis.starts[:1]) // 2
    return int(axis.frequency.index(middle)[0].year)
