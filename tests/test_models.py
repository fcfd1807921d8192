"""Models, fits, forecasts and contributions through the public interface."""

from dataclasses import replace

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import offing as of
from offing.terms import TERMS


def weekly(n=120, seed=4, start="2022-01-03"):
    """Weeks of sales with a fare, a flag and the days of a fest."""
    generator = np.random.default_rng(seed)
    index = pd.date_range(start, periods=n, freq="7D")
    fare = 20.0 + np.cumsum(generator.normal(0.0, 0.3, n))
    flag = (generator.random(n) < 0.3).astype(float)
    noise = generator.normal(0.0, 0.05, n)
    sold = np.exp(6.0 + 0.001 * np.arange(n) - 0.5 * np.log(fare) + 0.2 * flag + noise)
    return pd.DataFrame({"sold": sold, "fare": fare, "flag": flag}, index=index)


FESTS = pd.DataFrame(
    {
        "name": ["Fest", "Fest", "Fest", "Fest"],
        "date": ["2022-06-03", "2023-06-13", "2024-05-28", "2025-06-10"],
        "until": ["2022-06-05", "2023-06-15", "2024-05-30", "2025-06-12"],
    }
)


def terms():
    return [
        of.Trend(knots=["2023-01-02"]),
        of.Season("year", harmonics=2),
        of.Holidays(table=FESTS),
        of.Driver("fare", transform=["log"], lags=[0, 2]),
        of.Driver("flag"),
    ]


@pytest.fixture(scope="module")
def data():
    return of.read(weekly(), stamp="start")


@pytest.fixture(scope="module")
def plan():
    later = weekly(146)
    return of.read(later.iloc[120:].drop(columns="sold"), stamp="start", name="plan.csv")


@pytest.mark.parametrize("scale", ["level", "log"])
def test_contributions_add_up_to_every_mean(scale, data, plan):
    fit = of.Model("sold", scale=scale, terms=terms()).fit(data)
    ahead = fit.forecast(26, plan=plan)
    for result, mean in ((ahead.contributions, ahead.table["forecast"]), (fit.contributions, fit.fitted["fitted"])):
        rows = result.table
        assert rows.columns.tolist() == ["period", "term", "contribution", "low", "high"]
        assert rows["term"].unique().tolist() == ["baseline", "trend", "season", "holidays", "fare", "flag"]
        total = rows.groupby("period")["contribution"].sum(min_count=6)
        assert np.allclose(total, mean, rtol=1e-12, atol=0.0, equal_nan=True)
        known = rows.dropna()
        assert (known["low"] <= known["contribution"] + 1e-9).all()
        assert (known["contribution"] <= known["high"] + 1e-9).all()
        assert np.allclose(result.wide.drop(columns="total").sum(axis=1, skipna=False), mean, equal_nan=True)


@pytest.mark.parametrize("scale", ["level", "log"])
@pytest.mark.parametrize("reference", [None, "mean", "zero", 0.25])
def test_contributions_follow_their_definition(scale, reference, data, plan):
    """Written out for every term from the coefficients alone: references, logarithmic mean, standard errors."""
    own = [of.Driver("flag", reference=reference) if each.name == "flag" else each for each in terms()]
    fit = of.Model("sold", scale=scale, terms=own).fit(data)
    ahead = fit.forecast(5, plan=plan)
    beta = fit.coefficients.set_index("column")["coefficient"]
    fare = pd.concat([data.frame["fare"], plan.frame["fare"]])
    logs = np.log(fare.to_numpy())
    # The two lags leave the first two weeks out of the fit, and so out of the mean.
    means = logs[2:120].mean(), logs[:118].mean()
    here = np.arange(120, 125)
    d_fare = beta["log fare"] * (logs[here] - means[0]) + beta["log fare (lag 2)"] * (logs[here - 2] - means[1])
    flags = np.concatenate([data.frame["flag"], plan.frame["flag"]])
    # A flag is measured from zero where nothing else is said.
    start = {None: 0.0, "zero": 0.0, "mean": flags[2:120].mean()}.get(reference, reference)
    d_flag = beta["flag"] * (flags[here] - start)
    years = np.arange(1, 6) * 7 / 365.25
    d_trend = (beta["trend: slope a year"] + beta["trend: slope change at 2023-01-02"]) * years
    found = ahead.contributions.wide
    if scale == "level":
        weight = np.ones(5)
    else:
        mean, base = found["total"].to_numpy(), found["baseline"].to_numpy()
        weight = (mean - base) / np.log(mean / base)
    assert np.allclose(found["fare"], weight * d_fare, rtol=1e-8)
    assert np.allclose(found["flag"], weight * d_flag, rtol=1e-8)
    assert np.allclose(found["trend"], weight * d_trend, rtol=1e-8)
    assert np.allclose(found["holidays"], 0.0)
    rows = ahead.contributions.table
    flag = rows[rows["term"] == "flag"]
    from offing.engine import quantile

    error = fit.coefficients.set_index("column")["std_error"]["flag"]
    half = float(quantile(0.975, fit.estimate.dof)) * error * np.abs(flags[here] - start) * weight
    assert np.allclose(flag["high"] - flag["contribution"], half, rtol=1e-8)


