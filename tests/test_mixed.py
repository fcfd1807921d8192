"""Drivers of higher frequency or slower than the target: against computation written out by hand, and known truth."""

import numpy as np
import pandas as pd
import pytest
from scipy.optimize import minimize

import offing as of
from offing.engine import Bent, Beta, Exponential, Grid, Problem, Shapes, regress
from offing.model.joint_simulation import outcome_paths

N, SPAN = 80, 12
QUARTERS = pd.period_range("2005Q1", periods=N, freq="Q")
MONTHS = pd.period_range("2002-01", periods=3 * N + 36, freq="M")


def world(seed=1, theta=(2.0, 4.0), slope=2.0, *, noise=3.0, quarters=N):
    """Orders by quarter, an index by month, and the lags (n, 12) that belong to each quarter."""
    generator = np.random.default_rng(seed)
    x, shocks = np.zeros(len(MONTHS)), generator.normal(size=len(MONTHS))
    for t in range(1, len(x)):
        x[t] = 0.6 * x[t - 1] + shocks[t]
    x = 50.0 + 5.0 * x
    lags = x[(38 + 3 * np.arange(N))[:, None] - np.arange(SPAN)]
    weights = Beta(SPAN).weights(np.array([theta]))[0]
    y = 100.0 + 0.2 * np.arange(N) + slope * lags @ weights + noise * generator.normal(size=N)
    data = {
        "yard": of.read(pd.DataFrame({"orders": y[:quarters]}, QUARTERS[:quarters]), name="orders.csv"),
        "charter": of.read(pd.DataFrame({"index": x}, MONTHS), name="bookings.csv", release_delay="21 days"),
    }
    return data, y, x, lags


def model(*more, **weights):
    return of.Model("yard.orders", terms=[of.Trend(), of.Driver("charter.index", **weights), *more])


def plain_design(lags):
    return np.column_stack([np.ones(N), np.arange(N) / 4.0, lags])


def test_polynomial_weights_are_restricted_least_squares_written_out():
    data, y, _, lags = world()
    fit = model(weights="polynomial", span=SPAN, degree=2).fit(data)
    powers = np.vander(np.arange(SPAN), 3, increasing=True)
    design = plain_design(lags @ powers)
    beta = np.linalg.lstsq(design, y, rcond=None)[0]
    assert np.allclose(of.lag_weights(fit).coefficient, powers @ beta[2:], rtol=1e-8)
    rss = np.square(y - design @ beta).sum()
    inverse = np.linalg.inv(design.T @ design)[2:, 2:] * rss / (N - 5)
    errors = np.sqrt(np.diag(powers @ inverse @ powers.T))
    table = fit.coefficients.set_index("column")
    assert np.allclose(table.loc["index (month lag 3)", "std_error"], errors[3], rtol=1e-8)
    total = table.loc["index: all lags together"]
    assert total["coefficient"] == pytest.approx(powers.sum(axis=0) @ beta[2:], rel=1e-8)
    assert total["std_error"] == pytest.approx(np.sqrt(powers.sum(0) @ inverse @ powers.sum(0)), rel=1e-8)
    pinned = model(weights="polynomial", span=SPAN, degree=3, pinned="both").fit(data)
    basis = powers[:, :2] * ((np.arange(SPAN) + 1.0) * (SPAN - np.arange(SPAN)))[:, None]
    own = np.linalg.lstsq(plain_design(lags @ basis), y, rcond=None)[0]
    assert np.allclose(of.lag_weights(pinned).coefficient, basis @ own[2:], rtol=1e-8)


def test_step_flat_and_free_weights_are_special_cases_of_each_other():
    data, y, _, lags = world()
    free = model(weights="free", span=SPAN).fit(data)
    single = model(weights="step", blocks=[1] * SPAN).fit(data)
    assert free.estimate.rss == pytest.approx(single.estimate.rss, rel=1e-12)
    assert np.allclose(of.lag_weights(free).coefficient, of.lag_weights(single).coefficient, rtol=1e-9)
    one, flat = model(weights="step", blocks=[SPAN]).fit(data), model(weights="flat", span=SPAN).fit(data)
    assert np.allclose(of.lag_weights(one).coefficient, flat.estimate.beta[2] / SPAN, rtol=1e-9)
    direct = np.linalg.lstsq(plain_design(lags), y, rcond=None)[0]
    assert np.allclose(of.lag_weights(free).coefficient, direct[2:], rtol=1e-8)
    blocks = np.repeat(np.eye(3), [3, 3, 6], axis=0)
    by_hand = blocks @ np.linalg.lstsq(plain_design(lags @ blocks), y, rcond=None)[0][2:]
    assert np.allclose(of.lag_weights(model(weights="step", blocks=[3, 3, 6]).fit(data)).coefficient, by_hand)
    averaged = model(combine="mean").fit(data)
    quarter = np.linalg.lstsq(plain_design(lags[:, :3].mean(axis=1)), y, rcond=None)[0]
    assert averaged.estimate.beta[2] == pytest.approx(quarter[2], rel=1e-9)


