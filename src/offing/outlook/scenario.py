"""Scenarios: named sets of assumptions about the drivers' future."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from offing.base import InputError, Keywords
from offing.calendar import Axis
from offing.model.fitted import Fitted
from offing.model.forecast import AS_PLANNED
from offing.outlook.driver_future import future
from offing.outlook.rule import Rule
from offing.outlook.rules import rule_of
from offing.tables import View


@dataclass(frozen=True)
class Scenario(Keywords):
    """A named set of assumptions about the drivers' future.

    Parameters
    ----------
    name
        What it is called.
    drivers
        A rule for each driver, by its term's name or its column: `AsPlanned`, `LastValue`, `YearBefore`, `Stated`,
        `Shift`, `AsIn` or `Modelled`. A number stands for `Stated`, a text for the rule of that name. Drivers
        without a rule stay as planned, or as in the base.
    base
        A scenario on which this one builds: its rules come first, so that a `Shift` starts from there.
    note
        A sentence on why.

    Raises
    ------
    InputError
        For a rule that means nothing, a name that is taken, or bases that go round in a circle.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=6, freq="D")
    >>> data = pd.DataFrame({"sold": [3.0, 5.0, 4.0, 6.0, 5.0, 7.2], "rain": [1, 0, 1, 0, 1, 0]}, days)
    >>> fit = of.Model("sold", terms=[of.Driver("rain")]).fit(data)
    >>> dry = fit.forecast(2, scenario=of.Scenario("dry", {"rain": 0.0}))
    >>> dry.mean.round(2).tolist(), dry.drivers["mark"].tolist()
    ([6.07, 6.07], ['assumed', 'assumed'])
    """

    name: str
    drivers: Mapping[str, Rule | str | float | Any]
    base: Scenario | None = None
    note: str = ""

    def __post_init__(self) -> None:
        if not isinstance(self.name, str) or not self.name.strip() or self.name == AS_PLANNED:
            raise InputError(f"found {self.name!r}", f"Give a name other than {AS_PLANNED!r}.", key="name")
        if not isinstance(self.drivers, Mapping):
            raise InputError(f"found {self.drivers!r}", "Give a rule for each driver, by its name.", key="drivers")
        rules = {}
        for driver, stated in self.drivers.items():
            try:
                rules[str(driver)] = rule_of(stated)
            except InputError as error:
                error.found = f"driver '{driver}': {error.found}"
                raise
        object.__setattr__(self, "drivers", rules)

    @property
    def rules(self) -> Iterator[tuple[str, Rule]]:
        """The base's rules and then its own."""
        if self.base is not None:
            yield from self.base.rules
        yield from ((name, rule_of(rule)) for name, rule in self.drivers.items())

    def on(self, fit: Fitted, view: View, axis: Axis) -> tuple[View, dict[str, str]]:
        """The view with everything assumed that a forecast of `axis` needs, and what that is of each driver."""
        said: dict[str, list[str]] = {}
        for name, rule in self.rules:
            found = rule.on(future(fit, view, axis, name))
            view = found.view
            said.setdefault(name, []).append(found.words)
        return view, {name: ", then ".join(words) for name, words in said.items()}


def linked(stated: Mapping[str, tuple[str | None, Mapping[str, Any], str]]) -> dict[str, Scenario]:
    """Scenarios from what is stated of each: its base's name, its drivers' rules and its note.

    Raises
    ------
    InputError
        If a base is unknown, or bases go round in a circle.
    """
    made: dict[str, Scenario] = {}

    def make(name: str, requested: tuple[str, ...]) -> Scenario:
        if name in made:
            return made[name]
        if name in requested:
            circle = " → ".join((*requested[requested.index(name) :], name))
            raise InputError(
                f"the scenarios' bases go round in a circle: {circle}", "Let one of them stand alone.", key="base"
            )
        base, drivers, note = stated[name]
        if base is not None and base not in (*stated, AS_PLANNED):
            others = ", ".join(each for each in stated if each != name) or "none"
            raise InputError(
                f"scenario {name!r} builds on {base!r}, which is none", f"There are: {others}.", key="base"
            )
        under = None if base in (None, AS_PLANNED) else make(str(base), (*requested, name))
        made[name] = Scenario(name, drivers, under, note)
        return made[name]

    for name in stated:
        make(name, ())
    return {name: made[name] for name in stated}
