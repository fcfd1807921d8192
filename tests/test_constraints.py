"""What is asked of coefficients beforehand, robust losses and weights by age: against independent computation."""

from itertools import product

import numpy as np
import pandas as pd
import pytest
from scipy.linalg import toeplitz
from scipy.optimize import minimize
from scipy.stats import t as student

import offing as of

NAMES = list("abcd")


def frame(n=120, seed=1, beta=(1.0, -0.05, 0.5, 0.2), phi=0.0, wild=0):
    generator = np.random.default_rng(seed)
    x = generator.normal(size=(n, 4)) @ (np.eye(4) + 0.3)
    shock = generator.normal(size=n)
    for t in range(1, n):
        shock[t] += phi * shock[t - 1]
    shock[generator.choice(n, wild, replace=False)] += 12.0
    return pd.DataFrame(x, pd.date_range("2022-01-03", periods=n, freq="7D"), NAMES).assign(y=5.0 + x @ beta + shock)


def arrays(data):
    return np.column_stack([np.ones(len(data)), data[NAMES]]), data["y"].to_numpy()


def drivers(**constraints):
    return [of.Driver(name, **constraints.get(name, {})) for name in NAMES]


def rows(fit):
    return fit.coefficients.set_index("column")


@pytest.mark.parametrize("seed", range(6))
def test_bounds_give_the_best_of_all_active_sets(seed):
    data = frame(60, seed, beta=(0.1, -0.2, 0.3, -0.1))
    x, y = arrays(data)
    bounds = {"a": (-np.inf, 0.0), "b": (0.0, np.inf), "c": (0.1, 0.2), "d": (-np.inf, np.inf)}
    best = (np.inf, None)
    for choice in product((None, 0, 1), repeat=3):
        held = {1 + i: bounds[NAMES[i]][side] for i, side in enumerate(choice) if side is not None}
        if not np.isfinite(list(held.values())).all():
            continue
        free = [j for j in range(5) if j not in held]
        beta = np.zeros(5)
        beta[list(held)] = list(held.values())
        beta[free] = np.linalg.lstsq(x[:, free], y - x @ beta, rcond=None)[0]
        inside = all(low - 1e-12 <= beta[1 + i] <= high + 1e-12 for i, (low, high) in enumerate(bounds.values()))
        rss = float(np.square(y - x @ beta).sum())
        if inside and rss < best[0]:
            best = (rss, beta)
    constraints = {"a": {"sign": "negative"}, "b": {"sign": "positive"}, "c": {"at_least": 0.1, "at_most": 0.2}}
    fit = of.Model("y", terms=drivers(**constraints)).fit(data)
    assert np.allclose(fit.estimate.beta, best[1], rtol=1e-10, atol=1e-12)
    table = rows(fit)
    unconstrained = np.linalg.lstsq(x, y, rcond=None)[0]
    error = np.sqrt(fit.estimate.variance * np.diag(np.linalg.inv(x.T @ x)))
    reach = student.ppf(0.975, fit.estimate.dof) * error
    for i, (low, high) in enumerate(bounds.values(), 1):
        cut = max(unconstrained[i] - reach[i], low), min(unconstrained[i] + reach[i], high)
        noted = table.iloc[i][["low", "high"]].to_numpy(float)
        if table["status"].iloc[i] == "at bound" or np.isfinite([low, high]).any():
            assert np.allclose(noted, cut if cut[0] <= cut[1] else np.nan, equal_nan=True)
    wide = fit.contributions
    assert np.allclose(wide.values.sum(axis=0), wide.mean)


def test_a_sign_that_the_data_contradict_is_said_and_one_that_they_do_not_is_only_noted():
    data = frame(200, 3, beta=(1.0, 0.02, 0.0, 0.2))
    fit = of.Model("y", terms=drivers(a={"sign": "negative"}, b={"sign": "negative"})).fit(data)
    said = {finding.term: finding for finding in fit.findings if finding.check == "sign"}
    assert said["a"].severity == "warning"
    assert "contradict" in said["a"].message
    assert rows(fit).loc["a", ["low", "high"]].isna().all()
    kept = of.Model("y", terms=drivers(a={"sign": "positive"})).fit(data)
    assert not [finding for finding in kept.findings if finding.check == "sign"]
    assert rows(kept).loc["a", "status"] == "estimated"
    tiny = frame(60, 8, beta=(1.0, -0.01, 0.5, 0.2))
    wrong = "negative" if of.Model("y", terms=drivers()).fit(tiny).estimate.beta[2] > 0.0 else "positive"
    held = of.Model("y", terms=drivers(b={"sign": wrong})).fit(tiny)
    (note,) = [finding for finding in held.findings if finding.check == "sign"]
    assert note.severity == "note"
    band = held.contributions.table.query("term == 'b'")
    assert (band["contribution"] == 0.0).all()
    moved = (tiny["b"].to_numpy() - tiny["b"].mean()) * (1.0 if wrong == "positive" else -1.0)
    assert np.allclose(np.where(moved > 0, band["low"], band["high"]), 0.0), "no wrong sign is drawn"
    assert (np.where(moved > 0, band["high"], -band["low"]) > 0.0).all()


