"""Moments in the notation of ISO 8601."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray


def iso_words(stamps: pd.DatetimeIndex, *, timed: bool) -> NDArray[np.object_]:
    """Moments (n,) in the notation of ISO 8601: dates, or with the time and, where there is one, the zone's offset."""
    wall = stamps.tz_localize(None).to_numpy()
    words = np.datetime_as_string(wall, unit="s" if timed else "D")
    if timed and stamps.tz is not None:
        ahead, once = pd.factorize((wall - stamps.tz_convert(None).to_numpy()) // np.timedelta64(1, "m"))
        minutes = [int(each.astype(int)) for each in once]
        offsets = [f"{'-' if each < 0 else '+'}{abs(each) // 60:02}:{abs(each) % 60:02}" for each in minutes]
        words = np.char.add(words, np.array(offsets)[ahead])
    return words.astype(object)