def shaped(x, y, curve, fixed):
    """The engine's problem of one weight curve beside fixed columns."""
    (points, sides), (lower, upper), n = curve.grid, curve.bounds, len(y)
    k, s = fixed.shape[1] + 1, len(lower)

    def bend(theta):
        column = x @ curve.weights(theta[None]).T
        return Bent(column, np.zeros(n), lambda beta: (x @ curve.slopes(theta)) * beta[0])

    def many(thetas):
        return (x @ curve.weights(thetas).T).T[:, :, None], np.zeros((len(thetas), n))

    shapes = Shapes(
        (Grid(np.arange(s), points, sides),), lower, upper, bend, many, np.zeros(s, bool), np.array([k - 1])
    )
    columns = np.column_stack([fixed, x @ curve.weights(points[:1])[0]])
    return Problem(y, columns, np.arange(n), np.full(k + s, -1), shapes=shapes)


CURVES = [
    Beta(12),
    Beta(12, "both"),
    Beta(12, "end"),
    Beta(12, even_share=True),
    Exponential(12),
    Exponential(12, "start"),
]


def test_slopes_of_the_curves_are_their_derivatives():
    for curve in CURVES:
        lower, upper = curve.bounds
        theta = lower + 0.3 * (upper - lower)
        for i, each in enumerate(np.eye(len(theta))):
            step = 1e-6 * each
            numeric = (curve.weights((theta + step)[None]) - curve.weights((theta - step)[None]))[0] / 2e-6
            assert np.allclose(curve.slopes(theta)[:, i], numeric, atol=1e-7)
        assert curve.weights(theta[None]).sum() == pytest.approx(1.0)


@pytest.mark.parametrize(
    "curve",
    CURVES,
    ids=["beta", "pinned beta", "beta with a pinned end", "even share", "exponential", "pinned exponential"],
)
def test_a_grid_of_shapes_never_finds_a_smaller_sum_of_squares(curve):
    lower, upper = curve.bounds
    if isinstance(curve, Exponential):
        sides = [upper[0] * np.linspace(-1, 1, 61) ** 3, lower[1] * np.linspace(0, 1, 41) ** 3]
    else:
        fine = 47 if len(lower) == 2 else 23
        sides = [
            lower[i] + (upper[i] - lower[i]) * np.linspace(0, 1, fine) ** (3 if i < 2 else 1) for i in range(len(lower))
        ]
    points = np.stack(np.meshgrid(*sides, indexing="ij"), axis=-1).reshape(-1, len(lower))
    weights = curve.weights(points)
    for seed in range(100):
        generator = np.random.default_rng(seed)
        wander = np.convolve(generator.normal(size=400), generator.choice([0.0, 0.5, 0.9]) ** np.arange(30))[:372]
        x = wander[11 + 3 * np.arange(120)[:, None] - np.arange(12)]
        theta = lower + (upper - lower) * generator.random(len(lower)) ** 2
        slope = generator.choice([0.0, 0.3, 1.0, 4.0])
        y = 1.0 + slope * x @ curve.weights(theta[None])[0] + generator.normal(size=120)
        fixed = np.column_stack([np.ones(120), generator.normal(size=120)])
        found = regress(shaped(x, y, curve, fixed)).estimate
        basis = np.linalg.qr(fixed)[0]
        left, aim = x @ weights.T, y - basis @ (basis.T @ y)
        left -= basis @ (basis.T @ left)
        least = (aim @ aim - np.square(left.T @ aim) / np.square(left).sum(axis=0)).min()
        own = x @ curve.weights(found.beta[None, 3:])[0]
        rss = np.square(y - np.column_stack([fixed, own]) @ found.beta[:3]).sum()
        assert rss <= least * (1.0 + 1e-8), seed


def monthly(seed, n=120):
    """The lags of a wandering index, a target with beta weights, and trend and season as fixed columns."""
    generator = np.random.default_rng(seed)
    wander = np.convolve(generator.normal(size=500), 0.6 ** np.arange(30))[: 3 * n + 20]
    x = wander[11 + 3 * np.arange(n)[:, None] - np.arange(12)]
    fixed = np.column_stack([np.ones(n), np.arange(n) / n, *(np.arange(n) % 4 == i for i in range(3))]).astype(float)
    y = fixed @ [5.0, 3.0, 1.0, 2.0, 1.0] + x @ Beta(12).weights(np.array([[2.0, 4.0]]))[0] + generator.normal(size=n)
    return x, y, fixed