def test_a_shape_with_a_sign_keeps_it():
    generator = np.random.default_rng(2)
    x = generator.gamma(1.0, 2.0, 300)
    carried = np.zeros(300)
    for t in range(300):
        carried[t] = x[t] + (0.6 * carried[t - 1] if t else 0.0)
    index = pd.date_range("2020-01-06", periods=300, freq="7D")
    data = pd.DataFrame({"y": 3.0 + 0.4 * carried + generator.normal(0.0, 0.5, 300), "x": x}, index)
    term = of.Driver("x", carry_over="estimated", sign="positive")
    fit = of.Model("y", terms=[term]).fit(data)
    assert rows(fit).loc["x: share carried over to the next period", "coefficient"] == pytest.approx(0.6, abs=0.05)
    wrong = of.Model("y", terms=[of.Driver("x", carry_over="estimated", sign="negative")]).fit(data)
    assert rows(wrong).loc["x, carried over", "coefficient"] == 0.0
    assert {"sign", "shape"} <= {finding.check for finding in wrong.findings}


@pytest.mark.parametrize("phi", [0.0, 0.6])
def test_ridge_learns_its_strength_with_the_noise(phi):
    """The restricted likelihood of strength and dynamics, dense, has no better place nearby; coefficients follow it."""
    data = frame(100, 5, beta=(0.3, 0.2, 0.4, 0.1), phi=phi)
    x, y = arrays(data)
    errors = "ar" if phi else "independent"
    terms = [of.Driver(name, shrink_with="all") for name in NAMES]
    fit = of.Model("y", terms=terms, errors=errors).fit(data)
    scale = 1.0 / x[:, 1:].std(axis=0)

    def covariance(parameters):
        noise = toeplitz(parameters[1] ** np.arange(100)) / (1.0 - parameters[1] ** 2) if phi else np.eye(100)
        return noise + np.exp(parameters[0]) * (x[:, 1:] * scale) @ (x[:, 1:] * scale).T

    def deviance(parameters):
        inverse = np.linalg.inv(covariance(parameters))
        one = np.ones(100)
        middle = one @ inverse @ one
        left = y - one @ inverse @ y / middle
        spread = np.log(left @ inverse @ left) * 99 + np.linalg.slogdet(covariance(parameters))[1] + np.log(middle)
        return spread - parameters[0]  # a spread of zero is kept away

    here = np.array([np.log(fit.ratios["all"]), *(fit.estimate.chain.phi if phi else ())])
    climbed = minimize(deviance, here, method="Nelder-Mead", options={"xatol": 1e-7, "fatol": 1e-11})
    assert np.allclose(climbed.x, here, atol=2e-4)
    inverse = np.linalg.inv(covariance(here))
    middle = (np.ones(100) @ inverse @ y) / (np.ones(100) @ inverse @ np.ones(100))
    drawn = np.exp(here[0]) * np.square(scale) * (x[:, 1:].T @ inverse @ (y - middle))
    assert np.allclose(rows(fit)["coefficient"].iloc[:5], [middle, *drawn], rtol=1e-9)
    assert np.abs(drawn).sum() < np.abs(np.linalg.lstsq(x, y, rcond=None)[0][1:]).sum()


