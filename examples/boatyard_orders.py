"""The boatyard's running quarter from months and weeks: what is out, what it is estimated at, and what moved it."""

from pathlib import Path
from tempfile import mkdtemp

import offing as of
from offing.demo import boatyard

made = boatyard()
yard = {
    "yard": of.read(made.orders, release_delay="14 days", unit={"orders": "kEUR"}),
    "charter": of.read(made.bookings, release_delay="21 days"),
    "web": of.read(made.enquiries, stamp="start"),
}
model = of.Model(
    "yard.orders",
    terms=[
        of.Trend(),
        of.Season("year", harmonics=1),
        of.Driver("charter.charter bookings", weights="beta", span=6),
        of.Driver("web.web enquiries", weights="chosen", span=13),
    ],
)
fit = model.fit(yard)
print(fit)
for driver in ("charter bookings", "web enquiries"):
    print(of.lag_weights(fit, driver))

running = of.nowcast(model, yard, ["2026-04-24", "2026-05-25", "2026-06-24"])
print(running)
folder = Path(mkdtemp())
for name, result in {"running": running, "inputs": of.inputs(running.forecasts[1])}.items():
    of.figure(result).savefig(folder / f"{name}.png")
print(f"Figures are in {folder}.")
