"""Back-tests: origins, bases, references, scores, forecasts made elsewhere, workers."""

from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from multiprocessing import get_context

import numpy as np
import pandas as pd
import pytest
from scipy.stats import norm
from scipy.stats import t as student

import offing as of
from offing.engine import ranked_probability
from offing.evaluation.fold_results import PROBABILITIES
from test_models import weekly


def monthly(n=96, seed=1, name="sold"):
    generator = np.random.default_rng(seed)
    t = np.arange(n)
    values = 200.0 + t + 20.0 * np.sin(2.0 * np.pi * t / 12.0) + generator.normal(0.0, 4.0, n)
    return pd.Series(values, pd.period_range("2015-01", periods=n, freq="M"), name=name)


SEASONAL = of.Model("sold", [of.Trend(), of.Season("year", harmonics=2)], name="seasonal")


def test_origins_are_where_they_are_asked_for():
    sold = monthly()
    found = of.backtest(SEASONAL, sold, horizon=3, origins=4, every=2, gap=1)
    cuts = found.cuts()
    assert cuts.ends.tolist() == [86, 88, 90, 92]
    assert cuts.horizons.tolist() == [2, 3, 4]
    assert cuts.rows[0].tolist() == [87, 88, 89]
    assert found.timeline.table["forecast_from"].dt.strftime("%Y-%m").tolist()[0] == "2022-04"
    dated = of.backtest(SEASONAL, sold, horizon=3, origins=["2022-07-01", "2021-12-15"])
    assert dated.cuts().ends.tolist() == [83, 90], "in time's order; half of December is not known"
    from_day = of.backtest(SEASONAL, sold, horizon=6, first_origin="2021-01-01", every=6)
    assert from_day.cuts().ends.tolist() == [72, 78, 84, 90]
    single = of.backtest(SEASONAL, sold, horizon=12, origins=1)
    assert single.cuts().ends.tolist() == [84]
    usual = of.backtest(SEASONAL, sold, horizon=6)
    assert usual.cuts().ends.tolist() == [48, 54, 60, 66, 72, 78, 84, 90], "by default half is left to learn from"


def test_windows_slide():
    """A fit of a sliding window is that of the cut data, and the references see the window too."""
    sold = monthly()
    found = of.backtest(SEASONAL, sold, horizon=2, origins=3, window=48)
    for fold, end in enumerate(found.cuts().ends):
        ahead = SEASONAL.fit(sold.iloc[end - 48 : end]).forecast(2)
        assert np.allclose(found.own[0].mean[fold], ahead.mean, rtol=1e-10)
    mean = next(run for run in found.references if run.name == "mean")
    end = int(found.cuts().ends[0])
    assert mean.mean[0, 0] == pytest.approx(sold.iloc[end - 48 : end].mean())
    windowed = of.Model("sold", SEASONAL.terms, window=48)
    assert windowed.fit(sold).axis.n == 48


@pytest.mark.parametrize(
    ("options", "message"),
    [
        ({"horizon": 0}, "key 'horizon': found 0. Give a whole number from 1 on."),
        ({"horizon": 3, "origins": 60}, "60 origins, 3 periods apart, reach back before the target's first value"),
        ({"horizon": 3, "origins": ["2035-01-01"]}, "no outcome of a forecast made on 2035-01-01 is known"),
        ({"horizon": 3, "origins": ["2001-01-01"]}, "nothing of the target was known on 2001-01-01"),
        ({"horizon": 3, "origins": ["then"]}, "found 'then', which is not a date"),
        ({"horizon": 3, "origins": ["2020-01-01"], "every": 2}, "the origins are listed"),
        ({"horizon": 3, "basis": "ex-nunc"}, 'found \'ex-nunc\'. Give "ex-post" or "ex-ante".'),
        (
            {"horizon": 3, "planned": ["sold"], "basis": "ex-ante"},
            "'sold' is the target, whose later values are unknown",
        ),
        (
            {"horizon": 3, "planned": ["sould"], "basis": "ex-ante"},
            "There is no column 'sould' in data. Did you mean 'sold'?",
        ),
        ({"horizon": 96}, "a horizon of 96 leaves nothing to learn from. Give a smaller one."),
        ({"horizon": 3, "first_origin": "2022-12-01"}, "no origin has all its outcomes in the data"),
    ],
)
def test_what_is_asked_wrongly_is_reported(options, message):
    with pytest.raises(of.InputError) as error:
        of.backtest(SEASONAL, monthly(), **options)
    assert message in str(error.value)


