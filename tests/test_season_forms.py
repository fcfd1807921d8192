"""Seasons in every form against textbook arithmetic and known truths, and effects that grow with the trend."""

import numpy as np
import pandas as pd
import pytest

import offing as of

MONTHS = pd.period_range("2016-01", periods=96, freq="M")
TIME = np.arange(96.0)
SHAPE = np.array([-12.0, -8.0, -3.0, 1.0, 4.0, 6.0, 9.0, 8.0, 2.0, -1.0, -2.0, -4.0])


def noisy(spread, seed=3, n=96):
    return np.random.default_rng(seed).normal(0.0, spread, n)


def sold(values, index=MONTHS):
    return pd.Series(values, index, name="sold")


def test_dummies_without_trend_equal_season_averages():
    made = sold(100.0 + np.tile(SHAPE, 8) + noisy(5.0))
    fit = of.Model("sold", terms=[of.Season()]).fit(made)
    averages = made.groupby(made.index.month).mean()
    np.testing.assert_allclose(fit.fitted["fitted"], np.tile(averages, 8), rtol=1e-12)
    np.testing.assert_allclose(of.indices(fit).table["index"], averages - averages.mean(), atol=1e-11)


def test_trend_and_season_on_balanced_data_equal_the_textbook():
    values = 100.0 + 0.4 * TIME + np.tile(SHAPE, 8) + noisy(5.0)
    fit = of.Model("sold", terms=[of.Trend(), of.Season()]).fit(sold(values))
    # Within months: deviations from each month's averages (Frisch & Waugh 1933), written out.
    table, time = values.reshape(8, 12), TIME.reshape(8, 12)
    within_y, within_t = table - table.mean(axis=0), time - time.mean(axis=0)
    slope = (within_y * within_t).sum() / np.square(within_t).sum()
    effects = table.mean(axis=0) - slope * time.mean(axis=0)
    shown = fit.coefficients.set_index("column")["coefficient"]
    assert shown["trend: slope a year"] == pytest.approx(12.0 * slope, rel=1e-12)
    np.testing.assert_allclose(of.indices(fit).table["index"], effects - effects.mean(), atol=1e-10)
    residual = within_y - slope * within_t
    spread = np.sqrt(np.square(residual).sum() / (96 - 13))
    error = fit.coefficients.set_index("column").loc["trend: slope a year", "std_error"]
    assert error == pytest.approx(12.0 * spread / np.sqrt(np.square(within_t).sum()), rel=1e-12)


def test_both_codings_are_one_fit():
    made = sold(100.0 + np.tile(SHAPE, 8) + noisy(2.0))
    plain = of.Model("sold", terms=[of.Trend(), of.Season()]).fit(made)
    coded = of.Model("sold", terms=[of.Trend(), of.Season(reference="January")]).fit(made)
    np.testing.assert_allclose(plain.fitted["fitted"], coded.fitted["fitted"], rtol=1e-12)
    against = of.indices(plain, against="January").table
    shown = coded.coefficients.set_index("column")
    for month in ("February", "July"):
        row = shown.loc[f"season: {month} against January"]
        other = against[against["position"] == month].iloc[0]
        np.testing.assert_allclose(
            row[["coefficient", "low", "high"]].astype(float), other[["index", "low", "high"]].astype(float)
        )
    january = coded.contributions.wide["season"].iloc[::12]
    np.testing.assert_allclose(january, 0.0, atol=1e-10)
    with pytest.raises(of.InputError, match=r"there is no position 'Januar'\. Did you mean 'January'"):
        of.indices(plain, against="Januar")


def test_the_number_of_harmonics_is_chosen_and_reported():
    hits = 0
    for seed in range(40):
        values = 100 + 8 * np.sin(np.pi * TIME / 6) + 5 * np.cos(2 * np.pi * TIME / 6) + noisy(3.0, seed)
        fit = of.Model("sold", terms=[of.Trend(), of.Season(harmonics="chosen")]).fit(sold(values))
        hits += fit.states["season"].harmonics == 2
        assert any("as the Bayesian information criterion chose" in f.message for f in fit.findings)
    assert hits >= 33


