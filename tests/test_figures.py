"""Figures: the numbers behind them, and that nothing in a name can spoil them."""

import io

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.base.palette import FAN, INK, WARM
from offing.draw.contributions import stacks
from offing.draw.style import png
from offing.study import open_study


@pytest.fixture(scope="module")
def ahead(demo_folder):
    return open_study(demo_folder / "study.toml").forecasts["main"]


def test_the_fan_shows_the_quantiles(ahead):
    picture = of.figure(ahead)
    axes = picture.axes[0]
    drawn = {line.get_label(): line for line in axes.get_lines()}
    assert np.array_equal(drawn["forecast (mean)"].get_ydata(), ahead.mean)
    assert drawn["forecast (mean)"].get_color() == WARM
    history = drawn["ferry tickets"]
    assert history.get_color() == INK
    assert np.array_equal(history.get_ydata(), ahead.fit.target[-len(history.get_ydata()) :])
    assert [band.get_label() for band in axes.collections] == ["95 % band", "80 % band", "50 % band"]
    assert len(FAN) == 3
    widest = axes.collections[0].get_paths()[0].vertices[:, 1]
    assert widest.max() == pytest.approx(ahead.table["q0.975"].max())
    assert axes.get_ylabel() == "ferry tickets (tickets)"
    assert "17,167 tickets on average" in picture.texts[0].get_text(), "the title states the finding"


def test_stacks_end_at_the_total(ahead):
    picture = of.figure(ahead.contributions)
    axes = picture.axes[0]
    parts = ahead.contributions.values
    corners = np.array([[path.vertices[:4, 1] for path in term.get_paths()] for term in axes.collections])
    assert np.allclose(corners[:, :, 2] - corners[:, :, 1], parts[1:])
    top = corners.max()
    assert top == pytest.approx((parts[0] + np.maximum(parts[1:], 0.0).sum(axis=0)).max())
    marks = {line.get_label(): line.get_ydata() for line in axes.get_lines()}
    assert np.array_equal(marks["total"], ahead.mean)
    assert np.array_equal(marks["baseline"], parts[0])


def test_long_runs_are_averaged_and_still_add_up(ahead):
    bars = stacks(ahead.fit.contributions)
    assert bars.averaged_by == "month"
    assert len(bars.labels) == 48
    assert np.allclose(bars.baseline + bars.parts.sum(axis=0), bars.total)
    wide = ahead.fit.contributions.wide.dropna()
    middle = wide.index + pd.Timedelta(days=3.5)
    assert np.allclose(bars.total, wide["total"].groupby(middle.strftime("%Y-%m")).mean())


def test_effects_are_drawn_with_their_intervals(ahead):
    effects = of.effects(ahead.fit)
    axes = of.figure(effects).axes[0]
    assert [bar.get_width() for bar in axes.containers[0]] == effects.table["change"].tolist()
    spans = [tuple(line.get_xdata()) for line in axes.get_lines() if line.get_linewidth() == 2.2][::3]
    assert spans == list(zip(effects.table["low"], effects.table["high"], strict=True))


def test_names_are_no_formulas_and_figures_repeat_byte_for_byte():
    index = pd.date_range("2024-01-01", periods=30, freq="D")
    name = r"price $\frac{a}{$ _x^"
    frame = pd.DataFrame({"sold": np.arange(30.0) % 7, name: np.arange(30.0) % 5}, index=index)
    fit = of.Model("sold", terms=[of.Driver(name)]).fit(of.read(frame, unit={"sold": "$"}))
    for result in (fit, fit.contributions, of.effects(fit)):
        first, second = png(of.figure(result)), of.figure(result)._repr_png_()
        assert first[:8] == b"\x89PNG\r\n\x1a\n"
        assert first == second
    of.figure(fit).savefig(buffer := io.BytesIO(), format="svg")
    assert b"<svg" in buffer.getvalue()


def test_no_figure_stays_open(ahead):
    import matplotlib._pylab_helpers as helpers

    of.figure(ahead)
    assert not helpers.Gcf.figs