def test_names_of_references_are_taken():
    with pytest.raises(of.InputError, match="'mean' is the name of a plain reference"):
        of.backtest(of.Model("sold", name="mean"), monthly(), horizon=3)


def test_ex_post_only_periods_that_lack_a_driver_are_not_scored():
    """A gap after an origin: filled where a treatment says so, else this forecast alone is missing; and reported."""
    data = weekly(120)
    data.iloc[107, 1] = np.nan
    model = of.Model("sold", [of.Driver("fare"), of.Driver("flag")])
    found = of.backtest(model, data, horizon=6, origins=3, every=6, basis="ex-post")
    (run,) = found.own
    rows = run.cuts.rows
    assert np.isnan(run.mean).tolist() == (rows == 107).tolist()
    whole = of.backtest(model, data.fillna(0.0), horizon=6, origins=3, every=6, basis="ex-post").own[0]
    before = rows[:, -1] < 107
    assert np.array_equal(run.mean[before], whole.mean[before])
    assert "1 forecast of 'main' could not be made" in str(found)
    assert len(found.parts.query("model == 'main'")) == 17
    filled = of.Model("sold", model.terms, treatments=[of.Treat("fare", missing="linear")])
    (bridged,) = of.backtest(filled, data, horizon=6, origins=3, every=6, basis="ex-post").own
    fold, at = (int(each[0]) for each in np.nonzero(rows == 107))
    middle = data["fare"].iloc[[106, 108]].mean()
    fit = filled.fit(data.iloc[: rows[fold, 0]])
    plan = data[["fare", "flag"]].iloc[rows[fold]].fillna(middle)
    assert bridged.mean[fold] == pytest.approx(fit.forecast(6, plan=plan).mean, rel=1e-9)
    assert np.isfinite(bridged.mean).all()
    assert at == rows[fold].tolist().index(107)
    lagged = of.Model("sold", [of.OwnLags([1]), of.Driver("fare")])
    (recursive,) = of.backtest(lagged, data, horizon=6, origins=3, every=6, basis="ex-post").own
    assert np.isnan(recursive.mean[fold]).tolist() == (rows[fold] >= 107).tolist(), "later ones rest on it"
    # The last period has neither a driver nor an outcome: the others are forecast and scored.
    cut = weekly(120)
    cut.iloc[119] = np.nan
    origins = [f"{cut.index[114]:%Y-%m-%d}"]
    assert np.isfinite(of.backtest(model, cut, horizon=6, origins=origins, basis="ex-post").own[0].mean[0, :5]).all()


def test_a_knot_after_an_origin_is_not_there_yet():
    """Each fold has the knots before its end: the same as models with these alone; a note reports the others."""
    sold = monthly()
    model = of.Model("sold", [of.Trend(knots=["2017-01-01", "2019-06-01"])])
    found = of.backtest(model, sold, horizon=2, origins=["2019-05-01", "2020-05-01"])
    (run,) = found.own
    for fold, (day, knots) in enumerate((("2019-05-01", ["2017-01-01"]), ("2020-05-01", ["2017-01-01", "2019-06-01"]))):
        by_hand = of.Model("sold", [of.Trend(knots=knots)]).fit(sold, as_of=day)
        assert np.allclose(run.mean[fold], by_hand.forecast(2).mean, rtol=1e-10)
    early = model.fit(sold, as_of="2019-05-01")
    (note,) = [each for each in early.findings if each.check == "later knots"]
    assert "no knot at 2019-06-01" in note.message
    assert "trend: slope change at 2017-01-01" in early.equation


