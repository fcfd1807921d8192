"""Figures: the numbers behind them, and that nothing in a name can spoil them."""

import io

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.draw.contributions import stacks
from offing.draw.style import FAN, INK, WARM, png
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
    assert "16,585 tickets on average" in picture.texts[0].get_text(), "the title states the finding"


def test_stacks_end_at_the_total(ahead):
    picture = of.figure(ahead.contributions)
    axes = picture.axes[0]
    parts = ahead.contributions.values
    bars = np.array([[bar.get_height() for bar in container] for container in axes.containers])
    assert np.allclose(bars, parts[1:])
    top = max(bar.get_y() + bar.get_height() for container in axes.containers for bar in container)
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


def test_nothing_to_draw_is_told(ahead):
    bare = of.Model("sold").fit(ahead.fit.view.sources.tables["tickets"])
    with pytest.raises(of.InputError, match=r"The model has no terms, so there is nothing to stack\."):
        of.figure(bare.contributions)
    with pytest.raises(of.InputError, match=r"The model has no drivers, so there are no effects to draw\."):
        of.figure(of.effects(bare))
    assert of.figure(bare.forecast(3, levels=(0.5, 0.6, 0.7, 0.8, 0.9))).axes
