"""Holidays that lean on their group, days around them, several calendars, and working time, by hand."""

import numpy as np
import pandas as pd
import pytest

import offing as of

DAYS = pd.date_range("2022-01-01", "2024-12-31", freq="D")
NAMES = ["Anchor Day", "Beacon Day", "Castle Day", "Dune Day", "Elder Day"]


def fests(years=range(2022, 2026), names=NAMES, **more):
    """One day a name and year, on the 10th of March, April, …"""
    rows = [(name, f"{year}-{3 + i:02d}-10") for i, name in enumerate(names) for year in years]
    return pd.DataFrame(rows, columns=["name", "date"]).assign(**more)


def noise(spread, seed=1, n=1096):
    return np.random.default_rng(seed).normal(0.0, spread, n)


def flags(table, *names):
    return DAYS.isin(pd.to_datetime(table.loc[table["name"].isin(names), "date"]))


def block(fit, term="holidays"):
    place = [slot.term for slot in fit.layout.slots].index(term)
    return pd.DataFrame(fit.rows.blocks[place].columns, fit.axis.index, fit.rows.blocks[place].names)


def test_partial_pooling_is_the_mixed_model_solution():
    table = fests()
    effects = dict(zip(NAMES, [5.0, 7.0, 6.0, 8.0, 4.0], strict=True))
    made = 50.0 + sum(size * flags(table, name) for name, size in effects.items()) + noise(2.0)
    fit = of.Model("sold", terms=[of.Holidays(table=table)]).fit(pd.Series(made, DAYS, name="sold"))
    ratio = fit.ratios["holidays: holiday"]
    # Dense: y = mean + group + deviations ~ N(0, γ s²) (Henderson 1975).
    own = np.column_stack([flags(table, name) for name in NAMES]).astype(float)
    x = np.column_stack([np.ones(len(DAYS)), own.sum(axis=1)])
    v = np.eye(len(DAYS)) + ratio * own @ own.T
    inverse = np.linalg.inv(v)
    beta = np.linalg.solve(x.T @ inverse @ x, x.T @ inverse @ made)
    deviations = ratio * own.T @ inverse @ (made - x @ beta)
    shown = fit.coefficients.set_index("column")["coefficient"]
    expected = {f"holidays: {name}": beta[1] + d for name, d in zip(NAMES, deviations, strict=True)}
    for column, value in expected.items():
        assert shown[column] == pytest.approx(value, rel=1e-9)
    spread = shown["holidays: holiday, spread"]
    assert spread == pytest.approx(np.sqrt(ratio * fit.estimate.variance))
    alone = of.Model("sold", terms=[of.Holidays(table=table, pooling="none")]).fit(pd.Series(made, DAYS, name="sold"))
    own_means = {name: made[flags(table, name)].mean() - made[~own.any(axis=1)].mean() for name in NAMES}
    free = alone.coefficients.set_index("column")["coefficient"]
    for name, value in own_means.items():
        assert free[f"holidays: {name}"] == pytest.approx(value, rel=1e-9)
        # Drawn to the group: between its own mean and the group's.
        between = sorted([value, shown["holidays: any holiday"]])
        assert between[0] - 1e-9 <= shown[f"holidays: {name}"] <= between[1] + 1e-9


def test_a_holiday_never_seen_leans_on_its_group_and_says_how_little_is_known():
    table = pd.concat([fests(), pd.DataFrame({"name": ["Founding Feast"], "date": ["2025-01-20"]})])
    made = 50.0 + 6.0 * flags(table, *NAMES) + noise(1.0)
    fit = of.Model("sold", terms=[of.Holidays(table=table)]).fit(pd.Series(made, DAYS, name="sold"))
    ahead = fit.forecast(100)
    width = ahead.table["q0.975"] - ahead.table["q0.025"]
    fest, known = pd.Timestamp("2025-01-20"), pd.Timestamp("2025-03-10")
    assert ahead.table.loc[fest, "forecast"] == pytest.approx(56.0, abs=1.0)
    assert width[fest] > width[known] > width[pd.Timestamp("2025-01-21")]
    assert any("'Founding Feast' never fell in the fitted periods" in finding.message for finding in ahead.findings)
    noted = of.holiday_effects(ahead).table.set_index("holiday")
    assert noted.loc["Founding Feast", ["days", "own"]].tolist() == [0.0, 0.0]
    assert (noted.loc[NAMES, "own"] > 0.0).all()
    assert (noted.loc[NAMES, "days"] == 3).all()
    with pytest.raises(of.InputError, match="'Founding Feast' never fell in the fitted periods, so its effect"):
        of.Model("sold", terms=[of.Holidays(table=table, pooling="none")]).fit(
            pd.Series(made, DAYS, name="sold")
        ).forecast(100)