def test_a_fold_that_cannot_be_fitted_says_which():
    model = of.Model("sold", [of.Trend(knots=["2015-01-01"])])
    with pytest.raises(of.InputError, match="at the origin 2019-05-01: 2015-01-01 lies before the fitted 52 months"):
        of.backtest(model, monthly(), horizon=2, first_origin="2019-05-01")
    data = weekly(80)
    data["kind"] = ["red", "blue"] * 40
    with pytest.raises(
        of.InputError, match=r"at the origin 2023-06-19: the driver has no value there.* State the column as planned"
    ):
        of.backtest(of.Model("sold", [of.Category("kind")]), data, horizon=2, origins=2, basis="ex-ante")


def test_both_bases_and_the_price_of_not_knowing():
    """What is planned costs nothing; a driver that cannot be foreseen costs what it does to the target."""
    generator = np.random.default_rng(8)
    n = 260
    days = pd.date_range("2022-01-03", periods=n, freq="7D")
    storm, fare = generator.normal(0.0, 1.0, n), 20.0 + np.cumsum(generator.normal(0.0, 0.2, n))
    data = pd.DataFrame(
        {"sold": 100.0 - 5.0 * storm - 2.0 * fare + generator.normal(0.0, 1.0, n), "storm": storm, "fare": fare}, days
    )
    model = of.Model("sold", [of.Driver("storm"), of.Driver("fare")])
    found = of.backtest(model, data, horizon=4, origins=30, planned=["fare"])
    assert found.bases == ("ex-post", "ex-ante")
    errors = found.scores(score="RMSE").loc["main"]
    assert errors["ex-post"] == pytest.approx(1.0, abs=0.15)
    assert errors["ex-ante"] == pytest.approx(np.sqrt(26.0), abs=0.7)
    assert found.unknown_drivers_cost == pytest.approx(errors["ex-ante"] / errors["ex-post"] - 1.0)
    assert "Cost of unknown drivers: RMSE 5." in str(found)
    coverage = found.calibration(basis="ex-ante").table.query("horizon == 'all' and level == 0.8")
    assert 65.0 < coverage["reached"].item() < 92.0, "the intervals count what is not known of the storm"
    all_planned = of.backtest(model, data, horizon=4, origins=5, planned=["fare", "storm"])
    post, ante = all_planned.own
    assert np.allclose(post.mean, ante.mean)


def test_references_by_hand():
    """Each plain reference against its definition."""
    sold = monthly()
    found = of.backtest(SEASONAL, sold, horizon=14, origins=2)
    runs = {run.name: run for run in found.references}
    y = sold.to_numpy()
    for fold, end in enumerate(found.cuts().ends.tolist()):
        past, h = y[:end], np.arange(1, 15)
        assert np.allclose(runs["last value"].mean[fold], past[-1])
        assert np.allclose(runs["mean"].mean[fold], past.mean())
        assert np.allclose(runs["drift"].mean[fold], past[-1] + h * (past[-1] - past[0]) / (end - 1))
        ago = np.concatenate([past[-12:], past[-12:-10]])
        assert np.allclose(runs["same season"].mean[fold], ago)
        years = end // 12
        rate = (past[-12:].sum() / past[end - 12 * years :][:12].sum()) ** (1.0 / (years - 1))
        assert np.allclose(runs["compound growth"].mean[fold], ago * rate ** np.repeat([1, 2], [12, 2]))
        plain = of.Model("sold", [of.Trend(), of.Season("year", harmonics=3)]).fit(sold.iloc[:end]).forecast(14)
        assert np.allclose(runs["trend and season"].mean[fold], plain.mean)
        steps = np.diff(past)
        spread = np.sqrt(np.square(steps).mean()) * np.sqrt(h)
        wide = past[-1] + spread * student.ppf(0.9, len(steps) - 1)
        assert np.allclose(runs["last value"].at(0.9)[fold, :, 0], wide)
    short = of.backtest(of.Model("sold"), sold.iloc[:11], horizon=1, origins=2)
    why = {run.name: run.why for run in short.references if run.why}
    assert why["same season"] == "there are no 12 periods before some origin"
    assert "Not compared: " in short.compare().sentences


