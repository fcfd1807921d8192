"""What every room may use: errors, and the records of what was changed and what was noticed."""

from offing.base.ahead import ahead
from offing.base.errors import InputError, Keywords, OffingError, count, nearest
from offing.base.optional import optional
from offing.base.progress import Progress
from offing.base.records import Finding, Severity, Treatment, Verdict

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
    "count",
    "nearest",
    "optional",
]