def test_the_trend_can_be_measured_from_elsewhere(data, plan):
    def trend(reference):
        pieces = [of.Trend(knots=["2023-01-02"], reference=reference), of.Driver("flag")]
        return of.Model("sold", terms=pieces).fit(data).forecast(4, plan=plan)

    usual, dated, value, before = (trend(each) for each in (None, "2022-01-05", 0.5, "a year before"))
    beta = usual.fit.coefficients.set_index("column")["coefficient"]
    slope, change = beta["trend: slope a year"], beta["trend: slope change at 2023-01-02"]
    for other in (dated, value, before):
        assert np.allclose(other.mean, usual.mean)
        assert np.allclose(other.contributions.wide.drop(columns="total").sum(axis=1), usual.mean)
    # Measured from the first fitted week, its own value there being nought.
    weeks = np.arange(120, 124) * 7 / 365.25
    assert np.allclose(dated.contributions.wide["trend"], slope * weeks + change * (weeks - 52 * 7 / 365.25))
    assert np.allclose(value.contributions.wide["trend"], dated.contributions.wide["trend"] - 0.5)
    assert np.allclose(before.contributions.wide["trend"], slope + change)
    assert np.ptp(before.contributions.wide["baseline"]) > 0.0


@given(st.integers(0, 2**32 - 1), st.floats(-3.0, 6.0), st.floats(-8.0, 8.0))
@settings(max_examples=25, deadline=None)
def test_units_do_not_matter(seed, power, shift):
    """Rescaling the target or a driver rescales results and changes nothing else; so does the order of terms."""
    frame = weekly(80, seed)
    pieces = [of.Trend(), of.Season("year", harmonics=1), of.Driver("fare"), of.Driver("flag", lags=[0, 1])]
    factor = 10.0**power
    for scale in ("level", "log"):
        usual = of.Model("sold", scale=scale, terms=pieces).fit(frame)
        other = of.Model("sold", scale=scale, terms=pieces[::-1]).fit(
            frame.assign(sold=factor * frame["sold"], fare=2.0 * factor * frame["fare"] + shift)
        )
        assert np.allclose(other.fitted["fitted"], factor * usual.fitted["fitted"], rtol=1e-7, equal_nan=True)
        assert other.statistics.r_squared == pytest.approx(usual.statistics.r_squared, rel=1e-7)
        both = usual.contributions.wide, other.contributions.wide / factor
        assert np.allclose(both[0]["flag"], both[1]["flag"], rtol=1e-5, atol=1e-6, equal_nan=True)


class Peeking(of.Driver):
    """A planted fault: a driver that reads its table past the view, and so past the origin."""

    def block(self, view, axis, state):
        (table,) = view.sources.tables.values()
        block = super().block(view, axis, state)
        return replace(block, columns=block.columns + 1e-12 * np.nanmean(table.values(self.data)))


#: One specimen of every registered kind of term, which needs no plan within 13 weeks.
SPECIMENS = {
    "trend": of.Trend(knots=["2023-01-02"]),
    "season": of.Season("year", harmonics=2),
    "holidays": of.Holidays(table=FESTS),
    "event": of.Event(
        "works", table=pd.DataFrame({"date": ["2022-08-01", "2023-05-01"], "strength": [1.0, 0.5]}), form="step"
    ),
    "driver": of.Driver("fare", transform=["log"], lags=[13, 15]),
    "own-lags": of.OwnLags([1, 3]),
    "category": of.Category("kind"),
    "interaction": of.Interaction(["late flag", "late fare"], shared=True),
    "condition": of.Interaction(["late flag", "late fare"], above=20.0),
    "standardised": of.Driver("fare", transform=[{"mean": 2}, "standardised"], lags=[26]),
    "sums": of.Driver("fare", transform=[{"sum": 3}], lags=[13, 14, 15, 16, 17], lag_degree=2),
    "working-time": of.WorkingTime(["working days", "easter"], country="NO", easter_days=8),
    "found bends": of.Trend(knots="found"),
    "sharp bends": of.Trend(knots="found", at_most=1, knot_every=6),
    "limits": of.Trend(form="saturating", upper="estimated"),
    "polynomial": of.Trend(form="polynomial", degree=2, damping=0.9),
    "chosen season": of.Season(harmonics="chosen", evidence=True),
    "changing season": of.Season(harmonics=1, changes=["2023-01-02"]),
    "growing season": of.Season(harmonics=1, grows_with="trend"),
    "all holidays": of.Holidays(country="NO", days_before=1, by_weekday=True, bridge_days=True),
}


