"""Bases that keep their order, powers, caps and extremes of two drivers: truths, least squares by hand, refusals."""

import numpy as np
import pandas as pd
import pytest
from scipy.optimize import least_squares

import offing as of

N = 400
DAYS = pd.date_range("2022-01-01", periods=N + 5, freq="D")


def building(seed=3, heating=15.0, cooling=20.0, shared=1.5):
    """Load of a building: heating below a base, more of it where people are, and cooling above another."""
    generator = np.random.default_rng(seed)
    temp = 12 + 10 * np.sin(np.arange(N + 5) / 58) + generator.normal(0, 3, N + 5)
    busy = generator.integers(0, 2, N + 5).astype(float)
    load = 50 + 3 * np.maximum(heating - temp, 0) + 2 * np.maximum(temp - cooling, 0) + 4 * busy
    load += shared * busy * np.maximum(heating - temp, 0)
    return pd.DataFrame({"load": load + generator.normal(0, 2, N + 5), "truth": load, "temp": temp, "busy": busy}, DAYS)


BOTH = of.Driver("temp", above="estimated", below="estimated")


def test_the_standard_building_model_finds_its_bases_and_their_interaction():
    data = building()
    model = of.Model("load", [BOTH, of.Driver("busy"), of.Interaction(["temp", "busy"])])
    fit = model.fit(data.iloc[:N])
    rows = fit.coefficients.set_index("column")
    truth = {
        "temp below a base": 3.0,
        "temp above a base": 2.0,
        "busy": 4.0,
        "temp below a base x busy": 1.5,
        "temp above a base x busy": 0.0,
        "temp: base below": 15.0,
        "temp: base above": 20.0,
    }
    for name, value in truth.items():
        assert rows.loc[name, "low"] < value < rows.loc[name, "high"], name
    ahead = fit.forecast(5, plan=data[["temp", "busy"]].iloc[N:])
    assert ahead.mean == pytest.approx(data["truth"].to_numpy()[N:], abs=1.5)
    for found, mean in ((ahead.contributions, ahead.mean), (fit.contributions, fit.means)):
        assert np.allclose(found.values.sum(axis=0), mean, rtol=1e-10)
    # The interaction shares the driver's bases: no coefficient of its own, and the least squares of all seven at once.
    assert fit.layout.k == 8
    temp, busy, load = (data[name].to_numpy()[:N] for name in ("temp", "busy", "load"))
    width = 0.04 * np.diff(np.quantile(temp, [0.1, 0.9]))[0]

    def left(theta):
        below = width * np.logaddexp(0.0, (theta[0] - temp) / width)
        above = width * np.logaddexp(0.0, (temp - theta[1]) / width)
        design = np.column_stack([np.ones(N), above, below, busy, above * busy, below * busy])
        return load - design @ np.linalg.lstsq(design, load, rcond=None)[0]

    by_hand = least_squares(left, [14.0, 21.0], xtol=1e-12, ftol=1e-12, gtol=1e-12)
    assert fit.estimate.rss == pytest.approx(2.0 * by_hand.cost, rel=1e-9)
    assert rows.loc[["temp: base below", "temp: base above"], "coefficient"].tolist() == pytest.approx(
        by_hand.x, rel=1e-4
    )


@pytest.mark.parametrize(("heating", "cooling"), [(16.0, 16.0), (18.0, 18.0), (20.0, 20.0), (19.0, 17.0)])
def test_bases_that_the_data_would_cross_stay_apart_and_that_is_reported(heating, cooling):
    """Where heating ends and cooling starts at once; the best fit of all ordered pairs comes from a search by hand."""
    data = building(heating=heating, cooling=cooling, shared=0.0).iloc[:N]
    fit = of.Model("load", [BOTH]).fit(data)
    rows = fit.coefficients.set_index("column")["coefficient"]
    temp, load = data["temp"].to_numpy(), data["load"].to_numpy()
    width = 0.04 * np.diff(np.quantile(temp, [0.1, 0.9]))[0]

    def left(theta):
        pair = [
            width * np.logaddexp(0.0, sign * (temp - base) / width) for sign, base in ((-1, theta[0]), (1, theta[1]))
        ]
        design = np.column_stack([np.ones(N), *pair])
        return load - design @ np.linalg.lstsq(design, load, rcond=None)[0]

    best = min(
        least_squares(
            lambda gap_and_base: left([gap_and_base[1], gap_and_base[0] + gap_and_base[1]]),
            [gap, base],
            bounds=([width, 5.0], [20.0, 25.0]),
            xtol=1e-12,
            ftol=1e-12,
            gtol=1e-12,
        ).cost
        for gap in (1.1 * width, 3.0, 8.0)
        for base in (12.0, 16.0, 20.0)
    )
    assert rows["temp: base above"] - rows["temp: base below"] >= width * (1.0 - 1e-9)
    assert fit.estimate.rss == pytest.approx(2.0 * best, rel=1e-6)
    assert fit.estimate.beta[0] == pytest.approx(50.0, abs=8.0)
    if rows["temp: base above"] - rows["temp: base below"] < width * (1.0 + 1e-6):
        assert any("distance between its bases" in each.message for each in fit.findings)