def test_the_band_of_the_curve_covers_the_true_weights():
    truth = Beta(SPAN).weights(np.array([[2.0, 4.0]]))[0] * 2.0
    hits, slopes = np.zeros(SPAN), 0
    for seed in range(120):
        found = of.lag_weights(model(weights="beta", span=SPAN).fit(world(seed)[0]))
        hits += (found.low <= truth) & (truth <= found.high)
        slopes += found.slope_low <= 2.0 <= found.slope_high
    assert (hits[:9] / 120 >= 0.88).all(), hits
    assert 0.91 <= hits[:9].mean() / 120 <= 0.99
    assert 0.89 <= slopes / 120 <= 0.99


def test_shifting_both_series_by_a_period_changes_nothing():
    data, y, x, _ = world()
    later = {
        "yard": of.read(pd.DataFrame({"orders": y}, QUARTERS + 1)),
        "charter": of.read(pd.DataFrame({"index": x}, MONTHS + 3)),
    }
    first, second = (model(weights="beta", span=SPAN).fit(each) for each in (data, later))
    assert np.allclose(first.estimate.beta, second.estimate.beta, rtol=1e-9)


def test_weights_stand_beside_own_lags_drivers_season_and_related_noise():
    data, y, _, _lags = world()
    rain = np.random.default_rng(5).normal(size=N)
    frame = pd.DataFrame({"orders": y + 2.0 * rain, "rain": rain}, QUARTERS)
    tables = {"yard": of.read(frame), "charter": data["charter"]}
    terms = [
        of.Trend(),
        of.Season(harmonics=1),
        of.Driver("yard.rain"),
        of.OwnLags([1]),
        of.Driver("charter.index", weights="beta", span=SPAN, sign="positive"),
    ]
    fit = of.Model("yard.orders", terms).fit(tables)
    ahead = fit.forecast(3, plan={"yard": of.read(pd.DataFrame({"rain": [0.0] * 3}, QUARTERS[-1] + 1 + np.arange(3)))})
    assert np.allclose(ahead.contributions.values.sum(axis=0), ahead.mean, rtol=1e-12)
    related = of.Model("yard.orders", [of.Driver("charter.index", weights="beta", span=SPAN)], errors="ar").fit(tables)
    assert related.dynamics is not None
    assert of.lag_weights(related).slope == pytest.approx(2.0, abs=1.0)


@pytest.mark.parametrize("keys", [{"weights": "beta", "span": 6}, {"weights": "polynomial", "span": 6, "degree": 2}])
def test_effects_of_changes_are_the_slope_times_the_usual_range(keys):
    data, y, x, _ = world()
    change = np.diff(x, prepend=np.nan)
    target = y + 3.0 * change[(38 + 3 * np.arange(N))[:, None] - np.arange(6)].mean(axis=1)
    tables = {**data, "yard": of.read(pd.DataFrame({"orders": target}, QUARTERS))}
    fit = of.Model("yard.orders", [of.Driver("charter.index", transform=["difference"], **keys)]).fit(tables)
    (effect,) = of.effects(fit).effects
    low, high = np.quantile(change[38 + 3 * np.arange(N)], (0.1, 0.9))
    assert effect.change == pytest.approx((high - low) * of.lag_weights(fit).slope, rel=1e-9)
    assert not of.elasticities(fit).drivers
    with pytest.raises(of.InputError, match="acts by its changes"):
        of.response(fit)


# What is known when


def test_the_shifted_equation_uses_exactly_the_months_that_are_out():
    data, y, x, _ = world(quarters=N - 1)
    for day, out in (("2024-10-23", 0), ("2024-11-23", 1), ("2024-12-23", 2), ("2025-01-23", 3)):
        ahead = model(weights="free", span=6).fit(data, as_of=day).forecast(1, unreleased="shifted")
        # By hand: the six newest months that were out at the same place in every quarter before.
        newest = 38 + 3 * np.arange(N) - (3 - out)
        lags = x[newest[:, None] - np.arange(6)]
        design = plain_design(lags)
        beta = np.linalg.lstsq(design[:-1], y[:-1], rcond=None)[0]
        assert ahead.mean[0] == pytest.approx(design[-1] @ beta, rel=1e-9)


