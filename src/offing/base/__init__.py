"""What every room may use: errors, and the records of what was changed and what was noticed."""

from offing.base.errors import InputError, Keywords, OffingError, checked_keywords, count, nearest
from offing.base.findings import Finding, Severity, Treatment, Verdict
from offing.base.optional_imports import optional
from offing.base.prefetch import ahead
from offing.base.progress import Progress

__all__ = [
    "Finding",
    "InputError",
    "Keywords",
    "OffingError",
    "Progress",
    "Severity",
    "Treatment",
    "Verdict",
    "ahead",
    "checked_keywords",
    "count",
    "nearest",
    "optional",
]