@pytest.mark.parametrize("kind", [*dict.fromkeys([*TERMS, *SPECIMENS]), "peeking"])
def test_nothing_leaks_from_after_the_origin(kind):
    """Hostile later values leave the forecast bitwise the same; known values do change it."""
    term = SPECIMENS.get(kind) or Peeking("fare", lags=[13])
    later = weekly(140)
    frame = later.assign(sold=later["sold"].where(np.arange(140) < 120))
    hostile = frame.copy()
    hostile.loc[hostile.index[120:], ["fare", "flag"]] = [1e9, -1e9]
    scale = "level" if term.multiplies_trend else "log"
    terms = [term, of.Driver("flag", lags=[20]), *([of.Trend()] if scale == "level" else [])]
    if isinstance(term, of.Interaction):
        terms += [of.Driver(name, lags=[13], name=f"late {name}") for name in ("flag", "fare")]
    model = of.Model("sold", scale=scale, terms=terms)
    plan = None
    if kind == "category":
        for each in (later, frame, hostile):
            each["kind"] = np.tile(["red", "blue", "blue", "green"], 35)
        hostile.loc[hostile.index[120:], "kind"] = "grey"
        plan = pd.DataFrame({"kind": ["green", "red"] * 10}, later.index[120:])

    def noted(data):
        ahead = model.fit(data).forecast(13, plan=plan)
        return np.column_stack(
            [ahead.table, ahead.contributions.wide, of.effects(ahead.fit).table["change"].sum() * np.ones(13)]
        )

    usual = noted(frame)
    same = np.array_equal(usual, noted(hostile))
    assert same == (kind != "peeking"), "the planted fault must be seen"
    if kind != "peeking":
        assert np.allclose(usual, noted(later.iloc[:120]), rtol=1e-10, atol=1e-9)
        changed = frame.copy()
        changed.loc[changed.index[110], ["sold", "fare"]] *= 1.01
        assert not np.array_equal(usual, noted(changed))


FREQUENCIES = {"h": 24 * 40, "D": 400, "W-SUN": 160, "M": 60, "Q": 36, "Y": 30}


@given(st.data())
@settings(max_examples=40, deadline=None)
def test_any_model_at_any_frequency_adds_up(data):
    """Random models on random series with gaps: finite forecasts, contributions that add up, ordered quantiles."""
    code = data.draw(st.sampled_from(sorted(FREQUENCIES)))
    n, h = FREQUENCIES[code], data.draw(st.integers(1, 12))
    generator = np.random.default_rng(data.draw(st.integers(0, 2**32 - 1)))
    index = pd.period_range("2001-03-01", periods=n + h, freq=code)
    frame = pd.DataFrame({"a": generator.normal(9.0, 1.0, n + h), "b": generator.random(n + h) < 0.4}, index=index)
    frame["y"] = np.exp(2.0 + 0.1 * frame["a"] + 0.3 * frame["b"] + generator.normal(0.0, 0.2, n + h))
    frame.loc[frame.index[n:], "y"] = np.nan
    frame.loc[frame.index[generator.random(n + h) < 0.05], "y"] = np.nan
    cycles = {
        "h": ["day", "week"],
        "D": ["week", "month", "year"],
        "W-SUN": ["year"],
        "M": ["quarter", "year"],
        "Q": ["year"],
    }
    pieces = [of.Trend()] + [of.Season(cycle) for cycle in cycles.get(code, [])]
    pieces += [
        of.Driver(
            "a",
            lags=data.draw(st.sampled_from([[0], [1], [0, 1, 3]])),
            transform=data.draw(st.sampled_from([[], ["log"]])),
        )
    ]
    pieces += [of.Driver("b")]
    chosen = data.draw(st.lists(st.sampled_from(pieces), unique_by=id))
    fit = of.Model("y", scale=data.draw(st.sampled_from(["level", "log"])), terms=chosen).fit(
        of.read(frame, later_rows="plan")
    )
    ahead = fit.forecast(h + n - fit.axis.n - (fit.axis.first - of.read(frame).axis.first))
    assert np.isfinite(ahead.table).all(axis=None)
    assert (np.diff(ahead.table.drop(columns=["horizon", "forecast"]), axis=1) > 0.0).all()
    for result, mean in ((ahead.contributions, ahead.mean), (fit.contributions, fit.fitted["fitted"])):
        assert np.allclose(result.values.sum(axis=0), mean, rtol=1e-11, equal_nan=True)
    residual = np.where(fit.used, fit.fitted["residual"], 0.0)
    if fit.model.scale == "level":
        assert (
            np.abs(np.nan_to_num(fit.design).T @ residual).max()
            < 1e-8 * np.abs(np.nan_to_num(fit.design)).sum(axis=0).max()
        )
    assert str(fit)
    assert str(ahead)