@pytest.mark.parametrize("unreleased", ["expected", "shifted"])
def test_what_was_not_out_at_the_origin_plays_no_part(unreleased):
    data, *_ = world(quarters=N - 1)
    day = "2024-12-01"
    usual = model(weights="beta", span=SPAN).fit(data, as_of=day).forecast(2, unreleased=unreleased)
    table = data["charter"]
    hostile = table.columns["index"].copy()
    late = table.known_at() > pd.Timestamp(day).value // 1000
    assert late.any()
    hostile[late] = 1e6
    changed = {**data, "charter": of.read(pd.DataFrame({"index": hostile}, MONTHS), release_delay="21 days")}
    other = model(weights="beta", span=SPAN).fit(changed, as_of=day).forecast(2, unreleased=unreleased)
    assert (usual.table.to_numpy() == other.table.to_numpy()).all()
    kept = {
        **data,
        "charter": of.read(pd.DataFrame({"index": hostile[~late]}, MONTHS[: (~late).sum()]), release_delay="21 days"),
    }
    cut = model(weights="beta", span=SPAN).fit(kept, as_of=day).forecast(2, unreleased=unreleased)
    assert np.allclose(usual.table, cut.table, rtol=1e-10)
    hostile[np.flatnonzero(~late)[-1]] += 9.0
    known = {**data, "charter": of.read(pd.DataFrame({"index": hostile}, MONTHS), release_delay="21 days")}
    assert (
        model(weights="beta", span=SPAN).fit(known, as_of=day).forecast(2, unreleased=unreleased).mean[0]
        != usual.mean[0]
    )


def test_the_interval_counts_what_the_drivers_own_model_does_not_know():
    data, *_ = world(quarters=N - 1)
    fit = model(weights="beta", span=SPAN).fit(data, as_of="2024-10-23")
    ahead = fit.forecast(2)
    (outlook,) = ahead.outlooks
    paths = np.vstack(list(outcome_paths(outlook.ahead)))
    coefficients = of.lag_weights(fit).coefficient
    first = outlook.axis.first - of.Axis.between(outlook.axis.frequency, "2002-01-01", "2002-01-01").first
    moved = np.zeros((len(paths), 2))
    for h, newest in enumerate((38 + 3 * (N - 1), 38 + 3 * N)):
        for lag in range(SPAN):
            if (at := newest - lag - first) >= 0:
                moved[:, h] += coefficients[lag] * (paths[:, at] - outlook.ahead.mean[at])
    assert np.allclose(np.cov(moved.T), outlook.cov_root.T @ outlook.cov_root, rtol=0.12)
    alone = np.square(fit.forecast(2, unreleased="shifted").spread)
    assert (np.square(ahead.spread) > np.square(outlook.cov_root).sum(axis=0)).all()
    assert alone.min() > 0.0


def test_the_default_origin_is_reported_where_a_driver_makes_it():
    data, *_ = world(quarters=N - 1)
    later = next(finding for finding in model(weights="flat", span=3).fit(data).findings if finding.check == "origin")
    assert later.evidence == {"origin": "2025-01-22", "target": "2024-10-01"}
    stated = model(weights="flat", span=3).fit(data, as_of="2024-10-23").findings
    assert "origin" not in {finding.check for finding in stated}
    early = {**data, "charter": of.read(data["charter"].frame.iloc[:-3].rename_axis(None), frequency="month")}
    assert "origin" not in {finding.check for finding in model(weights="flat", span=3).fit(early).findings}


def test_the_running_estimate_is_moved_by_surprises_times_weights():
    data, _y, *_ = world(quarters=N - 1)
    dates = ["2024-10-02", "2024-10-23", "2024-11-23", "2024-12-23", "2025-01-23"]
    found = of.nowcast(model(weights="beta", span=SPAN), data, dates)
    moved = found.table["forecast"].diff().to_numpy()[1:]
    for change, date in zip(moved, found.dates[1:], strict=True):
        steps = found.steps[found.steps["to"] == date]
        assert steps["effect"].sum() == pytest.approx(change, abs=1e-9)
        news = steps[steps["driver"] == "index"]
        assert np.allclose(news["effect"], news["surprise"] * news["weight"])
        assert np.allclose(news["surprise"], news["actual"] - news["expected"])
    width = (found.table["q0.975"] - found.table["q0.025"]).to_numpy()
    assert (np.diff(width[1:]) < 0.0).all()
    # The weight of the last month out is its coefficient alone: nothing later is expected from it.
    fit = found.forecasts[-2].fit
    last = found.steps[found.steps["period"] == "2024-12"].iloc[0]
    assert last["weight"] == pytest.approx(of.lag_weights(fit).coefficient[0], rel=1e-6)
    assert found.table["expected_values"].tolist() == [4, 3, 2, 1, 0]
    entered = of.inputs(found.forecasts[2])
    assert entered.table["mark"].tolist() == ["actual"] * 10 + ["modelled"] * 2
    weight = of.lag_weights(found.forecasts[2].fit).coefficient
    assert entered.share_out == pytest.approx(np.abs(weight[2:]).sum() / np.abs(weight).sum())


def revised():
    """The index by month with a first value after 21 days and a revised one 60 days later."""
    data, y, x, _ = world(quarters=N - 1)
    ends = (MONTHS + 1).start_time
    rows = [
        pd.DataFrame({"month": MONTHS.astype(str), "out": ends + pd.Timedelta(days=days), "index": x + error})
        for days, error in ((21, np.random.default_rng(3).normal(size=len(x))), (81, 0.0))
    ]
    return pd.concat(rows, ignore_index=True), data, y, x


