"""Tables as analysts have them, each with what `offing inspect` must make of it: seeded, so that every run has the same."""

import io
from dataclasses import dataclass, field

import numpy as np
import pandas as pd

GENERATOR = np.random.default_rng(8)
N = 36
MONTHS = pd.period_range("2022-01", periods=N, freq="M")
SEASON = 20.0 * np.sin(2 * np.pi * np.arange(N) / 12)
SOLD = (1200.0 + 5.0 * np.arange(N) + 8.0 * SEASON + GENERATOR.normal(0.0, 25.0, N)).round(2)
FARE = (9.0 + 0.05 * np.arange(N) + GENERATOR.normal(0.0, 0.2, N)).round(2)
WARM = (12.0 + 0.6 * SEASON + GENERATOR.normal(0.0, 1.0, N)).round(1)
PROMO = GENERATOR.integers(0, 2, N)
DAYS = pd.date_range("2023-01-01", periods=200, freq="D")
DAILY = (100.0 + 10.0 * (DAYS.day_of_week >= 5) + GENERATOR.normal(0.0, 4.0, 200)).round(1)


HOURS = pd.date_range("2024-01-01", periods=480, freq="h")
HOURLY = (50.0 + 10.0 * np.sin(2 * np.pi * HOURS.hour / 24) + GENERATOR.normal(0.0, 1.0, 480)).to_numpy().round(2)
QUARTERS = pd.date_range("2024-01-01", periods=1920, freq="15min")
QUARTERLY = (50.0 + GENERATOR.normal(0.0, 1.0, 1920)).round(2)


AUTUMN = pd.date_range("2024-10-20", "2024-11-02 23:45", freq="15min", tz="Europe/Berlin")


@dataclass(frozen=True)
class Case:
    """Files by name, the options of the command, its status, and what its output or error must say."""

    files: dict
    says: tuple
    options: tuple = ()
    status: int = 0
    #: Whether the first option that an error offers, pasted, leads to a survey.
    pasted: bool = True
    not_says: tuple = field(default=())


def rows(head, *columns, sep=","):
    """CSV text of a head and columns of cells."""
    lines = [sep.join(str(cell) for cell in line) for line in zip(*columns, strict=True)]
    return head + "\n" + "\n".join(lines) + "\n"


def monthly(sold, head="month,Sales", sep=",", dates=None, more=()):
    """A table of months with what is sold as some writing of it."""
    return rows(head, [str(m) for m in MONTHS] if dates is None else dates, sold, *more, sep=sep)


def written(form):
    """What is sold, each value written by a function."""
    return [form(value) for value in SOLD.tolist()]


def german(value):
    """A number with a decimal comma and dots between thousands."""
    return f"{value:,.2f}".replace(",", "_").replace(".", ",").replace("_", ".")


def book(**sheets):
    """A workbook of sheets of rows."""
    from openpyxl import Workbook

    made = Workbook()
    made.remove(made.active)
    for name, lines in sheets.items():
        sheet = made.create_sheet(name)
        for line in lines:
            sheet.append(line)
    out = io.BytesIO()
    made.save(out)
    return out.getvalue()


def table_lines():
    """Rows of a sheet of months."""
    return [
        ["month", "sold", "fare"],
        *([m.to_timestamp().to_pydatetime(), s, f] for m, s, f in zip(MONTHS, SOLD, FARE, strict=True)),
    ]


def clock(zone_free=True, doubled=True):
    """Hours around the end of summer time: the doubled hour as a clock shows it, or hours of one count."""
    stamps = pd.date_range("2024-10-20", "2024-11-02 23:00", freq="h", tz="Europe/Berlin")
    shown = [f"{each:%Y-%m-%d %H:%M}" if zone_free else each.isoformat() for each in stamps]
    load = (50.0 + 10.0 * np.sin(2 * np.pi * stamps.hour / 24) + GENERATOR.normal(0.0, 1.0, len(stamps))).round(2)
    return rows("hour,load", shown, load)


def lines_of_sale(products, per_day=3):
    """Lines of sale with a product each; several per date."""
    text = ["date,product,qty"]
    for day in DAYS[:90]:
        text += [
            f"{day:%Y-%m-%d},{products[int(GENERATOR.integers(len(products)))]},{int(GENERATOR.integers(1, 9))}"
            for _ in range(per_day)
        ]
    return "\n".join(text) + "\n"