@pytest.mark.parametrize("errors", ["independent", "ar"])
def test_an_expectation_is_combined_as_in_bayes_linear_regression(errors):
    data = frame(60, 4, phi=0.4 if errors == "ar" else 0.0)
    x, y = arrays(data)
    constraints = {"c": {"expected": 0.9, "give_or_take": 0.1}, "a": {"expected": 0.5, "give_or_take": 0.5}}
    fit = of.Model("y", terms=drivers(**constraints), errors=errors).fit(data)
    s2 = fit.estimate.variance
    phi = fit.estimate.chain.phi[0] if errors == "ar" else 0.0
    noise = s2 * toeplitz(phi ** np.arange(60)) / (1.0 - phi**2)
    precision = np.diag([0.0, 1 / 0.25, 0.0, 1 / 0.01, 0.0])
    inverse = np.linalg.inv(noise)
    posterior = np.linalg.inv(x.T @ inverse @ x + precision)
    mean = posterior @ (x.T @ inverse @ y + precision @ [0.0, 0.5, 0.0, 0.9, 0.0])
    assert np.allclose(fit.estimate.beta, mean, rtol=1e-9)
    assert np.allclose(fit.estimate.standard_errors(np.eye(5)), np.sqrt(np.diag(posterior)), rtol=1e-8)

    def deviance(logs):
        """Minus twice the restricted likelihood of the noise, the expectation taken as given."""
        part = np.exp(logs[0]) * (toeplitz(phi ** np.arange(60)) / (1.0 - phi**2))
        part = part + x[:, [1, 3]] @ np.diag([0.25, 0.01]) @ x[:, [1, 3]].T
        free = x[:, [0, 2, 4]]
        inner = np.linalg.inv(part)
        left = y - x[:, [1, 3]] @ [0.5, 0.9]
        left = left - free @ np.linalg.solve(free.T @ inner @ free, free.T @ inner @ left)
        return left @ inner @ left + np.linalg.slogdet(part)[1] + np.linalg.slogdet(free.T @ inner @ free)[1]

    best = minimize(deviance, [0.0], method="Nelder-Mead", options={"xatol": 1e-9, "fatol": 1e-12}).x[0]
    assert np.exp(best) == pytest.approx(s2, rel=1e-5)


def test_an_expectation_that_the_data_deny_is_a_finding():
    data = frame(200, 6)
    far = of.Model("y", terms=drivers(a={"expected": 5.0, "give_or_take": 0.2})).fit(data)
    assert [finding.term for finding in far.findings if finding.check == "expectation"] == ["a"]
    near = of.Model("y", terms=drivers(a={"expected": 1.1, "give_or_take": 0.2})).fit(data)
    assert not [finding for finding in near.findings if finding.check == "expectation"]
    strong = of.Model("y", terms=drivers(a={"expected": 5.0, "give_or_take": 1e-4})).fit(data)
    assert rows(strong).loc["a", "coefficient"] == pytest.approx(5.0, abs=1e-2)
    unconstrained = of.Model("y", terms=drivers(a={"expected": 5.0, "give_or_take": 1e4})).fit(data)
    plain = of.Model("y", terms=drivers()).fit(data)
    assert np.allclose(rows(unconstrained)["coefficient"], rows(plain)["coefficient"], rtol=1e-4)


@pytest.mark.parametrize("loss", ["huber", "tukey"])
def test_a_robust_loss_solves_its_equations_and_forgets_wild_values(loss):
    data = frame(150, 7, wild=8)
    x, y = arrays(data)
    fit = of.Model("y", terms=drivers(), loss=loss).fit(data)
    beta, scale = fit.estimate.beta, np.sqrt(fit.estimate.variance)

    def psi(z):
        return np.clip(z, -1.345, 1.345) if loss == "huber" else z * np.maximum(1.0 - (z / 4.685) ** 2, 0.0) ** 2

    z = (y - x @ beta) / scale
    assert np.abs(x.T @ psi(z)).max() < 1e-7 * np.abs(x.T @ np.abs(psi(z))).max()
    if loss == "huber":
        assert scale == pytest.approx(1.4826 * np.median(np.abs(y - x @ beta)), rel=1e-8)
    step = 1e-6
    slope = (psi(z + step) - psi(z - step)) / (2 * step)
    grown = 1.0 + 5 / 150 * slope.var() / slope.mean() ** 2
    factor = (grown * scale) ** 2 * np.square(psi(z)).sum() / 145 / slope.mean() ** 2
    error = np.sqrt(factor * np.diag(np.linalg.inv(x.T @ x)))
    assert np.allclose(rows(fit)["std_error"], error, rtol=2e-2)
    clean = frame(150, 7)
    squares = of.Model("y", terms=drivers()).fit(data).estimate.beta
    truth = of.Model("y", terms=drivers()).fit(clean).estimate.beta
    assert np.abs(beta - truth).max() < 0.35 * np.abs(squares - truth).max()