def test_vintages_are_what_was_known_at_the_origin():
    frame, data, _, x = revised()
    charter = of.read(frame, released="out")
    assert np.allclose(charter.values("index"), x)
    tables = {"yard": data["yard"], "charter": charter}
    day = pd.Timestamp("2024-12-01")
    fit = model(weights="beta", span=SPAN).fit(tables, as_of=day)
    seen = fit.view.known("charter.index", charter.axis).values
    out = frame[frame["out"] <= day].groupby("month")["index"].last().reindex(MONTHS.astype(str))
    assert np.allclose(seen, out, equal_nan=True)
    assert np.isnan(seen[out.isna().to_numpy()]).all()
    kept = {**tables, "charter": of.read(frame[frame["out"] <= day], released="out")}
    assert model(weights="beta", span=SPAN).fit(kept, as_of=day).forecast(1).mean[0] == pytest.approx(
        fit.forecast(1).mean[0], rel=1e-12
    )


@pytest.mark.parametrize(
    ("change", "options", "words"),
    [
        (lambda f: f.assign(out=f["month"] + "-15"), {}, "released on 2002-01-15, before it had ended"),
        (lambda f: pd.concat([f, f.iloc[:1]]), {}, "rows 1 and 553 are releases of it on the same date"),
        (lambda f: f, {"release_delay": "30 days"}, "before its release_delay had passed"),
        (lambda f: f.drop(columns="out"), {}, "there is no column 'out'"),
    ],
)
def test_vintages_that_contradict_their_dates_are_refused(change, options, words):
    frame = change(revised()[0])
    if "before it had ended" in words:
        frame = frame.iloc[: len(MONTHS)]
    with pytest.raises(of.InputError, match=words):
        of.read(frame, released="out", **options)


# Any pair of frequencies


def pairs():
    weeks = pd.date_range("2018-01-01", periods=360, freq="7D")
    hours = pd.date_range("2024-01-01", periods=24 * 70, freq="h", tz="Europe/Lisbon")
    yield pd.period_range("2019-01", periods=60, freq="M"), weeks, {"stamp": "start"}
    yield pd.period_range("2019Q2", periods=20, freq="Q"), pd.date_range("2018-01-01", periods=2400), {}
    yield (
        pd.date_range("2024-01-05", periods=60, tz="Europe/Lisbon"),
        hours,
        {"stamp": "start", "zone": "Europe/Lisbon"},
    )


@pytest.mark.parametrize(
    ("slow", "fast", "options"), list(pairs()), ids=["weeks in months", "days in quarters", "hours in days"]
)
def test_values_are_matched_by_the_instants_at_which_periods_end(slow, fast, options):
    generator = np.random.default_rng(1)
    y, x = generator.normal(size=len(slow)), generator.normal(size=len(fast))
    zone = {"zone": options["zone"]} if "zone" in options else {}
    tables = {"a": of.read(pd.DataFrame({"y": y}, slow), **zone), "b": of.read(pd.DataFrame({"x": x}, fast), **options)}
    fit = of.Model("a.y", [of.Driver("b.x", weights="free", span=3, skip=1)]).fit(tables)
    step = pd.Series(fast).diff().iloc[-1]
    ends = (slow + 1).start_time if isinstance(slow, pd.PeriodIndex) else slow + pd.DateOffset(days=1)
    for row, end in enumerate(ends):
        newest = np.flatnonzero(np.asarray(fast + step <= end))[-1] - 1
        assert np.array_equal(fit.design[row, 1:], x[newest - np.arange(3)])


def test_months_of_whole_weeks_match_quarters_of_them():
    generator = np.random.default_rng(2)
    said = {"weeks": "4-4-5", "week_ends": "saturday", "year_starts": "february"}
    months = of.Axis.between(of.Frequency("month", **said), "2015-02-05", "2024-01-20")
    quarters = of.Axis.between(of.Frequency("quarter", **said), "2016-02-10", "2024-01-20")
    frames = [
        pd.DataFrame({"when": each.index, name: generator.normal(size=each.n)})
        for each, name in ((quarters, "y"), (months, "x"))
    ]
    tables = {
        name: of.read(frame, frequency=unit, stamp="start", **said)
        for frame, name, unit in zip(frames, "ab", ("quarter", "month"), strict=True)
    }
    fit = of.Model("a.y", [of.Driver("b.x", weights="free", span=3)]).fit(tables)
    x = frames[1]["x"].to_numpy()
    assert np.array_equal(fit.design[:, 1:], x[(14 + 3 * np.arange(quarters.n))[:, None] - np.arange(3)])


