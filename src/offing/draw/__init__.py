"""Figures of results: `figure` draws any of them."""

from offing.draw.figure import figure
from offing.draw.style import Picture

__all__ = ["Picture", "figure"]