def test_nothing_to_draw_is_reported(ahead):
    bare = of.Model("sold").fit(ahead.fit.view.sources.tables["tickets"])
    with pytest.raises(of.InputError, match=r"The model has no terms, so there is nothing to stack\."):
        of.figure(bare.contributions)
    with pytest.raises(of.InputError, match=r"The model has no drivers, so there are no effects to draw\."):
        of.figure(of.effects(bare))
    assert of.figure(bare.forecast(3, levels=(0.5, 0.6, 0.7, 0.8, 0.9))).axes


def test_a_trend_shows_path_knots_and_slope_changes(ahead):
    found = of.trend(ahead)
    upper = max(of.figure(found).axes, key=lambda axes: len(axes.get_lines()))
    lines = {line.get_label(): line for line in upper.get_lines()}
    past, future = lines["trend, fitted periods"], lines["trend, forecast"]
    assert np.array_equal(past.get_ydata(), found.value[: ahead.fit.axis.n])
    assert np.array_equal(future.get_ydata(), found.value[ahead.fit.axis.n - 1 :])
    assert lines["knot"].get_ydata().tolist() == [found.value[found.knots[0] - found.axis.first]]
    # Contributions measure the same trend from its last fitted period.
    last = found.value[ahead.fit.axis.n - 1]
    np.testing.assert_allclose(
        np.log(found.value / last),
        ahead.fit.estimate.beta[1:3]
        @ (np.vstack([ahead.fit.design, ahead.design])[:, 1:3] - ahead.fit.design[-1, 1:3]).T,
        atol=1e-12,
    )


def test_a_year_goes_around_and_closes(ahead):
    shape = of.cycle(ahead.fit)
    axes = of.figure(shape).axes[0]
    assert axes.name == "polar"
    line = axes.get_lines()[0]
    course = shape.courses[0]
    assert np.array_equal(line.get_ydata()[:-1], course.value)
    assert line.get_ydata()[-1] == course.value[0]
    np.testing.assert_allclose(line.get_xdata()[:-1], 2.0 * np.pi * course.phase)
    assert np.mean(course.value) == pytest.approx(1.0)


def test_a_week_is_bars_and_two_stretches_stand_beside_each_other():
    days = pd.date_range("2023-01-02", periods=700, freq="D")
    load = 50.0 + np.where(days.day_of_week == 5, np.where(days >= "2024-01-01", 8.0, 4.0), 0.0)
    load = pd.Series(load + np.random.default_rng(1).normal(0.0, 0.5, 700), days, name="load")
    shape = of.cycle(of.Model("load", terms=[of.Season("week", changes=["2024-01-01"])]).fit(load))
    bars = [each for each in of.figure(shape).axes[0].containers if hasattr(each, "patches")]
    heights = [[bar.get_height() for bar in each] for each in bars]
    np.testing.assert_allclose(heights, [course.value for course in shape.courses])
    assert np.argmax(heights[1]) == 5


def test_holidays_and_indices_and_years_are_drawn_as_reported(ahead):
    noted = of.holiday_effects(ahead)
    axes = of.figure(noted).axes[0]
    widths = sorted(bar.get_width() for each in axes.containers for bar in each)
    np.testing.assert_allclose(widths, sorted(100.0 * noted.effect))
    found = of.indices(ahead.fit)
    texts = [text.get_text() for text in of.figure(found).axes[0].texts]
    assert f"{found.index[29]:.3f}" in texts
    assert texts.count("position") == 2, "52 weeks stand in two columns of rows"
    years = of.totals(ahead)
    bars = [bar for each in of.figure(years).axes[0].containers for bar in each]
    drawn = sum(bar.get_height() for bar in bars)
    assert drawn == pytest.approx(years.total.sum())


def test_splits_and_agreed_forecasts_are_drawn(ahead):
    split = of.allocate(ahead, {"2026-Q3": 200_000.0})
    heights = [bar.get_height() for bar in of.figure(split).axes[0].containers[0]]
    assert sum(heights) == pytest.approx(200_000.0)
    reconciled = of.reconcile(ahead, {"2026-Q3": 200_000.0})
    lines = {line.get_label(): line.get_ydata() for line in of.figure(reconciled).axes[0].get_lines()}
    assert np.array_equal(lines["reconciled"], reconciled.mean)
    assert np.array_equal(lines["forecast before"], ahead.mean)


