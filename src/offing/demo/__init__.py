"""The Tern Islands: made-up data whose truth is known, and guided runs over them."""

from offing.demo.boatyard import Yard, boatyard
from offing.demo.boatyard_story import run_boatyard
from offing.demo.ferry import World, ferry, forecast_only
from offing.demo.heat import heat
from offing.demo.heat_story import run_heat
from offing.demo.messy import messy_tables
from offing.demo.run import run_demo
from offing.demo.service import run_service, serving

__all__ = [
    "World",
    "Yard",
    "boatyard",
    "ferry",
    "forecast_only",
    "heat",
    "messy_tables",
    "run_boatyard",
    "run_demo",
    "run_heat",
    "run_service",
    "serving",
]
