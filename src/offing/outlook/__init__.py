"""The drivers' future: planned, assumed, modelled, and scenarios of them."""

from offing.outlook.as_in import AsIn
from offing.outlook.driver_future import changeable, driver_column, driver_names
from offing.outlook.driver_simulation import simulated_drivers
from offing.outlook.rule import Rule
from offing.outlook.rules import AsPlanned, LastValue, Modelled, Shift, Stated, YearBefore, rule_of
from offing.outlook.scenario import Scenario, linked

__all__ = [
    "AsIn",
    "AsPlanned",
    "LastValue",
    "Modelled",
    "Rule",
    "Scenario",
    "Shift",
    "Stated",
    "YearBefore",
    "changeable",
    "driver_column",
    "driver_names",
    "linked",
    "rule_of",
    "simulated_drivers",
]
