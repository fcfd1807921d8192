"""How often noise is called an outlier, and a value that is off is found: 1,000 series of each length and frequency.

Run it as ``python benchmarks/outliers.py [SERIES]``. Wanted: at most 0.2 % false, at least 95 % found.
"""

import sys
import time
from pathlib import Path

import numpy as np

import offing as of
from offing.tables.outliers import judge

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from test_outliers import simulated  # type: ignore[import-not-found]

SIZES = [
    ("year", 24),
    ("quarter", 24),
    ("quarter", 80),
    ("month", 24),
    ("month", 36),
    ("month", 120),
    ("week", 24),
    ("week", 110),
    ("week", 260),
    ("day", 24),
    ("day", 60),
    ("day", 400),
    ("day", 1100),
    ("business day", 60),
    ("business day", 520),
    ("hour", 100),
    ("hour", 1500),
    ("hour", 8760),
]
OFF = 8.0 / np.sqrt(1.0 - 0.25)


def main(series: int) -> None:
    """Print a line for each size."""
    print("frequency         n  series  false  found   ms a series")
    for unit, n in SIZES:
        frequency = of.Frequency(unit)  # type: ignore[arg-type]
        axis = of.Axis(frequency, of.Axis.between(frequency, "2001-01-01", "2001-01-01").first, n)
        generator = np.random.default_rng([n, 77])
        many = max(min(series, 400_000 // n), 20)
        false = found = 0
        started = time.process_time()
        for _ in range(many):
            values = simulated(axis, generator)
            judged = judge(axis, values)
            false += 0 if judged is None else len(judged.beyond())
            at = int(generator.integers(n))
            values[at] += OFF * generator.choice([-1.0, 1.0])
            judged = judge(axis, values)
            found += judged is not None and at in judged.beyond()
        taken = 1000.0 * (time.process_time() - started) / (2 * many)
        shares = f"{100 * false / many / n:6.2f} %{100 * found / many:6.1f} %"
        print(f"{unit:<13}{n:6}{many:8}{shares}{taken:8.1f}", flush=True)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 1000)
