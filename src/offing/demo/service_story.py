"""``offing demo --story service``: months that a small statistics service publishes, and revises."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd

from offing.demo.guide import Guide, Say, packaged
from offing.demo.service import LAST_DAY, serving
from offing.study import open_study
from offing.study.inspection import found_series
from offing.study.judged_outputs import judged
from offing.study.outputs import StudyOutput
from offing.tables.sources.web import fetched, keep_download
from offing.writers import Bundle


def run_service(folder: Path, say: Say) -> None:
    """Start the service, search it, keep a download of each of twelve months, and judge the study on what was known.

    Raises
    ------
    InputError
        If the folder cannot be written to.
    """
    guide = Guide(folder, say)
    with serving() as address:
        guide.step(
            f"A statistics service of the Tern Islands answers at {address} while this runs. offing inspect {address} "
            "--find booking:",
            found_series(address, "booking"),
        )
        Bundle({"study.toml": packaged("service.toml").replace("ADDRESS", address).encode()}).write(folder)
        for months_ago in range(12, 0, -1):
            day = (pd.Timestamp(LAST_DAY) - pd.DateOffset(months=months_ago)).date()
            for flow in ("NIGHTS", "BOOKINGS"):
                content = fetched(f"{address}/data/dataflow/*/{flow}/*/M.NORTH?asOf={day}")
                keep_download(folder / "downloads" / f"{flow}-M.NORTH" / f"{day}.csv", content)
        study = open_study(folder / "study.toml")
        guide.step(
            f"Kept a download of each of twelve months, in downloads: the newest values are revised three times. "
            f"offing forecast {folder / 'study.toml'}:",
            StudyOutput(study, "forecast").in_words(),
        )
        vintages = getattr(study.tables["bookings"], "vintages", None)
        revised = 0 if vintages is None else len(vintages.at) - len(np.unique(vintages.row))
        guide.step(
            f"offing backtest {folder / 'study.toml'}: every origin sees what had been published by then",
            judged([study], "backtest").in_words(),
            note=f"{revised:,} values of bookings were revised after their first download.",
        )
    say("\nThe service has stopped; the study still runs, from the newest download.")
    guide.next({"offing forecast {folder}/study.toml": ""})