# Slow drivers


def slow_world(**keys):
    generator = np.random.default_rng(4)
    months = pd.period_range("2015-01", periods=96, freq="M")
    people = 300.0 + np.cumsum(generator.normal(size=32))
    pattern = 10.0 + generator.normal(size=96)
    frame = pd.DataFrame({"sold": generator.normal(size=96), "sun": pattern}, months)
    tables = {
        "shop": of.read(frame),
        "town": of.read(pd.DataFrame({"people": people}, pd.period_range("2015Q1", periods=32, freq="Q"))),
    }
    fit = of.Model("shop.sold", [of.Driver("town.people", **keys)]).fit(tables)
    return fit.design[:, 1], people, pattern, fit


def test_a_slow_value_is_repeated_divided_or_drawn_between():
    assert np.array_equal(slow_world(between="repeat")[0], np.repeat(slow_world(between="repeat")[1], 3))
    value, people, *_ = slow_world(between="repeat", skip=1)
    assert np.isnan(value[:3]).all()
    assert np.array_equal(value[3:], np.repeat(people[:-1], 3))
    assert np.allclose(slow_world(between="divide")[0], np.repeat(people / 3.0, 3))
    straight = slow_world(between="linear")[0]
    middles = pd.period_range("2015Q1", periods=32, freq="Q")
    at = [period.start_time + (period.end_time - period.start_time) / 2 for period in middles]
    months = pd.period_range("2015-01", periods=96, freq="M")
    own = [period.start_time + (period.end_time - period.start_time) / 2 for period in months]
    by_hand = np.interp([t.value for t in own], [t.value for t in at], people)
    assert np.allclose(straight, by_hand, rtol=1e-6)


@pytest.mark.parametrize("keys", [{}, {"keeps": "mean"}, {"pattern": "shop.sun"}])
def test_smooth_values_keep_the_sums_with_the_least_bends(keys):
    value, people, pattern, _ = slow_world(between="smooth", **keys)
    whole = value.reshape(32, 3)
    sums = people * (3.0 if keys.get("keeps") == "mean" else 1.0)
    assert np.allclose(whole.sum(axis=1), sums, rtol=1e-10)
    base = np.zeros(96)
    if "pattern" in keys:
        design = np.column_stack([np.full(32, 3.0), pattern.reshape(32, 3).sum(axis=1)])
        a, b = np.linalg.lstsq(design, sums, rcond=None)[0]
        base = a + b * pattern
    second = np.diff(np.eye(96), n=2, axis=0)
    total = np.kron(np.eye(32), np.ones((1, 3)))
    system = np.block([[second.T @ second, total.T], [total, np.zeros((32, 32))]])
    dense = base + np.linalg.solve(system, np.concatenate([np.zeros(96), sums - total @ base]))[:96]
    assert np.allclose(value, dense, rtol=1e-7)


# Choice, tests, combination


def test_span_and_shape_are_chosen_on_common_rows():
    data, y, x, _ = world(theta=(1.5, 3.0), noise=1.0)
    fit = model(weights="chosen").fit(data)
    chosen = next(term for term in fit.model.terms if term.name == "index")
    finding = next(finding for finding in fit.findings if finding.check == "choice")
    assert str(chosen.span) in finding.message
    assert str(chosen.weights) in finding.message
    spans = {}
    for span in (2, 3, 6, 9, 12):
        lags = x[(38 + 3 * np.arange(N))[:, None] - np.arange(span)]
        design = plain_design(lags)
        rss = np.square(y - design @ np.linalg.lstsq(design, y, rcond=None)[0]).sum()
        spans[span] = N * np.log(rss / N) + (2 + span) * np.log(N)
    free = model(weights="free").fit(data)
    assert next(t for t in free.model.terms if t.name == "index").span == min(spans, key=spans.get)


def test_timing_and_curve_are_tested_and_said():
    def said(fit):
        return {finding.check: finding for finding in fit.findings}

    data, y, _, lags = world(noise=2.0)
    fit = model(weights="beta", span=SPAN).fit(data)
    assert not {"timing", "weights"} & set(said(fit))
    tests = of.lag_weights(fit).tests
    rss = [
        np.square(y - d @ np.linalg.lstsq(d, y, rcond=None)[0]).sum()
        for d in (plain_design(lags.mean(axis=1)), plain_design(lags))
    ]
    assert tests.timing[0] == pytest.approx((rss[0] - fit.estimate.rss) / 2 / (fit.estimate.rss / (N - 5)), rel=1e-8)
    assert tests.curve[0] == pytest.approx((fit.estimate.rss - rss[1]) / 9 / (rss[1] / (N - 14)), rel=1e-8)
    wrong = said(model(weights="flat", span=SPAN).fit(data))["weights"]
    assert "other weights of 'index' than flat ones" in wrong.message
    nothing = said(model(weights="beta", span=SPAN).fit(world(slope=0.0, seed=3)[0]))["timing"]
    assert "this test is irregular" in nothing.message
    flat = said(model(weights="beta", span=SPAN).fit(world(theta=(1.0, 1.0), seed=6)[0]))["timing"]
    assert "irregular" not in flat.message


