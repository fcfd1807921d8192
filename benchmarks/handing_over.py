"""What is handed over: how long each form takes to write, how large it is, and when a browser shows the page.

Five years of days with a trend, two seasons and three drivers; ``python benchmarks/handing_over.py``. The page is
opened in Debian's Chromium, where that is installed.
"""

import shutil
import tempfile
import time
from pathlib import Path

import numpy as np
import pandas as pd

import offing as of

YEARS, AHEAD = 5, 60
FORMS = ("page", "workbook", "sql", "python")


def forecast() -> of.results.Forecast:
    """A forecast of two months of days."""
    days = pd.date_range("2019-01-01", periods=YEARS * 365 + AHEAD, freq="D")
    generator = np.random.default_rng(1)
    data = pd.DataFrame({name: generator.normal(size=len(days)) for name in ("sold", "rain", "price", "staff")}, days)
    data["sold"] += 50.0 + 3.0 * np.sin(np.arange(len(days)) / 365.25 * 2.0 * np.pi) + data["rain"]
    cut = YEARS * 365
    terms = [of.Trend(), of.Season("week"), of.Season("year", harmonics=3), of.Driver("rain", lags=[0, 1])]
    terms += [of.Driver("price"), of.Driver("staff")]
    fit = of.Model("sold", terms).fit(data.iloc[:cut])
    return fit.forecast(AHEAD, plan=data.iloc[cut:].drop(columns="sold"))


def opened(file: Path) -> list[float]:
    """Seconds from opening the page until it is complete, three times."""
    from playwright.sync_api import sync_playwright  # noqa: PLC0415  only where there is a browser

    times = []
    with sync_playwright() as running:
        flags = ["--no-sandbox", "--disable-gpu", "--disable-background-networking"]
        browser = running.chromium.launch(executable_path=shutil.which("chromium"), args=flags)
        for _ in range(3):
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            started = time.perf_counter()
            page.goto(f"file://{file}")
            page.wait_for_selector("html[data-ready=yes]", timeout=60_000)
            times.append(time.perf_counter() - started)
            page.close()
        browser.close()
    return times


def main() -> None:
    """Print a line a form, and when the page is complete."""
    ahead, folder = forecast(), Path(tempfile.mkdtemp())
    ahead.contributions, ahead.fit.contributions  # noqa: B018  what all forms share
    for form in FORMS:
        started = time.process_time()
        files = of.export(ahead, form, folder)
        spent, size = time.process_time() - started, sum(file.stat().st_size for file in files)
        print(f"{form:9} {spent:6.2f} s of CPU, {size / 1e6:6.2f} MB")
    if shutil.which("chromium"):
        times = ", ".join(f"{each:.2f}" for each in opened(folder / "page.html"))
        print(f"page complete in a browser after {times} s")


if __name__ == "__main__":
    main()