def test_later_rows_serve_as_declared():
    later = weekly(140)
    frame = later.assign(sold=later["sold"].where(np.arange(140) < 120))
    model = of.Model("sold", terms=[of.Driver("fare", lags=[1])])
    expected = model.fit(frame.iloc[:120]).forecast(13, plan=frame.iloc[120:][["fare"]])
    for mark in ("plan", "actual"):
        ahead = model.fit(of.read(frame, stamp="start", later_rows=mark)).forecast(13)
        assert np.array_equal(ahead.mean, expected.mean)
        assert ahead.drivers["mark"].tolist() == ["actual"] + 12 * [mark], "a lag needs the last outcome first"
    declared = of.read(frame, stamp="start", later_rows="actual", name="t.csv")
    known = model.fit(declared).forecast(13, plan=frame.iloc[120:][["fare"]] * 7.0)
    assert np.array_equal(known.mean, expected.mean), "a plan never replaces an actual value"
    with pytest.raises(of.InputError) as noted:
        model.fit(of.read(frame, stamp="start", name="t.csv")).forecast(13)
    assert str(noted.value) == (
        "period 2024-04-22, term 'fare': the driver has no value there, and in 12 more weeks of the forecast. t.csv has a "
        'value there, after the target\'s last one: say what such rows are, later_rows = "plan" or "actual".'
    )


def test_a_plan_continues_its_table(data):
    """One row suffices, closing days are understood, and what was assumed about its dates is reported."""
    fit = of.Model("sold", terms=[of.Driver("fare")]).fit(data)
    for day in ("2024-04-22", "2024-04-28"):
        one = pd.DataFrame({"fare": [20.0]}, index=pd.DatetimeIndex([day]))
        assert fit.forecast(1, plan=one).drivers["value"].tolist() == [20.0]
    with pytest.raises(of.InputError, match="which is not the start or end of weeks ending on Sunday"):
        fit.forecast(1, plan=pd.DataFrame({"fare": [20.0]}, index=pd.DatetimeIndex(["2024-04-24"])))
    hours = pd.date_range("2024-01-01", periods=50, freq="h", tz="Europe/Berlin")
    load = pd.DataFrame({"load": np.arange(50.0) % 7, "cold": np.arange(50.0) % 5}, index=hours)
    fit = of.Model("load", terms=[of.Driver("cold")]).fit(of.read(load, stamp="end"))
    assert fit.axis.labels()[0] == "2023-12-31 23:00"
    later = pd.DataFrame({"cold": [1.0, 2.0]}, index=pd.date_range(hours[-1], periods=2, freq="h"))
    ahead = fit.forecast(2, plan=later)
    assert [finding.check for finding in ahead.findings if finding.severity == "note"] == ["stamp"]
    with pytest.raises(of.InputError) as noted:
        fit.forecast(1, plan=later.tz_localize(None))
    assert "its frequency is the hour, the target's is the hour in Europe/Berlin" in str(noted.value)


def test_missing_targets_and_drivers_are_left_out(data):
    frame = weekly()
    frame.iloc[[10, 50], 0] = np.nan
    frame.iloc[30, 1] = np.nan
    fit = of.Model("sold", terms=[of.Driver("fare", lags=[0, 1])]).fit(frame)
    status = fit.fitted["status"]
    assert status.iloc[[0, 10, 30, 31, 50]].tolist() == [
        "driver missing",
        "target missing",
        "driver missing",
        "driver missing",
        "target missing",
    ]
    assert np.isfinite(fit.fitted["fitted"].iloc[[10, 50]]).all()
    assert np.isnan(fit.fitted["fitted"].iloc[[0, 30, 31]]).all()
    assert fit.statistics.rows == 115
    design = np.column_stack([np.ones(119), frame["fare"][1:], frame["fare"].to_numpy()[:-1]])
    used = np.isfinite(design).all(axis=1) & frame["sold"][1:].notna().to_numpy()
    expected = np.linalg.lstsq(design[used], frame["sold"].to_numpy()[1:][used], rcond=None)[0]
    assert np.allclose(fit.estimate.beta, expected, rtol=1e-9)
    noted = [each.message for each in fit.findings if each.check == "unknown drivers"]
    assert noted == ["3 weeks are left out of the fit because 'fare' is not known there (2022-01-03, …)."]