def test_a_combination_weighs_by_past_squared_errors_of_honest_origins():
    data, y, *_ = world(quarters=N - 1)
    models = [
        of.Model("yard.orders", [of.Trend(), of.Driver("charter.index", **keys)], name=name)
        for name, keys in (("beta", {"weights": "beta", "span": SPAN}), ("mean", {"combine": "mean"}))
    ]
    found = of.combine(models, data, as_of="2024-11-23", method="past errors", origins=6)
    assert found.errors.index[-1].strftime("%Y-%m-%d") == "2024-08-23"
    past = models[0].fit(data, as_of=found.errors.index[-1]).forecast(1)
    assert past.axis.labels() == ["2024-Q3"]
    assert found.errors.iloc[-1, 0] == pytest.approx(y[-2] - past.mean[0], rel=1e-12)
    inverse = 1.0 / np.square(found.errors).mean()
    assert np.allclose(found.weights, inverse / inverse.sum())
    assert np.allclose(
        found.mean, [sum(w * m.mean[0] for w, m in zip(found.weights, found.members.values(), strict=True))]
    )
    simple = of.combine(models, data, as_of="2024-11-23", unreleased=["expected", "shifted"])
    assert np.allclose(simple.weights, 0.25)
    assert simple.table.columns.tolist() == [
        "beta, expected",
        "beta, shifted",
        "mean, expected",
        "mean, shifted",
        "combined",
    ]
    with pytest.raises(of.InputError, match="too few periods"):
        of.combine(models, data, method="past errors", origins=75)


# Bad input


def broken(what):
    data, y, x, _ = world()
    gap = x.copy()
    gap[200] = np.nan
    return {
        "gap": {**data, "charter": of.read(pd.DataFrame({"index": gap}, MONTHS), name="bookings.csv")},
        "apart": {
            **data,
            "charter": of.read(
                pd.DataFrame({"index": x[:40]}, pd.period_range("1980-01", periods=40, freq="M")), name="bookings.csv"
            ),
        },
        "short": {**data, "charter": of.read(pd.DataFrame({"index": x[-30:]}, MONTHS[-30:]), name="bookings.csv")},
        "weeks": {
            "yard": of.read(
                pd.DataFrame({"orders": y}, pd.date_range("2024-01-01", periods=N, freq="7D")), stamp="start"
            ),
            "charter": of.read(
                pd.DataFrame({"index": y}, pd.date_range("2024-01-04", periods=N, freq="7D")), stamp="start"
            ),
        },
        "": data,
    }[what]


@pytest.mark.parametrize(
    ("what", "keys", "words"),
    [
        (
            "gap",
            {"weights": "beta", "span": 6},
            "bookings.csv, period 2018-09, column 'charter.index', .*no value in 1 month",
        ),
        ("apart", {"weights": "beta", "span": 6}, "1980-01 to 1983-04 and the target's 80 quarters .* do not overlap"),
        ("short", {"weights": "beta", "span": 40}, "a span of 40 months is longer than its 30 months"),
        ("short", {"weights": "beta", "span": 6, "skip": 28}, "skipping 28 of them leaves nothing"),
        (
            "short",
            {"weights": "free", "span": 12},
            "free weights over 12 lags have 12 coefficients, but only 7 quarters",
        ),
        ("weeks", {"weights": "beta", "span": 6}, "neither nests in the other"),
        (
            "",
            {},
            "its frequency is the month, that of the target the quarter, and it is not said how its values become one",
        ),
        ("", {"between": "repeat"}, "which is slower. Say weights or combine instead"),
        ("", {"weights": "hump", "span": 6}, "found 'hump'. Allowed: flat, free, step"),
        ("", {"weights": "beta", "span": 0}, "found 0. Give a whole number from 1"),
        ("", {"weights": "step", "span": 6}, "blocks are those of step weights"),
        ("", {"weights": "step", "blocks": [2, 2], "span": 6}, "the blocks hold 4 lags, the span 6"),
        ("", {"weights": "flat", "span": 6, "pinned": "both"}, "flat weights have no pinned. It belongs to polynomial"),
        ("", {"weights": "polynomial", "span": 6, "degree": 1, "pinned": "both"}, "zero there is zero throughout"),
        ("", {"weights": "beta", "span": 6, "lags": [0, 1]}, "lags do not go together"),
        ("", {"skip": 2}, "skip belongs to weights"),
        ("", {"weights": "polynomial", "span": 6, "degree": 2, "sign": "positive"}, "no coefficient of its own"),
        ("", {"combine": "median"}, "found 'median'. Allowed: sum, mean, last"),
    ],
)
def test_what_cannot_be_matched_is_one_clear_message(what, keys, words):
    with pytest.raises(of.InputError, match=words):
        model(**keys).fit(broken(what))


