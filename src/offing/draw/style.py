"""How our figures look: one palette, one type size, one way to label."""

from __future__ import annotations

import io
import textwrap
import warnings
from contextlib import AbstractContextManager
from typing import Any

import matplotlib as mpl
import numpy as np
from matplotlib.axes import Axes
from matplotlib.dates import DAILY, HOURLY, MINUTELY, MONTHLY, SECONDLY, AutoDateLocator
from matplotlib.figure import Figure
from matplotlib.ticker import FuncFormatter

from offing.base.palette import FAINT, INK, PAPER, QUIET
from offing.calendar import Axis

HATCHES = ("", "////", "....", "\\\\\\\\", "xxxx", "----", "||||", "oooo")

_SETTINGS: Any = {
    "font.size": 11.0,
    "font.family": "sans-serif",
    "font.sans-serif": ["DejaVu Sans"],
    "axes.edgecolor": QUIET,
    "axes.labelcolor": INK,
    "axes.spines.top": False,
    "axes.spines.right": False,
    "axes.grid": False,
    "axes.facecolor": PAPER,
    "figure.facecolor": PAPER,
    "hatch.linewidth": 0.6,
    "text.color": INK,
    "text.hinting": "none",  # hinting letters takes as long as all else of a page, and does not show at this size
    "text.parse_math": False,  # names come from data, and a dollar sign in them is no formula
    "xtick.color": INK,
    "ytick.color": INK,
    "svg.hashsalt": "offing",  # the same figure gives the same bytes
}


def styled() -> AbstractContextManager[None]:
    """Settings that hold while a figure is made and drawn, and nowhere else."""
    return mpl.rc_context(_SETTINGS)


class Picture(Figure):
    """A Matplotlib figure that notebooks show by themselves, made without pyplot, so that nothing stays open."""

    def draw(self, renderer: Any) -> None:
        """Draw with our settings, whenever the figure is saved."""
        with styled(), warnings.catch_warnings():
            # A letter that the font lacks, an emoji say, is drawn as a box; which cannot be helped.
            warnings.filterwarnings("ignore", message="Glyph .* missing from font")
            super().draw(renderer)

    def _repr_png_(self) -> bytes:
        return png(self)


def png(picture: Figure) -> bytes:
    """The figure as PNG at 1280 x 800 points, without a clock time in it."""
    buffer = io.BytesIO()
    # The smallest file takes a third of the drawing's time: a little larger ones are made in a tenth.
    picture.savefig(buffer, format="png", dpi=100, metadata={"Software": None}, pil_kwargs={"compress_level": 1})
    return buffer.getvalue()


def svg(picture: Figure) -> bytes:
    """The figure as SVG, letters as letters; the same figure gives the same bytes."""
    buffer = io.BytesIO()
    with mpl.rc_context({"svg.fonttype": "none"}):
        picture.savefig(buffer, format="svg", metadata={"Date": None, "Creator": None})
    return buffer.getvalue()


def canvas(
    title: str, caption: str, *, left: float = 0.085, right: float = 0.96, above: float = 0.05, below: float = 0.115
) -> tuple[Picture, Axes]:
    """An empty figure with a title that states the finding and a sentence of explanation below.

    `left` and `right` bound the axes as shares of the width; `above` them is room for one row of a legend, `below`
    for their labels.
    """
    picture, (low, high) = _page(title, caption)
    axes = picture.add_axes((left, low + below, right - left, high - above - low - below))
    return picture, _dressed(axes)


