"""Figures of results: `figure` draws any of them."""

from offing.draw.figures import figure
from offing.draw.style import Picture

__all__ = ["Picture", "figure"]