def test_a_date_before_all_releases_and_one_after_the_outcome_are_refused():
    data, *_ = world()
    with pytest.raises(
        of.InputError, match=r"nothing of the target was known on 2004-01-01: .* released on 2005-04-01"
    ):
        model(weights="beta", span=6).fit(data, as_of="2004-01-01")
    with pytest.raises(of.InputError, match="which is not a date"):
        model(weights="beta", span=6).fit(data, as_of="soon")
    with pytest.raises(of.InputError, match="2024-Q4 is published on 2025-02-01"):
        of.nowcast(model(weights="beta", span=6), data, ["2025-02-01"], period="2024-12-01")
    with pytest.raises(of.InputError, match="not in their order"):
        of.nowcast(model(weights="beta", span=6), data, ["2024-12-01", "2024-11-01"])


def test_smooth_weights_learn_their_strength_by_restricted_likelihood():
    data, y, _, lags = world()
    fit = model(weights="smooth", span=SPAN).fit(data)
    second = np.diff(np.eye(SPAN), n=2, axis=0)
    line = np.column_stack([np.ones(SPAN), np.arange(SPAN)])
    free, drawn = plain_design(lags @ line), lags @ np.linalg.pinv(second)

    def deviance(logs):
        whole = np.eye(N) + np.exp(logs[0]) * drawn @ drawn.T
        inner = np.linalg.inv(whole)
        own = free.T @ inner @ free
        left = y - free @ np.linalg.solve(own, free.T @ inner @ y)
        fit_of = (N - 4) * np.log(left @ inner @ left) + np.linalg.slogdet(whole)[1] + np.linalg.slogdet(own)[1]
        return fit_of - logs[0]  # the likelihood times the spread, which keeps it from zero

    best = minimize(deviance, [-4.0], method="Nelder-Mead", options={"xatol": 1e-9, "fatol": 1e-12}).x[0]
    assert next(iter(fit.ratios.values())) == pytest.approx(np.exp(best), rel=1e-4)


@pytest.mark.parametrize("unreleased", ["expected", "shifted"])
@pytest.mark.parametrize("keys", [{"between": "repeat", "skip": 1}, {"between": "linear"}, {"between": "smooth"}])
def test_a_slow_value_counts_only_when_it_is_out(keys, unreleased):
    generator = np.random.default_rng(4)
    people, noise = 300.0 + np.cumsum(generator.normal(size=32)), generator.normal(size=96)
    months = pd.period_range("2015-01", periods=96, freq="M")

    def ahead(values):
        tables = {
            "shop": of.read(pd.DataFrame({"sold": 5.0 + 0.3 * np.repeat(people, 3) + noise}, months)),
            "town": of.read(
                pd.DataFrame({"people": values}, pd.period_range("2015Q1", periods=len(values), freq="Q")),
                release_delay="30 days",
            ),
        }
        model = of.Model("shop.sold", [of.Driver("town.people", **keys)])
        return model.fit(tables, as_of="2022-04-20").forecast(5, unreleased=unreleased).table.to_numpy()

    hostile = people.copy()
    hostile[28:] = 1e6  # the first quarter of 2022 comes out on the last of April
    assert np.array_equal(ahead(people), ahead(hostile))
    assert np.allclose(ahead(people), ahead(people[:28]), rtol=1e-10)
    moved = people.copy()
    moved[27] += 5.0
    assert not np.allclose(ahead(people), ahead(moved))


def test_what_is_not_out_counts_in_interactions_too():
    data, *_ = world(quarters=N - 1)
    terms = [of.Season(harmonics=1), of.Driver("charter.index", weights="flat", span=6)]
    alone = of.Model("yard.orders", terms).fit(data, as_of="2024-10-23")
    fit = of.Model("yard.orders", [*terms, of.Interaction(["index", "season"])]).fit(data, as_of="2024-10-23")
    ahead = fit.forecast(2)
    (outlook,) = ahead.outlooks
    paths = np.vstack(list(outcome_paths(outlook.ahead)))[:400]
    moved = []
    for path in paths:
        view = ahead.view.expecting("charter.index", outlook.axis.first, path)
        moved.append(fit.columns(view, ahead.axis).linearised(fit.estimate.beta)[1])
    assert np.allclose(np.var(moved, axis=0), np.square(outlook.cov_root).sum(axis=0), rtol=0.3)
    assert alone.forecast(2).outlooks[0].cov_root.shape[1] == 2
