"""Seconds of CPU that judging many series takes: ``python benchmarks/many.py`` back-tests 120 series by four models.

From three origins each, printed, compared, and made into the tables that a command writes.
"""

from __future__ import annotations

import time

import numpy as np
import pandas as pd

import offing as of

SERIES, MONTHS, MOST = 120, 60, 20.0


def main() -> None:
    """Measure and print."""
    noise, months = np.random.default_rng(1), pd.period_range("2018-01", periods=MONTHS, freq="M").astype(str)
    rows = pd.concat(
        [
            pd.DataFrame(
                {
                    "month": months,
                    "product": f"{i:05d}",
                    "sold": noise.normal(100.0, 5.0, MONTHS),
                    "fare": noise.normal(10.0, 1.0, MONTHS),
                }
            )
            for i in range(SERIES)
        ]
    )
    data = of.read(rows, id="product")
    models = [
        of.Model("sold", name="mean of all"),
        of.Model("sold", [of.Trend()], name="trend"),
        of.Model("sold", [of.Trend(), of.Season()], name="season"),
        of.Model("sold", [of.Trend(), of.Season(), of.Driver("fare")], errors="ar", name="fare"),
    ]
    start = time.process_time()
    found = of.backtest(models, data, horizon=3, origins=3, basis="ex-post")
    text = f"{found}{found.compare()}"
    cells = found.scores().size + found.table.size
    seconds = time.process_time() - start
    print(
        f"{SERIES} series, 4 models, 3 origins: {seconds:.1f} s of CPU, at most {MOST:g}; "
        f"{len(text):,} characters, {cells:,} cells"
    )


if __name__ == "__main__":
    main()
