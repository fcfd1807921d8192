"""Treatments: what is asked for is done and logged, nothing else; and nothing after the origin plays a part."""

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.tables.outliers import judge

WEEKS = pd.date_range("2020-01-06", periods=220, freq="7D")


def series(seed=1, n=220):
    generator = np.random.default_rng(seed)
    year = np.exp(0.4 * np.sin(2 * np.pi * np.arange(n) / 52.18) + 0.001 * np.arange(n))
    return 1000.0 * year * np.exp(generator.normal(0.0, 0.04, n))


def table(values, **more):
    return of.read(pd.DataFrame({"sold": values, **more}, index=WEEKS[: len(values)]), stamp="start")


def fitted(values, **said):
    return of.Model("sold", treatments=[of.Treat("sold", **said)]).fit(table(values))


def test_nothing_is_changed_without_being_asked_for():
    values = series()
    values[[50, 51]] = np.nan
    values[100] *= 4.0
    fit = fitted(values)
    assert np.array_equal(fit.target, values, equal_nan=True)
    assert not fit.treatments
    messages = [finding.message for finding in fit.findings]
    assert "'sold' is missing in 2 weeks: 2020-12-21 to 2020-12-28." in messages
    (noted,) = [message for message in messages if "neighbours lead to expect" in message]
    assert noted.startswith(
        "'sold' has 1 value far from what trend, season and neighbours lead to expect: 2021-12-06 ("
    )


@pytest.mark.parametrize(
    ("how", "expected"),
    [
        ("zero", [0.0, 0.0]),
        ("last", [10.0, 10.0]),
        ("linear", [11.0, 12.0]),
        ("same season", [3.0, 4.0]),
    ],
)
def test_fills_follow_their_name(how, expected):
    values = series()
    values[70:74] = [10.0, np.nan, np.nan, 13.0]
    values[19:21] = [3.0, 4.0]
    fit = fitted(values, missing=how)
    assert fit.target[71:73].tolist() == pytest.approx(expected)
    entries = [entry for entry in fit.treatments if entry.reason == f"missing: {how}"]
    assert [entry.before for entry in entries] == ["missing", "missing"]
    assert [entry.period for entry in entries] == ["2021-05-17", "2021-05-24"]
    assert fit.fitted["status"].iloc[71] == "used, treated"


def test_long_runs_stay_missing_and_ends_are_not_filled():
    values = series()
    values[30:36] = np.nan
    values[60] = np.nan
    short = fitted(values, missing="linear")
    assert np.isnan(short.target[30:36]).all()
    assert np.isfinite(short.target[60])
    assert any("Runs of more than 4 are not filled" in finding.advice for finding in short.findings)
    assert np.isfinite(fitted(values, missing="linear", longest=6).target).all()
    ends = table(series(), cold=np.concatenate([[np.nan] * 3, series(2)[3:-3], [np.nan] * 3]))
    model = of.Model("sold", terms=[of.Driver("cold")], treatments=[of.Treat("cold", missing="last")])
    assert model.fit(ends).used.sum() == 214, "neither before the first value nor after the last is anything known"


def test_zeros_mean_what_is_said():
    values = series()
    values[[40, 41, 90]] = 0.0
    with pytest.raises(of.InputError, match="the target is 0 and 2 more values not positive"):
        of.Model("sold", scale="log").fit(table(values))
    (requested,) = [f for f in of.Model("sold").fit(table(values)).findings if f.check == "zeros"]
    assert requested.message == "'sold' is 0 in 3 weeks: 2020-10-12 to 2020-10-19, 2021-09-27."
    assert "closed" in requested.advice
    assert fitted(values, zeros="no sale").target[40] == 0.0
    closed = of.Model("sold", scale="log", treatments=[of.Treat("sold", zeros="closed")]).fit(table(values))
    assert np.isnan(closed.target[[40, 41, 90]]).all()
    assert closed.fitted["status"].iloc[40] == "excluded"
    assert np.isfinite(closed.fitted["fitted"]).all(), "what was excluded still gets a fitted value"
    sold_out = fitted(values, zeros="sold out")
    assert {entry.reason for entry in sold_out.treatments if entry.before == "0"} == {
        "zero: sold out, so the demand is not known"
    }