def panel(series=3, n=72):
    rows = []
    for i in range(series):
        values = (i + 1.0) * monthly(n, seed=i).to_numpy()
        months = pd.period_range("2015-01", periods=n, freq="M").astype(str)
        rows.append(pd.DataFrame({"month": months, "port": f"p{i}", "sold": values}))
    return of.read(pd.concat(rows), id="port")


def test_several_series_their_shares_and_totals():
    data = panel()
    found = of.backtest(SEASONAL, data, horizon=3, origins=4)
    assert found.series == ("p0", "p1", "p2")
    runs = {(run.name, run.series): run for run in found.references}
    values = {name: data[name].values("sold") for name in data}
    total = np.sum(list(values.values()), axis=0)
    end = int(found.cuts("p1").ends[1])
    index = pd.period_range("2015-01", periods=72, freq="M")
    plain = of.Model("sold", [of.Trend(), of.Season("year", harmonics=3)])
    ahead = plain.fit(pd.Series(total, index, name="sold").iloc[:end]).forecast(3)
    share = values["p1"][end - 12 : end].sum() / total[end - 12 : end].sum()
    assert np.allclose(runs["total by shares", "p1"].mean[1], share * ahead.mean)
    by_series = found.scores(by="series", score="MAE")
    own = by_series[by_series["model"] == "seasonal"].set_index("series")["MAE"]
    mean = found.scores(score="MAE").loc["seasonal", "ex-ante"]
    assert mean == pytest.approx(own.mean())
    weighted = found.scores(score="MAE", weights={"p0": 1.0, "p1": 0.0, "p2": 3.0}).loc["seasonal", "ex-ante"]
    assert weighted == pytest.approx((own["p0"] + 3.0 * own["p2"]) / 4.0)
    whole = found.scores(score="MAE", series="total").loc["seasonal", "ex-ante"]
    error = sum(run.error for run in found.own)
    assert whole == pytest.approx(np.abs(error).mean())
    levels = found.scores(by="level", score="MAE")
    levels = levels[levels["model"] == "seasonal"].set_index("level")["MAE"]
    assert levels.to_dict() == pytest.approx({"each series": mean, "total": whole})
    with pytest.raises(of.InputError, match="there is no weight of series 'p1'"):
        found.scores(weights={"p0": 1.0})


def test_scores_by_hand():
    """Every score from outcomes and forecasts written out, with the definitions of their authors."""
    data = weekly(80)
    found = of.backtest(of.Model("sold", [of.Trend()], name="line"), data["sold"], horizon=4, origins=5)
    run = found.own[0]
    y, f = run.cuts.outcome, run.mean
    e = f - y
    table = found.scores().set_index("model").loc["line"]
    assert table["MAE"] == pytest.approx(np.abs(e).mean())
    assert table["RMSE"] == pytest.approx(np.sqrt((e**2).mean()))
    assert table["bias"] == pytest.approx(e.mean())
    assert table["MAPE"] == pytest.approx(100.0 * (np.abs(e) / y).mean())
    assert table["sMAPE"] == pytest.approx(200.0 * (np.abs(e) / (np.abs(y) + np.abs(f))).mean())
    assert table["WAPE"] == pytest.approx(100.0 * np.abs(e).sum() / y.sum())
    steps = [np.diff(data["sold"].to_numpy()[:end]) for end in run.cuts.ends]
    assert table["MASE"] == pytest.approx(np.mean([np.abs(e[k]) / np.abs(steps[k]).mean() for k in range(5)]))
    squares = np.mean([e[k] ** 2 / (steps[k] ** 2).mean() for k in range(5)])
    assert table["RMSSE"] == pytest.approx(np.sqrt(squares))
    low, high = np.moveaxis(run.at(0.1, 0.9), -1, 0)
    inside = (low <= y) & (y <= high)
    assert table["coverage 80 %"] == pytest.approx(100.0 * inside.mean())
    assert table["width 80 %"] == pytest.approx((high - low).mean())
    winkler = (high - low) + 10.0 * (np.maximum(low - y, 0.0) + np.maximum(y - high, 0.0))
    assert table["Winkler 80 %"] == pytest.approx(winkler.mean())
    shown = (0.025, 0.1, 0.25, 0.5, 0.75, 0.9, 0.975)
    losses = [(p - (y < q)) * (y - q) for p, q in zip(shown, np.moveaxis(run.at(*shown), -1, 0), strict=True)]
    assert table["pinball"] == pytest.approx(np.mean(losses))
    by_horizon = found.scores(by="horizon", score="MAE")
    own = by_horizon[by_horizon["model"] == "line"].set_index("horizon")["MAE"]
    assert own.tolist() == pytest.approx(np.abs(e).mean(axis=0).tolist())
    by_origin = found.scores(by="origin", score="RMSE")
    own = by_origin[by_origin["model"] == "line"]["RMSE"]
    assert own.tolist() == pytest.approx(np.sqrt((e**2).mean(axis=1)).tolist())
    by_season = found.scores(by="season", score="MAE")
    months = pd.DatetimeIndex(np.concatenate([run.cuts.axis(k).index for k in range(5)])).month
    own = by_season[by_season["model"] == "line"].set_index("season")["MAE"]
    first = f"{months.min():02d}"
    assert own[first] == pytest.approx(np.abs(e.ravel()[months == months.min()]).mean())


