"""A forecast as a workbook that lives: plans can be changed in it, and every number that follows is a formula."""

from offing.writers.workbook.book import workbook_bytes, write_workbook

__all__ = ["workbook_bytes", "write_workbook"]
