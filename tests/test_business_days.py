"""Business days as a frequency: the axis against NumPy's own calendar, and every use of it."""

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.calendar import newest_ended

CLOSED = pd.DataFrame({"name": ["Founding Day", "Light Feast"], "date": ["2023-04-07", "2023-12-25"]})


def sold(n=520, noise=1.0, closed=()):
    """Sales of business days: a weekly pattern, a yearly season, holidays left out."""
    days = pd.bdate_range("2022-01-03", periods=n)
    days = days[~days.strftime("%Y-%m-%d").isin(closed)]
    generator = np.random.default_rng(3)
    week = np.array([4.0, 0.0, -1.0, 1.0, 6.0])[days.day_of_week]
    year = 8.0 * np.sin(2 * np.pi * days.day_of_year / 365.25)
    return pd.DataFrame(
        {"day": days.strftime("%Y-%m-%d"), "sold": 100.0 + week + year + noise * generator.normal(size=len(days))}
    )


def test_the_axis_is_that_of_numpys_business_days():
    closed = tuple(np.array(CLOSED["date"].tolist(), dtype="datetime64[D]").astype(np.int64).tolist())
    frequency = of.Frequency("business day", closed=(*closed, closed[0] + 1))
    assert len(frequency.closed) == 2, "a Saturday is closed anyway"
    axis = of.Axis.between(frequency, "2023-04-05", "2023-04-12")
    assert axis.labels() == ["2023-04-05", "2023-04-06", "2023-04-10", "2023-04-11", "2023-04-12"]
    busy = np.busdaycalendar(holidays=CLOSED["date"].tolist())
    long = of.Axis.between(frequency, "2021-02-03", "2026-08-31")
    days = np.arange("2021-02-03", "2026-09-01", dtype="datetime64[D]")
    assert (
        long.starts.astype("datetime64[us]").astype("datetime64[D]") == days[np.is_busday(days, busdaycal=busy)]
    ).all()
    assert (np.diff(np.vstack([long.starts, long.ends]), axis=0) == 24 * 3_600_000_000).all()
    friday = of.Axis.between(frequency, "2023-03-31", "2023-03-31")
    assert of.Axis(of.Frequency("day"), int(newest_ended(of.Frequency("day"), friday)[0]), 1).labels() == ["2023-03-31"]
    sunday = of.Axis.between(of.Frequency("week"), "2023-04-02", "2023-04-02")
    assert of.Axis(frequency, int(newest_ended(frequency, sunday)[0]), 1).labels() == ["2023-03-31"]


def test_days_without_weekends_are_business_days_and_holidays_are_stated(tmp_path):
    frame = sold()
    table = of.read(frame)
    assert table.axis.spell() == "520 business days from 2022-01-03 to 2023-12-29"
    assert table.settings == {"frequency": "business day"}
    assert not of.read(frame, frequency="business day").findings, "what is stated is no note"
    fewer = sold(closed=tuple(CLOSED["date"]))
    with pytest.raises(of.InputError, match=r"2 business days are missing .* If these are holidays, state holidays ="):
        of.read(fewer)
    table = of.read(fewer, frequency="business day", holidays=CLOSED)
    assert table.axis.n == 518
    with pytest.raises(
        of.InputError,
        match=r"row 331, .*2023-04-07 is a Friday and a holiday, no business day|2023-04-07 is a Friday and a holiday",
    ):
        of.read(frame, frequency="business day", holidays=CLOSED)
    with pytest.raises(of.InputError, match="holidays are those on which no business day falls"):
        of.Model("sold").fit(of.read(frame, holidays=CLOSED, frequency="day"))


def test_terms_forecasts_and_backtests_keep_to_business_days():
    table = of.read(sold(closed=tuple(CLOSED["date"])), frequency="business day", holidays=CLOSED)
    model = of.Model("sold", terms=[of.Trend(), of.Season("week"), of.Season("year", harmonics=2)])
    fit = model.fit(table)
    week = fit.coefficients[fit.coefficients["term"] == "season in week"].set_index("column")["coefficient"]
    assert [name.split(": ")[1] for name in week.index] == ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday"]
    assert np.allclose(week, [2.0, -2.0, -3.0, -1.0, 4.0], atol=0.4)
    ahead = fit.forecast(7)
    assert ahead.table.index.strftime("%a %d %b").tolist()[:3] == ["Mon 01 Jan", "Tue 02 Jan", "Wed 03 Jan"]
    assert not set(ahead.table.index.day_of_week) & {5, 6}
    found = of.backtest(model, table, horizon=5, origins=4)
    assert len(found.table) == 4 * 5
    contributions = ahead.contributions.wide
    assert np.allclose(contributions.drop(columns="total").sum(axis=1), ahead.mean)


def test_business_days_add_up_to_months_and_days_to_business_days():
    table = of.read(sold(noise=0.0))
    months = of.aggregate(table, "month", {"sold": "sum"})
    frame = sold(noise=0.0)
    by_hand = frame.groupby(frame["day"].str[:7])["sold"].sum()
    assert np.allclose(months.values("sold"), by_hand)
    daily = pd.DataFrame({"visits": 1.0}, pd.date_range("2023-01-02", "2023-01-29"))
    counted = of.aggregate(of.read(daily), "business day", {"visits": "sum"})
    assert counted.values("visits").tolist() == [1.0, 1.0, 1.0, 1.0, 3.0] * 4, "a weekend counts with its Friday"
    driver = of.Driver("days.visits", combine="last")
    fit = of.Model("shop.sold", terms=[driver, of.Trend()]).fit(
        {
            "shop": of.read(sold(20)[0:20]),
            "days": of.read(pd.DataFrame({"visits": np.arange(28.0) ** 2}, pd.date_range("2022-01-03", periods=28))),
        }
    )
    assert fit.design[:6, 1:].max() > 0.0


def test_a_study_of_business_days_runs(tmp_path, run_cli):
    CLOSED.to_csv(tmp_path / "closed.csv", index=False)
    sold(closed=tuple(CLOSED["date"])).to_csv(tmp_path / "shop.csv", index=False)
    (tmp_path / "study.toml").write_text("""format = 1
[sources.shop]
file = "shop.csv"
frequency = "business day"
holidays = "closed.csv"
[target]
data = "shop.sold"
[[terms]]
type = "season"
cycle = "week"
[forecast]
horizon = 3
""")
    ran = run_cli("forecast", tmp_path / "study.toml", "--out", tmp_path / "out")
    assert ran.status == 0, ran.err
    rows = pd.read_csv(tmp_path / "out" / "forecast.csv")
    assert rows["period"].tolist() == ["2024-01-01", "2024-01-02", "2024-01-03"]