def test_robust_intervals_cover():
    hits = np.zeros(4)
    for seed in range(100):
        fit = of.Model("y", terms=drivers(), loss="tukey").fit(frame(80, seed, wild=5))
        low, high = rows(fit)[["low", "high"]].to_numpy()[1:].T
        hits += (low <= [1.0, -0.05, 0.5, 0.2]) & (high >= [1.0, -0.05, 0.5, 0.2])
    assert (hits / 100 > 0.89).all(), hits / 100
    assert (hits / 100 < 0.995).all(), hits / 100


@pytest.mark.parametrize("loss", ["huber", "tukey"])
def test_an_expectation_counts_in_the_errors_beside_a_robust_loss(loss):
    data = frame(80, 3, wild=4)
    plain = rows(of.Model("y", terms=drivers(), loss=loss).fit(data))
    errors = {}
    for give in (0.001, 0.1, 1000.0):
        constraints = {"c": {"expected": 0.5, "give_or_take": give}}
        errors[give] = rows(of.Model("y", terms=drivers(**constraints), loss=loss).fit(data)).loc["c", "std_error"]
    own = plain.loc["c", "std_error"]
    assert errors[0.001] == pytest.approx(0.001, rel=1e-3)  # nothing is known but what was expected
    assert errors[0.1] == pytest.approx((0.1**-2 + own**-2) ** -0.5, rel=0.1)
    assert errors[1000.0] == pytest.approx(own, rel=0.01)
    hits = 0
    generator = np.random.default_rng(8)
    for seed in range(80):
        truth = 0.5 + 0.15 * generator.normal()
        constraints = {"c": {"expected": 0.5, "give_or_take": 0.15}}
        fit = of.Model("y", terms=drivers(**constraints), loss=loss).fit(
            frame(60, seed, (1.0, 0.0, truth, 0.2), wild=3)
        )
        hits += rows(fit).loc["c", "low"] <= truth <= rows(fit).loc["c", "high"]
    assert 0.88 <= hits / 80 <= 1.0


def test_weights_by_age_are_weighted_least_squares():
    data = frame(90, 2)
    x, y = arrays(data)
    weights = 0.5 ** ((89 - np.arange(90)) / 20.0)
    root = np.sqrt(weights)
    fit = of.Model("y", terms=drivers(), half_life=20).fit(data)
    beta = np.linalg.lstsq(x * root[:, None], y * root, rcond=None)[0]
    assert np.allclose(fit.estimate.beta, beta, rtol=1e-11)
    variance = (weights * (y - x @ beta) ** 2).sum() / 85
    error = np.sqrt(variance * np.diag(np.linalg.inv(x.T @ (weights[:, None] * x))))
    assert np.allclose(rows(fit)["std_error"], error, rtol=1e-10)


@pytest.mark.parametrize(
    ("constraints", "words"),
    [
        ({"sign": "up"}, "positive"),
        ({"sign": "positive", "at_least": 0.0}, "bound at 0"),
        ({"at_least": 1.0, "at_most": 0.5}, "not below"),
        ({"expected": 1.0}, "how sure"),
        ({"expected": 1.0, "give_or_take": 0.0}, "above 0"),
        ({"expected": 1.0, "give_or_take": 1.0, "lags": [0, 1]}, "several lags"),
        ({"expected": 1.0, "give_or_take": 1.0, "carry_over": "estimated"}, "estimated shape"),
        ({"shrink_with": "stated"}, "another name"),
        ({"at_most": float("nan")}, "number"),
    ],
)
def test_constraints_that_mean_nothing_are_refused(constraints, words):
    with pytest.raises(of.InputError, match=words):
        of.Driver("a", **constraints)


@pytest.mark.parametrize(
    ("options", "words"),
    [
        ({"loss": "huber", "errors": "ar"}, "cannot be separated"),
        ({"half_life": 20, "errors": "ar"}, "weights by age"),
        ({"loss": "huber", "covariance": "hc3"}, "covariance of its own"),
        ({"covariance": "newey-west", "errors": "ar"}, "second time"),
        ({"order": 2}, 'errors = "ar"'),
        ({"errors": "ar", "order": -1}, "whole number"),
        ({"errors": "ar", "order": 8, "seasonal_lag": 7}, "already reaches"),
        ({"loss": "cubes"}, "huber"),
        ({"half_life": 0}, "from 1 on"),
    ],
)
def test_ways_of_estimating_that_do_not_go_together_are_refused(options, words):
    with pytest.raises(of.InputError, match=words):
        of.Model("y", **options)


def test_a_robust_loss_cannot_choose_by_a_criterion():
    with pytest.raises(of.InputError, match="criterion of least squares"):
        of.Model("y", terms=[of.Season(harmonics="chosen")], loss="huber").fit(frame(160))
