"""Long histories and many series: memory, time and figures in bounds, results the same."""

import tracemalloc

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.model import contributions as module
from test_models import SPECIMENS, weekly


@pytest.mark.parametrize("errors", [None, "ar"])
@pytest.mark.parametrize("kind", SPECIMENS)
def test_contributions_in_parts_are_those_of_the_whole(kind, errors, monkeypatch):
    """Taken apart sixteen weeks at a time, every value and bound is that of the whole history."""
    term, data = SPECIMENS[kind], weekly(140)
    data["kind"] = np.tile(["red", "blue", "blue", "green"], 35)
    data.iloc[50, 1] = np.nan
    scale = "level" if term.multiplies_trend else "log"
    terms = [term, of.Driver("flag", lags=[20]), *([of.Trend()] if scale == "level" else [])]
    if isinstance(term, of.Interaction):
        terms += [of.Driver(name, lags=[13], name=f"late {name}") for name in ("flag", "fare")]
    if errors and any(each.recursive for each in terms):
        return
    fit = of.Model("sold", terms, scale, errors=errors, lower_limit=90.0 if scale == "log" else None).fit(
        data.assign(sold=data["sold"].clip(lower=90.0))
    )
    whole = fit.contributions
    monkeypatch.setattr(module, "_ROWS", 16)
    parts = module.fitted_contributions(fit)
    assert parts.rows == whole.rows
    for key in ("values", "low", "high", "mean"):
        one, other = getattr(parts, key), getattr(whole, key)
        assert np.allclose(one, other, rtol=1e-10, atol=1e-9 * np.nanmax(np.abs(whole.values)), equal_nan=True), key


def test_contributions_of_a_long_history_take_little_memory():
    """Three years of hours and over 200 columns, with related noise: at most five times the design."""
    n = 3 * 8760
    generator = np.random.default_rng(1)
    hours = pd.date_range("2021-01-01", periods=n, freq="h")
    data = pd.DataFrame({"load": 100 + generator.normal(0, 5, n), "temp": generator.normal(10, 5, n)}, hours)
    seasons = [
        of.Season("day", style="dummies", name="hours"),
        of.Season("week", harmonics=80, name="week"),
        of.Season("year", harmonics=18, name="year"),
    ]
    fit = of.Model("load", [of.Trend(), *seasons, of.Driver("temp", lags=[0, 1])], errors="ar").fit(data)
    design = fit.design.nbytes
    assert fit.layout.k > 220
    tracemalloc.start()
    found = fit.contributions
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert np.allclose(found.values.sum(axis=0), fit.means, rtol=1e-10, equal_nan=True)
    assert peak < 5 * design


def many(series, n=48):
    generator = np.random.default_rng(1)
    months = pd.period_range("2018-01", periods=n, freq="M").astype(str)
    return pd.concat(
        [
            pd.DataFrame({"month": months, "product": f"{i:05d}", "sold": 100 + generator.normal(0, 5, n)})
            for i in range(series)
        ]
    )


def test_figures_are_drawn_of_few_series_or_as_stated(tmp_path, run_cli, monkeypatch):
    from offing.study import study_data as study

    assert study.MOST_FIGURES == 12
    monkeypatch.setattr(study, "MOST_FIGURES", 1)
    text = """format = 1
[sources.data]
file = "data.csv"
id = "product"
[target]
data = "data.sold"
[[terms]]
type = "trend"
[forecast]
horizon = 2
"""
    for series, output, drawn in (
        (2, "", False),
        (1, "", True),
        (1, '[output]\nfigures = "none"\n', False),
        (2, '[output]\nfigures = "all"\n', True),
    ):
        many(series).to_csv(tmp_path / "data.csv", index=False)
        (tmp_path / "study.toml").write_text(text + output)
        out = tmp_path / f"out{series}{len(output)}"
        ran = run_cli("fit", tmp_path / "study.toml", "--out", out)
        assert (ran.status, ran.err) == (0, "")
        assert bool(list(out.glob("*.png"))) == drawn
        assert ("No figures are drawn of 2 fits" in ran.out) == (series == 2 and not output)
    many(1).to_csv(tmp_path / "data.csv", index=False)
    (tmp_path / "study.toml").write_text(text + '[output]\nfigures = ["residuals"]\n')
    assert run_cli("fit", tmp_path / "study.toml", "--out", tmp_path / "some").status == 0
    assert {path.name.split("-")[0] for path in (tmp_path / "some").glob("*.png")} == {"residuals"}
    (tmp_path / "study.toml").write_text(text + '[output]\nfigures = ["residual"]\n')
    assert "Did you mean 'residuals'" in run_cli("fit", tmp_path / "study.toml").err


def test_many_series_are_scored_as_each_by_itself():
    data = of.read(many(6), id="product")
    models = [of.Model("sold", [of.Trend()], name="trend"), of.Model("sold", name="mean of all")]
    found = of.backtest(models, data, horizon=3, origins=4)
    alone = of.backtest(models, data["00004"], horizon=3, origins=4)
    rows = found.scores(by="series").query("series == '00004'").drop(columns="series").reset_index(drop=True)
    rows = rows[rows["model"].isin(alone.scores()["model"])].reset_index(drop=True)
    pd.testing.assert_frame_equal(rows, alone.scores(), check_dtype=False)
    assert str(found)
