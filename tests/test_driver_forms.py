"""Drivers that act beyond a base, carry over, or saturate: true shapes come back, and contributions still add up."""

import numpy as np
import pandas as pd
import pytest

import offing as of

N = 260
WEEKS = pd.date_range("2020-01-06", periods=N, freq="7D")
TRUTH = {
    "promo: share carried over to the next period": 0.6,
    "temp: base below": 14.0,
    "ads: half of the most at": 50.0,
    "promo, carried over": 4.0,
    "temp below a base": 2.5,
    "ads, saturating": 60.0,
}


def made(seed, spread=3.0):
    """Weeks of sales in which promotions carry over, cold acts below 14 degrees and advertising saturates."""
    generator = np.random.default_rng(seed)
    promo = (generator.random(N + 20) < 0.15) * generator.gamma(3.0, 1.0, N + 20)
    temp = 12.0 + 9.0 * np.cos(2.0 * np.pi * np.arange(N) / 52.18) + generator.normal(0.0, 3.0, N)
    ads = generator.gamma(2.0, 30.0, N)
    stock = np.zeros(N + 20)
    for t in range(N + 20):
        stock[t] = promo[t] + (0.6 * stock[t - 1] if t else 0.0)
    sold = 100.0 + 4.0 * stock[20:] + 2.5 * np.maximum(14.0 - temp, 0.0) + 60.0 * ads / (ads + 50.0)
    sold += generator.normal(0.0, spread, N)
    return pd.DataFrame({"sold": sold, "promo": promo[20:], "temp": temp, "ads": ads}, WEEKS)


def terms():
    return [
        of.Driver("promo", carry_over="estimated"),
        of.Driver("temp", below="estimated"),
        of.Driver("ads", saturation="estimated"),
    ]


def fitted(frame, own=None, **more):
    return of.Model("sold", terms=terms() if own is None else own, **more).fit(of.read(frame, stamp="start"))


def test_shapes_and_effects_are_recovered_with_the_stated_coverage():
    inside = {column: [] for column in TRUTH}
    for seed in range(100):
        shown = fitted(made(seed)).coefficients.set_index("column")
        for column, true in TRUTH.items():
            inside[column].append(shown.loc[column, "low"] <= true <= shown.loc[column, "high"])
    shares = {column: np.mean(each) for column, each in inside.items()}
    # 100 series leave a standard error of 2 % around 95 %.
    assert min(shares.values()) >= 0.89, shares
    assert 0.925 <= np.mean(list(shares.values())) <= 0.985, shares


@pytest.mark.parametrize("errors", [None, "ar"])
def test_shapes_add_up_in_history_and_forecast(errors):
    frame = made(1)
    fit = fitted(frame.iloc[:240], errors=errors)
    plan = of.read(frame.iloc[240:].drop(columns="sold"), stamp="start", name="plan.csv")
    ahead = fit.forecast(20, plan=plan)
    for result in (fit.contributions, ahead.contributions):
        np.testing.assert_allclose(result.values.sum(axis=0), result.mean, rtol=1e-12)
    inside = (ahead.table["q0.025"] <= frame["sold"].iloc[240:]) & (frame["sold"].iloc[240:] <= ahead.table["q0.975"])
    assert inside.mean() >= 0.8
    # Contributions have the mean zero over the fitted rows, from where drivers are measured; promotions, of which most
    # weeks have none, are measured from zero, but for what was carried in.
    np.testing.assert_allclose(fit.contributions.values[2:4].mean(axis=1), 0.0, atol=1e-8)
    promo = fit.contributions.wide["promo"].to_numpy()
    assert promo.mean() > 2.0
    assert promo[8:].min() > -0.1


def test_standard_errors_of_shapes_are_those_of_nonlinear_least_squares():
    frame = made(3)
    fit = fitted(frame)
    beta = fit.estimate.beta.copy()

    def mean_at(values):
        return fit.rows.linearised(values)[1]

    jacobian = np.empty((N, len(beta)))
    for i in range(len(beta)):
        step = 1e-6 * max(abs(beta[i]), 1.0)
        up, down = beta.copy(), beta.copy()
        up[i], down[i] = beta[i] + step, beta[i] - step
        jacobian[:, i] = (mean_at(up) - mean_at(down)) / (2.0 * step)
    np.testing.assert_allclose(fit.design, jacobian, rtol=1e-5, atol=1e-5)
    residual = frame["sold"].to_numpy() - mean_at(beta)
    # The solution is stationary, and its errors are those of the Jacobian (delta method).
    assert (
        np.abs(jacobian.T @ residual).max() < 1e-4 * np.linalg.norm(residual) * np.linalg.norm(jacobian, axis=0).max()
    )
    variance = residual @ residual / (N - len(beta))
    errors = np.sqrt(np.diag(np.linalg.inv(jacobian.T @ jacobian)) * variance)
    np.testing.assert_allclose(fit.coefficients["std_error"].astype(float), errors[_order(fit)], rtol=1e-4)


def _order(fit):
    """Places of the coefficients in the order of the table."""
    return [int(np.flatnonzero(function)[0]) for *_, function in fit.layout.readout()]


@pytest.mark.parametrize(
    ("driver", "column"),
    [
        (of.Driver("temp", below=14.0), lambda d: np.maximum(14.0 - d["temp"], 0.0)),
        (of.Driver("temp", above=14.0, lags=[0]), lambda d: np.maximum(d["temp"] - 14.0, 0.0)),
        (of.Driver("ads", saturation=50.0), lambda d: d["ads"] / (d["ads"] + 50.0)),
        (of.Driver("temp", lags=[-1]), lambda d: d["temp"].shift(-1)),
        (of.Driver("temp", below=14.0, lags=[2]), lambda d: np.maximum(14.0 - d["temp"].shift(2), 0.0)),
    ],
)
def test_stated_forms_are_plain_columns(driver, column):
    frame = made(4)
    fit = fitted(frame, [driver])
    own = column(frame).to_numpy()
    known = np.isfinite(own)
    slope, constant = np.polyfit(own[known], frame["sold"].to_numpy()[known], 1)
    np.testing.assert_allclose(fit.estimate.beta, [constant, slope], rtol=1e-9)