def test_intervals_of_pooled_holidays_cover_as_stated():
    inside = []
    table = fests(names=[f"Day {i}" for i in range(8)], years=range(2022, 2025))
    for seed in range(100):
        generator = np.random.default_rng(seed)
        effects = generator.normal(6.0, 2.0, 8)
        made = 50.0 + sum(e * flags(table, f"Day {i}") for i, e in enumerate(effects)) + noise(2.0, seed + 1000)
        fit = of.Model("sold", terms=[of.Holidays(table=table)]).fit(pd.Series(made, DAYS, name="sold"))
        noted = of.holiday_effects(fit).table.set_index("holiday")
        for i, effect in enumerate(effects):
            inside.append(noted.loc[f"Day {i}", "low"] <= effect <= noted.loc[f"Day {i}", "high"])
    assert 0.92 <= np.mean(inside) <= 0.98


def test_groups_windows_and_weekdays_by_hand():
    table = fests()
    term = of.Holidays(
        table=table,
        groups={"spring": NAMES[:3]},
        days_before=1,
        days_after=2,
        window="shared",
        pooling="full",
        by_weekday=True,
    )
    fit = of.Model("sold", terms=[term]).fit(pd.Series(50.0 + noise(1.0), DAYS, name="sold"))
    columns = block(fit)
    spring = pd.to_datetime(table.loc[table["name"].isin(NAMES[:3]), "date"])
    np.testing.assert_array_equal(columns["holidays: any spring"], DAYS.isin(spring))
    np.testing.assert_array_equal(
        columns["holidays: any spring (1 day before)"], DAYS.isin(spring - pd.Timedelta("1D"))
    )
    np.testing.assert_array_equal(
        columns["holidays: any holiday (2 days after)"],
        DAYS.isin(pd.to_datetime(table.loc[~table["name"].isin(NAMES[:3]), "date"]) + pd.Timedelta("2D")),
    )
    sundays = DAYS.isin(pd.to_datetime(table["date"])) & (DAYS.day_of_week == 6)
    np.testing.assert_array_equal(columns["holidays: any on a Sunday"], sundays)


def test_calendars_count_by_weight_and_half_days_half():
    one = pd.DataFrame(
        {"name": ["Anchor Day", "Beacon Day"], "date": ["2022-03-10", "2022-04-10"], "share": [1.0, 0.5]}
    )
    two = pd.DataFrame({"name": ["Anchor Day"], "date": ["2022-03-10"]})
    later = pd.DataFrame({"name": ["Anchor Day"], "date": ["2024-12-31"]})
    tables = [pd.concat([each, later]) for each in (one, two)]
    term = of.Holidays(
        calendars=[{"table": tables[0], "weight": 3.0}, {"table": tables[1], "weight": 1.0}], pooling="none"
    )
    columns = block(of.Model("sold", terms=[term]).fit(pd.Series(50.0 + noise(1.0), DAYS, name="sold")))
    assert columns.loc["2022-03-10", "holidays: Anchor Day"] == 1.0
    assert columns.loc["2022-04-10", "holidays: Beacon Day"] == 0.375
    weeks = pd.Series(noise(1.0, n=150), pd.date_range("2022-01-03", periods=150, freq="7D"), name="sold")
    weekly = block(of.Model("sold", terms=[term]).fit(weeks))
    assert weekly.loc["2022-04-04", "holidays: Beacon Day"] == pytest.approx(0.375 / 7.0)


