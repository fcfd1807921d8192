"""A catalogue of tables that go wrong in practice, each with the message it must give or the trace it must leave.

A wrong number without a word is the worst outcome: every case ends in an error, a treatment or a finding, or in exactly
the right values.
"""

import numpy as np
import pandas as pd
import pytest

import offing as of

LINES = {"rows": "lines", "frequency": "month", "combine": {"a": "sum"}}
MONTHLY = {"aggregate_to": "month", "combine": {"a": "sum"}}
DAYS = "".join(f"2024-{m:02d}-{d:02d},{m * d}\n" for m in (1, 2, 3) for d in range(1, (31, 29, 31)[m - 1] + 1))
HOURS = "".join(f"2024-10-27 {h:02d}:00,{h}\n" for h in (0, 1, 1, 2, 3))

#: Name: (text or bytes, options, full message).
REFUSED = {
    "ambiguous thousands with semicolons": (
        "d;a\n2024-01;1.234\n2024-02;2.345\n",
        {},
        "t.csv, column 'a': '1.234' can be 1234 or 1.234. Say which mark separates decimals: decimal = \",\" or "
        'decimal = ".".',
    ),
    "ambiguous thousands in quotes": (
        'd,a\n2024-01,"1,234"\n2024-02,"2,345"\n',
        {},
        "t.csv, column 'a': '1,234' can be 1234 or 1.234. Say which mark separates decimals: decimal = \".\" or "
        'decimal = ",".',
    ),
    "two decimal marks": (
        'd,a\n2024-01,"1,5"\n2024-02,2.25\n',
        {},
        "t.csv, row 2, column 'a': found '1,5', which is not a number. Correct the cell, or leave it empty if nothing is "
        "known.",
    ),
    "a thousands mark in a wrong place": (
        "d;a\n2024-01;1.234,5\n2024-02;12.34,5\n",
        {},
        "t.csv, row 3, column 'a': found '12.34,5', which is not a number. Correct the cell, or leave it empty if nothing "
        "is known.",
    ),
    "an underscore in a number": (
        "d,a\n2024-01,1_000\n2024-02,2\n",
        {},
        "t.csv, row 2, column 'a': found '1_000', which is not a number. Correct the cell, or leave it empty if nothing is "
        "known.",
    ),
    "day first or month first": (
        "d,a\n01/02/2024,1\n02/02/2024,2\n",
        {},
        "t.csv, column 'd': day first and month first both fit: row 2 '01/02/2024' is 2024-02-01 or 2024-01-02. "
        'Say which: time_format = "%d/%m/%Y" or time_format = "%m/%d/%Y".',
    ),
    "two ways of writing dates": (
        "d,a\n2024-01-30,1\n31.01.2024,2\n2024-02-01,3\n",
        {},
        "t.csv, row 3, column 'd': the dates are written in 2 ways: '2024-01-30' and '31.01.2024'. State time_format = "
        '["%Y-%m-%d", "%d.%m.%Y"].',
    ),
    "a spreadsheet's day numbers": (
        "d,a\n45292,1\n45293,2\n",
        {"time": "d"},
        "t.csv, row 2, column 'd': found '45292', which is not a date; as a spreadsheet's day number it would be "
        '2024-01-01. State time_format = "spreadsheet" to read day numbers.',
    ),
    "a day that is not there": (
        "d,a\n29.02.2023,1\n01.03.2023,2\n",
        {},
        "t.csv, row 2, column 'd': found '29.02.2023', which is not a date. Write dates as 2024-01-31, or state how they "
        'are written, such as time_format = "%d/%m/%Y".',
    ),
    "several rows a date": (
        "d,a\n2024-01-01,1\n2024-01-01,2\n2024-01-02,3\n",
        {},
        "t.csv, period 2024-01-01: rows 2 and 3 both stand for it. Keep one row a period; or, if they are lines to be "
        'added up, state rows = "lines" and how to combine them; if they are several series, name the column that '
        "separates them, as id.",
    ),
    "an hour shown twice, no zone": (
        "t,a\n" + HOURS,
        {},
        "t.csv, period 2024-10-27 01:00: the hour stands twice, in rows 3 and 4, as on a clock that is put back in autumn. "
        'State the zone of the clock: zone = "Europe/Lisbon".',
    ),
    "an hour that the clock skips": (
        "t,a\n2024-03-31 00:00,1\n2024-03-31 01:00,2\n2024-03-31 02:00,3\n",
        {"zone": "Europe/Lisbon"},
        "t.csv, row 3: found 2024-03-31 01:00:00, which the clock of Europe/Lisbon skips. Correct the row, or state another "
        "zone.",
    ),
    "one of two equal hours": (
        "t,a\n2024-10-27 00:00,1\n2024-10-27 01:00,2\n2024-10-27 02:00,3\n",
        {"zone": "Europe/Lisbon"},
        "t.csv, row 3: the clock of Europe/Lisbon shows 2024-10-27 01:00:00 twice, and 1 row stands for it. Give both hours, "
        "or write offsets from UTC such as 2024-10-27T01:00+01:00.",
    ),
    "offsets without a zone": (
        "t,a\n2024-03-31T00:00+00:00,1\n2024-03-31T02:00+01:00,2\n",
        {},
        "t.csv, column 't': the offsets from UTC differ ('+00:00', '+01:00'). State the zone whose clock changes: "
        'zone = "Europe/Lisbon".',
    ),
    "mostly gaps": (
        "d,a\n2024-01-01,1\n2024-01-02,2\n2029-01-01,3\n",
        {"gaps": "leave"},
        "t.csv: 1,825 days are missing between the first and the last: 2024-01-03 to 2028-12-31. More is missing than there "
        "is, so the frequency or a date must be wrong; state the frequency.",
    ),
    "an id that is empty": (
        "d,p,a\n2024-01,01,1\n2024-02,,2\n",
        {"id": "p"},
        "t.csv, row 3, column 'p': the id is missing. Fill it in or remove the row.",
    ),
    "no such id": (
        "d,port,a\n2024-01,01,1\n",
        {"id": "prt"},
        "t.csv, key 'id': there is no column 'prt'. Did you mean 'port'?",
    ),
    "lines without a way to combine": (
        DAYS,
        {"rows": "lines"},
        "Key 'rows': lines are gathered into periods, and it is not stated into which or how. State frequency = \"month\" and "
        'combine = { amount = "sum" }, say.',
    ),
    "an unknown way to combine": (
        "d,a\n" + DAYS,
        {**LINES, "combine": {"a": "total"}},
        "Key 'combine': found 'total' for 'a'. Choose from: sum, mean, last, first, max, min, count, mean weighted by COLUMN.",
    ),
    "lines of a column that is not there": (
        "d,b\n" + DAYS,
        LINES,
        "t.csv, key 'combine': there is no column 'a'. Choose from: d, b.",
    ),
    "nothing but a part of a month": (
        "d,a\n2024-01-10,1\n2024-01-11,2\n2024-01-12,3\n",
        LINES,
        't.csv: no month is whole in 2024-01. State partial = "keep" to have them as they are.',
    ),
    "aggregation without a way": (
        "d,a\n" + DAYS,
        {"aggregate_to": "month"},
        "Key 'aggregate_to': it is not stated how the values of a period become one. State combine = { sold = \"sum\", "
        'price = "mean" }, say.',
    ),
    "aggregation to something finer": (
        "d,a\n2024-01,1\n2024-02,2\n",
        {"aggregate_to": "week", "combine": {"a": "sum"}},
        "t.csv, key 'aggregate_to': a week is not coarser than the months of the table.",
    ),
    "a month that is none": (
        "year,month,a\n2024,12,1\n2024,13,2\n",
        {"time": ["year", "month"]},
        "t.csv, row 3, column 'month': found '13', which is not a month, quarter or week.",
    ),
    "a 4-4-5 calendar that starts elsewhere": (
        "d,a\n2024-01-29,1\n2024-02-26,2\n",
        {"frequency": "month", "weeks": "4-4-5", "week_ends": "saturday", "stamp": "start"},
        "t.csv, row 2: 2024-01-29 is day 2 of a month of 4-4-5 weeks ending on Saturday, not where one starts. Check weeks, "
        "week_ends, year_starts and year_ends, or stamp.",
    ),
    "fiscal quarters unsaid": (
        "d,a\n2024-02-01,1\n2024-05-01,2\n",
        {},
        "t.csv: no frequency fits the dates 2024-02-01 and 2024-05-01. Give one row for each hour, day, business day, week, month, "
        'quarter or year, or state the frequency. For a quarter of a year that starts elsewhere, state year_starts = "february", '
        "say.",
    ),
    "a delay that is none": (
        "d,a\n2024-01,1\n2024-02,2\n",
        {"release_delay": "soon"},
        "Key 'release_delay': found 'soon'. Give a number of periods, or such as \"21 days\".",
    ),
    "an unknown parameter": (
        "d,a\n2024-01,1\n",
        {"seperator": ";"},
        "Read has no parameter 'seperator'. Did you mean 'separator'?",
    ),
    "an unknown encoding": (
        "d,a\n2024-01,1\n2024-02,1\n",
        {"encoding": "latin-11"},
        "Key 'encoding': found 'latin-11'. Give one such as \"latin-1\".",
    ),
    "gzip cut short": (
        __import__("gzip").compress(("d,a\n" + DAYS * 40).encode())[:-90],
        {},
        "t.csv: the file is not valid gzip. Pack it again.",
    ),
    "wrongly stated UTF-8": (
        "d,ä\n2024-01,1\n2024-02,2\n".encode("latin-1"),
        {"encoding": "utf-8"},
        "t.csv: the text is not UTF-8. State another encoding, or save it as UTF-8.",
    ),
    "only notes": (
        "note\nnothing here\n",
        {},
        "t.csv: no column holds dates. The columns are: note. Dates are best written as 2024-01-31; if the names stand "
        "further down, state header_row.",
    ),
}


