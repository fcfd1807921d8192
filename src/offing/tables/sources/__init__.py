"""Where cells come from: files, databases, frames. Each source gives rows of named cells, whole or in chunks."""

from offing.tables.sources.csv import CsvFile, text_cells
from offing.tables.sources.database import Database
from offing.tables.sources.frames import FrameSource, frame_of, parquet, plain_frame, workbook
from offing.tables.sources.source import NotPlainError, Source

__all__ = [
    "CsvFile",
    "Database",
    "FrameSource",
    "NotPlainError",
    "Source",
    "frame_of",
    "parquet",
    "plain_frame",
    "text_cells",
    "workbook",
]
