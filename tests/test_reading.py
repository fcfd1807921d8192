"""Reading: what is taken, what is refused, and with which words."""

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.tables import read_days


def written(tmp_path, text, name="t.csv"):
    path = tmp_path / name
    path.write_bytes(text if isinstance(text, bytes) else text.encode())
    return path


GOOD = {
    "weeks": ("week,sold\n2024-01-01,1\n2024-01-08,2\n", {}, "2 weeks from 2024-01-01 to 2024-01-08"),
    "weeks by their end": (
        "d,sold\n2024-01-07,1\n2024-01-14,2\n",
        {"stamp": "end"},
        "2 weeks from 2024-01-01 to 2024-01-08",
    ),
    "weeks to Saturday": (
        "d,sold\n2024-01-06,1\n2024-01-13,2\n",
        {"week_ends": "saturday"},
        "2 weeks from 2023-12-31 to 2024-01-07",
    ),
    "ISO weeks": ("w,sold\n2020-W53,1\n2021-W01,2\n", {}, "2 weeks from 2020-12-28 to 2021-01-04"),
    "days, German": ("d,sold\n30.01.2024,1\n31.01.2024,1\n01.02.2024,2\n", {}, "3 days from 2024-01-30 to 2024-02-01"),
    "days, stated": (
        "d,sold\n01/02/2024,1\n02/02/2024,2\n",
        {"time_format": "%d/%m/%Y"},
        "2 days from 2024-02-01 to 2024-02-02",
    ),
    "days, slashed": ("d,sold\n2024/02/28,1\n2024/02/29,2\n", {}, "2 days from 2024-02-28 to 2024-02-29"),
    "month ends": ("d,sold\n2024-01-31,1\n2024-02-29,1\n2024-03-31,2\n", {}, "3 months from 2024-01 to 2024-03"),
    "end instants": (
        "d,sold\n2024-02-01,1\n2024-03-01,2\n",
        {"stamp": "end"},
        "2 months from 2024-01 to 2024-02",
    ),
    "months": ("d,sold\n2024-01,1\n2024-02,1\n", {}, "2 months from 2024-01 to 2024-02"),
    "quarters": ("d,sold\n2024-Q4,1\n2025-Q1,1\n", {}, "2 quarters from 2024-Q4 to 2025-Q1"),
    "quarter starts": ("d,sold\n2024-01-01,1\n2024-04-01,1\n", {}, "2 quarters from 2024-Q1 to 2024-Q2"),
    "years": ("year,sold\n2020,2034\n2021,2035\n", {}, "2 years from 2020 to 2021"),
    "hours": (
        "t,sold\n2024-01-01 00:00,1\n2024-01-01 01:00,1\n",
        {"stamp": "start"},
        "2 hours from 2024-01-01 00:00 to 2024-01-01 01:00",
    ),
    "hours by their end": (
        "t,sold\n2024-01-01T01:00,1\n2024-01-01T02:00,1\n",
        {"stamp": "end"},
        "2 hours from 2024-01-01 00:00 to 2024-01-01 01:00",
    ),
    "UTC": ("t,sold\n2024-01-01T00:00Z,1\n2024-01-02T00:00Z,2\n", {}, "2 days from 2024-01-01 to 2024-01-02"),
    "a fixed offset": (
        "t,sold\n2024-01-01T00:00+01:00,1\n2024-01-01T01:00+01:00,2\n",
        {"stamp": "start"},
        "2 hours from 2024-01-01 00:00 to 2024-01-01 01:00",
    ),
    "unpadded": ("d,sold\n2024-1-9,1\n2024-1-10,2\n", {}, "2 days from 2024-01-09 to 2024-01-10"),
    "one row, stated": ("d,sold\n2024-01-01,1\n", {"frequency": "month"}, "2024-01"),
    "byte order mark": (b"\xef\xbb\xbfd,sold\n2024-01,1\n2024-02,1\n", {}, "2 months from 2024-01 to 2024-02"),
    "trailing commas": ("d,sold,\n2024-01,1,\n2024-02,1,\n", {}, "2 months from 2024-01 to 2024-02"),
    "blank lines": ("d,sold\n\n2024-01,1\n\n2024-02,1\n\n", {}, "2 months from 2024-01 to 2024-02"),
}