def test_a_stated_carry_over_is_a_recursion_with_what_was_carried_in():
    frame = made(5)
    fit = fitted(frame, [of.Driver("promo", carry_over=0.6)])
    stock = np.zeros(N)
    for t in range(N):
        stock[t] = frame["promo"].iloc[t] + (0.6 * stock[t - 1] if t else 0.0)
    design = np.column_stack([np.ones(N), stock, 0.6 ** np.arange(1, N + 1)])
    np.testing.assert_allclose(fit.estimate.beta, np.linalg.lstsq(design, frame["sold"], rcond=None)[0], rtol=1e-8)
    assert fit.layout.names == ["constant", "promo, carried over", "promo, carried over, before the data"]


def test_shapes_that_the_data_do_not_show_are_reported():
    frame = made(6)
    frame["idle"] = np.random.default_rng(9).gamma(2.0, 1.0, N)
    found = fitted(frame, [*terms(), of.Driver("idle", saturation="estimated")]).findings
    noted = [finding for finding in found if finding.check == "shape"]
    assert {finding.term for finding in noted} == {"idle"}
    assert not [finding for finding in fitted(frame).findings if finding.check == "shape"]


def test_nothing_leaks_from_later_values():
    frame = made(7)
    past = frame.assign(sold=frame["sold"].where(np.arange(N) < 240))
    hostile = past.copy()
    hostile.iloc[240:, 1:] = [1e6, -1e6, 1e6]
    noted = [fitted(each).estimate.beta for each in (past, hostile, frame.iloc[:240])]
    assert np.array_equal(noted[0], noted[1])
    np.testing.assert_allclose(noted[0], noted[2], rtol=1e-9)


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (lambda: of.Driver("a", above=[1.0, 2.0], saturation=3.0), "a driver for each base"),
        (lambda: of.Driver("a", above=[1.0, 1.0]), "different numbers"),
        (lambda: of.Driver("a", curve="wavy"), "rising"),
        (lambda: of.Driver("a", curve="smooth", lags=[1]), "any shape by itself"),
        (lambda: of.Driver("a", curve="rising", sign="positive"), "no coefficient of its own"),
        (lambda: of.Driver("a", lags=[0, 1, 2], lag_degree=3), "from 0 to 2"),
        (lambda: of.Driver("a", lags=[0, 2, 4], lag_degree=1), "in a row"),
        (lambda: of.Driver("a", carry_over=1.5), "found 1.5. Give a number from 0 to 0.98"),
        (lambda: of.Driver("a", carry_over="guessed"), "found 'guessed'"),
        (lambda: of.Driver("a", carry_over=0.5, lags=[0, 1]), "a carry-over acts in later periods by itself"),
        (lambda: of.Driver("a", above="estimated", lags=[0, 1]), "an estimated shape and lags do not go together"),
        (lambda: of.Driver("a", saturation=0.0), "found 0.0"),
        (lambda: fitted(made(1), [of.Driver("temp", saturation="estimated")]), "what saturates starts at 0"),
        (
            lambda: fitted(
                made(1).assign(promo=lambda d: d["promo"].where(d.index != d.index[9])),
                [of.Driver("promo", carry_over="estimated")],
            ),
            "a carry-over needs all of them",
        ),
        (
            lambda: fitted(made(1), [of.Driver("ads", transform=["difference"], above=0.0)]),
            "these are changes of values",
        ),
    ],
)
def test_forms_that_do_not_go_together_are_refused(make, message):
    with pytest.raises(of.InputError, match=message):
        make()


def test_a_response_show_elasticities_over_the_range_and_what_drivers_do_together():
    """A constant elasticity is one at every value; an interaction bends the response by what it is held beside."""
    generator = np.random.default_rng(2)
    n = 200
    fare, rain = generator.uniform(10.0, 30.0, n), generator.uniform(0.0, 5.0, n)
    days = pd.date_range("2023-01-01", periods=n, freq="D")
    sold = 900.0 * fare**-0.7 * np.exp(generator.normal(0.0, 0.01, n))
    data = pd.DataFrame({"sold": sold, "fare": fare, "rain": rain}, days)
    fit = of.Model("sold", scale="log", terms=[of.Driver("fare", transform=["log"])]).fit(data)
    table = of.response(fit).table
    slope = fit.coefficients["coefficient"].iloc[1]
    assert table["elasticity"].to_numpy() == pytest.approx(slope, rel=1e-3)
    data["sold"] = 200.0 - 2.0 * fare + 3.0 * rain - 0.5 * fare * rain + generator.normal(0.0, 0.1, n)
    terms = [of.Driver("fare"), of.Driver("rain"), of.Interaction(["fare", "rain"])]
    fit = of.Model("sold", terms=terms).fit(data)
    for held in (0.0, 4.0):
        found = of.response(fit, "fare", beside={"rain": held})
        slope = np.polyfit(found.value, found.effect, 1)[0]
        assert slope == pytest.approx(-2.0 - 0.5 * held, rel=0.02)
        assert f"with 'rain' at {held:g}" in found.sentence
    found = of.sensitivity(fit.forecast(5, plan=data.iloc[:5].set_index(days[-1] + pd.to_timedelta(range(1, 6), "D"))))
    assert len(found.interactions) == 1, "what the two do together is reported"