def grid(title: str, caption: str, panels: int) -> tuple[Picture, list[Axes]]:
    """An empty figure like `canvas`, with `panels` small axes, row by row."""
    picture, (low, high) = _page(title, caption)
    columns = columns_of(panels)
    rows = -(-panels // columns)
    width, height = 0.9 / columns, (high - low - 0.05) / rows
    found = []
    for i in range(panels):
        row, column = divmod(i, columns)
        left, bottom = 0.075 + column * width, high - (row + 1) * height + 0.015
        found.append(_dressed(picture.add_axes((left, bottom, width - 0.055, height - 0.095))))
    return picture, found


def stacked(title: str, caption: str, upper: float = 0.62, right: float = 0.96) -> tuple[Picture, Axes, Axes]:
    """An empty figure like `canvas`, with two axes above each other; the upper one takes the share `upper`."""
    picture, (low, high) = _page(title, caption)
    base, room = low + 0.095, high - low - 0.145
    width = right - 0.085
    below = picture.add_axes((0.085, base, width, room * (1.0 - upper) - 0.07))
    above = picture.add_axes((0.085, base + room * (1.0 - upper), width, room * upper), sharex=below)
    return picture, _dressed(above), _dressed(below)


def round_canvas(title: str, caption: str) -> tuple[Picture, Any]:
    """An empty figure with polar axes: a cycle goes around clockwise from the top."""
    picture, (low, high) = _page(title, caption)
    axes: Any = picture.add_axes((0.2, low + 0.045, 0.6, high - low - 0.1), projection="polar")
    axes.set_theta_zero_location("N")
    axes.set_theta_direction(-1)
    axes.set_facecolor(PAPER)
    axes.grid(color=FAINT)
    axes.spines["polar"].set_color(FAINT)
    return picture, axes


def bare(title: str, caption: str) -> tuple[Picture, Axes]:
    """An empty figure with one area from 0 to 1 in both directions, without axes."""
    picture, (low, high) = _page(title, caption)
    axes = picture.add_axes((0.05, low + 0.03, 0.9, high - low - 0.04))
    axes.set_axis_off()
    axes.set_xlim(0.0, 1.0)
    axes.set_ylim(0.0, 1.0)
    return picture, axes


def times_of(axis: Axis) -> np.ndarray:
    """Starts (n,) of periods on the wall clock, as Matplotlib takes them."""
    return axis.frequency.wall(axis.starts).astype("datetime64[us]")


def columns_of(panels: int) -> int:
    """How many panels stand side by side."""
    return min(panels, 2 if panels == 4 else 3)


def _page(title: str, caption: str) -> tuple[Picture, tuple[float, float]]:
    """A figure with its title and caption, and the room that is left between them."""
    picture = Picture(figsize=(12.8, 8.0))
    # A number and its per cent sign stay on one line.
    title, caption = (text.replace(" %", "\N{NO-BREAK SPACE}%") for text in (title, caption))
    lines, heading = textwrap.wrap(caption, 160), textwrap.wrap(title, 108)
    foot = 0.025 + 0.025 * len(lines)
    picture.text(0.03, 0.965, "\n".join(heading), fontsize=15, va="top", linespacing=1.3)
    picture.text(0.03, foot, "\n".join(lines), fontsize=10, va="top", linespacing=1.4)
    return picture, (foot, 0.94 - 0.037 * len(heading))


def _dressed(axes: Axes) -> Axes:
    axes.yaxis.grid(visible=True, color=FAINT, linewidth=0.8)
    axes.set_axisbelow(True)
    axes.tick_params(length=3)
    return axes


def legend(axes: Axes, **options: Any) -> None:
    """A legend in one row above the axes, or where `options` put it."""
    place = {"loc": "lower left", "bbox_to_anchor": (0.0, 1.0), "ncols": 6, "borderaxespad": 0.2}
    axes.legend(**{"frameon": False, "fontsize": 10, **place, **options})


def short(name: str, width: int) -> str:
    """A name that may be long, on at most two lines of about `width` letters."""
    lines = textwrap.wrap(name, width, max_lines=2, placeholder=" …")
    return "\n".join(lines)


def thousands(axis: Any) -> None:
    """Write an axis's numbers with thousands apart and a true minus."""
    axis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:,.10g}".replace("-", "\N{MINUS SIGN}")))


def date_ticks(most: int, *, multiples: bool = True) -> AutoDateLocator:
    """Places of dates on an axis, `most` at most."""
    locator = AutoDateLocator(maxticks=most, interval_multiples=multiples)  # type: ignore[no-untyped-call]
    return unbroken(locator)


def unbroken(locator: AutoDateLocator) -> AutoDateLocator:
    """The locator with a step for every span of time.

    Matplotlib's own steps end before the next unit begins (after six months, twelve hours), and where none of them
    gives few enough ticks it warns; further ones close these gaps.
    """
    for unit, more in (
        (MONTHLY, (12, 24, 60)),
        (DAILY, (28, 56, 112, 366)),
        (HOURLY, (24, 48, 168)),
        (MINUTELY, (60, 120)),
        (SECONDLY, (60, 120)),
    ):
        locator.intervald[unit] = sorted({*locator.intervald[unit], *more})
    return locator


def unbroken_dates(picture: Picture) -> Picture:
    """The figure, all of whose axes of dates have a step for every span of time."""
    for axes in picture.axes:
        for axis in (axes.xaxis, axes.yaxis):
            locator = axis.get_major_locator()
            if isinstance(locator, AutoDateLocator):
                unbroken(locator)
    return picture