@pytest.mark.parametrize("size", [0.0, 1.0])
def test_a_season_is_in_or_out_by_evidence(size):
    kept = 0
    for seed in range(40):
        values = 100.0 + size * np.tile(SHAPE, 8) + noisy(6.0, seed)
        fit = of.Model("sold", terms=[of.Trend(), of.Season(evidence=True)]).fit(sold(values))
        kept += fit.states["season"].whole
        said = "the data are evidence of it" if fit.states["season"].whole else "is left out: the data are no evidence"
        assert any(said in finding.message for finding in fit.findings)
        np.testing.assert_allclose(fit.contributions.values.sum(axis=0), fit.fitted["fitted"])
        fit.forecast(3)
        if not fit.states["season"].whole:
            with pytest.raises(of.InputError, match="'season' was left out: the data are no evidence of it"):
                of.indices(fit)
    assert kept == 40 if size else kept <= 2


def test_any_stated_length_is_a_cycle():
    days = pd.date_range("2018-01-01", periods=1500, freq="D")
    t = np.arange(1500.0)
    made = pd.Series(50 + 6 * np.sin(2 * np.pi * t / 73.5 + 0.4), days, name="sold")
    fit = of.Model("sold", terms=[of.Season("73.5 days", harmonics=1)]).fit(made)
    later = np.arange(1500.0, 1600.0)
    expected = 50 + 6 * np.sin(2 * np.pi * later / 73.5 + 0.4)
    np.testing.assert_allclose(fit.forecast(100).mean, expected, rtol=1e-9)
    assert len(of.cycle(fit).courses[0].value) > 30


def test_a_season_differs_before_and_after_a_date():
    late = TIME >= 48
    values = 100.0 + np.tile(SHAPE, 8) * np.where(late, 2.0, 1.0) + noisy(0.5)
    fit = of.Model("sold", terms=[of.Season(changes=["2020-01-01"])]).fit(sold(values))
    before, after = of.cycle(fit).courses
    assert (before.when, after.when) == ("until 2020-01-01", "from 2020-01-01")
    centred = SHAPE - SHAPE.mean()
    assert np.mean((before.low <= centred) & (centred <= before.high)) >= 0.75
    np.testing.assert_allclose(after.value, 2.0 * centred, atol=1.0)
    np.testing.assert_allclose(fit.forecast(12).mean, 100.0 + SHAPE.mean() * 2 + 2.0 * centred, atol=1.2)


def test_a_drifting_season_follows_and_a_steady_one_stays():
    share = np.repeat(np.linspace(0.0, 1.0, 8), 12)
    other = np.roll(SHAPE, 3)
    moving = 100.0 + np.tile(SHAPE, 8) * (1 - share) + np.tile(other, 8) * share + noisy(1.0)
    last = [of.Model("sold", terms=[of.Season(drift=drift)]).fit(sold(moving)) for drift in (True, False)]
    truth = other + 100.0
    misses = [np.abs(fit.forecast(12).mean - truth).mean() for fit in last]
    assert misses[0] < 0.45 * misses[1]
    steady = of.Model("sold", terms=[of.Season(drift=True)]).fit(sold(100.0 + np.tile(SHAPE, 8) + noisy(1.0)))
    first, final = of.cycle(steady).courses
    assert np.abs(first.value - final.value).max() < 2.0
    # The future may drift on: its intervals are wider than those of a season that cannot.
    width = [fit.forecast(36).table.eval("`q0.975` - `q0.025`") for fit in last]
    assert width[0].iloc[-1] > width[0].iloc[0]
    assert width[1].iloc[-1] == pytest.approx(width[1].iloc[0], rel=1e-9)


