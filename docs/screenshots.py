"""Refresh docs/screenshots: the demo's figures, and each command's output in a terminal.

Run it as ``python docs/screenshots.py`` with offing installed; the terminal needs Xvfb, xterm and ImageMagick, the page
and the workbook Chromium, LibreOffice and poppler's pdftoppm.
"""

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import offing as of

SHOTS = Path(__file__).parent / "screenshots"
DISPLAY = ":94"
#: What is typed, and how many lines from the top are shown.
COMMANDS = {
    "command-draft": "cd tern-islands/raw; offing draft sales.csv timetable.csv weather.csv island_days.csv "
    "--to week --set sales.decimal=, --set sales.rows=lines",
    "fit": "offing fit tern-islands/study.toml",
    "forecast": "offing forecast tern-islands/study.toml",
    "explain": "offing explain tern-islands/study.toml --against last-year",
    "backtest": "offing backtest tern-islands/study.toml",
    "compare": "offing compare tern-islands/study.toml",
    "search": "offing search tern-islands/study.toml --budget 10s",
    "command-inspect": "cd tern-islands/raw; offing inspect sales.csv timetable.csv weather.csv island_days.csv "
    "--to week --set sales.decimal=, --set sales.rows=lines",
}
FIGURES = ("forecast", "contributions", "effects")
RAW = ("sales.csv", "timetable.csv", "weather.csv", "island_days.csv")
#: The ferry's study with bends that are to be found, days around holidays, and a forecast to the year's end.
VARIED = {
    'knots = ["2024-04-01"]                # the second terminal opened': 'knots = "found"',
    'table = "island_days.csv"': 'table = "island_days.csv"\ndays_before = 1\ndays_after = 1',
    "horizon = 13": "horizon = 26",
}


def shoot(command: str, target: Path, folder: Path) -> None:
    """Run a command in a terminal of 1280x800 and photograph its first page."""
    environment = {**os.environ, "DISPLAY": DISPLAY, "LC_ALL": "C.UTF-8"}
    ended = folder / f"{target.stem}.ended"
    script = f"echo '$ {command}'; {command} | head -47; touch '{ended}'; sleep 60"
    terminal = subprocess.Popen(
        [
            "xterm",
            "-fa",
            "DejaVu Sans Mono",
            "-fs",
            "9",
            "-bg",
            "#fcfbf8",
            "-fg",
            "#22303c",
            "-b",
            "16",
            "+sb",
            "-geometry",
            "156x51+0+0",
            "-e",
            "sh",
            "-c",
            script,
        ],
        cwd=folder,
        env=environment,
    )
    try:
        for _ in range(240):
            if ended.exists():
                break
            time.sleep(0.5)
        time.sleep(1)  # until the terminal has drawn it
        subprocess.run(["import", "-window", "root", "-strip", str(target)], env=environment, check=True)
    finally:
        terminal.kill()
        terminal.wait()


def together(pictures: list[str], target: Path) -> None:
    """Several figures as one picture."""
    tile = f"2x{len(pictures) // 2}"
    subprocess.run(["montage", *pictures, "-strip", "-tile", tile, "-geometry", "960x600+4+4", str(target)], check=True)