def written(tmp_path, text):
    path = tmp_path / "t.csv"
    path.write_bytes(text if isinstance(text, bytes) else text.encode())
    return path


@pytest.mark.parametrize("case", REFUSED)
def test_hostile_tables_end_in_one_message(case, tmp_path):
    text, options, message = REFUSED[case]
    with pytest.raises(of.InputError) as noted:
        table = of.read(written(tmp_path, text), **options)
        table.values("a")
    assert str(noted.value).lower() == message.lower()


#: Name: (text or bytes, options, column, values or None, part of a finding or treatment that must be there).
TAKEN = {
    "decimal commas found": (
        "d;a\n2024-01;1.234,5\n2024-02;7\n",
        {},
        "a",
        [1234.5, 7.0],
        "'1.234,5' is read as 1234.5",
    ),
    "thousands of three kinds": (
        "d;a\n2024-01;1 234,5\n2024-02;12\N{NO-BREAK SPACE}345,25\n2024-03;1'000,5\n",
        {},
        "a",
        [1234.5, 12345.25, 1000.5],
        "is read as 1234.5",
    ),
    "thousands stated": ("d;a\n2024-01;1.234\n2024-02;692\n", {"decimal": ","}, "a", [1234.0, 692.0], None),
    "three decimals after a zero": ("d;a\n2024-01;0.125\n2024-02;1.250\n", {}, "a", [0.125, 1.25], None),
    "words for nothing": (
        "d,a\n2024-01,1\n2024-02,n/a\n2024-03,-\n2024-04,#N/A\n",
        {},
        "a",
        [1.0, np.nan, np.nan, np.nan],
        None,
    ),
    "Latin-1": ("d,höhe\n2024-01,1\n2024-02,2\n".encode("latin-1"), {}, "höhe", [1.0, 2.0], "is read as Latin-1"),
    "UTF-16 without a mark": ("d,a\n2024-01,1\n2024-02,2\n".encode("utf-16-le"), {}, "a", [1.0, 2.0], None),
    "a header further down, stated": (
        "Report\n\nd;a\n2024-01;1\n2024-02;2\n",
        {"header_row": 3},
        "a",
        [1.0, 2.0],
        None,
    ),
    "names with spaces around": (" d , a \n2024-01, 1\n2024-02, 2 \n", {}, "a", [1.0, 2.0], None),
    "rows in another order": ("d,a\n2024-02,2\n2024-01,1\n", {}, "a", [1.0, 2.0], "dates were not sorted"),
    "gaps left": (
        "d,a\n2024-01,1\n2024-03,3\n2024-04,3\n",
        {"gaps": "leave"},
        "a",
        [1.0, np.nan, 3.0, 3.0],
        "has no row",
    ),
    "dates as numbers": ("date,a\n20240101,1\n20240102,2\n", {}, "a", [1.0, 2.0], None),
    "day numbers stated": (
        "d,a\n45292,1\n45293.0,2\n",
        {"time": "d", "time_format": "spreadsheet"},
        "a",
        [1.0, 2.0],
        None,
    ),
    "seconds stated": (
        "d,a\n1704067200,1\n1704070800,2\n",
        {"time": "d", "time_format": "unix", "stamp": "start"},
        "a",
        [1.0, 2.0],
        None,
    ),
    "month names": ("d,a\nJan 2024,1\nFebruary 2024,2\nmar-2024,3\n", {}, "a", [1.0, 2.0, 3.0], None),
    "days with month names": ("d,a\n30 Jan 2024,1\n31 Jan 2024,2\n1 Feb 2024,3\n", {}, "a", [1.0, 2.0, 3.0], None),
    "years of two digits": ("d,a\n30.01.24,1\n31.01.24,2\n01.02.24,3\n", {}, "a", [1.0, 2.0, 3.0], None),
    "year and month apart": ("y,m,a\n2024,Dec,1\n2025,Jan,2\n", {"time": ["y", "m"]}, "a", [1.0, 2.0], None),
    "years side by side": (
        "month,2023,2024\nJan,1,13\nFeb,2,14\n" + "".join(f"{m},{m},\n" for m in range(3, 13)),
        {},
        "value",
        [*map(float, range(1, 13)), 13.0, 14.0],
        "the columns are read as years",
    ),
    "quarters side by side": (
        "year,Q1,Q2,Q3,Q4\n2023,1,2,3,4\n2024,5,6,7,\n",
        {"wide": "a"},
        "a",
        [1.0, 2, 3, 4, 5, 6, 7],
        None,
    ),
    "week 53": ("w,a\n2020-W52,1\n2020-W53,2\n2021-W01,3\n", {}, "a", [1.0, 2.0, 3.0], None),
    "an hour twice, with a zone": (
        "t,a\n" + HOURS,
        {"zone": "Europe/Lisbon", "stamp": "start"},
        "a",
        [0.0, 1, 1, 2, 3],
        None,
    ),
    "a day of 25 hours summed": (
        "t,a\n"
        + "".join(
            f"{stamp.isoformat()},1\n"
            for stamp in pd.date_range("2024-10-26", "2024-10-29", freq="h", tz="Europe/Lisbon", inclusive="left")
        ),
        {"zone": "Europe/Lisbon", "stamp": "start", "aggregate_to": "day", "combine": {"a": "sum"}},
        "a",
        [24.0, 25.0, 24.0],
        None,
    ),
    "half a month at either end": (
        "d,a\n" + "\n".join(DAYS.splitlines()[10:-5]) + "\n",
        MONTHLY,
        "a",
        [870.0],
        "the month is partial",
    ),
    "half a month, kept": (
        "d,a\n" + "\n".join(DAYS.splitlines()[25:-5]) + "\n",
        {**MONTHLY, "partial": "keep"},
        "a",
        [171.0, 870.0, 1053.0],
        "made of what is there",
    ),
    "a hole in a month": (
        "d,a\n" + DAYS.replace("2024-02-10,20\n", "2024-02-10,\n"),
        MONTHLY,
        "a",
        [496.0, np.nan, 1488.0],
        "missing",
    ),
    "fiscal quarters": ("d,a\n2024-02-01,1\n2024-05-01,2\n", {"year_starts": "february"}, "a", [1.0, 2.0], None),
    "4-4-5 months": (
        "d,a\n2023-12-31,1\n2024-01-28,2\n2024-02-25,3\n2024-03-31,4\n",
        {"frequency": "month", "weeks": "4-4-5", "week_ends": "saturday", "stamp": "start"},
        "a",
        [1.0, 2, 3, 4],
        None,
    ),
    "flags in words": ("d,a\n2024-01,true\n2024-02,FALSE\n", {}, "a", [1.0, 0.0], None),
}


