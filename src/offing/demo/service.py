"""A small statistics service with made-up series of the Tern Islands, revisions included (SDMX: REST and CSV)."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import date
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlsplit

import numpy as np
import pandas as pd

#: The first month, and the last one that is published at each date: the month before it.
FIRST, MONTHS, LAST_DAY = "2018-01", 96, date(2026, 1, 20)
#: Months whose values are still revised, and by how much of themselves at first.
_REVISED, _SIZE = 3, 0.04
ISLANDS = ("NORTH", "SOUTH")
FLOWS = {
    "NIGHTS": ("Nights in guest houses", "Nights spent by visitors, by island and month"),
    "BOOKINGS": ("Bookings at the visitor office", "Rooms booked for a later month, by island and month"),
    "PRICES": ("Index of room prices", "Room prices, 2020 = 100, by island and month"),
}


def truth(seed: int = 5) -> dict[tuple[str, str], pd.Series]:
    """Final values by dataflow and island: 1.8 nights for each booking a month before, fewer where rooms are dear."""
    generator = np.random.default_rng(seed)
    months = pd.period_range(FIRST, periods=MONTHS, freq="M")
    at = np.arange(MONTHS)
    found: dict[tuple[str, str], pd.Series] = {}
    for k, island in enumerate(ISLANDS):
        season = 1.0 + 0.45 * np.sin(2 * np.pi * (at - 3) / 12) + 0.1 * np.sin(4 * np.pi * at / 12)
        bookings = (9000.0 - 3000.0 * k) * season * np.exp(0.002 * at + generator.normal(0.0, 0.1, MONTHS))
        prices = 100.0 + 0.3 * at + 6.0 * season + np.cumsum(generator.normal(0.0, 0.4, MONTHS))
        nights = (
            1.8
            * np.append(bookings[0], bookings[:-1])
            * np.exp(-0.004 * (prices - 110.0) + generator.normal(0.0, 0.03, MONTHS))
        )
        for flow, values, digits in (("BOOKINGS", bookings, 0), ("PRICES", prices, 1), ("NIGHTS", nights, 0)):
            found[flow, island] = pd.Series(values.round(digits), months)
    return found


def published(flow: str, island: str, day: date, seed: int = 5) -> pd.Series:
    """The values of a series as they stood on a day: up to the month before, the newest three not yet final."""
    values = truth(seed)[flow, island]
    newest = pd.Period(day, "M") - 1
    known = values[:newest].copy()
    generator = np.random.default_rng([seed, sorted(FLOWS).index(flow), ISLANDS.index(island)])
    first = pd.Series(generator.normal(0.0, _SIZE, MONTHS), values.index)
    for age, month in enumerate(known.index[: -_REVISED - 1 : -1]):
        known[month] = round(float(known[month]) * (1.0 + float(first[month]) * (_REVISED - age) / _REVISED), 1)
    return known


class _Answers(BaseHTTPRequestHandler):
    """Answers to the queries of the standard that a reader of series needs."""

    def do_GET(self) -> None:
        parts = urlsplit(self.path)
        steps = [step for step in parts.path.split("/") if step]
        day = date.fromisoformat(parse_qs(parts.query).get("asOf", [LAST_DAY.isoformat()])[0])
        if steps[:2] == ["structure", "dataflow"]:
            flows = [
                {"id": flow, "agencyID": "TERN", "version": "1.0", "name": name, "description": text}
                for flow, (name, text) in FLOWS.items()
            ]
            self._send(json.dumps({"data": {"dataflows": flows}}), "application/vnd.sdmx.structure+json;version=2.0.0")
        elif steps[:2] == ["data", "dataflow"] and len(steps) == 6 and steps[3] in FLOWS:
            self._data(steps[3], steps[5], day)
        else:
            self.send_error(404)

    def _data(self, flow: str, key: str, day: date) -> None:
        wanted = key.split(".")[1] if "." in key else "*"
        rows = ["STRUCTURE,STRUCTURE_ID,ACTION,FREQ,ISLAND,TIME_PERIOD,OBS_VALUE"]
        for island in ISLANDS:
            if wanted in ("*", "", island):
                rows += [
                    f"dataflow,TERN:{flow}(1.0),I,M,{island},{month},{value:.10g}"
                    for month, value in published(flow, island, day).items()
                ]
        if len(rows) == 1:
            self.send_error(404)
            return
        self._send("\n".join(rows) + "\n", "application/vnd.sdmx.data+csv;version=2.0.0")

    def _send(self, text: str, kind: str) -> None:
        content = text.encode()
        self.send_response(200)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(content)))
        self.end_headers()
        self.wfile.write(content)

    def log_message(self, format: str, *args: Any) -> None:  # noqa: A002  the library's name
        """Nothing: the demo says itself what is asked."""


@contextmanager
def serving(port: int = 0) -> Iterator[str]:
    """The service on this machine alone; its address."""
    server = ThreadingHTTPServer(("127.0.0.1", port), _Answers)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}"
    finally:
        server.shutdown()
        server.server_close()