@pytest.mark.parametrize("case", GOOD)
def test_plain_files_are_understood(case, tmp_path):
    text, options, spelt = GOOD[case]
    table = of.read(written(tmp_path, text), **options)
    assert table.axis.spell() == spelt
    assert table.frame.shape == (table.axis.n, 1)
    assert not table.treatments


WEEKS = "week,sold\n2024-01-01,1\n2024-01-08,2\n"
BAD = {
    "empty": ("", {}, "t.csv: the file is empty."),
    "header only": ("week,sold\n", {}, "t.csv: there is a header but no rows."),
    "no dates": (
        "a,b\n1,2\n",
        {},
        "t.csv: no column holds dates. The columns are: a, b. Dates are best written as 2024-01-31; if the names stand "
        "further down, state header_row.",
    ),
    "two date columns": (
        "a,b,c\n2024-01-01,2024-02-01,3\n",
        {},
        "t.csv: 'a' and 'b' both hold dates. Say which one counts: time = \"a\" or time = \"b\".",
    ),
    "unknown time": (WEEKS, {"time": "weak"}, "t.csv, key 'time': there is no column 'weak'. Did you mean 'week'?"),
    "a wrong date": (
        "d,s\n2024-01-30,1\n2024-02-31,2\n2024-02-01,2\n",
        {},
        "t.csv, row 3, column 'd': found '2024-02-31', which is not a date. Write dates as 2024-01-31, or state how "
        'they are written, such as time_format = "%d/%m/%Y".',
    ),
    "a missing date": (
        "d,s\n2024-01-30,1\n,2\n2024-02-01,2\n",
        {},
        "t.csv, row 3, column 'd': the date is missing. Fill it in or remove the row.",
    ),
    "two readings": (
        "d,s\n01/02/2024,1\n02/02/2024,1\n03/02/2024,2\n",
        {},
        "t.csv, column 'd': day first and month first both fit: row 2 '01/02/2024' is 2024-02-01 or 2024-01-02; "
        'row 4 \'03/02/2024\' is 2024-02-03 or 2024-03-02. Say which: time_format = "%d/%m/%Y" or time_format = "%m/%d/%Y".',
    ),
    "wrong format": (
        "d,s\n2024-01-30,1\n2024-01-31,1\n",
        {"time_format": "%d.%m.%Y"},
        "t.csv, row 2, column 'd': found '2024-01-30', which does not follow '%d.%m.%Y'. Write dates as 2024-01-31, "
        'or state how they are written, such as time_format = "%d/%m/%Y".',
    ),
    "doubled": (
        "d,s\n2024-01,1\n2024-02,1\n2024-01,1\n",
        {},
        "t.csv, period 2024-01: rows 2 and 4 both stand for it. Keep one row a period; or, if they are lines to be added "
        'up, state rows = "lines" and how to combine them; if they are several series, name the column that separates them, '
        "as id.",
    ),
    "missing period": (
        "d,s\n2024-01,1\n2024-02,1\n2024-04,1\n2024-06,1\n",
        {},
        "t.csv: 2 months are missing between the first and the last: 2024-03, 2024-05. Add a row for each, with empty "
        'cells where nothing is known, or state gaps = "leave" to have them so.',
    ),
    "irregular": (
        "d,s\n2024-01-01,1\n2024-01-04,1\n2024-01-09,1\n",
        {},
        "t.csv: no frequency fits the dates 2024-01-01 and 2024-01-04. Give one row for each hour, day, business day, "
        "week, month, quarter or year, or state the frequency.",
    ),
    "weeks with a slip": (
        "d,s\n2024-01-01,1\n2024-01-08,1\n2024-01-16,1\n2024-01-22,1\n",
        {},
        "t.csv: no frequency fits the dates 2024-01-16 and 2024-01-22. Give one row for each hour, day, business day, week, month, "
        "quarter or year, or state the frequency.",
    ),
    "quarters of another year": (
        "d,s\n2024-02-01,1\n2024-05-01,1\n",
        {},
        "t.csv: no frequency fits the dates 2024-02-01 and 2024-05-01. Give one row for each hour, day, business day, week, month, "
        "quarter or year, or state the frequency. For a quarter of a year that starts elsewhere, state year_starts = "
        '"february", say.',
    ),
    "one row": (
        "d,s\n2024-01-01,1\n",
        {},
        't.csv: one date alone does not show the frequency. State it, such as frequency = "week".',
    ),
    "Sundays": (
        "d,s\n2024-01-07,1\n2024-01-14,1\n",
        {},
        't.csv: the dates are Sundays, which may open a week or close it. State stamp = "start" or stamp = "end".',
    ),
    "contradicting week": (
        "d,s\n2024-01-07,1\n2024-01-14,1\n",
        {"week_ends": "friday"},
        "t.csv, key 'week_ends': the dates are Sundays, which is not the start or end of weeks ending on Friday.",
    ),
    "changing weekdays": (
        "d,s\n2024-01-07,1\n2024-01-15,1\n",
        {"frequency": "week"},
        't.csv: the dates fall on different days of the week. State the closing day, such as week_ends = "sunday".',
    ),
    "offsets": (
        "d,s\n2024-01-01T00:00+01:00,1\n2024-01-01T01:00+02:00,1\n",
        {},
        "t.csv, column 'd': the offsets from UTC differ ('+01:00', '+02:00'). Name the zone whose clock "
        'changes, zone = "Europe/Lisbon" say, or write all dates with one offset.',
    ),
    "too many cells": (
        "d,s\n2024-01,1\n2024-02,1,000\n",
        {},
        "t.csv, row 3: found 3 cells, the header has 2. Put cells that hold commas in double quotes.",
    ),
    "two columns of one name": (
        "d,s,s\n2024-01,1,2\n",
        {},
        "t.csv, column 's': two columns have this name. Rename one.",
    ),
    "unit of nothing": (
        WEEKS,
        {"unit": {"sould": "t"}},
        "Key 'unit': found 'sould', which is no column of t.csv. Did you mean 'sold'?",
    ),
    "frequency": (WEEKS, {"frequency": "weak"}, "Key 'frequency': found 'weak'. Did you mean 'week'?"),
    "stamp of a day": (
        "d,s\n2024-01-01,1\n2024-01-02,1\n",
        {"stamp": "end"},
        "t.csv, key 'stamp': a date names its own day. Remove stamp.",
    ),
}