def test_bridge_days_and_long_weekends_by_hand():
    # Thursday 2022-05-26; Monday 2022-08-01; Wednesday 2022-11-02; Friday 2023-03-10.
    table = pd.DataFrame(
        {"name": "Fest", "date": ["2022-05-26", "2022-08-01", "2022-11-02", "2023-03-10", "2024-12-31"]}
    )
    term = of.Holidays(table=table, bridge_days=True, before_long_weekend=True, pooling="none")
    columns = block(of.Model("sold", terms=[term]).fit(pd.Series(50.0 + noise(1.0), DAYS, name="sold")))
    # 30 December 2024 is a Monday between a Sunday and a Tuesday off.
    assert columns.index[columns["holidays: bridge day"] == 1.0].strftime("%F").tolist() == ["2022-05-27", "2024-12-30"]
    before = columns.index[columns["holidays: day before a long weekend"] == 1.0].strftime("%F").tolist()
    assert before == ["2022-07-29", "2023-03-09"]


def test_a_day_off_in_all_calendars_is_one():
    table = pd.DataFrame({"name": ["Anchor Day", "Anchor Day"], "date": ["2022-05-26", "2024-12-31"]})
    both = [{"table": table, "weight": 3.0}, {"table": table, "weight": 1.0}]
    term = of.Holidays(calendars=both, bridge_days=True, pooling="none")
    columns = block(of.Model("sold", terms=[term]).fit(pd.Series(50.0 + noise(1.0), DAYS, name="sold")))
    bridges = columns.index[columns["holidays: bridge day"] == 1.0].strftime("%F").tolist()
    assert bridges == ["2022-05-27", "2024-12-30"]


def test_a_one_off_holiday_counts_from_the_day_it_was_known():
    made = 50.0 + 5.0 * flags(fests(), *NAMES) + noise(1.0)
    for known, effect in (("2024-12-20", True), ("2025-01-05", False)):
        once = pd.DataFrame({"name": ["Anchor Day"], "date": ["2025-01-20"], "known_from": [known]})
        table = pd.concat([fests(), once])
        fit = of.Model("sold", terms=[of.Holidays(table=table)]).fit(pd.Series(made, DAYS, name="sold"))
        ahead = fit.forecast(30).table["forecast"]
        assert (ahead[pd.Timestamp("2025-01-20")] > 53.0) == effect


def test_days_unknown_at_the_origin_change_nothing():
    table = fests()
    later = pd.DataFrame(
        {"name": ["Anchor Day", "Beacon Day", "New Feast"], "date": ["2023-05-05", "2025-01-08", "2025-01-09"]}
    )
    both = pd.concat([table, later.assign(known_from="2025-01-05")])
    made = 50.0 + 5.0 * flags(table, *NAMES) + noise(1.0)

    def noted(days):
        terms = [
            of.Season("year", by="quarter", across="kind of day", table=days),
            of.Holidays(table=days, days_before=1, bridge_days=True, by_weekday=True),
        ]
        return of.Model("sold", terms=terms).fit(pd.Series(made, DAYS, name="sold")).forecast(30).table.to_numpy()

    assert np.array_equal(noted(table), noted(both))


def test_school_holidays_are_ranges_and_hours_have_their_days_value():
    table = pd.DataFrame({"name": ["Spring Weeks"], "date": ["2022-01-10"], "until": ["2022-01-23"]})
    hours = pd.date_range("2022-01-08", periods=24 * 30, freq="h")
    load = pd.Series(noise(1.0, n=len(hours)), hours, name="load")
    term = of.Holidays(table=table, pooling="none")
    column = block(of.Model("load", terms=[term]).fit(of.read(load, stamp="start")))["holidays: Spring Weeks"]
    np.testing.assert_array_equal(column, (hours >= "2022-01-10") & (hours < "2022-01-24"))
    months = pd.Series(noise(1.0, n=12), pd.period_range("2022-01", periods=12, freq="M"), name="load")
    monthly = block(of.Model("load", terms=[term]).fit(months))["holidays: Spring Weeks"]
    assert monthly.iloc[0] == pytest.approx(14.0 / 31.0)
    assert not monthly.iloc[1:].any()


def working(counts, months, **more):
    term = of.WorkingTime(counts, **more)
    made = pd.Series(noise(1.0, n=len(months)), months, name="sold")
    fit = of.Model("sold", terms=[term]).fit(made)
    return block(fit, "working time") + 0.0, fit


