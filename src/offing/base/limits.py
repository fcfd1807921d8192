"""How much is done at most: numbers beyond these are slips, and are refused before any memory is taken."""

from __future__ import annotations

from offing.base.errors import InputError

#: Periods of a forecast: eleven years of hours.
PERIODS_AHEAD = 100_000
#: Years of a forecast.
YEARS_AHEAD = 100
#: Origins of a back-test, and single forecasts of all its origins together, each with a hundred quantiles.
ORIGINS, FORECASTS = 10_000, 1_000_000
#: Bytes of a file of saved models: a thousand series with fifty columns each, say.
MODEL_FILE = 1_000_000_000

#: Sizes of values whose squares are still numbers, with room for sums of them.
SMALLEST, LARGEST = 1e-140, 1e140


def check_ahead(periods: int, periods_a_year: float, key: str = "horizon") -> None:
    """Refuse a horizon beyond any plan.

    Raises
    ------
    InputError
        Naming the farthest.
    """
    most = min(PERIODS_AHEAD, max(int(YEARS_AHEAD * periods_a_year), 1))
    if periods > most:
        raise InputError(f"{periods:,} periods are too far ahead", f"Give at most {most:,}.", key=key)


def check_origins(origins: int, horizon: int) -> None:
    """Refuse a back-test that would not end, or not fit into memory.

    Raises
    ------
    InputError
        Naming the most.
    """
    if origins > ORIGINS:
        raise InputError(f"{origins:,} origins are too many", f"Give at most {ORIGINS:,}.", key="origins")
    if origins * horizon > FORECASTS:
        raise InputError(
            f"{origins:,} origins of {horizon:,} periods are {origins * horizon:,} forecasts",
            f"Give fewer: at most {FORECASTS:,}.",
            key="origins",
        )