@pytest.mark.parametrize("case", BAD)
def test_faults_are_reported_in_full(case, tmp_path):
    text, options, message = BAD[case]
    with pytest.raises(of.InputError) as noted:
        of.read(written(tmp_path, text), **options)
    assert str(noted.value).lower() == message.lower()


CELLS = {
    "text": (
        "x12",
        "t.csv, row 3, column 'sold': found 'x12', which is not a number. Correct the cell, or leave it empty if nothing is known.",
    ),
    "infinite": (
        "inf",
        "t.csv, row 3, column 'sold': found 'inf', which is not finite. Correct the cell, or leave it empty if nothing is known.",
    ),
    "too large": (
        "1e999",
        "t.csv, row 3, column 'sold': found '1e999', which is not finite. Correct the cell, or leave it empty if nothing is known.",
    ),
    "beyond reckoning": (
        "1e200",
        "t.csv, row 3, column 'sold': found '1e200', which is too large. Correct the cell, or leave it empty if nothing is known.",
    ),
    "formula": (
        "=1+1",
        "t.csv, row 3, column 'sold': found '=1+1', which is not a number. Correct the cell, or leave it empty if nothing is known.",
    ),
}


@pytest.mark.parametrize("case", CELLS)
def test_a_wrong_cell_is_reported_when_its_column_is_used(case, tmp_path):
    cell, message = CELLS[case]
    table = of.read(written(tmp_path, f"week,sold,fare\n2024-01-01,1,2\n2024-01-08,{cell},3\n"))
    assert table.values("fare").tolist() == [2.0, 3.0]
    with pytest.raises(of.InputError, match="term 'sold again'"):
        of.Model("fare", terms=[of.Driver("sold", name="sold again")]).fit(table)
    with pytest.raises(of.InputError) as noted:
        of.Model("sold").fit(table)
    assert str(noted.value) == message, "nothing of an earlier error stays"