def test_outliers_are_far_from_the_season_not_from_the_histogram():
    """Each year's Christmas week is high and no outlier; a summer week at the winter's level is one."""
    values = series()
    christmas = np.flatnonzero((WEEKS.month == 12) & (WEEKS.day >= 19) & (WEEKS.day <= 25))
    values[christmas] *= 2.5
    values[120] *= 0.55
    axis = table(values).axis
    assert judge(axis, values).beyond(4.5).tolist() == [120]
    assert values[120] > np.quantile(values, 0.2), "the histogram alone would not find it"
    excluded = fitted(values, outliers="exclude")
    assert np.isnan(excluded.target[120])
    (entry,) = excluded.treatments
    assert entry.reason.startswith("outlier: excluded (score ")
    replaced = fitted(values, outliers="replace")
    assert replaced.target[120] == pytest.approx(values[120] / 0.55, rel=0.12)


def test_a_pulse_for_each_outlier_estimates_its_size():
    values = series()
    values[120] *= 3.0
    frame = table(values)
    terms = [of.Season(harmonics=2), of.Trend()]
    pulse = of.Model("sold", terms, "log", treatments=[of.Treat("sold", outliers="pulse")]).fit(frame)
    without = of.Model("sold", terms, "log", treatments=[of.Treat("sold", outliers="exclude")]).fit(frame)
    row = pulse.coefficients.set_index("term").loc["outliers"]
    assert row["column"] == "outliers: 2022-04-25"
    assert row["low"] < np.log(3.0) < row["high"]
    rest = pulse.coefficients[pulse.coefficients["term"] != "outliers"]["coefficient"]
    assert np.allclose(rest, without.coefficients["coefficient"], rtol=1e-8), "a pulse is an exclusion that is reported"
    assert np.allclose(pulse.contributions.values.sum(axis=0), pulse.fitted["fitted"], rtol=1e-12)
    assert (pulse.forecast(5).contributions.wide["outliers"] == 0.0).all()
    assert pulse.treated.sum() == 1
    of.figure(pulse)
    of.figure(without)


def test_smoothing_looks_back_or_both_ways_but_never_ahead():
    values, cold = series(), np.arange(220.0) ** 1.5
    cold[100] = np.nan
    data = table(values, cold=cold)
    back = of.Model("sold", [of.Driver("cold")], treatments=[of.Treat("cold", smooth=3)]).fit(data)
    assert back.design[50, 1] == pytest.approx(cold[48:51].mean())
    assert np.isnan(back.design[100, 1]), "a mean makes up no missing value"
    assert back.design[101, 1] == pytest.approx(np.nanmean(cold[99:102]))
    plan = pd.DataFrame({"cold": [1.0, 2.0, 3.0]}, index=pd.date_range(WEEKS[-1], periods=4, freq="7D")[1:])
    future = back.forecast(3, plan=plan).design[:, 1]
    assert future == pytest.approx([np.mean([*cold[218:], 1.0]), np.mean([cold[219], 1.0, 2.0]), 2.0])
    both = of.Model("sold", [of.Driver("cold")], treatments=[of.Treat("cold", smooth=3, centred=True)]).fit(data)
    assert both.design[50, 1] == pytest.approx(cold[49:52].mean())
    assert both.design[219, 1] == pytest.approx(cold[218:220].mean()), "at the origin the window is cut"
    assert both.forecast(3, plan=plan).design[2, 1] == pytest.approx(2.0)


HOW = {
    "linear": {"missing": "linear"},
    "same season": {"missing": "same season"},
    "last": {"missing": "last"},
    "zeros": {"zeros": "closed"},
    "exclude": {"outliers": "exclude"},
    "replace": {"outliers": "replace"},
    "pulse": {"outliers": "pulse"},
    "smooth": {"smooth": 5},
    "centred": {"smooth": 5, "centred": True},
}


CASES = [
    (how, column) for how in HOW for column in ("sold", "cold") if column == "cold" or how not in ("smooth", "centred")
]