def test_an_estimated_power_lies_between_its_bounds():
    generator = np.random.default_rng(1)
    x = generator.gamma(2.0, 3.0, 300)
    x[5] = 0.0
    data = pd.DataFrame({"sold": 10 + 2 * x**0.6 + generator.normal(0, 0.2, 300), "x": x}, DAYS[:300])
    fit = of.Model("sold", [of.Driver("x", transform=[{"power": "estimated", "between": [0.2, 2.0]}])]).fit(data)
    rows = fit.coefficients.set_index("column")
    assert rows.loc["x: power", "low"] < 0.6 < rows.loc["x: power", "high"]

    def left(theta):
        return 10.0 * 0.0 + theta[0] + theta[1] * x ** theta[2] - data["sold"].to_numpy()

    by_hand = least_squares(left, [9.0, 1.0, 1.0], xtol=1e-14, ftol=1e-14, gtol=1e-14)
    assert rows["coefficient"].tolist() == pytest.approx(by_hand.x.tolist(), rel=1e-5)
    covariance = np.linalg.inv(by_hand.jac.T @ by_hand.jac) * 2.0 * by_hand.cost / 297
    assert rows["std_error"].tolist() == pytest.approx(np.sqrt(np.diag(covariance)).tolist(), rel=1e-4)
    narrow = of.Model("sold", [of.Driver("x", transform=[{"power": "estimated", "between": [0.8, 2.0]}])]).fit(data)
    assert narrow.coefficients.set_index("column").loc["x: power", "coefficient"] == pytest.approx(0.8)
    assert any("'x: power': it lies at the edge" in each.message for each in narrow.findings)
    curve = of.response(fit, "x").table
    assert np.isfinite(curve.select_dtypes("number").drop(columns="elasticity", errors="ignore")).all(axis=None)


STEPS = {
    "square root": ([{"power": 0.5}], lambda x, w: np.sqrt(x), "power 0.5 of x"),
    "inverse": ([{"power": -1}], lambda x, w: 1.0 / x, "power -1 of x"),
    "cap": ([{"at_most": 4.0}], lambda x, w: np.minimum(x, 4.0), "at most 4: x"),
    "floor": ([{"at_least": 2}], lambda x, w: np.maximum(x, 2.0), "at least 2: x"),
    "both": ([{"at_least": 2.0}, {"at_most": 5.0}, "log"], lambda x, w: np.log(np.clip(x, 2.0, 5.0)), None),
    "smaller": ([{"minimum_with": "w"}], np.minimum, "smaller of w and x"),
    "larger": ([{"maximum_with": "w"}], np.maximum, "larger of w and x"),
}


@pytest.mark.parametrize("case", STEPS)
def test_steps_are_what_numpy_makes_of_the_values(case):
    steps, by_hand, name = STEPS[case]
    generator = np.random.default_rng(2)
    x, w = generator.gamma(3.0, 1.0, (2, 125))
    column = by_hand(x, w)
    data = pd.DataFrame({"sold": 3.0 + 2.0 * column + generator.normal(0, 0.1, 125), "x": x, "w": w}, DAYS[:125])
    fit = of.Model("sold", [of.Driver("x", transform=steps)]).fit(data.iloc[:120])
    design = np.column_stack([np.ones(120), column[:120]])
    beta = np.linalg.lstsq(design, data["sold"].to_numpy()[:120], rcond=None)[0]
    assert fit.coefficients["coefficient"].tolist() == pytest.approx(beta.tolist(), rel=1e-9)
    assert name is None or name in fit.coefficients["column"].tolist()
    ahead = fit.forecast(5, plan=data[["x", "w"]].iloc[120:])
    assert ahead.mean == pytest.approx(beta[0] + beta[1] * column[120:], rel=1e-9)
    part = ahead.contributions.table.query("term == 'x'")["contribution"]
    assert part.tolist() == pytest.approx((beta[1] * (column[120:] - column[:120].mean())).tolist(), rel=1e-8, abs=1e-9)


REFUSED = [
    ([{"power": 0}], "other than 0"),
    ([{"power": 9}], "from −5 to 5"),
    ([{"power": "estimated"}], "two bounds"),
    ([{"power": "estimated", "between": [2, 1]}], "two bounds"),
    ([{"power": 2, "between": [1, 2]}], "stated power"),
    ([{"power": "estimated", "between": [0.5, 1]}, "log"], "comes last"),
    ([{"at_most": "x"}], "Give a number"),
    ([{"minimum_with": 3}], "Give a text"),
]


@pytest.mark.parametrize(("steps", "words"), REFUSED)
def test_slips_are_refused(steps, words):
    with pytest.raises(of.InputError, match=words):
        of.Driver("x", transform=steps)


def test_values_without_such_a_power_and_targets_are_refused():
    data = building().iloc[:60]
    with pytest.raises(of.InputError, match=r"of which there is no power 0\.5"):
        of.Model("load", [of.Driver("temp", transform=[{"power": 0.5}])]).fit(data.assign(temp=data["temp"] - 30))
    with pytest.raises(of.InputError, match="is for drivers, not for the target"):
        of.Model("load", transform=[{"at_most": 3.0}])
    with pytest.raises(of.InputError, match="row of its own"):
        of.Model("load", [BOTH, of.Driver("busy"), of.Interaction(["temp", "busy"], shared=True)]).fit(data)