@pytest.mark.filterwarnings("error")
@pytest.mark.parametrize("case", TAKEN)
def test_odd_tables_are_read_right_and_say_what_was_assumed(case, tmp_path):
    text, options, column, values, trace = TAKEN[case]
    table = of.read(written(tmp_path, text), **options)
    assert np.array_equal(table.values(column), values, equal_nan=True)
    noted = [finding.message for finding in table.findings]
    noted += [f"{entry.after} {entry.reason}" for entry in table.treatments]
    assert trace is None or any(trace in each for each in noted), noted


def test_the_catalogue_is_long_enough():
    assert len(REFUSED) + len(TAKEN) >= 40


HOSTILE = [
    "=cmd()",
    '"quoted"',
    "<b>&amp;",
    "'; drop table x; --",
    "emoji \N{FERRY}",
    "a.b",
    "\N{RIGHT-TO-LEFT OVERRIDE}x",
]


def test_hostile_names_pass_through_safely(tmp_path, run_cli):
    """As columns, units and labels: through reading, fit, figures, inspect, the study it writes, and every file."""
    days = pd.date_range("2022-01-03", periods=120, freq="7D")
    generator = np.random.default_rng(0)
    drivers = generator.normal(size=(120, len(HOSTILE)))
    sold = 50.0 + 5.0 * drivers.sum(axis=1) + generator.normal(size=120)
    frame = pd.DataFrame({"week": days, "sold": sold} | dict(zip(HOSTILE, drivers.T, strict=True)))
    later = pd.DataFrame(generator.normal(size=(8, len(HOSTILE))), columns=HOSTILE)
    later.insert(0, "week", pd.date_range("2024-04-22", periods=8, freq="7D"))
    frame.to_csv(tmp_path / "t.csv", index=False)
    later.to_csv(tmp_path / "p.csv", index=False)
    study = tmp_path / "d" / "study.toml"
    ran = run_cli("inspect", tmp_path / "t.csv", tmp_path / "p.csv", "--out", tmp_path / "i")
    assert ran.status == 0, ran.err
    ran = run_cli(
        "draft", tmp_path / "t.csv", tmp_path / "p.csv", "--out", tmp_path / "d", "--script", tmp_path / "d.py"
    )
    assert ran.status == 0, ran.err
    compile((tmp_path / "d.py").read_text(), "d.py", "exec")
    changed = study.read_text().replace("# unit = {", "unit = {", 1)
    study.write_text(changed)
    ran = run_cli("explain", study, "--out", tmp_path / "o")
    assert ran.status == 0, ran.err
    rows = pd.read_csv(tmp_path / "o" / "coefficients.csv")
    for name in HOSTILE:
        assert any(name in str(column) for column in rows["column"]), name
    for file in (*(tmp_path / "o").glob("*.csv"), *(tmp_path / "i").glob("*.csv")):
        for line in file.read_text().splitlines():
            assert not any(cell.lstrip('"').startswith("=") for cell in line.split(",")), line
    table = of.read(tmp_path / "t.csv", unit={name: name for name in HOSTILE}, label={name: name for name in HOSTILE})
    terms = [of.Driver(f"data.{name}" if "." in name else name) for name in HOSTILE]
    fit = of.Model("sold", terms=terms).fit(table)
    html = fit._repr_html_() + table._repr_html_() + fit.contributions._repr_html_() + of.inspect(table)._repr_html_()
    assert "<b>&amp;" not in html
    of.figure(fit.contributions)


