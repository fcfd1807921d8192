"""All writers: tables of the contract as CSV, records as JSON, figures as PNG; each file whole or not at all."""

from offing.handover.contract import (
    AGREED,
    agreed_rows,
    bend_rows,
    coefficient_rows,
    contribution_rows,
    fitted_rows,
    forecast_rows,
    holiday_rows,
    index_rows,
    screening_rows,
    split_rows,
    stability_rows,
    total_rows,
    treatment_rows,
    trend_rows,
)
from offing.handover.files import Bundle, csv_text, file_digest, frame_digest, json_text
from offing.handover.run import run_record

__all__ = [
    "AGREED",
    "Bundle",
    "agreed_rows",
    "bend_rows",
    "coefficient_rows",
    "contribution_rows",
    "csv_text",
    "file_digest",
    "fitted_rows",
    "forecast_rows",
    "frame_digest",
    "holiday_rows",
    "index_rows",
    "json_text",
    "run_record",
    "screening_rows",
    "split_rows",
    "stability_rows",
    "total_rows",
    "treatment_rows",
    "trend_rows",
]