def test_unsorted_rows_are_sorted_and_logged(tmp_path):
    table = of.read(written(tmp_path, "week,sold\n2024-01-15,3\n2024-01-01,1\n2024-01-08,\n"))
    assert table.values("sold")[[0, 2]].tolist() == [1.0, 3.0]
    assert np.isnan(table.values("sold")[1])
    (entry,) = table.treatments
    assert (entry.source, entry.column, entry.period) == ("t.csv", "week", "2024-01-01")
    assert (entry.before, entry.after) == ("rows in another order", "rows by date")


def test_mondays_are_read_as_starts_and_said_so(tmp_path):
    noted = of.read(written(tmp_path, WEEKS)).findings
    assert [each.message for each in noted] == ["t.csv: the Mondays are read as the first days of weeks."]
    assert not of.read(written(tmp_path, WEEKS), stamp="start").findings


def test_frames_and_series_are_taken_as_they_are():
    values = [1.0, 2.0, np.nan, 4.0]
    for index in (
        pd.period_range("2024-01", periods=4, freq="M"),
        pd.date_range("2024-01-01", periods=4, freq="MS"),
        pd.date_range("2024-01-31", periods=4, freq="ME"),
    ):
        table = of.read(pd.Series(values, index=index, name="sold"))
        assert table.axis.labels() == ["2024-01", "2024-02", "2024-03", "2024-04"]
        assert np.array_equal(table.values("sold"), values, equal_nan=True)
    weeks = of.read(pd.DataFrame({"a": [1, 2]}, index=pd.period_range("2024-01-01", periods=2, freq="W-WED")))
    assert str(weeks.axis.frequency) == "week ending on Wednesday"
    mixed = pd.DataFrame(
        {"flag": [True, False], "many": pd.array([1, None], dtype="Int64"), "text": ["a", "b"]},
        index=pd.date_range("2024-01-01", periods=2, freq="D"),
    )
    before = mixed.copy()
    table = of.read(mixed)
    assert table.values("flag").tolist() == [1.0, 0.0]
    assert np.isnan(table.values("many")[1])
    with pytest.raises(of.InputError, match=r"data, row 1, column 'text': found 'a', which is not a number"):
        table.values("text")
    with pytest.raises(ValueError, match="read-only"):
        table.values("flag")[0] = 7.0
    pd.testing.assert_frame_equal(mixed, before)


@pytest.mark.parametrize(
    ("given", "message"),
    [
        (
            pd.DataFrame({"a": [1.0]}),
            "the index is a RangeIndex, and no column holds dates. Set a DatetimeIndex or a PeriodIndex",
        ),
        (pd.DataFrame({"a": [1.0]}, index=pd.period_range("2024", periods=1, freq="Q-JAN")), "periods of 'Q-JAN' are"),
        (pd.DataFrame(index=pd.period_range("2024", periods=1, freq="M")), "the frame has no rows or no columns"),
        (
            pd.DataFrame({"a": [1.0, 2.0]}, index=pd.DatetimeIndex(["2024-01-01", None])),
            "row 2, column 'index': the date is missing",
        ),
        (3, "Found int. Give the path of a file, a DataFrame or a Series."),
        ("no/such.csv", "There is no file 'no/such.csv'. Check the path."),
    ],
)
def test_other_things_are_refused(given, message):
    with pytest.raises(of.InputError) as noted:
        of.read(given)
    assert message in str(noted.value)


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("name,day\nA,2024-01-01\n", "h.csv: found column 'day'. Choose from: date, until, share, group, known_from."),
        ("name,until\nA,2024-01-01\n", "h.csv: there is no column 'date'. A table of holidays has name, date, until."),
        ("name,date\n,2024-01-01\n", "h.csv, row 2, column 'name': the holiday has no name."),
        (
            "name,date,until\nA,2024-01-05,2024-01-01\n",
            "h.csv, row 2, column 'until': the holiday ends before it starts.",
        ),
    ],
)
def test_faulty_holiday_tables(text, message, tmp_path):
    with pytest.raises(of.InputError) as noted:
        read_days(written(tmp_path, text, "h.csv"))
    assert str(noted.value) == message