def handed(results: Path, folder: Path) -> None:
    """The page in a browser, light, dark and as narrow as a telephone; and the workbook in an office program."""
    from playwright.sync_api import sync_playwright  # noqa: PLC0415  only here

    views = {
        "light": ({"width": 1280, "height": 800}, "light", 0),
        "narrow": ({"width": 390, "height": 800}, "light", 0),
        "dark": ({"width": 1280, "height": 800}, "dark", 640),
        "narrow dark": ({"width": 390, "height": 800}, "dark", 640),
    }
    with sync_playwright() as running:
        flags = ["--no-sandbox", "--disable-gpu", "--disable-background-networking"]
        browser = running.chromium.launch(executable_path=shutil.which("chromium"), args=flags)
        for name, (size, scheme, down) in views.items():
            page = browser.new_page(viewport=size, color_scheme=scheme)
            page.goto(f"file://{results / 'page.html'}")
            page.wait_for_selector("html[data-ready=yes]")
            page.evaluate(f"window.scrollTo(0, {down})")
            page.wait_for_timeout(800)
            page.screenshot(path=folder / f"{name}.png")
        browser.close()
    shots = [str(folder / f"{name}.png") for name in views]
    rows = ["(", *shots[:2], "+append", ")", "(", *shots[2:], "+append", ")"]
    size = ["-append", "-resize", "1280x", "-strip", str(SHOTS / "page.png")]
    subprocess.run(["convert", *rows, *size], check=True)
    profile = f"-env:UserInstallation=file://{folder / 'office'}"
    print_out = ["soffice", profile, "--headless", "--convert-to", "pdf", "--outdir", folder, results / "forecast.xlsx"]
    subprocess.run(print_out, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    subprocess.run(["pdftoppm", "-r", "110", "-l", "4", "-png", folder / "forecast.pdf", folder / "sheet"], check=True)
    sheets = [str(each) for each in sorted(folder.glob("sheet-*.png"))]
    look = ["-strip", "-tile", "2x2", "-geometry", "630x400+5+5", "-colors", "128", f"PNG8:{SHOTS / 'workbook.png'}"]
    subprocess.run(["montage", *(part for each in sheets for part in ("(", each, "-trim", ")")), *look], check=True)


def judge(folder: Path, study: Path) -> None:
    """The pictures of back-tests, comparisons, searches and combinations."""
    judged = folder / "judged"
    for command, text in (
        ("backtest", study),
        ("compare", study),
        ("search", study),
        ("compare", folder / "yard" / "study.toml"),
    ):
        out = judged / f"{command}-{text.parent.name}"
        more = ["--budget", "20s"] if command == "search" else []
        subprocess.run(["offing", command, text, *more, "--out", out], check=True, stdout=subprocess.DEVNULL)
    ferry = judged / "backtest-tern-islands"
    parts = [
        ferry / "backtest.png",
        ferry / "by-horizon.png",
        judged / "compare-tern-islands" / "comparison.png",
        ferry / "calibration-2.png",
    ]
    together([str(each) for each in parts], SHOTS / "judging.png")
    honest = folder / "honest.png"
    subprocess.run([sys.executable, Path(__file__).with_name("honest_winner.py"), honest], check=True)
    (weights,) = (judged / "compare-yard").glob("member-weights-least-squares-*.png")
    parts = [judged / "search-tern-islands" / "search.png", honest, weights, ferry / "timeline.png"]
    together([str(each) for each in parts], SHOTS / "search.png")


def why(folder: Path, study: Path) -> None:
    """The pictures of walks, scenarios and changes of drivers."""
    noted = folder / "reported"
    since = ["offing", "explain", study, "--against", "last-month/study.toml", "--out", noted]
    subprocess.run(since, check=True, stdout=subprocess.DEVNULL)
    parts = [
        folder / "tern-islands" / "results" / "walk-1.png",
        noted / "walk.png",
        folder / "tern-islands" / "results" / "walk-2.png",
        folder / "heat" / "results" / "year-of-days.png",
    ]
    together([str(each) for each in parts], SHOTS / "why.png")
    names = ("scenarios", "sensitivity", "walk-3", "chances-2")
    together([str(folder / "tern-islands" / "results" / f"{name}.png") for name in names], SHOTS / "what-if.png")


def terminals(folder: Path) -> None:
    """The commands in a terminal."""
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    try:
        time.sleep(2)
        for name, command in COMMANDS.items():
            alone = name.startswith("command")
            shoot(command, (SHOTS if alone else folder) / f"{name}.png", folder)
    finally:
        screen.kill()
        screen.wait()
    steps = [str(folder / f"{name}.png") for name in COMMANDS if not name.startswith("command")]
    together(steps, SHOTS / "commands.png")


def main() -> None:
    """Make all pictures again."""
    SHOTS.mkdir(exist_ok=True)
    os.environ["PATH"] = f"{Path(sys.executable).parent}:{os.environ['PATH']}"
    folder = Path(tempfile.mkdtemp())
    subprocess.run(["offing", "demo", "tern-islands"], cwd=folder, check=True, stdout=subprocess.DEVNULL)
    explain = ["offing", "explain", "tern-islands/study.toml", "--out", "tern-islands/results"]
    subprocess.run(explain, cwd=folder, check=True, stdout=subprocess.DEVNULL)
    for name in FIGURES:
        shutil.copy(folder / "tern-islands" / "results" / f"{name}.png", SHOTS / f"{name}.png")
    results = folder / "tern-islands" / "results"
    handed(results, folder)
    raw = folder / "tern-islands" / "raw"
    settings = ["--set", "sales.decimal=,", "--set", "sales.rows=lines"]
    draft = ["offing", "draft", *RAW, "--to", "week", *settings, "--out", "first"]
    subprocess.run(draft, cwd=raw, check=True, stdout=subprocess.DEVNULL)
    shutil.copy(raw / "first" / "draft.png", SHOTS / "draft.png")
    study = folder / "tern-islands" / "study.toml"
    later = folder / "tern-islands" / "next-month" / "study.toml"
    watch = ["offing", "monitor", later, "--out", "watched"]
    subprocess.run(watch, check=False, cwd=folder, stdout=subprocess.DEVNULL)  # 4 says that the model no longer holds
    of.figure(of.archive(folder / "tern-islands" / "forecasts.sqlite")).savefig(folder / "archive.png", dpi=100)
    parts = [folder / "watched" / "monitoring.png", folder / "archive.png"]
    together([str(each) for each in parts], SHOTS / "monitoring.png")
    shutil.copy(folder / "tern-islands" / "results" / "response-storm-hours-3fbf1ae7.png", SHOTS / "response.png")
    varied = study.read_text()
    for old, new in VARIED.items():
        varied = varied.replace(old, new)
    study.with_name("varied.toml").write_text(varied)
    subprocess.run(
        ["offing", "explain", "tern-islands/varied.toml", "--out", "varied"],
        cwd=folder,
        check=True,
        stdout=subprocess.DEVNULL,
    )
    months = of.aggregate(of.read(study.with_name("tickets.csv"), stamp="start"), "month", combine={"sold": "sum"})
    model = of.Model("sold", terms=[of.Trend(knots="found"), of.Season()], scale="log")
    of.figure(of.totals(model.fit(months).forecast(until="2027-12-31"))).savefig(folder / "totals.png", dpi=100)
    together([str(folder / "varied" / "trend.png"), str(folder / "totals.png")], SHOTS / "trend-totals.png")
    shutil.copy(folder / "varied" / "holidays.png", SHOTS / "holidays.png")
    subprocess.run(["offing", "demo", "heat", "--story", "heat"], cwd=folder, check=True, stdout=subprocess.DEVNULL)
    (heat_map,) = (folder / "heat" / "results").glob("cycle-season-in-day*.png")
    shutil.copy(heat_map, SHOTS / "heat-map.png")
    why(folder, study)
    subprocess.run(["offing", "demo", "yard", "--story", "boatyard"], cwd=folder, check=True, stdout=subprocess.DEVNULL)
    results = folder / "yard" / "results"
    (weights,) = results.glob("weights-charter-bookings-*-weighted.png")
    parts = [weights, *(results / f"{name}.png" for name in ("inputs-weighted", "running-weighted", "combined"))]
    together([str(each) for each in parts], SHOTS / "boatyard.png")
    judge(folder, study)
    terminals(folder)


if __name__ == "__main__":
    main()
