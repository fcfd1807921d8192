"""Print what reducing large tables to monthly series costs, in time and memory, against pandas' bare read of the same.

Run it as ``python benchmarks/large.py [LINES]``; 5,000,000 lines by default. With the environment variable
OFFING_POSTGRES (an address for SQLAlchemy) a table of a fifth as many rows is read from that server as well. Every
figure comes from a process of its own, so that one's memory is not another's.
"""

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

HOW = {"amount": "sum", "price": "mean"}


def make(path: Path, lines: int) -> None:
    """Write transaction lines of four years: moment, shop, article, amount, price."""
    generator = np.random.default_rng(8)
    at = np.sort(generator.integers(0, 4 * 365 * 86_400, lines))
    frame = pd.DataFrame(
        {
            "date": (pd.Timestamp("2020-01-01") + pd.to_timedelta(at // 86_400, unit="D")).strftime("%Y-%m-%d"),
            "shop": generator.choice(["001", "002", "003"], lines),
            "article": generator.integers(10_000, 99_999, lines),
            "amount": generator.integers(1, 9, lines),
            "price": np.round(generator.gamma(3.0, 4.0, lines), 2),
        }
    )
    frame.to_csv(path, index=False)


def fill(address: str, path: Path, rows: int) -> None:
    """Copy some of the lines into a table of a server."""
    import sqlalchemy as sql  # noqa: PLC0415

    frame = pd.read_csv(path, nrows=rows, dtype={"shop": str}, parse_dates=["date"])
    engine = sql.create_engine(address)
    with engine.begin() as connection:
        frame.to_sql("lines", connection, if_exists="replace", index=False, chunksize=5_000, method="multi")


def bare(source: str) -> int:
    """Pandas' read of everything; the table's bytes."""
    if source.startswith("postgresql"):
        import sqlalchemy as sql  # noqa: PLC0415

        frame = pd.read_sql("select * from lines", sql.create_engine(source))
    else:
        frame = pd.read_csv(source)
    return int(frame.memory_usage(deep=True).sum())


def ours(source: str) -> int:
    """Monthly series by shop."""
    import offing as of  # noqa: PLC0415

    said: Any = {"rows": "lines", "frequency": "month", "combine": HOW, "id": "shop"}
    if source.startswith("postgresql"):
        return len(of.read(database=source, table="lines", **said))
    return len(of.read(source, **said))


def child(kind: str, source: str) -> None:
    """One measurement: seconds, memory above that of the imports in MB, and what the call returned."""
    import pandas.core.arrays.string_arrow  # noqa: F401, PLC0415

    import offing.tables.reading  # noqa: F401, PLC0415

    Path("/proc/self/clear_refs").write_text("5")  # forget the peak that the parent's memory set
    before = peak()
    start = time.perf_counter()
    value = (ours if kind == "ours" else bare)(source)
    seconds = time.perf_counter() - start
    print(seconds, (peak() - before) / 1024, value)


def peak() -> int:
    """Highest memory of this process so far, in kB."""
    line = next(row for row in Path("/proc/self/status").read_text().splitlines() if row.startswith("VmHWM"))
    return int(line.split()[1])


def measured(kind: str, source: str) -> tuple[float, float, float]:
    """Seconds, MB and value of a process of its own."""
    done = subprocess.run(
        [sys.executable, __file__, "--child", kind, source], check=True, capture_output=True, text=True
    )
    seconds, memory, value = done.stdout.split()
    return float(seconds), float(memory), float(value)


def compare(what: str, source: str) -> None:
    """Print both and their ratios."""
    pairs = [(measured("ours", source), measured("bare", source)) for _ in range(3)]
    our_seconds, our_memory = (statistics.median(our[i] for our, _ in pairs) for i in (0, 1))
    pandas_seconds, size = (statistics.median(pandas[i] for _, pandas in pairs) for i in (0, 2))
    ratio = statistics.median(our[0] / pandas[0] for our, pandas in pairs)
    table = size / 2**20
    print(
        f"{what:<40} ours {our_seconds:6.1f} s {our_memory:6.0f} MB   "
        f"bare read {pandas_seconds:6.1f} s, table {table:6.0f} MB"
    )
    print(f"{'':<40} time {ratio:.2f} (at most 3), memory {our_memory / table:.2f} (at most 4)")


def main() -> None:
    """Measure and print."""
    lines = int(sys.argv[1]) if len(sys.argv) > 1 else 5_000_000
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "lines.csv"
        make(path, lines)
        compare(f"CSV, {lines:,} lines to months", str(path))
        address = os.environ.get("OFFING_POSTGRES")
        if address:
            fill(address, path, lines // 5)
            compare(f"PostgreSQL, {lines // 5:,} rows to months", address)


if __name__ == "__main__":
    if sys.argv[1:2] == ["--child"]:
        child(*sys.argv[2:4])
    else:
        main()