def test_figures_of_judging_show_the_numbers_behind_them():
    """Forecasts of all origins, scores by horizon, candidates origin by origin, coverage, a search, weights, folds."""
    sold = pd.Series(
        100.0 + np.arange(90) + np.random.default_rng(4).normal(0.0, 3.0, 90),
        pd.period_range("2016-01", periods=90, freq="M"),
        name="sold",
    )
    models = [of.Model("sold", name="level $1$"), of.Model("sold", [of.Trend()], name="line")]
    past = of.backtest(models, sold, horizon=3, origins=9, gap=1).combined(method="past errors")
    run = past.own[0]
    axes = of.figure(past).axes[0]
    drawn = [line for line in axes.get_lines() if line.get_color() == WARM]
    assert len(drawn) == 9
    assert np.allclose(np.array([line.get_ydata() for line in drawn]), run.mean)
    by_horizon = of.figure(past.by_horizon("MAE")).axes[0]
    lines = {line.get_label(): line.get_ydata() for line in by_horizon.get_lines()}
    assert np.allclose(lines["line"], past.by_horizon("MAE").table["line"])
    assert {text.get_text() for text in by_horizon.texts} == {run.name for run in past.references if not run.why}
    compared = past.compare()
    axes = of.figure(compared).axes[0]
    names = [label.get_text() for label in axes.get_yticklabels()]
    assert names[::-1] == compared.table["model"].tolist()
    bars = sorted(line.get_xdata()[0] for line in axes.get_lines() if line.get_linewidth() == 2.4)
    assert bars == pytest.approx(sorted(compared.overall))
    noted = past.calibration()
    left, right = of.figure(noted).axes
    reached = noted.table.query("level == 0.8 and horizon != 'all'")["reached"].to_numpy()
    assert np.allclose(left.get_lines()[0].get_ydata(), reached)
    assert [bar.get_height() for bar in right.patches] == noted.histogram[1].tolist()
    found = of.search(models[1], sold, {"window": [None, 40, 60]}, optional=["trend"], horizon=3)
    marks = {line.get_label(): line.get_ydata() for line in of.figure(found).axes[0].get_lines()}
    assert marks["winner, in the search"][0] == found.found
    assert marks["winner, on what was held back"][0] == found.honest
    weights = past.member_weights("past errors").table
    stacked = of.figure(past.member_weights("past errors")).axes[0].patches
    assert [bar.get_height() for bar in stacked[:9]] == pytest.approx(weights.iloc[:, 0].tolist())
    timeline = of.figure(past.timeline)
    assert timeline.axes[0].get_yticklabels()[0].get_text() == f"{past.cuts().origins[0]:%Y-%m-%d}"
    assert "the space between is the gap" in timeline.texts[1].get_text()


def test_a_waterfall_ends_where_the_walk_does_and_small_steps_are_one(ahead):
    walk = of.walk(ahead, "last-year")
    picture = of.figure(walk)
    axes = picture.axes[0]
    bars = [bar for container in axes.containers for bar in container]
    ends, steps = (bars[0], bars[1]), bars[2:]
    assert [bar.get_x() + bar.get_width() for bar in ends] == pytest.approx([walk.start[0], walk.end[0]])
    amounts = [bar.get_width() for bar in steps]
    assert walk.start[0] + sum(amounts) == pytest.approx(walk.end[0])
    assert amounts == sorted(amounts, key=abs, reverse=True), "the largest first"
    # Each step starts where the one before ends.
    where = [bar.get_x() for bar in steps]
    assert where == pytest.approx(walk.start[0] + np.concatenate([[0.0], np.cumsum(amounts)[:-1]]))
    labels = [text.get_text() for text in axes.get_yticklabels()]
    assert (labels[0], labels[-1]) == ("the year before", "forecast")
    assert "229,683" in picture.texts[0].get_text(), "the title states the finding"
    many = [of.Driver("x", name=f"driver {i}", lags=[i]) for i in range(20)]
    data = pd.DataFrame(
        np.random.default_rng(3).normal(50.0, 5.0, (200, 2)),
        columns=["sold", "x"],
        index=pd.date_range("2024-01-01", periods=200, freq="D"),
    )
    plan = pd.DataFrame({"x": 52.0}, pd.date_range("2024-07-19", periods=5, freq="D"))
    crowded = of.figure(of.walk(of.Model("sold", terms=many).fit(data).forecast(5, plan=plan), "mean")).axes[0]
    names = [text.get_text() for text in crowded.get_yticklabels()]
    assert len(names) <= 17
    assert names[-2].endswith("smaller steps")


