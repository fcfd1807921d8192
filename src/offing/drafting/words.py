"""Terms and choices in words, and how rich they are, roughly."""

from __future__ import annotations

from collections.abc import Sequence

from offing.drafting.candidate import Candidate
from offing.terms import Driver, Season, Term


def size_of(terms: Sequence[Term]) -> int:
    """How rich some seasons or calendars are, roughly: their effects."""
    total = 0
    for term in terms:
        if isinstance(term, Season):
            plain = {"year": 11, "week": 6, "day": 23}.get(term.cycle, 6)
            total += 2 * term.harmonics if isinstance(term.harmonics, int) else plain
            total += 46 if term.across == "kind of day" else 138 if term.across == "weekday" else 0
        else:
            total += 1 + getattr(term, "days_before", 0) + getattr(term, "days_after", 0)
    return total


def named(terms: Sequence[Term], none: str) -> str:
    """Several terms in words, or what there is instead of any."""
    return ", ".join(form_words(term) if not isinstance(term, Season) else season_words(term) for term in terms) or none


def season_words(term: Season) -> str:
    """A season in words."""
    words = str(term.name)
    if isinstance(term.harmonics, int):
        words += f" ({term.harmonics} harmonics)"
    return words


def without(before: Candidate, after: Candidate) -> str:
    """Which drivers one candidate has and another lacks."""
    kept = {id(term) for term in after.drivers}
    return "without " + ", ".join(str(term.name) for term in before.drivers if id(term) not in kept)


def form_words(term: Term) -> str:
    """A term with its form, in words."""
    if not isinstance(term, Driver):
        return str(term.name)
    words = f"{' '.join(str(each) for each in term.transform)} {term.name}".strip()
    for key in ("below", "above", "carry_over", "saturation"):
        if getattr(term, key) is not None:
            words += f", {key.replace('_', '-')} {getattr(term, key):g}"
    if term.weights is not None:
        words += f", {term.weights} weights over {term.span}"
    if tuple(term.lags) != (0,):
        words += f", lags {', '.join(map(str, term.lags))}"
    return words
