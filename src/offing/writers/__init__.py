"""All writers: tables of the contract as CSV, records as JSON, figures as PNG; each file whole or not at all."""

from offing.calendar.iso import iso_words
from offing.evaluation.combination import combined_contribution_rows, combined_forecast_rows, combined_rows
from offing.evaluation.screening import screening_rows, stability_rows
from offing.explain.allocation import split_rows
from offing.explain.holiday_effects import holiday_rows
from offing.explain.lag_weights import weight_rows
from offing.explain.nowcast import release_rows, running_rows
from offing.explain.reconciliation import RECONCILED, reconciled_rows
from offing.explain.seasonal_indices import index_rows
from offing.explain.totals import total_rows
from offing.explain.trend import bend_rows, trend_rows
from offing.explain.what_if.probabilities import chance_rows
from offing.model.rows import coefficient_rows, contribution_rows, fitted_rows, forecast_rows, treatment_rows
from offing.writers.contract import left_out_rows
from offing.writers.files import (
    Bundle,
    csv_text,
    file_digest,
    frame_digest,
    json_text,
    made,
    parquet,
    text_digest,
    whole,
)
from offing.writers.run import run_record

__all__ = [
    "RECONCILED",
    "Bundle",
    "bend_rows",
    "chance_rows",
    "coefficient_rows",
    "combined_contribution_rows",
    "combined_forecast_rows",
    "combined_rows",
    "contribution_rows",
    "csv_text",
    "file_digest",
    "fitted_rows",
    "forecast_rows",
    "frame_digest",
    "holiday_rows",
    "index_rows",
    "iso_words",
    "json_text",
    "left_out_rows",
    "made",
    "parquet",
    "reconciled_rows",
    "release_rows",
    "run_record",
    "running_rows",
    "screening_rows",
    "split_rows",
    "stability_rows",
    "text_digest",
    "total_rows",
    "treatment_rows",
    "trend_rows",
    "weight_rows",
    "whole",
]
