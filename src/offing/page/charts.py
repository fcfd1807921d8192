"""The charts that people point at: forecast and contributions over one run of time, in Bokeh's own models."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from typing import Any

from offing.base import optional
from offing.base.palette import FAINT, FAN, INK, PAPER, QUIET, WARM

#: What one element of a page's charts is embedded as.
ROOT = "charts"
#: What is shown beside the pointer. It stands in a part of the page that our style sheet does not reach.
_HOVER = '<div class="hover"><b>@label</b><br>@shown<br>@band<div style="white-space: pre-wrap">@why</div></div>'
_BAR = '<div class="hover"><b>@term</b><br>@shown<br>@label</div>'


def charts_json(levels: Sequence[float]) -> str:
    """Both charts without data, as JSON that the page's script fills; the same for the same levels.

    `levels` are those of the central intervals, the widest of which is drawn first.
    """
    plotting = optional("bokeh.plotting", "report", "writing a page")
    models = optional("bokeh.models", "report", "writing a page")
    embed = optional("bokeh.embed", "report", "writing a page")
    layouts = optional("bokeh.layouts", "report", "writing a page")
    time = models.Range1d(name="time")

    def tools() -> list[Any]:
        kinds = (models.PanTool, models.WheelZoomTool, models.BoxZoomTool)
        return [*(kind(dimensions="width") for kind in kinds), models.ResetTool()]

    def chart(name: str, height: int) -> Any:
        found = plotting.figure(
            name=name, height=height, x_axis_type="datetime", x_range=time, tools=tools(), sizing_mode="stretch_width",
            y_range=models.Range1d(name=f"{name} range"), toolbar_location="above", min_border_left=64,
        )  # fmt: skip
        found.toolbar.logo = None
        found.toolbar.active_scroll = found.toolbar.tools[1]
        found.background_fill_color = found.border_fill_color = PAPER
        found.outline_line_color = found.border_line_color = None
        found.xgrid.grid_line_color = None
        found.ygrid.grid_line_color = FAINT
        found.yaxis.formatter = models.NumeralTickFormatter(format="0,0.[000]")
        for axis in (*found.xaxis, *found.yaxis):
            axis.axis_line_color = axis.major_tick_line_color = QUIET
            axis.minor_tick_line_color = None
            axis.major_label_text_color = axis.axis_label_text_color = INK
        return found

    fan = chart("fan", 360)

    def source(name: str, *columns: str) -> Any:
        return models.ColumnDataSource({each: [] for each in columns}, name=name)

    heads = ("t", "label", "shown", "band", "why")
    past = source("past", *heads, "value", "fitted")
    bands = [f"{side}{i}" for i in range(len(levels)) for side in ("low", "high")]
    ahead = source("ahead", *heads, "mean", *bands)
    for i in range(len(levels)):
        color = FAN[min(i * len(FAN) // max(len(levels), 1), len(FAN) - 1)]
        fan.varea("t", f"low{i}", f"high{i}", source=ahead, fill_color=color, fill_alpha=1.0, name=f"band {i}")
        # Of one or two periods a band has hardly an area.
        ends = {"x0": "t", "x1": "t", "y0": f"low{i}", "y1": f"high{i}"}
        whisker = fan.segment(**ends, source=ahead, line_color=color, line_width=14.0, name=f"whisker {i}")
        whisker.visible = False
    history = fan.line("t", "value", source=past, line_color=INK, line_width=1.6, name="history")
    fan.line("t", "fitted", source=past, line_color=QUIET, line_width=1.1, line_dash="dotted", name="fitted")
    line = fan.line("t", "mean", source=ahead, line_color=WARM, line_width=2.4, name="forecast")
    fan.scatter("t", "mean", source=ahead, color=WARM, size=6, marker="diamond", name="points")
    fan.add_tools(models.HoverTool(renderers=[history, line], mode="vline", tooltips=_HOVER, line_policy="nearest"))

    bars = chart("bars", 300)
    sides = {each: each for each in ("left", "right", "bottom", "top")}
    columns = (*sides, "color", "term", "label", "shown")
    look = {"fill_color": "color", "line_color": PAPER, "line_width": 0.4}
    quads = bars.quad(**sides, **look, source=source("stacks", *columns), name="contributions")
    # Hatches take long to draw: only terms whose colour is another one's have them.
    hatches = {"hatch_pattern": "hatch", "hatch_color": PAPER}
    again = bars.quad(**sides, **look, **hatches, source=source("hatched", *columns, "hatch"), name="hatched bars")
    bars.line("t", "total", source=source("totals", "t", "total"), line_color=INK, line_width=1.4, name="total")
    bars.add_tools(models.HoverTool(renderers=[quads, again], tooltips=_BAR))
    for each in (fan, bars):
        origin = models.Span(dimension="height", line_color=QUIET, line_dash="dashed", name=f"{each.name} origin")
        each.add_layout(origin)
    item = embed.json_item(layouts.column(fan, bars, sizing_mode="stretch_width"), ROOT)
    return _renumbered(json.dumps(item))


def bokeh_scripts() -> list[str]:
    """Bokeh's own scripts, as they stand in its package."""
    resources = optional("bokeh.resources", "report", "writing a page")
    return list(resources.Resources(mode="inline", components=["bokeh"]).js_raw)


def _renumbered(text: str) -> str:
    """The same models with numbers from 1: Bokeh goes on counting within a process, and draws names by chance."""
    names: dict[str, str] = {}

    def own(found: re.Match[str]) -> str:
        return f'"{names.setdefault(found.group(1), f"m{len(names) + 1}")}"'

    text = re.sub(r'"(p\d+)"', own, text)
    return re.sub(r'"([0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12})"', own, text)