def test_a_walk_by_month_is_stacked_around_nothing(ahead):
    walk = of.walk(ahead, "last-year", by="month")
    axes = of.figure(walk).axes[0]
    heights = np.array([[bar.get_height() for bar in container] for container in axes.containers])
    assert heights.sum(axis=0) == pytest.approx(walk.change)
    marks = {line.get_label(): line.get_ydata() for line in axes.get_lines()}
    assert np.array_equal(marks["whole change"], walk.change)
    with pytest.raises(of.InputError, match="nothing differs"):
        of.figure(of.walk(ahead, ahead))


def test_scenarios_are_labelled_at_their_lines_ends_and_held_against_the_first(ahead):
    every = [of.Scenario("dear $x", {"fare": of.Shift(percent=8.0)}), of.Scenario("no offers", {"promotion": 0.0})]
    found = of.scenarios(ahead.fit, every, 13, plan=ahead.view.sources.plans["tickets"])
    picture = of.figure(found)
    below, above = picture.axes
    assert {text.get_text() for text in above.texts} == {"as planned", "dear $x", "no offers"}
    assert {text.get_text() for text in below.texts} == {"dear $x", "no offers"}
    lines = [line.get_ydata() for line in above.get_lines() if len(line.get_ydata()) == 13]
    assert len(lines) == 3
    assert np.array_equal(lines[1], found.of("dear $x").mean)
    gaps = [line.get_ydata() for line in below.get_lines() if len(line.get_ydata()) == 13]
    assert np.array_equal(gaps[0], found.differences("dear $x")["difference"])
    single = of.scenarios(ahead.fit, every[:1], 1, plan=ahead.view.sources.plans["tickets"])
    assert of.figure(single).axes[1].get_lines()[1].get_marker() == "D", "one period is a mark and not a line"


def test_changes_of_drivers_are_bars_and_a_year_is_a_calendar(ahead):
    found = of.sensitivity(ahead)
    axes = of.figure(found).axes[0]
    assert [bar.get_width() for container in axes.containers for bar in container] == pytest.approx(list(found.total))
    assert axes.get_yticklabels()[0].get_text() == "promotion\non against off"
    year = of.year_of_days(ahead.fit.contributions, term="season", year=2024)
    cells = of.figure(year).axes[0].images[0].get_array()
    assert cells.shape == (12, 31)
    assert np.ma.masked_invalid(cells).sum() == pytest.approx(np.nansum(year.values))
    assert np.isnan(np.ma.filled(cells, np.nan)[1, 29]), "there is no 30 February"
    # A week's contribution is shared out over its days.
    weeks = ahead.fit.contributions.wide["season"]
    assert year.table.loc["2024-07-01":"2024-07-07", "contribution"].sum() == pytest.approx(weeks.loc["2024-07-01"])


@pytest.mark.parametrize(
    ("n", "frequency", "zone"),
    [
        (5, "D", None),
        (35040, "h", "UTC"),
        (240, "h", "America/Sao_Paulo"),
        (700, "D", "Asia/Kathmandu"),
        (4000, "D", None),
    ],
)
def test_no_span_of_time_makes_matplotlib_warn(n, frequency, zone):
    """Warnings are errors here: zoned and daily series from days to decades."""
    index = pd.date_range("2019-03-30", periods=n, freq=frequency, tz=zone)
    sold = pd.Series(100.0 + np.random.default_rng(1).normal(size=n), index, name="sold")
    fit = of.Model("sold", [of.Trend()]).fit(of.read(sold, stamp="start"))
    for result in (fit, fit.forecast(5), fit.contributions, of.inspect(of.read(sold, stamp="start")).coverage):
        of.figure(result).savefig(io.BytesIO())