def test_crps_of_a_normal_variable():
    """Against its closed form (Gneiting & Raftery 2007, equation 21)."""
    outcome = np.linspace(-2.2, 2.2, 45)
    exact = outcome * (2.0 * norm.cdf(outcome) - 1.0) + 2.0 * norm.pdf(outcome) - 1.0 / np.sqrt(np.pi)
    quantiles = np.tile(norm.ppf(PROBABILITIES), (45, 1))
    assert np.allclose(ranked_probability(outcome, quantiles, PROBABILITIES), exact, atol=0.002, rtol=0.01)


def test_undefined_scores_are_reported_and_never_infinite():
    sold = pd.Series([0.0, 3.0] * 20, pd.period_range("2019-01", periods=40, freq="M"), name="sold")
    found = of.backtest(of.Model("sold", [of.Season("year", style="dummies")]), sold, horizon=2, origins=4)
    table = found.scores().set_index("model")
    assert np.isnan(table.loc["main", "MAPE"])
    assert not np.isinf(table.select_dtypes("number").to_numpy()).any()
    from offing.evaluation.scoring import notes

    assert notes(found)["main", "MAPE"] == "an outcome is zero"
    near = sold.where(sold > 0.0, 4.0)
    near.iloc[37] = 1e-4
    found = of.backtest(of.Model("sold", [of.Trend()]), near, horizon=2, origins=4)
    assert notes(found)["main", "MAPE"] == "one outcome near zero makes most of it"


def test_totals_of_quarters():
    from offing.evaluation.scoring import totals_of

    found = of.backtest(SEASONAL, monthly(), horizon=5, origins=["2021-01-01", "2021-03-01"])
    run = found.own[0]
    whole = totals_of(run)
    assert whole["forecast"].tolist() == pytest.approx(run.mean.sum(axis=1).tolist())
    quarters = totals_of(run, "quarter")
    assert quarters["period"].dt.strftime("%Y-%m").tolist() == ["2021-01", "2021-04"], "whole ones within each origin"
    assert quarters["forecast"].tolist() == pytest.approx([run.mean[0, :3].sum(), run.mean[1, 1:4].sum()])