def test_working_time_by_hand():
    months = pd.period_range("2023-01", periods=26, freq="M")
    off = pd.DataFrame({"name": ["Fest", "Rest"], "date": ["2024-02-29", "2025-12-31"]})
    columns, _ = working(["working days", "leap day", "days"], months, table=off)
    by_hand = [np.busday_count(m.start_time.date(), (m + 1).start_time.date()) for m in months]
    by_hand[13] -= 1  # 29 February 2024 was a Thursday, and off
    np.testing.assert_allclose(columns.iloc[:, 0], by_hand)
    np.testing.assert_allclose(columns.iloc[:, 1], [m.month == 2 and m.year == 2024 for m in months])
    np.testing.assert_allclose(columns.iloc[:, 2], [m.days_in_month for m in months])


def test_easter_moves_between_march_and_april_by_hand():
    # Easter Sundays: 31 March 2024, 20 April 2025, 5 April 2026, 28 March 2027.
    months = pd.period_range("2024-01", periods=40, freq="M")
    columns, _ = working(["easter"], months, easter_days=8)
    column = columns.iloc[:, 0]
    shares = {f"{y}-{m:02d}": column[pd.Timestamp(y, m, 1)] for y in (2024, 2025, 2026, 2027) for m in (3, 4)}
    # The eight days before: 23 to 30 March 2024; 12 to 19 April; 28 March to 4 April 2026; 20 to 27 March 2027.
    expected = {
        "2024-03": 1.0,
        "2024-04": 0.0,
        "2025-03": 0.0,
        "2025-04": 1.0,
        "2026-03": 0.5,
        "2026-04": 0.5,
        "2027-03": 1.0,
        "2027-04": 0.0,
    }
    assert shares == pytest.approx(expected)


def test_the_future_calendar_makes_itself():
    months = pd.period_range("2023-03", periods=24, freq="M")
    _, fit = working(["working days", "leap day"], months)
    ahead = fit.forecast(until="2028-03-15")
    assert ahead.axis.labels()[-1] == "2028-03"
    assert len(ahead.table) == 37
    leap = ahead.rows.blocks[0].columns[:, 1]
    assert [ahead.axis.labels()[i] for i in np.flatnonzero(leap)] == ["2028-02"]
    weeks = pd.date_range("2019-12-30", periods=150, freq="7D")
    sold = pd.Series(50 + noise(1.0, n=150), weeks, name="sold")
    fit = of.Model("sold", terms=[of.Season("year", harmonics=2)]).fit(sold)
    # 2020 and 2026 have a week 53; the frame goes through it without a step.
    ahead = fit.forecast(until="2027-01-10")
    assert (np.diff(ahead.table.index) == np.timedelta64(7, "D")).all()
    assert ahead.table.index[-1] == pd.Timestamp("2027-01-04")
    assert pd.Timestamp("2026-12-28").isocalendar().week == 53
    assert pd.Timestamp("2026-12-28") in ahead.table.index


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (lambda: of.Holidays(table=fests(), country="NO"), "holidays come from a table or from a country"),
        (lambda: of.Holidays(calendars=[{"table": "a.csv", "wait": 1}]), "no key 'wait' in a calendar"),
        (lambda: of.Holidays(calendars=[{"country": "NO", "weight": 0}]), "found the weight 0"),
        (lambda: of.Holidays(table=fests(), half_days=True), "a table says itself which days are half ones"),
        (lambda: of.Holidays(table=fests(), pooling="some"), "Allowed: partial, none, full"),
        (lambda: of.WorkingTime(["workdays"]), "found 'workdays'. Did you mean 'working days'?"),
        (lambda: of.WorkingTime([]), "Give each kind once"),
        (lambda: of.Season("day", kinds={"a": ["monday"]}, across="kind of day"), "Tuesday is of no kind of day"),
        (
            lambda: block(
                of.Model("s", terms=[of.Holidays(table=fests(), groups={"a": ["Anker Day"]})]).fit(
                    pd.Series(noise(1.0), DAYS, name="s")
                )
            ),
            "there is no holiday 'Anker Day'. Did you mean 'Anchor Day'",
        ),
    ],
)
def test_faulty_calendars_are_reported(make, message):
    with pytest.raises(of.InputError, match=message.replace("?", r"\?")):
        make()