def test_hours_by_kind_of_day_and_clock_changes():
    hours = pd.date_range("2023-03-01", "2023-05-01", freq="h", tz="Europe/Lisbon", inclusive="left")
    weekday, clock = hours.day_of_week, hours.hour
    off = pd.DataFrame({"name": ["Founding Day"] * 2, "date": ["2023-04-12", "2023-05-03"]})
    kind = np.where((weekday == 6) | (hours.normalize().tz_localize(None) == "2023-04-12"), 2, weekday == 5)
    made = 40.0 + np.array([0.0, 3.0, 7.0])[kind] + np.where(clock == 7, 9.0, 0.0) * (kind == 0)
    load = pd.Series(made, hours, name="load")
    fit = of.Model("load", terms=[of.Season("day", across="kind of day", table=off)]).fit(of.read(load, stamp="start"))
    assert len(hours) == 61 * 24 - 1  # the night of 26 March has no hour of one o'clock
    np.testing.assert_allclose(fit.fitted["fitted"], made, rtol=1e-12)
    ahead = fit.forecast(until="2023-05-03 23:00")
    expected = [
        40.0 + (7.0 if day.date().isoformat() == "2023-05-03" else 9.0 if day.hour == 7 else 0.0)
        for day in ahead.table.index
    ]
    np.testing.assert_allclose(ahead.mean, expected, rtol=1e-10)
    shape = of.cycle(fit)
    assert shape.kinds == ("workday", "Saturday", "Sunday")
    assert len(shape.courses[0].value) == 72


@pytest.mark.parametrize("kind", ["season", "holidays", "both"])
def test_effects_that_grow_with_the_trend(kind):
    weeks = pd.date_range("2020-01-06", periods=208, freq="7D")
    t = np.arange(208.0)
    fest = np.isin(t % 52, [10, 30])
    level = 100.0 + 1.5 * t
    season = 0.2 * np.sin(2 * np.pi * t / (365.25 / 7)) if kind != "holidays" else 0.0
    bump = 0.9 * fest / 7.0 if kind != "season" else 0.0
    made = level * (1.0 + season + bump) + np.random.default_rng(1).normal(0.0, 2.0, 208)
    days = pd.DataFrame({"name": "Fest", "date": [str(day.date()) for day in weeks[fest]]})
    days = pd.concat([days, pd.DataFrame({"name": ["Fest"], "date": ["2026-01-01"]})])
    terms = [of.Trend()]
    terms += [of.Season("365.25 days", harmonics=1, grows_with="trend", name="season")] if kind != "holidays" else []
    terms += [of.Holidays(table=days, grows_with="trend", pooling="none")] if kind != "season" else []
    fit = of.Model("sold", terms=terms).fit(pd.Series(made, weeks, name="sold"))
    shown = fit.coefficients.set_index("column")
    if kind != "season":
        row = shown.loc["holidays: Fest"]
        assert row["low"] <= 0.9 <= row["high"]
        assert row["std_error"] < 0.05
    if kind != "holidays":
        size = np.hypot(*shown.loc[["season: sin 1", "season: cos 1"], "coefficient"])
        assert size == pytest.approx(0.2, abs=0.005)
    for result in (fit.contributions, fit.forecast(60).contributions):
        np.testing.assert_allclose(result.values.sum(axis=0), result.mean, rtol=1e-12)
    # The solution is stationary: no coefficient can move and lower the sum of squares.
    gradient = fit.design.T @ fit.residual
    size = np.linalg.norm(fit.design, axis=0) * np.linalg.norm(fit.residual)
    assert np.abs(gradient / size).max() < 1e-6


