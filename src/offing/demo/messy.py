"""The ferry's tables as people keep them: lines of sales, marks and dates of another country, days instead of weeks."""

from __future__ import annotations

import numpy as np
import pandas as pd

from offing.demo.ferry import World

_PIERS = ("Old Quay", "New Quay")
#: Share of a week's tickets and storms on its days, from Monday on.
_DAYS = np.array([0.11, 0.1, 0.11, 0.13, 0.19, 0.2, 0.16])


def messy_tables(world: World, seed: int = 2) -> dict[str, bytes]:
    """Files by name, whose weeks are those of `world` to the last ticket.

    ``sales.csv`` has two lines a day and pier, in Latin-1, and three days of a week that is not over;
    ``timetable.csv`` has decimal commas, the newest week first and the planned weeks among them; ``weather.csv``
    has days.
    """
    generator = np.random.default_rng(seed)
    return {
        "sales.csv": _sales(world, generator).encode("latin-1"),
        "timetable.csv": b"\xef\xbb\xbf" + _timetable(world).encode(),
        "weather.csv": _weather(world, generator).encode(),
        "island_days.csv": world.days.to_csv(index=False, lineterminator="\n").encode(),
    }


def _sales(world: World, generator: np.random.Generator) -> str:
    shares = np.outer(_DAYS, [0.4, 0.2, 0.25, 0.15]).ravel()
    lines = []
    number = 50_000
    sold = world.history["sold"]
    for start, tickets in zip(world.history.index, sold.tolist(), strict=True):
        parts = generator.multinomial(int(tickets), shares).reshape(7, 4)
        lines += [(start + pd.Timedelta(days=d), p, parts[d, p]) for d in range(7) for p in range(4)]
    after = world.plan.index[0]
    lines += [(after + pd.Timedelta(days=d), p, generator.integers(500, 900)) for d in range(3) for p in range(4)]
    text = ["date;line no;pier;clerk;tickets"]
    for day, pier, tickets in lines:
        number += int(generator.integers(1, 9))
        clerk = ("Björn", "Aino", "Åse")[int(generator.integers(3))]
        text.append(f"{day:%d.%m.%Y};{number};{_PIERS[pier // 2]};{clerk};{_thousands(int(tickets))}")
    return "\r\n".join(text) + "\r\n"


def _timetable(world: World) -> str:
    both = pd.concat([world.history.drop(columns=["sold", "storm hours"]), world.plan.drop(columns="storm hours")])
    text = ["week from;fare;sailings;cruise calls;promotion"]
    for start, row in both[::-1].iterrows():
        fare = f"{row['fare']:.2f}".replace(".", ",")
        flag = "true" if row["promotion"] else "false"
        text.append(f"{start:%d.%m.%Y};{fare};{int(row['sailings'])};{int(row['cruise calls'])};{flag}")
    return "\n".join(text) + "\n"


def _weather(world: World, generator: np.random.Generator) -> str:
    both = pd.concat([world.history["storm hours"], world.plan["storm hours"]])
    text = ["day\tstorm hours"]
    for start, hours in zip(both.index, both.tolist(), strict=True):
        tenths = generator.multinomial(round(10 * float(hours)), np.full(7, 1 / 7))
        for d in range(7):
            shown = f"{tenths[d] / 10:.1f}".replace(".", ",")
            text.append(f"{start + pd.Timedelta(days=d):%d/%m/%Y}\t{shown}")
    return "\n".join(text) + "\n"


def _thousands(number: int) -> str:
    return f"{number:,}".replace(",", ".")
