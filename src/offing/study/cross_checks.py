"""What a study asks of its scenarios, walks, goals and adjustments, checked before anything is read."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from offing.base import InputError, nearest
from offing.explain import Adjustment
from offing.model.forecast import AS_PLANNED
from offing.outlook import Scenario, linked, rule_of
from offing.study import schema
from offing.study.error_messages import Place
from offing.terms import Term, drivers_of


def checked_scenarios(spec: schema.StudySpec, terms: list[Term], place: Place) -> dict[str, Scenario]:
    """The scenarios by name, in the file's order."""
    drivers = {name for term in drivers_of(terms) for name in (str(term.name), *term.needs())}
    for name, each in spec.scenarios.items():
        at = ("scenarios", name)
        if each.base is not None and each.base not in (*spec.scenarios, AS_PLANNED):
            raise place.error((*at, "base"), f"there is no scenario {each.base!r}", nearest(each.base, spec.scenarios))
        for driver, rule in each.drivers.items():
            if driver not in drivers:
                raise place.error((*at, "drivers", driver), f"there is no driver {driver!r}", nearest(driver, drivers))
            with placing_of(place, (*at, "drivers", driver)):
                rule_of(rule)
    with placing_of(place, ("scenarios",)):
        return linked({name: (each.base, each.drivers, each.note) for name, each in spec.scenarios.items()})


def check_requests(spec: schema.StudySpec, terms: list[Term], place: Place) -> None:
    """Whatever asks for terms, drivers or scenarios names some of the study's."""
    names = [str(term.name) for term in terms]
    for group, members in spec.groups.items():
        for i, member in enumerate(members):
            if member not in names:
                raise place.error(("groups", group, i), f"there is no term {member!r}", nearest(member, names))
            first = next(other for other, each in spec.groups.items() if member in each)
            if first != group:
                raise place.error(("groups", group, i), f"{member!r} is in the group {first!r} already", "Keep one.")
    drivers = [str(term.name) for term in drivers_of(terms)]
    for i, goal in enumerate(getattr(spec, "solve", ())):
        if goal.driver not in drivers:
            raise place.error(
                ("solve", i, "driver"), f"there is no driver {goal.driver!r}", nearest(goal.driver, drivers)
            )
    for driver, rule in (spec.changes or {}).items():
        if driver not in drivers:
            raise place.error(("changes", driver), f"there is no driver {driver!r}", nearest(driver, drivers))
        with placing_of(place, ("changes", driver)):
            rule_of({"percent": rule} if isinstance(rule, (int, float)) else rule)
    for i, walk in enumerate(spec.walks):
        if walk.scenario is not None and walk.scenario not in spec.scenarios:
            raise place.error(
                ("walks", i, "scenario"),
                f"there is no scenario {walk.scenario!r}",
                nearest(walk.scenario, spec.scenarios),
            )
    for i, adjustment in enumerate(getattr(spec, "adjustments", ())):
        with placing_of(place, ("adjustments", i)):
            Adjustment(**dict(adjustment))


def check_output(spec: schema.StudySpec, place: Place) -> None:
    """Figures are named as files are."""
    stated = spec.output.figures
    for i, figure in enumerate(stated if isinstance(stated, list) else []):
        if figure not in schema.figures():
            raise place.error(
                ("output", "figures", i), f"there is no figure {figure!r}", nearest(figure, schema.figures())
            )


@contextmanager
def placing_of(place: Place, at: tuple[Any, ...]) -> Iterator[None]:
    """Let an error that arises inside say which line of the study it is about."""
    try:
        yield
    except InputError as error:
        raise place.error(at, error.found, str(error.advice)) from error