def test_quantiles_come_from_students_t(data, plan):
    model = of.Model("sold", scale="log", terms=terms())
    ahead = model.fit(data).forecast(6, plan=plan, levels=(0.9,))
    assert ahead.table.columns.tolist() == ["horizon", "forecast", "q0.05", "q0.5", "q0.95"]
    fit, rows = ahead.fit, ahead.design
    used = fit.design[fit.used]
    variance = fit.estimate.variance
    spread = np.sqrt(variance * (1.0 + np.einsum("ij,jk,ik->i", rows, np.linalg.pinv(used.T @ used), rows)))
    from scipy.stats import t

    for name, share in (("q0.05", 0.05), ("q0.5", 0.5), ("q0.95", 0.95)):
        expected = np.exp(rows @ fit.estimate.beta + t.ppf(share, fit.estimate.dof) * spread)
        assert np.allclose(ahead.table[name], expected, rtol=1e-9)
    assert np.allclose(ahead.table["forecast"], ahead.table["q0.5"] * np.exp(variance / 2.0))
    assert ahead.sentence.startswith(
        "Each week's outcome lies between q0.05 and q0.95 with 90 % probability, if the drivers"
    )
    joined = ahead.with_history()
    assert len(joined) == 126
    assert joined["forecast"].notna().sum() == 6


def test_the_figures_of_a_fit_follow_their_definitions(data):
    for scale in ("level", "log"):
        fit = of.Model("sold", scale=scale, terms=terms()).fit(data)
        sold = data.values("sold")[2:]
        fitted = fit.fitted["fitted"].to_numpy()[2:]
        y = np.log(sold) if scale == "log" else sold
        residual = y - (np.log(fitted) - fit.estimate.variance / 2.0 if scale == "log" else fitted)
        n, k = 118, len(fit.layout.names)
        found = fit.statistics
        assert (found.rows, found.columns) == (n, k)
        assert found.residual_deviation == pytest.approx(np.sqrt(residual @ residual / (n - k)))
        assert found.r_squared == pytest.approx(1.0 - residual.var() / y.var())
        assert found.adjusted_r_squared == pytest.approx(1.0 - (residual @ residual / (n - k)) / y.var(ddof=1))
        assert found.mae == pytest.approx(np.abs(sold - fitted).mean())
        assert found.mape == pytest.approx((np.abs(sold - fitted) / sold).mean())
    zeros = data.frame.assign(sold=np.arange(120.0))
    assert np.isnan(of.Model("sold").fit(zeros).statistics.mape)
    assert "miss by 30 on average, where the mean is 59.5." in str(of.Model("sold").fit(zeros))
    level = of.Model("sold", terms=[of.Driver("flag")]).fit(zeros)
    assert np.isnan(of.effects(level).table["share"]).all(), "no share of a target that can be zero"
    assert "%" not in of.effects(level).lines[0].replace("95 %", "")
    assert of.figure(of.effects(level)).axes


def test_labels_units_and_notes_reach_people():
    table = of.read(
        weekly(),
        stamp="start",
        unit={"sold": "boats", "fare": "EUR"},
        label={"sold": "rowing boats", "fare": "mean fare"},
        note="counted by hand",
    )
    fit = of.Model("sold", terms=[of.Driver("fare"), of.Driver("flag")]).fit(table)
    text = str(fit)
    assert text.startswith("rowing boats (boats): 120 weeks from 2022-01-03 to 2024-04-15, 120 of them fitted;")
    assert "mean fare  " in text
    assert " EUR" in text
    assert "Source: data, counted by hand." in text
    assert "mean fare" in str(fit.contributions)
    drawn = [text.get_text() for text in of.figure(fit.contributions).axes[0].get_legend().get_texts()]
    assert drawn == ["mean fare", "flag", "baseline", "total"]
    assert "Source: data, counted by hand." in of.figure(fit).texts[1].get_text()


def test_exact_and_left_out_are_said_soberly():
    """Rounding errors are no noise, and a driver that cannot be separated from another has no effect of its own."""
    frame = weekly().assign(twin=lambda rows: 2.0 * rows["flag"] + 1.0, sold=lambda rows: 3.0 + 2.0 * rows["flag"])
    fit = of.Model("sold", terms=[of.Driver("flag"), of.Driver("twin")]).fit(of.read(frame, stamp="start"))
    assert [finding.check for finding in fit.findings] == ["identity", "dependent columns"]
    assert of.effects(fit).table["driver"].tolist() == ["flag"]
    assert "left out" in str(fit)
    line = pd.Series(0.1 * np.arange(200.0), pd.period_range("2000-01", periods=200, freq="M"), name="y")
    assert of.Model("y", terms=[of.Trend(), of.Season(harmonics=2)]).fit(line).findings[0].check == "exact fit"


def test_season_dummies_sum_to_zero_and_show_every_position():
    index = pd.period_range("2020-01", periods=48, freq="M")
    generator = np.random.default_rng(1)
    sold = pd.Series(generator.normal(50.0, 5.0, 48), index=index, name="sold")
    fit = of.Model("sold", terms=[of.Season()]).fit(sold)
    season = fit.coefficients[fit.coefficients["term"] == "season"]
    means = sold.groupby(index.month).mean()
    assert season["coefficient"].tolist() == pytest.approx((means - means.mean()).tolist())
    assert season["coefficient"].sum() == pytest.approx(0.0, abs=1e-9)
    # Balanced months: every effect has the variance s² (1/4)(1 - 1/12), the last like the rest.
    expected = np.sqrt(fit.estimate.variance * 0.25 * (11 / 12))
    assert season["std_error"].tolist() == pytest.approx([expected] * 12)
    ahead = fit.forecast(12)
    assert ahead.mean.tolist() == pytest.approx(means.tolist())


