"""The Tern Islands: made-up data whose truth is known, and a guided run over them."""

from offing.demo.ferry import World, ferry
from offing.demo.messy import messy_tables
from offing.demo.run import run_demo

__all__ = ["World", "ferry", "messy_tables", "run_demo"]