def test_forecasts_made_elsewhere(tmp_path):
    sold = monthly()
    origins = ["2021-01-01", "2021-07-01", "2022-01-01"]
    rows = [
        (origin, period.start_time.date(), 300.0 + k, 280.0)
        for origin in [*origins, "2020-12-20"]
        for k, period in enumerate(pd.period_range(origin, periods=4, freq="M"))
    ]
    frame = pd.DataFrame(rows, columns=["origin", "period", "forecast", "q0.1"])
    frame.to_csv(tmp_path / "office.csv", index=False)
    office = of.external_forecast(tmp_path / "office.csv", "office")
    found = of.backtest(SEASONAL, sold, horizon=3, origins=origins, external=[office])
    run = next(each for each in found.own if each.name == "office")
    assert run.mean.tolist() == [[300.0, 301.0, 302.0]] * 3, "the newest that was made by the origin"
    assert run.at(0.1)[0, 0, 0] == 280.0
    compared = found.compare(score="MAE")
    assert "office" in compared.candidates
    assert "office" in found.combined(method="mean").member_weights("mean of models").table.columns
    as_reference = of.external_forecast(frame, "office", role="reference")
    assert (
        "office"
        in of.backtest(SEASONAL, sold, horizon=3, origins=origins, external=[as_reference]).compare().references
    )
    frame.loc[2, "forecast"] = np.nan
    frame["forecast"] = frame["forecast"].astype(object)
    frame.loc[3, "forecast"] = "many"
    with pytest.raises(of.InputError, match="office, row 4, column 'forecast': found 'many', which is not a number"):
        of.external_forecast(frame, "office")
    with pytest.raises(of.InputError, match="nothing in it was made for the origins 2019-05-01"):
        of.backtest(
            SEASONAL, sold, horizon=3, origins=["2019-05-01"], external=[of.external_forecast(frame.iloc[:2], "office")]
        )


def test_any_executor_gives_the_same():
    data = weekly(90)
    model = of.Model("sold", [of.Trend(), of.Driver("fare")], scale="log", errors="ar")
    options = {"horizon": 3, "origins": 6}
    alone = of.backtest(model, data, **options)
    with ThreadPoolExecutor(3) as pool:
        threads = of.backtest(model, data, executor=pool, **options)
    with ProcessPoolExecutor(2, get_context("spawn")) as pool:
        processes = of.backtest(model, data, executor=pool, **options)
    for other in (threads, processes):
        for one, two in zip(alone.own, other.own, strict=True):
            assert np.array_equal(one.mean, two.mean)
            assert np.array_equal(one.quantiles, two.quantiles)


def test_levels_of_a_hierarchy():
    """Series with two ids: sums by each, and of all, with weights that add up."""
    rows = []
    for i, (port, kind) in enumerate([("N", "adult"), ("N", "child"), ("S", "adult")]):
        months = pd.period_range("2015-01", periods=72, freq="M").astype(str)
        rows.append(pd.DataFrame({"month": months, "port": port, "kind": kind, "sold": monthly(72, seed=i).to_numpy()}))
    found = of.backtest(SEASONAL, of.read(pd.concat(rows), id=["port", "kind"]), horizon=2, origins=3)
    runs = {run.series: run for run in found.own}
    table = found.scores(by="level", score="MAE", weights={"N / adult": 1.0, "N / child": 2.0, "S / adult": 3.0})
    own = table[table["model"] == "seasonal"].set_index("level")["MAE"]
    assert own.index.tolist() == ["each series", "port", "kind", "total"]
    north = np.abs(runs["N / adult"].error + runs["N / child"].error).mean()
    south = np.abs(runs["S / adult"].error).mean()
    assert own["port"] == pytest.approx((3.0 * north + 3.0 * south) / 6.0)
    assert own["total"] == pytest.approx(np.abs(sum(run.error for run in runs.values())).mean())


def test_holidays_that_lean_on_each_other_share_their_design():
    """Strengths are learnt again at each origin; together and again give the same, and new holidays go the long way."""
    from offing.evaluation.refit import refitted
    from offing.evaluation.shared_folds import fitted_together

    generator = np.random.default_rng(11)
    days = pd.date_range("2021-01-01", periods=800, freq="D")
    data = pd.Series(100.0 + generator.normal(size=800), days, name="sold")
    model = of.Model("sold", [of.Trend(), of.Season("week"), of.Holidays(country="NO", days_before=1)])
    found = of.backtest(model, data, horizon=14, origins=6)
    job = found.jobs[""]
    (together,) = fitted_together([job])
    assert together is not None
    assert together[1].all()
    (again,) = refitted([job])
    assert np.allclose(together[0].mean, again.mean, rtol=1e-10)
    assert np.allclose(together[0].quantiles, again.quantiles, rtol=1e-10)
    early = of.backtest(model, data, horizon=220, origins=["2021-06-10"])
    assert fitted_together([early.jobs[""]]) == [None], "Christmas was not seen yet"
    assert np.isfinite(early.own[0].mean).all()