def panel(bad=""):
    """Two good series and one that is bad in some way."""
    text = ["month,port,sold"]
    for port, factor in (("007", 1.0), ("7", 0.5)):
        text += [f"{m},{port},{factor * s:.2f}" for m, s in zip(MONTHS, SOLD, strict=True)]
    more = {
        "": [],
        "one row": ["2024-12,x,5"],
        "no values": [f"{m},x," for m in MONTHS],
        "zeros": [f"{m},x,0" for m in MONTHS],
        "constant": [f"{m},x,4" for m in MONTHS],
        "gaps": [f"{m},x,{s}" for m, s in zip(MONTHS[::5], SOLD[::5], strict=True)],
        "text": [f"{m},x,closed" for m in MONTHS],
        "doubled": [f"{m},x,4" for m in [*MONTHS, MONTHS[3]]],
    }[bad]
    return "\n".join([*text, *more]) + "\n"


def business_days(holidays=()):
    """Sales of Monday to Friday, without some days."""
    days = [day for day in pd.bdate_range("2023-01-02", periods=260) if f"{day:%Y-%m-%d}" not in holidays]
    return rows(
        "day,sold", [f"{day:%Y-%m-%d}" for day in days], (100.0 + GENERATOR.normal(0.0, 3.0, len(days))).round(1)
    )


def names(language):
    """Months by their names in a language."""
    words = {
        "de": "Januar Februar März April Mai Juni Juli August September Oktober November Dezember",
        "fr": "janvier février mars avril mai juin juillet août septembre octobre novembre décembre",
        "es": "enero febrero marzo abril mayo junio julio agosto septiembre octubre noviembre diciembre",
    }[language].split()
    return [f"{words[m.month - 1]} {m.year}" for m in MONTHS]


def statement(total=False):
    """Items in rows, months as column heads."""
    heads = ",".join(str(m) for m in MONTHS)
    lines = [f"item,{heads}", "Tickets," + ",".join(map(str, SOLD)), "Fare," + ",".join(map(str, FARE))]
    if total:
        lines = [
            f"item,{heads}",
            "North," + ",".join(map(str, SOLD)),
            "South," + ",".join(f"{s / 2:.2f}" for s in SOLD),
            "Total," + ",".join(f"{s + round(s / 2, 2):.2f}" for s in SOLD),
        ]
    return "\n".join(lines) + "\n"


def by_year(total=False):
    """Months down, years across."""
    lines = ["month,2022,2023,2024"]
    short = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"]
    lines += [f"{name},{SOLD[i]},{SOLD[12 + i]},{SOLD[24 + i]}" for i, name in enumerate(short)]
    if total:
        lines.append(f"Total,{SOLD[:12].sum():.2f},{SOLD[12:24].sum():.2f},{SOLD[24:].sum():.2f}")
    return "\n".join(lines) + "\n"


def with_totals(right=True):
    """Months with a sub-total for every year, and a grand total."""
    lines = ["month,sold"]
    for year in range(3):
        part = SOLD[12 * year : 12 * year + 12]
        lines += [f"{m},{s}" for m, s in zip(MONTHS[12 * year : 12 * year + 12], part, strict=True)]
        lines.append(
            f"{2022 + year} subtotal".replace("2022 ", "").replace("2023 ", "").replace("2024 ", "")
            + f",{part.sum():.2f}"
        )
    lines.append(f"Grand total,{SOLD.sum() + (0 if right else 99):.2f}")
    return "\n".join(lines) + "\n"


PLAIN = monthly(SOLD)
NORTH, SOUTH = SOLD, (0.5 * SOLD + GENERATOR.normal(0.0, 9.0, N)).round(2)
WEST = (0.3 * SOLD + GENERATOR.normal(0.0, 9.0, N)).round(2)
MONDAYS = pd.date_range("2022-01-03", periods=120, freq="7D")
WEEKLY = (300.0 + 30.0 * np.sin(2 * np.pi * np.arange(120) / 52) + GENERATOR.normal(0.0, 9.0, 120)).round(1)


def weekly(offset=0, head="week,sold"):
    """Weeks dated some days after Monday."""
    return rows(head, [f"{day + pd.Timedelta(days=offset):%Y-%m-%d}" for day in MONDAYS], WEEKLY)