def test_hostile_ids_name_no_files_and_run_no_formulas(tmp_path, run_cli):
    days = pd.date_range("2024-01-01", periods=20, freq="D").strftime("%Y-%m-%d")
    ids = ["../../up", "=cmd()", "a/b", "CON", "x" * 200, "emoji \N{FERRY}"]
    rows = [(day, name, i + k % 5) for i, name in enumerate(ids) for k, day in enumerate(days)]
    pd.DataFrame(rows, columns=["day", "who", "sold"]).to_csv(tmp_path / "t.csv", index=False)
    study = (
        'format = 1\n[sources.t]\nfile = "t.csv"\nid = "who"\n[target]\ndata = "t.sold"\n[[terms]]\ntype = "trend"\n'
        "[forecast]\nhorizon = 2\n"
    )
    (tmp_path / "s.toml").write_text(study)
    ran = run_cli("forecast", tmp_path / "s.toml", "--out", tmp_path / "deep" / "o")
    assert ran.status == 0, ran.err
    names = sorted(path.name for path in (tmp_path / "deep" / "o").iterdir())
    assert len([name for name in names if name.startswith("fit-")]) == len(ids)
    assert all(len(name) < 100 for name in names)
    assert sorted(path.name for path in tmp_path.iterdir()) == ["deep", "s.toml", "t.csv"]
    assert "'=cmd()," in (tmp_path / "deep" / "o" / "forecast.csv").read_text()
