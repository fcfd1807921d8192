"""The time axis against pandas' periods, the standard library's calendar, and known dates."""

import datetime
import pickle

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import offing as of
from offing.calendar import UNITS, WEEKDAYS, Days, country_days, cycle_of, day_shares

CODES = {"hour": "h", "day": "D", "month": "M", "quarter": "Q", "year": "Y"}
moments = st.datetimes(datetime.datetime(1931, 1, 1), datetime.datetime(2099, 12, 31))


@given(moments, st.sampled_from([unit for unit in UNITS if unit != "business day"]), st.sampled_from(WEEKDAYS))
@settings(max_examples=200, deadline=None)
def test_every_instant_lies_in_the_period_that_pandas_names(moment, unit, closing):
    frequency = of.Frequency(unit, closing)
    axis = of.Axis.between(frequency, moment, moment)
    period = pd.Period(moment, CODES.get(unit, f"W-{closing[:3].upper()}"))
    assert axis.n == 1
    assert axis.index[0] == period.start_time
    assert axis.ends[0] == (period + 1).start_time.as_unit("us").to_datetime64().astype(np.int64)
    assert axis.shifted(-7).after(7).labels()[-1] == axis.shifted(0).labels()[0]


@given(st.dates(datetime.date(1990, 1, 1), datetime.date(2050, 1, 1)))
@settings(max_examples=100, deadline=None)
def test_weeks_of_the_year_are_those_of_iso_8601(day):
    axis = of.Axis.between(of.Frequency("week"), day, day)
    position = cycle_of("year", axis.frequency, "week").positions(axis)[0]
    assert position + 1 == day.isocalendar().week


def test_clock_changes_make_days_of_23_and_25_hours():
    hours = of.Frequency("hour", zone="Europe/Berlin")
    days = {"2024-03-31": 23, "2024-10-27": 25, "2024-06-01": 24}
    for day, length in days.items():
        axis = of.Axis.between(hours, f"{day} 00:00", f"{day} 23:00")
        assert axis.n == length
        assert all(str(stamp)[:10] == day for stamp in axis.index)
    index = pd.date_range("2024-10-26", "2024-10-28", freq="h", tz="Europe/Berlin", inclusive="left")
    table = of.read(pd.Series(np.arange(len(index), dtype=float), index=index, name="load"), stamp="start")
    assert table.axis.n == 49
    assert table.axis.index.equals(index.as_unit("us").rename("period"))
    positions = cycle_of("day", table.axis.frequency).positions(table.axis)
    assert np.bincount(positions[24:]).tolist() == [1, 1, 2, *[1] * 21]


def test_a_doubled_hour_is_its_first_and_a_skipped_one_the_next():
    hours = of.Frequency("hour", zone="Europe/Berlin")
    for clock, instant in {"2024-10-27 02:30": "2024-10-27 00:30", "2024-03-31 02:30": "2024-03-31 01:00"}.items():
        wall = np.array([clock], dtype="datetime64[us]").astype(np.int64)
        assert hours.instants(wall).astype("datetime64[us]").astype(str)[0].startswith(instant.replace(" ", "T"))