def test_quarters_from_months_are_judged_from_what_was_out(yard):
    """A boatyard's quarter, from a day within it: ex-ante uses the months that are out, ex-post all of them."""
    model, data = yard
    options = {"horizon": 1, "first_origin": "2022-05-25", "every": 1}
    found = of.backtest(model, data, **options)
    post, ante = (next(run for run in found.own if run.basis == basis) for basis in ("ex-post", "ex-ante"))
    cuts = found.cuts()
    day = cuts.origins[2]
    by_hand = model.fit(data, as_of=f"{day:%Y-%m-%d}").forecast(1)
    assert ante.mean[2, 0] == pytest.approx(by_hand.mean[0], rel=1e-10)
    assert by_hand.outlooks, "a month and some weeks are not out"
    assert np.abs(post.error).mean() < np.abs(ante.error).mean()
    shifted = of.backtest(model, data, basis="ex-ante", unreleased="shifted", **options)
    assert not np.allclose(shifted.own[0].mean, ante.mean)


@pytest.fixture(scope="module")
def yard():
    """The boatyard's tables and a model of both indicators."""
    from offing.demo import boatyard

    made = boatyard()
    data = {
        "yard": of.read(made.orders, release_delay="14 days"),
        "charter": of.read(made.bookings, release_delay="21 days"),
        "web": of.read(made.enquiries, stamp="start"),
    }
    charter = of.Driver("charter.charter bookings", weights="flat", span=6)
    web = of.Driver("web.web enquiries", weights="flat", span=13)
    return of.Model("yard.orders", [of.Trend(), of.Season("year", harmonics=1), charter, web]), data


def test_vintages_of_the_target_are_those_of_their_time():
    """At an origin the fit sees first releases, scores are against the newest ones."""
    months = pd.period_range("2018-01", periods=40, freq="M")
    truth = 100.0 + np.random.default_rng(3).normal(size=40).cumsum()
    rows = []
    for i, month in enumerate(months):
        out = (month + 1).start_time
        rows.append({"month": str(month), "out": out.date(), "sold": truth[i] + 10.0})
        rows.append({"month": str(month), "out": (out + pd.Timedelta("60D")).date(), "sold": truth[i]})
    data = of.read(pd.DataFrame(rows), time="month", released="out")
    found = of.backtest(of.Model("sold"), data, horizon=2, origins=4, every=1)
    run = found.own[0]
    end = int(found.cuts().ends[0])
    seen = truth[:end].copy()
    seen[-2:] += 10.0  # the newest two are first releases yet
    assert run.mean[0, 0] == pytest.approx(seen.mean())
    assert run.cuts.outcome[0].tolist() == pytest.approx(truth[end : end + 2].tolist())
    last = next(each for each in found.references if each.name == "last value")
    assert last.mean[0, 0] == pytest.approx(seen[-1])


def test_workers_keep_order_and_errors():
    from offing.base.parallel import carried_out

    def halved(value):
        if value == 3:
            raise of.InputError("found 3")
        return value / 2.0

    assert carried_out(halved, [4, 2, 8], "halving") == [2.0, 1.0, 4.0]
    with ThreadPoolExecutor(2) as pool:
        assert carried_out(halved, list(range(4, 20)), "halving", pool) == [each / 2.0 for each in range(4, 20)]
        with pytest.raises(of.InputError, match="Found 3"):
            carried_out(halved, [1, 2, 3, 4], "halving", pool)
    with pytest.raises(of.InputError, match="Found 3"):
        carried_out(halved, [1, 3], "halving")
