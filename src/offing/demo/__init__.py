"""The Tern Islands: made-up data whose truth is known, and guided runs over them."""

from offing.demo.boatyard import Yard, boatyard
from offing.demo.boatyard_story import run_boatyard
from offing.demo.ferry import World, ferry, forecast_only
from offing.demo.ferry_story import run_ferry
from offing.demo.heat import heat
from offing.demo.heat_story import run_heat
from offing.demo.messy import messy_tables
from offing.demo.service import serving
from offing.demo.service_story import run_service

__all__ = [
    "World",
    "Yard",
    "boatyard",
    "ferry",
    "forecast_only",
    "heat",
    "messy_tables",
    "run_boatyard",
    "run_ferry",
    "run_heat",
    "run_service",
    "serving",
]