CASES = {
    # Cells
    "dollars": Case(
        {"t.csv": monthly(written(lambda v: f'"${v:,.2f}"'))}, ("Target: Sales", "numbers in $", "read as")
    ),
    "euros after": Case(
        {"t.csv": monthly(written(lambda v: f"{german(v)} €"), sep=";", head="month;Sales")}, ("numbers in EUR",)
    ),
    "currency codes": Case({"t.csv": monthly(written(lambda v: f"USD {v:.2f}"))}, ("numbers in USD",)),
    "percent": Case(
        {"t.csv": monthly(written(lambda v: f"{v / 50:.1f} %"), head="month,occupancy")}, ("numbers in %",)
    ),
    "percent beside shares": Case(
        {"t.csv": monthly([*written(lambda v: f"{v / 50:.1f}%")[:-1], "0.31"], head="month,occupancy")},
        ("row 37", "found '0.31'", "where most cells are in '%'"),
        status=2,
        pasted=False,
    ),
    "units behind": Case(
        {"t.csv": monthly(SOLD, head="month,Sales,temp", more=[[f"{w} °C" for w in WARM]])}, ("temp: numbers in °C",)
    ),
    "units that change": Case(
        {"t.csv": monthly([*written(lambda v: f"{v:.0f} kg")[:-1], "1.3 t"])},
        ("column 'Sales'", "'1.3 t'", "'kg'", "no other column is taken for it"),
        status=2,
        pasted=False,
    ),
    "parentheses": Case(
        {
            "t.csv": monthly(
                written(lambda v: f"({1300 - v:.2f})" if v < 1300 else f"{v - 1300:.2f}"), head="month,margin"
            )
        },
        ("min −",),
    ),
    "minus behind": Case(
        {
            "t.csv": monthly(
                [f"{abs(v - 1300):.1f}-" if v < 1300 else f"{v - 1300:.1f}" for v in SOLD], head="month,balance"
            )
        },
        ("min −",),
    ),
    "yes and no": Case(
        {"t.csv": monthly(SOLD, head="month,Sales,promo", more=[np.where(PROMO, "Yes", "No")])},
        ("promo: numbers", "read as"),
    ),
    "true and false": Case(
        {"t.csv": monthly(SOLD, head="month,Sales,promo", more=[np.where(PROMO, "TRUE", "false")])}, ("promo (",)
    ),
    "German yes and no": Case(
        {"t.csv": monthly(SOLD, head="month,Sales,aktion", more=[np.where(PROMO, "ja", "nein")])}, ("aktion (",)
    ),
    "decimal commas that are clear": Case(
        {"t.csv": monthly(written(german), sep=";", head="month;Sales")}, ("is read as", "max 1")
    ),
    "thousands or decimals": Case(
        {"t.csv": monthly([f"{v / 1000:.3f}".replace(".", ",") for v in SOLD], sep=";", head="month;Sales")},
        ("can be", "--set t.decimal=. or --set t.decimal=,"),
        status=2,
    ),
    "a marker for missing": Case(
        {"t.csv": monthly([*SOLD[:-2], -999, -999])}, ("-999", "t.missing=[-999]"), not_says=("unreadable",)
    ),
    "the marker stated": Case(
        {"t.csv": monthly([*SOLD[:-3], -999, SOLD[-2], SOLD[-1]])}, ("1 value missing",), ("--set", "t.missing=[-999]")
    ),
    "words for missing": Case(
        {"t.csv": monthly(["tbd", *SOLD[1:]])}, ("found 'tbd'", "row 2", "no other column", 'missing=["tbd"]'), status=2
    ),
    "the words stated": Case(
        {"t.csv": monthly([SOLD[0], "tbd", *SOLD[2:]])}, ("1 value missing",), ("--set", 't.missing=["tbd"]')
    ),
    "the target unreadable, others fine": Case(
        {"t.csv": monthly([*written(lambda v: f"{v:.2f}")[:-1], "12..5"], head="month,Sales,temp", more=[WARM])},
        ("'12..5'", "'Sales' is most likely what is to be forecast"),
        status=2,
        pasted=False,
    ),
    "text column": Case(
        {"t.csv": monthly(SOLD, head="month,Sales,weather", more=[np.where(PROMO, "sunny", "wet")])},
        ("weather: text, 2 different words", "category"),
    ),
    "empty column": Case(
        {"t.csv": monthly(SOLD, head="month,Sales,notes", more=[[""] * N])}, ("notes: not used: it is empty",)
    ),
    # Dates
    "two styles": Case(
        {
            "t.csv": monthly(
                SOLD, dates=[*(f"{m}-01" for m in MONTHS[:20]), *(f"01.{m.month:02d}.{m.year}" for m in MONTHS[20:])]
            )
        },
        ("written in 2 ways", "%d.%m.%Y"),
        status=2,
    ),
    "American with a clock": Case(
        {"t.csv": rows("date,sold", [f"{d.month}/{d.day}/{d.year} 12:00 AM" for d in DAYS], DAILY)}, ("200 days",)
    ),
    "day or month first": Case(
        {"t.csv": rows("date,sold", [f"{d:%d/%m/%Y}" for d in DAYS[:12]], DAILY[:12])},
        ("day first and month first both fit", "--set"),
        status=2,
    ),
    "weekday names": Case({"t.csv": rows("date,sold", [f'"{d:%a, %d %b %Y}"' for d in DAYS], DAILY)}, ("200 days",)),
    "ISO weeks": Case(
        {"t.csv": rows("week,sold", [f"{d:%G-W%V}" for d in MONDAYS], WEEKLY)}, ("120 weeks from 2022-01-03",)
    ),
    "weeks before years": Case(
        {"t.csv": rows("week,sold", [f"{d:W%V/%G}" for d in MONDAYS], WEEKLY)}, ("120 weeks from 2022-01-03",)
    ),
    "weeks only numbered": Case(
        {"t.csv": rows("week,sold", range(1, 121), WEEKLY)},
        ("only numbered, in 'week' from 1 to 120", "--set t.time=week"),
        status=2,
        pasted=False,
    ),
    "weeks numbered and dated": Case(
        {"t.csv": rows("week,sold", range(1, 121), WEEKLY)},
        ("120 weeks from 2022-01-03",),
        ("--set", "t.time=week", "--set", "t.first_period=2022-01-03"),
    ),
    "quarters, year first": Case(
        {
            "t.csv": rows(
                "quarter,sold",
                [f"{q.year}-Q{q.quarter}" for q in pd.period_range("2015Q1", periods=36, freq="Q")],
                SOLD,
            )
        },
        ("36 quarters from 2015-Q1",),
    ),
    "quarters, quarter first": Case(
        {
            "t.csv": rows(
                "quarter,sold",
                [f"Q{q.quarter} {q.year}" for q in pd.period_range("2015Q1", periods=36, freq="Q")],
                SOLD,
            )
        },
        ("36 quarters from 2015-Q1",),
    ),
    "quarters, short": Case(
        {
            "t.csv": rows(
                "quarter,sold",
                [f"{q.quarter}Q{q.year % 100:02d}" for q in pd.period_range("2015Q1", periods=36, freq="Q")],
                SOLD,
            )
        },
        ("36 quarters from 2015-Q1",),
    ),
    "months by M": Case(
        {"t.csv": monthly(SOLD, dates=[f"{m.year}M{m.month:02d}" for m in MONTHS])}, ("36 months from 2022-01",)
    ),
    "months, month first": Case(
        {"t.csv": monthly(SOLD, dates=[f"{m.month}/{m.year}" for m in MONTHS])}, ("36 months from 2022-01",)
    ),
    "months, short names": Case(
        {"t.csv": monthly(SOLD, dates=[f"{m:%b}-{m.year % 100}" for m in MONTHS.to_timestamp()])},
        ("36 months from 2022-01",),
    ),
    "German months": Case(
        {"t.csv": monthly(SOLD, dates=names("de"))}, ("36 months from 2022-01", "in the language 'de'")
    ),
    "French months": Case(
        {"t.csv": monthly(SOLD, dates=names("fr"))}, ("36 months from 2022-01", "in the language 'fr'")
    ),
    "Spanish months, stated": Case(
        {"t.csv": monthly(SOLD, dates=names("es"))},
        ("36 months from 2022-01",),
        ("--set", "t.locale=es"),
        not_says=("in the language",),
    ),
    "year and month apart": Case(
        {"t.csv": rows("year,month,sold", MONTHS.year, MONTHS.month, SOLD)}, ("in 2 columns", "t.time="), status=2
    ),
    "years that straddle": Case(
        {"t.csv": rows("year,sold", [f"{y}/{(y + 1) % 100:02d}" for y in range(1990, 2020)], SOLD[:30])}, ("30 years",)
    ),
    "day numbers of a spreadsheet": Case(
        {"t.csv": rows("date,sold", [44927 + i for i in range(200)], DAILY)}, ("time_format=spreadsheet",), status=2
    ),
    # Shapes
    "titles above": Case({"t.csv": "Harbour office\nMonthly report\n\n" + PLAIN}, ("names are in row 4", "36 months")),
    "titles with cells": Case(
        {"t.csv": "Report:,Monthly sales\nPrinted,2025-01-04\n" + monthly(SOLD, head="month,Sales,fare", more=[FARE])},
        ("names are in row 3",),
    ),
    "units below the names": Case(
        {"t.csv": "month,Sales,temp\n,EUR,°C\n" + rows("", [str(m) for m in MONTHS], SOLD, WARM).lstrip("\n")},
        ("Sales: numbers in EUR", "temp: numbers in °C"),
    ),
    "no header": Case(
        {"t.csv": PLAIN.partition("\n")[2]}, ("holds values instead of the columns' names", "header_row=0"), status=2
    ),
    "notes below": Case({"t.csv": PLAIN + "Source: harbour office,\n"}, ("36 months", "a note, no period")),
    "the header repeated": Case(
        {"t.csv": PLAIN.replace("2023-01,", "month,Sales\n2023-01,", 1)}, ("36 months", "header again")
    ),
    "subtotals and total": Case({"t.csv": with_totals()}, ("36 months", "a total of the rows above")),
    "a total that is none": Case(
        {"t.csv": with_totals(right=False)}, ("called a total", "add up to", "t.totals=skip"), status=2
    ),
    "a total column": Case(
        {"t.csv": monthly(NORTH, head="month,north,south,total", more=[SOUTH, (NORTH + SOUTH).round(2)])},
        ("total: a total: the sum of 'north', 'south'",),
    ),
    "several sheets": Case(
        {"t.xlsx": book(Notes=[["read me"], ["nothing"]], Data=table_lines())},
        ("'Data' (a table of dates and numbers), 'Notes' (no table)", "--set t.sheet=Data"),
        status=2,
    ),
    "empty sheets beside": Case({"t.xlsx": book(Data=table_lines(), Sheet2=[])}, ("36 months",)),
    "a sheet with titles": Case(
        {"t.xlsx": book(Data=[["Harbour office"], [], *table_lines()])}, ("names are in row 3",)
    ),
    "a statement": Case({"t.csv": statement()}, ("36 dates", "t.transpose=true", "t.wide=value"), status=2),
    "a statement as series": Case(
        {"t.csv": statement()}, ("2 series by item",), ("--set", "t.wide=amount", "--set", "t.id=item")
    ),
    "a statement with a total": Case(
        {"t.csv": statement(total=True)},
        ("2 series by item", "a total of the rows above"),
        ("--set", "t.wide=amount", "--set", "t.id=item"),
    ),
    "a column per product": Case(
        {"t.csv": monthly(NORTH, head="month,sold north,sold south,sold west", more=[SOUTH, WEST])},
        ("series of their own?", 't.wide={ sold = "sold *" }'),
    ),
    "a column per product, as series": Case(
        {"t.csv": monthly(NORTH, head="month,north,south,west", more=[SOUTH, WEST])},
        ("3 series by series", "sold, sum of 3 series"),
        ("--set", "t.wide=sold"),
    ),
    "two measures per product": Case(
        {
            "t.csv": monthly(
                NORTH,
                head="month,sold n,sold s,sold w,fare n,fare s,fare w",
                more=[SOUTH, WEST, FARE, FARE + 1, FARE + 2],
            )
        },
        ("3 series by series", "sold, fare: numbers"),
        ("--set", 't.wide={ sold = "sold *", fare = "fare *" }'),
    ),
    "drivers ahead in the same file": Case(
        {"t.csv": monthly([*SOLD[:-6], *[""] * 6], head="month,Sales,fare", more=[FARE])},
        ("6 months from 2024-07", "they are a plan", "known 6 months ahead"),
    ),
    "months down, years across": Case({"t.csv": by_year()}, ("36 months from 2022-01",)),
    "months down, years across, a total": Case(
        {"t.csv": by_year(total=True)}, ("36 months from 2022-01", "a total of the rows above")
    ),
    "2,000 columns": Case(
        {"t.csv": monthly(SOLD, head="month," + ",".join(f"p{i}" for i in range(2000)), more=[SOLD] * 1999)},
        ("2,001 columns for 36 rows", "500"),
        status=2,
        pasted=False,
    ),
    # Ids and lines
    "ids with zeros": Case({"t.csv": panel()}, ("2 series by port", "sum of 2 series")),
    "lines of products": Case(
        {"t.csv": lines_of_sale(["ferry", "bus", "tram"])},
        ("different texts: is it an id?", "--set t.id=product", "--set t.rows=lines"),
        status=2,
    ),
    "lines added up": Case(
        {"t.csv": lines_of_sale(["ferry", "bus"])},
        ("combined by day", "'qty' is combined by sum"),
        ("--set", "t.rows=lines"),
    ),
    "lines of ids with zeros": Case(
        {"t.csv": lines_of_sale(["00007", "7"])},
        ("2 series by product",),
        ("--set", "t.rows=lines", "--set", "t.id=product"),
    ),
    "prices among lines": Case(
        {
            "t.csv": rows(
                "date,qty,price",
                [f"{d:%Y-%m-%d}" for d in DAYS.repeat(2)],
                GENERATOR.integers(1, 9, 400),
                (9.0 + GENERATOR.normal(0, 0.1, 400)).round(2),
            )
        },
        ("'price' is combined by mean",),
    ),
    "a stock by month": Case(
        {
            "t.csv": rows(
                "date,sold,stock",
                [f"{d:%Y-%m-%d}" for d in DAYS],
                DAILY,
                np.cumsum(GENERATOR.integers(-3, 4, 200)) + 500,
            )
        },
        ("'stock' is combined by last", "'sold' is combined by sum"),
        ("--to", "month"),
    ),
    "one series bad: one row": Case({"t.csv": panel("one row")}, ("3 series by port",)),
    "one series bad: no values": Case({"t.csv": panel("no values")}, ("3 series by port",)),
    "one series bad: zeros": Case({"t.csv": panel("zeros")}, ("3 series by port",)),
    "one series bad: text": Case({"t.csv": panel("text")}, ("3 series by port",)),
    "one series bad: doubled": Case({"t.csv": panel("doubled")}, ("Left out: 1 series, 'x'",), ("--set", "t.id=port")),
    "one series bad: gaps": Case({"t.csv": panel("gaps")}, ("Left out: 1 series, 'x'",)),
    # Clocks, business days, weeks
    "an hour twice": Case({"t.csv": clock()}, ("put back in autumn", "--set t.zone=Europe/Berlin"), status=2),
    "the zone stated": Case({"t.csv": clock()}, ("337 hours",), ("--set", "t.zone=Europe/Berlin")),
    "mixed offsets": Case(
        {"t.csv": clock(zone_free=False)}, ("offsets from UTC differ", "--set t.zone=Europe/Berlin"), status=2
    ),
    "mixed offsets, zone stated": Case(
        {"t.csv": clock(zone_free=False)}, ("337 hours",), ("--set", "t.zone=Europe/Berlin")
    ),
    "an hour that is none": Case(
        {"t.csv": rows("hour,load", [f"2024-03-31 {h:02d}:00" for h in range(24)], DAILY[:24])},
        ("row 4", "2024-03-31 02:00", "skips"),
        ("--set", "t.zone=Europe/Berlin"),
        status=2,
        pasted=False,
    ),
    "quarters of an hour twice": Case(
        {"t.csv": rows("time,load", [f"{t:%Y-%m-%d %H:%M}" for t in AUTUMN], np.arange(len(AUTUMN)) % 7 + 50.0)},
        ("times in the hour of 2024-10-27 02:00 stand twice", "offsets from UTC"),
        status=2,
        pasted=False,
    ),
    "quarters of an hour that are none": Case(
        {
            "t.csv": rows(
                "time,load",
                [f"2024-03-31 {h:02d}:{m:02d}" for h in range(24) for m in (0, 15, 30, 45)],
                np.arange(96) % 7 + 50.0,
            )
        },
        ("row 10", "2024-03-31 02:00:00, which the clock of Europe/Berlin skips"),
        ("--set", "t.zone=Europe/Berlin", "--set", "t.rows=lines", "--set", "t.frequency=hour"),
        status=2,
        pasted=False,
    ),
    "business days": Case({"t.csv": business_days()}, ("260 business days",)),
    "business days with holidays": Case(
        {
            "t.csv": business_days(("2023-04-07", "2023-05-01")),
            "days.csv": "name,date\nGood Friday,2023-04-07\nSpring Day,2023-05-01\n",
        },
        ("258 business days",),
        ("--set", "t.frequency=business day", "--set", "t.holidays=days.csv"),
    ),
    "a Saturday among business days": Case(
        {"t.csv": business_days() + "2023-12-30,90.0\n"},
        ("2023-12-30 is a Saturday, no business day",),
        ("--set", "t.frequency=business day"),
        status=2,
        pasted=False,
    ),
    "weeks by Mondays": Case({"t.csv": weekly()}, ("120 weeks from 2022-01-03",)),
    "weeks by Sundays": Case({"t.csv": weekly(6)}, ("open a week or close it", "--set t.stamp=start"), status=2),
    "weeks by Sundays, named": Case({"t.csv": weekly(6, "week ending,sold")}, ("120 weeks from 2022-01-03",)),
    "weeks that begin on Wednesdays": Case({"t.csv": weekly(2, "week beginning,sold")}, ("120 weeks from 2022-01-05",)),
    # Dates in parts, without marks, as counts
    "months without a mark": Case(
        {"t.csv": rows("period,sold", [f"{m.year}{m.month:02d}" for m in MONTHS], SOLD)}, ("36 months from 2022-01",)
    ),
    "weeks without a mark": Case(
        {"t.csv": rows("week,sold", [f"{d:%G%V}" for d in MONDAYS], WEEKLY)}, ("120 weeks from 2022-01-03",)
    ),
    "year and week": Case(
        {
            "t.csv": rows(
                "year,week,sold", [d.isocalendar()[0] for d in MONDAYS], [d.isocalendar()[1] for d in MONDAYS], WEEKLY
            )
        },
        ("'year' and 'week' hold the date",),
        status=2,
    ),
    "year, month and day": Case(
        {"t.csv": rows("year,month,day,sold", DAYS.year, DAYS.month, DAYS.day, DAILY)},
        ("hold the date in 3 columns",),
        status=2,
    ),
    "date and hour": Case(
        {"t.csv": rows("date,hour,load", [f"{h:%Y-%m-%d}" for h in HOURS], HOURS.hour + 1, HOURLY)},
        ("480 hours from 2024-01-01 00:00",),
        ("--set", 't.time=["date", "hour"]'),
    ),
    "seconds since 1970": Case(
        {"t.csv": rows("timestamp,sold", [int(d.timestamp()) for d in DAYS], DAILY)},
        ("as seconds since 1970 it would be 2023-01-01",),
        status=2,
    ),
    "quarters of an hour": Case(
        {"t.csv": rows("time,load", [f"{q:%Y-%m-%d %H:%M}" for q in QUARTERS], QUARTERLY)},
        ("combined by hour", "'load' is combined by mean"),
    ),
    "every second week": Case(
        {"t.csv": rows("date,sold", [f"{d:%Y-%m-%d}" for d in MONDAYS[::2]], WEEKLY[::2])},
        ("14 days apart",),
        status=2,
        pasted=False,
    ),
    "a year far away": Case(
        {"t.csv": monthly(SOLD).replace("2023-05", "2053-05")},
        ("row 18", "2053-05 is 341 months from"),
        status=2,
        pasted=False,
    ),
    "a month twice": Case(
        {"t.csv": monthly(SOLD) + "2022-06,999\n"}, ("rows 38 and 7 both stand for it",), status=2, pasted=False
    ),
    "merged cells": Case(
        {
            "t.csv": "port,month,sold\n"
            + "".join(
                f"{'' if i else port},{m},{s}\n"
                for port in ("north", "south")
                for i, (m, s) in enumerate(zip(MONTHS, SOLD, strict=True))
            )
        },
        ("filled in 2 of them only", "--set t.fill_down=port"),
        status=2,
    ),
    "Indian thousands": Case({"t.csv": monthly(['"1,23,456.78"', '"2,11,345.50"'] * (N // 2))}, ("max 211,346",)),
    "footnote marks": Case(
        {"t.csv": monthly([f"{v}*" if i > 33 else v for i, v in enumerate(SOLD)])}, ("which is read as",)
    ),
    "errors of a spreadsheet": Case(
        {"t.csv": monthly([*SOLD[:-2], "#DIV/0!", SOLD[-1]])}, ("'#DIV/0!'", "t.missing"), status=2
    ),
    "hours and minutes as values": Case(
        {"t.csv": monthly([f"0{i % 9}:30:00" for i in range(N)], head="month,duration")},
        ("found '00:30:00'",),
        status=2,
        pasted=False,
    ),
    "a counter of rows": Case(
        {"t.csv": rows(",month,Sales", range(N), [str(m) for m in MONTHS], SOLD)},
        ("column 1: not used: it numbers the rows", "Target: Sales"),
    ),
    "a workbook called CSV": Case(
        {"t.csv": book(Data=table_lines())}, ("the file is a workbook",), status=2, pasted=False
    ),
    "a web page called CSV": Case(
        {"t.csv": "<html><body>no</body></html>"}, ("the file is a web page",), status=2, pasted=False
    ),
    "one value only": Case({"t.csv": monthly([5] * N)}, ("Every value is 5",)),
    "remarks above": Case({"t.csv": "# made by, the office\n# 2024\n" + PLAIN}, ("names are in row 3",)),
    "ranges of dates": Case(
        {"t.csv": rows("week,sold", [f"{d:%Y-%m-%d} - {d + pd.Timedelta(days=6):%Y-%m-%d}" for d in MONDAYS], WEEKLY)},
        ("holds ranges such as", "t.stamp=start"),
        status=2,
        pasted=False,
    ),
    "the 15th of each month": Case(
        {"t.csv": rows("date,sold", [f"{m}-15" for m in MONTHS], SOLD)},
        ("36 months from 2022-01", "one date in each month"),
    ),
    "years that were numbers": Case(
        {"t.csv": rows("year,sold", [f"{y}.0" for y in range(1990, 2020)], SOLD[:30])}, ("30 years from 1990",)
    ),
    "a quote that is not closed": Case(
        {"t.csv": 'month,Sales\n2022-01,"12\n2022-02,13\n'},
        ("row 2", "a double quote opens and is never closed"),
        status=2,
        pasted=False,
    ),
    "numbers as a spreadsheet's text": Case({"t.csv": monthly([f'="{v}"' for v in SOLD])}, ("max 1,500",)),
    "a cross for yes": Case(
        {"t.csv": monthly(SOLD, head="month,Sales,promo", more=[np.where(PROMO, "x", "")])},
        ("Does 'x' in promo mean yes", 't.notation={ promo = "x" }'),
    ),
    "a cross for yes, stated": Case(
        {"t.csv": monthly(SOLD, head="month,Sales,promo", more=[np.where(PROMO, "x", "")])},
        ("Sales, promo: numbers",),
        ("--set", 't.notation={ promo = "x" }'),
    ),
    "the total first": Case(
        {"t.csv": f"month,sold\nTotal,{SOLD.sum():.2f}\n" + rows("", MONTHS, SOLD).lstrip()}, ("36 months", "'Total'")
    ),
    "products down, years across": Case(
        {
            "t.csv": "product,month,2022,2023\n"
            + "".join(
                f"{p},{m},{i + k},{i + k + 5}\n"
                for k, p in enumerate("ab")
                for i, m in enumerate(
                    ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"]
                )
            )
        },
        ("2 series by product",),
    ),
    # Hostile
    "names like formulas and marks": Case(
        {"t.csv": monthly(SOLD, head='month,"=cmd|calc",<b>x</b>', more=[FARE])}, ("36 months",)
    ),
    "nothing at all": Case({"t.csv": ""}, ("the file is empty",), status=2, pasted=False),
    "no dates": Case(
        {"t.csv": rows("a,b", range(5, 25), DAILY[:20])}, ("no column holds dates",), status=2, pasted=False
    ),
    "other letters": Case({"t.csv": monthly(SOLD, head="month,Verkäufe").encode("latin-1")}, ("read as Latin-1",)),
    "a source misspelt": Case(
        {"t.csv": PLAIN}, ("there is no source 'x'",), ("--set", "x.stamp=end"), status=2, pasted=False
    ),
    "a key misspelt": Case(
        {"t.csv": PLAIN}, ("Did you mean 'decimal'?",), ("--set", "t.decimals=."), status=2, pasted=False
    ),
    "a column misspelt": Case(
        {"t.csv": PLAIN}, ("Did you mean", "t.Sales"), ("--target", "t.Sale"), status=2, pasted=False
    ),
}