def test_shares_are_of_the_level_and_not_of_the_constant():
    weeks = pd.date_range("2020-01-06", periods=208, freq="7D")
    t = np.arange(208.0)
    generator = np.random.default_rng(2)
    fare = generator.normal(60.0, 4.0, 208)  # far from zero: the constant alone is far below zero
    season = 0.2 * np.sin(2 * np.pi * t / (365.25 / 7))
    sold = (100.0 + 0.5 * t) * (1.0 + season) + 3.0 * (fare - fare.mean()) + generator.normal(0.0, 2.0, 208)
    terms = [of.Trend(), of.Season("365.25 days", harmonics=1, grows_with="trend", name="season"), of.Driver("fare")]
    frame = of.read(pd.DataFrame({"sold": sold, "fare": fare}, weeks), stamp="start")
    fit = of.Model("sold", terms=terms).fit(frame)
    shown = fit.coefficients.set_index("column")
    assert shown.loc["constant", "coefficient"] < -50.0
    sine = shown.loc[[f"season: {kind} 1" for kind in ("sin", "cos")], "coefficient"]
    assert np.hypot(*sine) == pytest.approx(0.2, abs=0.01)
    assert shown.loc["fare", "low"] <= 3.0 <= shown.loc["fare", "high"]
    np.testing.assert_allclose(fit.contributions.values.sum(axis=0), fit.means, rtol=1e-12)
    np.testing.assert_allclose(of.cycle(fit).courses[0].value.max(), 1.2, atol=0.015)
    plan = of.read(
        pd.DataFrame({"fare": np.full(52, 80.0)}, pd.date_range("2024-01-01", periods=52, freq="7D")), stamp="start"
    )
    ahead = fit.forecast(52, plan=plan)
    later = np.arange(208.0, 260.0)
    true = (100.0 + 0.5 * later) * (1 + 0.2 * np.sin(2 * np.pi * later / (365.25 / 7))) + 3.0 * (80.0 - fare.mean())
    np.testing.assert_allclose(ahead.mean, true, atol=6.0)
    np.testing.assert_allclose(ahead.contributions.values.sum(axis=0), ahead.mean, rtol=1e-12)
    with pytest.raises(of.InputError, match="State the shape of 'fare' as a number"):
        of.Model("sold", terms=[*terms[:2], of.Driver("fare", above="estimated")])


def test_growth_is_refused_where_it_means_nothing():
    with pytest.raises(of.InputError, match="on the log scale 'season' grows with the trend by itself"):
        of.Model("sold", terms=[of.Trend(), of.Season(grows_with="trend")], scale="log")
    with pytest.raises(of.InputError, match="cannot be chosen by the data"):
        of.Season(grows_with="trend", evidence=True)


def test_limits_hold_for_forecasts_and_every_quantile():
    values = np.maximum(np.round(6.0 - 0.05 * TIME + np.tile(SHAPE / 4.0, 8) + noisy(1.0)), 0.0)
    model = of.Model("sold", terms=[of.Trend(), of.Season()], lower_limit=0.0, upper_limit=9.0)
    fit = model.fit(sold(values))
    ahead = fit.forecast(36, levels=[0.5, 0.99])
    shown = ahead.table.drop(columns="horizon").to_numpy()
    assert shown.min() == 0.0
    assert shown.max() <= 9.0
    assert (fit.fitted["fitted"] >= 0.0).all()
    assert "adjustment" in ahead.contributions.terms
    np.testing.assert_allclose(ahead.contributions.values.sum(axis=0), ahead.mean, atol=1e-12)
    free = of.Model("sold", terms=[of.Trend(), of.Season()]).fit(sold(values)).forecast(36)
    noted = next(finding for finding in free.findings if finding.check == "below zero")
    assert "state lower_limit = 0" in noted.advice
    with pytest.raises(of.InputError, match="the target is 1, beyond its lower limit 2"):
        of.Model("sold", lower_limit=2.0).fit(sold(values))


def test_a_log_scale_with_an_offset_takes_zeros():
    values = np.maximum(np.round(5.0 + np.tile(SHAPE / 3.0, 8) + noisy(1.0)), 0.0)
    assert (values == 0.0).any()
    with pytest.raises(of.InputError, match="state an offset"):
        of.Model("sold", scale="log").fit(sold(values))
    fit = of.Model("sold", terms=[of.Season()], scale="log", offset=1.0).fit(sold(values))
    logs = np.log(values + 1.0).reshape(8, 12)
    spread = np.square(logs - logs.mean(axis=0)).sum() / (96 - 12)
    np.testing.assert_allclose(fit.fitted["fitted"][:12], np.exp(logs.mean(axis=0) + spread / 2.0) - 1.0, rtol=1e-10)
    ahead = fit.forecast(12)
    np.testing.assert_allclose(ahead.contributions.values.sum(axis=0), ahead.mean, rtol=1e-11)
    assert ahead.table["q0.025"].min() > -1.0