@pytest.mark.parametrize(("how", "column"), CASES)
def test_treatments_learn_nothing_from_after_the_origin(how, column):
    """Hostile later cells change no bit of the fit; it equals a fit on cut data; a known cell does change it."""
    origin = 180
    sold, cold = series(), series(3)
    for values in (sold, cold):
        values[[20, 21, 90]] = [np.nan, np.nan, 0.0 if how == "zeros" else np.nan]
        values[130] *= 4.0
    model = of.Model("sold", [of.Trend(), of.Driver("cold")], treatments=[of.Treat(column, **HOW[how])])
    late = sold.copy()
    late[origin:] = np.nan

    def fit(later):
        driver = cold.copy()
        driver[origin:] = later
        return model.fit(table(late, cold=driver))

    cut = model.fit(table(sold[:origin], cold=cold[:origin]))
    for later in (1e12, 0.0, np.nan):
        hostile = fit(later)
        assert hostile.estimate.beta.tolist() == cut.estimate.beta.tolist()
        assert [entry for entry in hostile.treatments if entry.reason != "smoothing"] == [
            entry for entry in cut.treatments if entry.reason != "smoothing"
        ]
    changed = sold[:origin].copy()
    changed[origin - 1] *= 1.01
    assert model.fit(table(changed, cold=cold[:origin])).estimate.beta.tolist() != cut.estimate.beta.tolist()


def test_a_release_delay_hides_what_was_not_out():
    values, cold = series(), series(3)
    frame = pd.DataFrame({"sold": values}, index=WEEKS)
    late = {
        "sold": of.read(frame, stamp="start"),
        "weather": of.read(pd.DataFrame({"cold": cold}, index=WEEKS), stamp="start", release_delay="15 days"),
    }
    fit = of.Model("sold", [of.Driver("cold")]).fit(late)
    assert fit.used.sum() == 217
    assert not fit.used[-3:].any(), "15 days after a week's end its value is out: three weeks are not"
    lagged = of.Model("sold", [of.Driver("cold", lags=[3])]).fit(late)
    assert lagged.used[3:].all()
    with pytest.raises(of.InputError, match="the driver has no value there"):
        fit.forecast(2)
    slow = of.Model("sold").fit(of.read(frame, stamp="start", release_delay="2 periods"))
    assert str(slow.forecast(1).origin.date()) == "2024-04-08", "the origin is when the last value was out"


STUDY_LINES = """
[[treatments]]
data = "tickets.sold"
outliers = "exclude"
threshold = 4.0
"""


def test_treatments_are_said_in_the_study_and_logged(run_cli, demo_folder, tmp_path):
    import shutil

    folder = tmp_path / "copy"
    shutil.copytree(demo_folder, folder)
    study = folder / "study.toml"
    rows = pd.read_csv(folder / "tickets.csv")
    rows.loc[[40, 120], "sold"] = [60_000, 60_000]
    rows.to_csv(folder / "tickets.csv", index=False)
    study.write_text(study.read_text().replace("[forecast]", STUDY_LINES + "[forecast]"))
    assert run_cli("forecast", study, "--out", folder / "out").status == 0
    log = pd.read_csv(folder / "out" / "treatments.csv")
    assert log["reason"].str.startswith("outlier: excluded").all()
    assert len(log) == 2, "weeks that holidays and drivers explain are none"
    study.write_text(study.read_text().replace('"exclude"', '"exlude"'))
    ran = run_cli("fit", study)
    assert ran.status == 2
    assert "line" in ran.err
    assert "key 'treatments[1].outliers'" in ran.err


@pytest.mark.parametrize(
    ("call", "message"),
    [
        (lambda: of.Treat("a", missing="spline"), "found 'spline'. Allowed: leave, zero, linear, same season, last."),
        (lambda: of.Treat("a", zeros="none"), "Allowed: no sale, closed, sold out."),
        (lambda: of.Treat("a", outliers="drop"), "Allowed: flag, exclude, replace, pulse."),
        (lambda: of.Treat("a", longest=0), "Give a whole number from 1 on."),
        (lambda: of.Treat("a", threshold=0.0), "Give a number above 0."),
        (lambda: of.Treat(""), "Give a column's name."),
        (
            lambda: of.Model("a", treatments=[of.Treat("a"), of.Treat("a")]),
            "'a' has two treatments. Put them into one.",
        ),
        (lambda: of.Model("a", treatments=["a"]), "which is no treatment"),
        (lambda: fitted(np.zeros(220), zeros="closed"), "no value of the target is left by its treatment"),
        (lambda: of.Model("sold", treatments=[of.Treat("solt")]).fit(table(series())), "Did you mean 'sold'?"),
    ],
)
def test_wrong_arguments_are_reported(call, message):
    with pytest.raises(of.InputError) as noted:
        call()
    assert message in str(noted.value)