def test_dependent_columns_are_named_and_left_out():
    index = pd.period_range("2020-01", periods=60, freq="M")
    days = pd.DataFrame({"name": "Jubilee", "date": [f"{year}-05-17" for year in range(2020, 2027)]})
    sold = pd.Series(np.random.default_rng(1).normal(50.0, 5.0, 60), index=index, name="sold")
    fit = of.Model("sold", terms=[of.Season(), of.Holidays(table=days)]).fit(sold)
    row = fit.coefficients.set_index("column").loc["holidays: Jubilee"]
    assert row["status"] == "left out"
    assert np.isnan(row["coefficient"])
    (finding,) = fit.findings
    assert finding.term == "holidays"
    assert finding.message.startswith("Left out 'holidays: Jubilee': in the fitted periods 'holidays: Jubilee' is a")
    # Every later May holds the day too: the forecast does not need to separate them.
    assert np.isfinite(fit.forecast(12).mean).all()


def test_a_future_that_parts_what_the_past_never_parted_is_refused():
    frame = weekly().assign(twin=lambda rows: rows["flag"])
    fit = of.Model("sold", terms=[of.Driver("flag"), of.Driver("twin")]).fit(frame)
    later = weekly(130).iloc[120:]
    same = fit.forecast(10, plan=later.assign(twin=later["flag"])[["flag", "twin"]])
    assert np.isfinite(same.mean).all()
    with pytest.raises(of.InputError) as noted:
        fit.forecast(10, plan=later.assign(twin=1.0 - later["flag"])[["flag", "twin"]])
    assert "the effect of 'twin' could not be separated from other columns" in str(noted.value)
    assert "Remove the term 'twin'" in str(noted.value)


def test_holidays_that_the_table_does_not_show_are_errors(data, plan):
    short = FESTS.iloc[:3]
    fit = of.Model("sold", terms=[of.Holidays(table=short)]).fit(data)
    assert fit.forecast(30).axis.n == 30
    with pytest.raises(
        of.InputError, match=r"the table of holidays ends in 2024, but .* reach into 2025. Add the days"
    ):
        fit.forecast(60)
    new = pd.concat([FESTS, pd.DataFrame({"name": ["Gala"], "date": ["2024-07-01"], "until": ["2024-07-01"]})])
    fit = of.Model("sold", terms=[of.Holidays(table=new)]).fit(data)
    with pytest.raises(of.InputError, match="'Gala' never fell in the fitted periods, so its effect is unknown"):
        fit.forecast(13)
    fit = of.Model("sold", terms=[of.Holidays(table=new, ignore=["Gala"], days_before=2)]).fit(data)
    assert fit.forecast(13).axis.n == 13
    assert fit.layout.names[1:] == [
        "holidays: Fest",
        "holidays: Fest (1 day before)",
        "holidays: Fest (2 days before)",
    ]
    with pytest.raises(
        of.InputError, match=r"key 'ignore', term 'holidays': there is no holiday 'Gale'. Did you mean 'Gala'"
    ):
        of.Model("sold", terms=[of.Holidays(table=new, ignore=["Gale"])]).fit(data)
    late = of.Model("sold", terms=[of.Holidays(table=FESTS.iloc[1:])]).fit(data)
    assert "holiday table" in [each.check for each in late.findings]


def test_effects_carry_transformations_and_lags_through(data):
    fit = of.Model("sold", scale="log", terms=terms()).fit(data)
    table = of.effects(fit).table.set_index("driver")
    beta = fit.coefficients.set_index("column")["coefficient"]
    low, high = np.quantile(data.frame["fare"][2:], [0.1, 0.9])
    elasticity = beta["log fare"] + beta["log fare (lag 2)"]
    assert table.loc["fare", "share"] == pytest.approx((high / low) ** elasticity - 1.0)
    assert table.loc["flag", "share"] == pytest.approx(np.exp(beta["flag"]) - 1.0)
    assert (table.loc["flag", "at_low"], table.loc["flag", "at_high"]) == (0.0, 1.0)
    assert table.loc["flag", "share_low"] < table.loc["flag", "share"] < table.loc["flag", "share_high"]


def test_findings_about_noise_and_range(data, plan):
    generator = np.random.default_rng(0)
    noise = np.zeros(120)
    for i in range(1, 120):
        noise[i] = 0.8 * noise[i - 1] + generator.normal()
    drifting = weekly().assign(sold=50.0 + noise)
    noted = {each.check: each for each in of.Model("sold").fit(drifting).findings}
    assert "too narrow" in noted["autocorrelation"].advice
    fit = of.Model("sold", terms=[of.Driver("fare")]).fit(data)
    dear = fit.forecast(3, plan=plan.frame.assign(fare=99.0)[["fare"]])
    (finding,) = [each for each in dear.findings if each.check == "beyond the range"]
    assert finding.message.startswith("In 3 weeks of the forecast 'fare' lies outside what was fitted (up to 99;")