def test_days_in_a_zone_start_at_its_midnight():
    axis = of.Axis.between(of.Frequency("day", zone="Europe/Berlin"), "2024-03-30", "2024-04-01")
    assert [stamp.isoformat() for stamp in axis.index] == [
        "2024-03-30T00:00:00+01:00",
        "2024-03-31T00:00:00+01:00",
        "2024-04-01T00:00:00+02:00",
    ]
    assert (np.diff(axis.edges) // 3_600_000_000).tolist() == [24, 23, 24]


def test_phases_and_positions():
    quarters = of.Axis.between(of.Frequency("quarter"), "2023-01-01", "2024-12-31")
    assert cycle_of("year", quarters.frequency).phases(quarters).tolist() == [0.0, 0.25, 0.5, 0.75] * 2
    days = of.Axis.between(of.Frequency("day"), "2024-01-01", "2024-12-31")
    phases = cycle_of("year", days.frequency).phases(days)
    assert phases[0] == pytest.approx(0.5 / 366)
    assert phases[-1] == pytest.approx(365.5 / 366)
    assert cycle_of("month", days.frequency).positions(days)[[0, 30, 31]].tolist() == [0, 30, 0]
    assert cycle_of("quarter", days.frequency, "month").positions(days)[[0, 31, 91]].tolist() == [0, 1, 0]
    assert np.bincount(cycle_of("week", days.frequency).positions(days)).sum() == 366
    assert cycle_of("year", of.Frequency("week")).harmonics_at_most == 26


def test_a_period_counts_the_share_of_its_days():
    fest = Days.of(("Fest",) * 3, np.array([19814, 19815, 19815]), 2024, 2024)  # 2024-04-01, 02, 02 again
    for unit, expected in {"day": 1.0, "week": 2 / 7, "month": 2 / 30, "quarter": 2 / 91, "year": 2 / 366}.items():
        axis = of.Axis.between(of.Frequency(unit), "2024-04-01", "2024-04-01")
        assert day_shares(axis, fest, ("Fest",))[0, 0] == pytest.approx(expected), unit
    hours = of.Axis.between(of.Frequency("hour"), "2024-03-31 22:00", "2024-04-03 01:00")
    assert day_shares(hours, fest, ("Fest", "Other")).sum(axis=0).tolist() == [48.0, 0.0]


def test_country_days_are_named_plainly_in_english():
    days = country_days("NO", None, 2023, 2024)
    named = set(zip(days.names, days.days.astype("datetime64[D]").astype(str), strict=True))
    assert ("Constitution Day", "2024-05-17") in named
    assert ("Good Friday", "2024-03-29") in named
    lieu = country_days("US", None, 2021, 2021)
    independence = [
        str(np.datetime64(int(day), "D"))
        for name, day in zip(lieu.names, lieu.days, strict=True)
        if name == "Independence Day"
    ]
    assert {"2021-07-04", "2021-07-05"} <= set(independence)


@pytest.mark.parametrize(
    ("call", "message"),
    [
        (
            lambda: of.Frequency("fortnight"),
            "found 'fortnight'. Choose from: hour, day, business day, week, month, quarter, year.",
        ),
        (lambda: of.Frequency("week", "sonday"), "no day of the week. Did you mean 'sunday'?"),
        (lambda: of.Frequency("hour", zone="Tern/Island"), "key 'zone': found 'Tern/Island'. Give a zone such as"),
        (lambda: cycle_of("week", of.Frequency("month")), "a cycle of a week cannot be seen in a series by month"),
        (lambda: cycle_of("year", of.Frequency("month"), "day"), "a year by day cannot be resolved"),
        (lambda: country_days("XX", None, 2020, 2021), "Country XX not available"),
        (lambda: country_days("DE", "QQ", 2020, 2021), "does not have subdivision QQ"),
    ],
)
def test_impossible_arguments_are_reported(call, message):
    with pytest.raises(of.InputError) as noted:
        call()
    assert message in str(noted.value)
    again = pickle.loads(pickle.dumps(noted.value))  # noqa: S301  errors cross processes
    assert str(again) == str(noted.value)


def test_years_of_weeks_are_those_that_tables_of_retail_calendars_print():
    """Years ending on the Saturday nearest to 31 January: the long ones are known, and so are their first days."""
    months = of.Frequency("month", "saturday", weeks="4-5-4", year_starts="february", year_ends="nearest")
    years = of.Frequency("year", "saturday", weeks="4-5-4", year_starts="february", year_ends="nearest")
    axis = of.Axis.between(years, "2010-06-01", "2024-06-01")
    weeks = np.diff(axis.edges) // (7 * 86_400_000_000)
    assert {int(str(stamp)[:4]) for stamp, n in zip(axis.index, weeks, strict=True) if n == 53} == {2012, 2017, 2023}
    assert set(weeks.tolist()) == {52, 53}
    assert [str(stamp.date()) for stamp in axis.index[-3:]] == ["2022-01-30", "2023-01-29", "2024-02-04"]
    inner = of.Axis.between(months, "2023-01-29", "2024-02-03")
    assert (np.diff(inner.edges) // (7 * 86_400_000_000)).tolist() == [4, 5, 4] * 3 + [4, 5, 5]
    quarters = of.Frequency("quarter", "saturday", weeks="4-5-4", year_starts="february", year_ends="nearest")
    assert of.Axis.between(quarters, "2023-01-29", "2024-02-03").edges.tolist() == inner.edges[::3].tolist()
    assert cycle_of("year", months).positions(inner).tolist() == list(range(12))
    assert cycle_of("year", months).names[0] == "period 01"


@given(
    st.dates(datetime.date(1985, 1, 1), datetime.date(2060, 1, 1)),
    st.sampled_from(WEEKDAYS),
    st.sampled_from(["january", "february", "july", "october"]),
    st.sampled_from(["last", "nearest"]),
    st.sampled_from(["4-4-5", "4-5-4", "5-4-4"]),
)
@settings(max_examples=150, deadline=None)
def test_months_of_weeks_tile_time_and_end_where_they_are_said_to(day, closing, opening, rule, weeks):
    frequency = of.Frequency("month", closing, weeks=weeks, year_starts=opening, year_ends=rule)
    axis = of.Axis.between(frequency, day, day)
    start, end = (np.datetime64(int(each), "us").astype("M8[D]").item() for each in axis.edges)
    assert start <= day < end
    assert (end - start).days in (28, 35, 42)
    assert WEEKDAYS[(end - datetime.timedelta(days=1)).weekday()] == closing
    year = of.Axis(of.Frequency("year", closing, weeks=weeks, year_starts=opening, year_ends=rule), 0, 1)
    last = np.datetime64(int(year.edges[1]), "us").astype("M8[D]").item() - datetime.timedelta(days=1)
    month_end = datetime.date(
        1971, 1 + ["january", "february", "", "", "", "", "july", "", "", "october"].index(opening), 1
    )
    gap = (month_end - datetime.timedelta(days=1) - last).days
    assert (0 <= gap <= 6) if rule == "last" else (-3 <= gap <= 3)


@given(moments, st.sampled_from(["January", "february", "July", "november"]), st.sampled_from(["quarter", "year"]))
@settings(max_examples=100, deadline=None)
def test_fiscal_periods_are_those_that_pandas_names(moment, opening, unit):
    frequency = of.Frequency(unit, year_starts=opening)
    axis = of.Axis.between(frequency, moment, moment)
    ends = pd.Timestamp(f"1 {opening} 2000") - pd.Timedelta(days=1)
    period = pd.Period(moment, f"{'Q' if unit == 'quarter' else 'Y'}-{ends:%b}".upper())
    assert axis.index[0] == period.start_time
    assert axis.ends[0] == (period + 1).start_time.as_unit("us").to_datetime64().astype(np.int64)
    if unit == "quarter":
        assert axis.labels()[0].endswith(f"Q{period.quarter}")
    assert of.Frequency(**{"unit": unit, "year_starts": frequency.stated.get("year_starts", "january")}) == frequency
