"""A page as HTML: Jinja's template, our own style and script, and a policy that lets nothing else run."""

from __future__ import annotations

import base64
import hashlib
import json
from importlib import resources
from typing import Any

import pandas as pd

from offing import __version__
from offing.base import optional
from offing.base.palette import TERMS
from offing.page.charts import ROOT, bokeh_scripts, charts_json
from offing.page.content import Page, Unit

#: Where colours come again, hatches separate the terms.
_HATCHES = ("blank", "right_diagonal_line", "dot", "horizontal_line")


def page_html(page: Page) -> str:
    """The whole page as one text. The same page gives the same text.

    What comes from data is escaped by the template. Scripts run that are named by their SHA-256 alone, nothing is
    loaded from anywhere, and nothing is evaluated.

    Raises
    ------
    InputError
        If Jinja or Bokeh are not installed.
    """
    jinja = optional("jinja2", "report", "writing a page")
    environment = jinja.Environment(
        loader=jinja.FunctionLoader(_read), autoescape=True, trim_blocks=True, lstrip_blocks=True
    )
    environment.filters["svg"] = _address
    environment.globals["cells"] = cells
    first = page.units[0].planned
    scripts = [*bokeh_scripts(), _read("page.js")]
    return str(
        environment.get_template("page.html").render(
            page=page,
            units=[_Shown(each, i) for i, each in enumerate(page.units)],
            charts=_in_html(charts_json(sorted(first.levels, reverse=True))),
            scripts=scripts,
            policy=_policy(scripts),
            style=_read("page.css"),
            root=ROOT,
            version=__version__,
        )
    )


class _Shown:
    """A unit as the template takes it."""

    def __init__(self, unit: Unit, place: int) -> None:
        self.unit, self.place, self.name = unit, place, unit.name
        self.lead, self.chapters = unit.lead, unit.chapters

    @property
    def data(self) -> Any:
        """The numbers of its charts, with the colours of its terms."""
        looks = {
            term: {"color": TERMS[i % len(TERMS)], "hatch": _HATCHES[i // len(TERMS) % len(_HATCHES)]}
            for i, term in enumerate(self.unit.terms)
        }
        return _in_html(json.dumps({**self.unit.numbers(), "looks": looks}, allow_nan=False, separators=(",", ":")))


def cells(table: pd.DataFrame) -> dict[str, Any]:
    """A table as the template takes it: heads, and cells with what they are sorted by."""
    rows = []
    for row in table.itertuples(index=False):
        rows.append([_cell(value) for value in row])
    return {"heads": [str(name) for name in table.columns], "rows": rows}


def _cell(value: Any) -> dict[str, Any]:
    if isinstance(value, pd.Timestamp):
        plain = value == value.normalize()
        return {"text": f"{value:%Y-%m-%d}" if plain else f"{value:%Y-%m-%d %H:%M}", "number": False}
    if isinstance(value, (int, float)) and not isinstance(value, bool):
        return {"text": "" if value != value else f"{value:,.6g}", "number": True, "exact": repr(value)}  # noqa: PLR0124
    return {"text": str(value), "number": False}


def _in_html(text: str) -> Any:
    """JSON that stands in a page as it is: nothing in it can end its element."""
    markup = optional("markupsafe", "report", "writing a page").Markup
    return markup(text.replace("<", "\\u003c").replace(">", "\\u003e").replace("&", "\\u0026"))


def _policy(scripts: list[str]) -> str:
    hashes = [base64.b64encode(hashlib.sha256(each.encode()).digest()).decode() for each in scripts]
    allowed = " ".join(f"'sha256-{each}'" for each in hashes)
    return (
        f"default-src 'none'; script-src {allowed}; style-src 'unsafe-inline'; img-src data: blob:; "
        "base-uri 'none'; form-action 'none'"
    )


def _address(picture: bytes) -> str:
    return f"data:image/svg+xml;base64,{base64.b64encode(picture).decode()}"


def _read(name: str) -> str:
    return resources.files("offing.page").joinpath(name).read_text(encoding="utf-8")