WRONG = {
    "no target": (lambda d: of.Model("sould").fit(d), "There is no column 'sould' in data. Did you mean 'sold'?"),
    "no driver": (
        lambda d: of.Model("sold", terms=[of.Driver("far")]).fit(d),
        "term 'far': there is no column 'far' in data. Did you mean 'fare'?",
    ),
    "all missing": (
        lambda d: of.Model("sold").fit(d.frame.assign(sold=np.nan)),
        "data, column 'sold': the target has no values.",
    ),
    "zero on the log scale": (
        lambda d: of.Model("sold", scale="log").fit(d.frame.assign(sold=np.arange(120.0) - 1.0)),
        "data, period 2022-01-03, column 'sold': the target is -1 and 1 more value not positive, of which there is no "
        'logarithm. Use scale = "level", or correct the values.',
    ),
    "log of a flag": (
        lambda d: of.Model("sold", terms=[of.Driver("flag", transform=["log"])]).fit(d),
        "column 'flag', term 'flag': found 0, of which there is no logarithm. Leave out transform, or correct the value.",
    ),
    "more columns than rows": (
        lambda d: of.Model("sold", terms=[of.Season("year", harmonics=20)]).fit(d.frame.iloc[:30]),
        "Key 'terms': the terms make 41 columns with the constant, but only 30 weeks of 30 can be used.",
    ),
    "as many columns as rows": (
        lambda d: of.Model("sold", terms=[of.Season("year", harmonics=14)]).fit(d.frame.iloc[:29]),
        "data: 29 rows cannot estimate 29 columns and the noise. Use fewer terms or more data.",
    ),
    "too many harmonics": (
        lambda d: of.Model("sold", terms=[of.Season("year", harmonics=30)]).fit(d),
        "Key 'harmonics', term 'season': a series by week determines at most 26 harmonics of a year apart.",
    ),
    "season too short": (
        lambda d: of.Model("sold", terms=[of.Season("week")]).fit(d),
        "Key 'cycle', term 'season in week': a cycle of a week cannot be seen in a series by week. Longer cycles are: month, quarter, year.",
    ),
    "knot outside": (
        lambda d: of.Model("sold", terms=[of.Trend(knots=["2021-01-01"])]).fit(d),
        "Key 'knots', term 'trend': 2021-01-01 lies before the fitted 120 weeks from 2022-01-03 to 2024-04-15. Remove it.",
    ),
    "reserved name": (
        lambda d: of.Driver("fare", name="baseline"),
        "Key 'name': 'baseline' is the name of a row of the results and cannot name a term.",
    ),
    "two of a name": (
        lambda d: of.Model("sold", terms=[of.Season(), of.Season()]),
        "Key 'terms': two terms are called 'season'. Give one of them another name.",
    ),
    "no horizon": (lambda d: of.Model("sold").fit(d).forecast(), "Key 'horizon': a forecast needs either a horizon or"),
    "horizon 0": (lambda d: of.Model("sold").fit(d).forecast(0), "found 0. Give a whole number of periods from 1 on."),
    "until the past": (
        lambda d: of.Model("sold").fit(d).forecast(until="2020-01-01"),
        "Key 'until': 2020-01-01 lies before the end of the data, 2024-04-15.",
    ),
    "level 95": (lambda d: of.Model("sold").fit(d).forecast(2, levels=[95]), "Give probabilities between 0 and 1."),
    "no plan": (
        lambda d: of.Model("sold", terms=[of.Driver("fare")]).fit(d).forecast(4),
        "period 2024-04-22, term 'fare': the driver has no value there, and in 3 more weeks of the forecast. Give a plan "
        "table with a column 'fare'.",
    ),
    "plan too short": (
        lambda d: (
            of.Model("sold", terms=[of.Driver("fare")])
            .fit(d)
            .forecast(
                4, plan=pd.DataFrame({"fare": [1.0, 2.0]}, index=pd.date_range("2024-04-22", periods=2, freq="7D"))
            )
        ),
        "period 2024-05-06, term 'fare': the driver has no value there, and in 1 more week of the forecast. plan ends with "
        "2024-04-29: add rows, or forecast fewer periods.",
    ),
    "plan without the column": (
        lambda d: (
            of.Model("sold", terms=[of.Driver("fare")])
            .fit(d)
            .forecast(
                2, plan=pd.DataFrame({"fair": [1.0, 2.0]}, index=pd.date_range("2024-04-22", periods=2, freq="7D"))
            )
        ),
        "Add a column 'fare' to plan.",
    ),
    "plan of another frequency": (
        lambda d: (
            of.Model("sold", terms=[of.Driver("fare")])
            .fit(d)
            .forecast(2, plan=pd.DataFrame({"fare": [1.0, 2.0]}, index=pd.period_range("2024-04", periods=2, freq="M")))
        ),
        "plan, column 'fare', term 'fare': its frequency is the month, the target's is the week ending on Sunday.",
    ),
    "no table and no country": (lambda d: of.Holidays(), "Key 'table': holidays come from a table or from a country."),
    "no figure": (lambda d: of.figure(3), "There is no figure of a int."),
}


