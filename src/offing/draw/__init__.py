"""Figures of results: `figure` draws any of them."""

from offing.draw.figures import figure

__all__ = ["figure"]
