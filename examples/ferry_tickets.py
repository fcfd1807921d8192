"""The ferry study in Python: read, fit, forecast, explain."""

import tempfile
from pathlib import Path

import offing as of
from offing.demo import run_ferry

folder = Path(tempfile.mkdtemp())
run_ferry(folder, lambda line: None)  # makes the data of the Tern Islands

tickets = of.read(folder / "tickets.csv", stamp="start", unit={"sold": "tickets", "fare": "EUR"})
plan = of.read(folder / "plan.csv", stamp="start")

model = of.Model(
    "sold",
    scale="log",
    terms=[
        of.Trend(knots=["2024-04-01"]),
        of.Season("year", harmonics=3),
        of.Holidays(table=folder / "island_days.csv"),
        of.Driver("fare", transform=["log"]),
        of.Driver("sailings", transform=["log"]),
        of.Driver("cruise calls"),
        of.Driver("storm hours", lags=[0, 1]),
        of.Driver("promotion"),
    ],
)
fit = model.fit(tickets)
print(fit)

ahead = fit.forecast(13, plan=plan)
print(ahead)
print(ahead.contributions)

# What would a fare one tenth higher do? The plan is a table like any other.
dearer = plan.frame.assign(fare=1.1 * plan.frame["fare"])
changed = fit.forecast(13, plan=of.read(dearer, stamp="start", name="dearer plan"))
print(f"\nWith every fare 10 % up: {changed.mean.sum() / ahead.mean.sum() - 1:+.1%} tickets in 13 weeks")

for name, result in {"forecast": ahead, "why": ahead.contributions, "effects": of.effects(fit)}.items():
    of.figure(result).savefig(folder / f"{name}.png")
print(f"Figures are in {folder}")