@pytest.mark.parametrize("case", WRONG)
def test_wrong_input_gives_one_clear_message(case, data):
    call, message = WRONG[case]
    with pytest.raises(of.InputError) as noted:
        call(data)
    assert message.lower() in str(noted.value).lower()


def test_results_show_themselves_in_notebooks_with_names_escaped():
    nasty = "<script>alert(1)</script>"
    frame = weekly().rename(columns={"fare": nasty, "sold": "<b>sold"})
    fit = of.Model("<b>sold", terms=[of.Driver(nasty)]).fit(of.read(frame, unit={nasty: "<i>"}, note="<u>"))
    ahead = fit.forecast(
        2,
        plan=pd.DataFrame(
            {nasty: [20.0, 20.0]}, index=frame.index[-1:].shift(7, "D").append(frame.index[-1:].shift(14, "D"))
        ),
    )
    for result in (fit, ahead, ahead.contributions, of.effects(fit), of.read(frame, note="<u>")):
        shown = result._repr_html_()
        assert "<table" in shown
        assert not any(tag in shown for tag in ("<script", "<b>", "<i>", "<u>"))


def test_what_is_mostly_zero_is_measured_from_zero_through_all_its_forms():
    """A promotion that is carried over takes nothing from weeks that never had one, whatever its shape."""
    generator = np.random.default_rng(5)
    weeks = pd.date_range("2021-01-04", periods=150, freq="W-MON")
    promotion = (generator.uniform(size=150) < 0.2).astype(float)
    carried = np.zeros(150)
    for i in range(150):
        carried[i] = promotion[i] + (0.5 * carried[i - 1] if i else 0.0)
    data = pd.DataFrame({"sold": 100.0 + 20.0 * carried + generator.normal(size=150), "promotion": promotion}, weeks)
    for carry in (0.5, "estimated"):
        fit = of.Model("sold", terms=[of.Driver("promotion", carry_over=carry)]).fit(data)
        wide = fit.contributions.wide
        assert wide["promotion"].to_numpy()[5:].min() > -0.1  # what was carried in is a coefficient of its own
        assert wide["baseline"].to_numpy() == pytest.approx(np.full(150, 100.0), abs=1.0)
        assert wide["promotion"].to_numpy()[5:] == pytest.approx(20.0 * carried[5:], abs=2.5)
        assert "flags and mostly-zero drivers at 0" in str(fit.contributions)
        # In one week alone it adds a half of what it adds in all of them.
        (effect,) = of.effects(fit).effects
        assert effect.once == pytest.approx(effect.change / 2.0, rel=0.05)
        assert "in one week alone +20" in str(of.effects(fit))
    usual = of.Model("sold", terms=[of.Driver("promotion", carry_over=0.5, reference="mean")]).fit(data)
    assert usual.contributions.wide["promotion"].mean() == pytest.approx(0.0, abs=0.2)
    assert usual.fitted["fitted"].to_numpy() == pytest.approx(
        of.Model("sold", terms=[of.Driver("promotion", carry_over=0.5)]).fit(data).fitted["fitted"].to_numpy(),
        rel=1e-12,
    )


def test_the_sensitivity_of_a_flag_is_on_against_off():
    months = pd.period_range("2021-01", periods=48, freq="M")
    offer = np.tile([0.0, 0.0, 1.0], 16)
    data = pd.DataFrame({"sold": 50.0 + 8.0 * offer + np.tile([1.0, -1.0], 24), "offer": offer}, months)
    ahead = (
        of.Model("sold", terms=[of.Driver("offer")])
        .fit(data)
        .forecast(
            4, plan=pd.DataFrame({"offer": [0.0, 1.0, 0.0, 0.0]}, pd.period_range("2025-01", periods=4, freq="M"))
        )
    )
    found = of.sensitivity(ahead)
    assert found.changes == ("on against off",)
    assert found.total == pytest.approx([4 * 8.0], abs=0.5)
    assert found.by_period[0] == pytest.approx(np.full(4, 8.0), abs=0.2)


@pytest.mark.parametrize("reference", ["median", True, float("nan"), [1]])
def test_a_reference_is_a_known_word_or_a_number(reference):
    with pytest.raises(of.InputError, match=r'Give "mean", "zero" or a number\.'):
        of.Driver("fare", reference=reference)
