"""The study file: one TOML text with sources, target, terms and models, checked on reading, run in full."""

from offing.study.loader import open_study
from offing.study.saved import load, load_each
from offing.study.study import Study

__all__ = ["Study", "load", "load_each", "open_study"]
