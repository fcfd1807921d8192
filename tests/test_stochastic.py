"""A level that wanders: against dense Gaussian arithmetic, and how often its intervals hold."""

import numpy as np
import pandas as pd
import pytest
from scipy.stats import t as student

import offing as of

MONTHS = pd.period_range("2010-01", periods=300, freq="M")


def wandering(n, spread, seed, phi=0.0, height=0.0):
    """A random walk with steps of a spread beside noise of spread 1, with a season of a height."""
    generator = np.random.default_rng(seed)
    noise = generator.normal(size=n)
    for i in range(1, n):
        noise[i] += phi * noise[i - 1]
    season = height * np.sin(2.0 * np.pi * np.arange(n) / 12.0)
    return 50.0 + np.cumsum(spread * generator.normal(size=n)) + season + noise


@pytest.fixture(scope="module")
def walk():
    sold = pd.Series(wandering(48, 0.7, 4), MONTHS[:48], name="sold")
    model = of.Model("sold", [of.Trend(form="stochastic", slope="constant")], errors="independent")
    return model.fit(sold)


def dense(ratio, n, ahead):
    """Covariance over s² of a walk of steps γ and noise, of n periods and those ahead, and the free columns."""
    t = np.arange(n + ahead, dtype=float)
    both = ratio * np.minimum.outer(t, t) + np.eye(n + ahead)
    return both, np.column_stack([np.ones(n + ahead), t])


def test_the_forecast_and_its_band_are_those_of_dense_arithmetic(walk):
    ratio, n, h = next(iter(walk.ratios.values())), 48, 30
    v, x = dense(ratio, n, h)
    inverse = np.linalg.inv(v[:n, :n])
    inner = np.linalg.inv(x[:n].T @ inverse @ x[:n])
    beta = inner @ x[:n].T @ inverse @ walk.target
    left = walk.target - x[:n] @ beta
    variance = left @ inverse @ left / (n - 2)
    cross = v[n:, :n] @ inverse
    mean = x[n:] @ beta + cross @ left
    lean = x[n:] - cross @ x[:n]
    spread = np.sqrt(variance * np.diagonal(v[n:, n:] - cross @ v[:n, n:] + lean @ inner @ lean.T))
    ahead = walk.forecast(h)
    assert ahead.mean == pytest.approx(mean, rel=1e-9)
    reach = student.ppf(0.975, walk.estimate.dof)
    assert ahead.table["q0.975"].to_numpy() == pytest.approx(mean + reach * spread, rel=1e-8)


def test_the_step_variance_maximises_the_dense_restricted_likelihood(walk):
    def criterion(ratio):
        v, x = dense(ratio, 48, 0)
        inverse = np.linalg.inv(v)
        inner = x.T @ inverse @ x
        p = inverse - inverse @ x @ np.linalg.solve(inner, x.T @ inverse)
        y = walk.target
        return (
            (len(y) - 2) * np.log(y @ p @ y)
            + np.linalg.slogdet(v)[1]
            + np.linalg.slogdet(inner)[1]
            - np.log(ratio / (1 + ratio))
        )

    ratio = next(iter(walk.ratios.values()))
    assert criterion(ratio) < min(criterion(1.03 * ratio), criterion(ratio / 1.03))


@pytest.mark.parametrize(("spread", "phi", "errors"), [(1.0, 0.0, "independent"), (0.3, 0.0, "ar"), (0.0, 0.5, "ar")])
def test_intervals_hold_as_often_as_they_say(spread, phi, errors):
    held = []
    for seed in range(60):
        made = wandering(108, spread, seed, phi, height=3.0)
        fit = of.Model("sold", [of.Trend(form="stochastic"), of.Season("year")], errors=errors).fit(
            pd.Series(made[:84], MONTHS[:84], name="sold")
        )
        ahead = fit.forecast(24).table
        held.append((ahead["q0.025"] <= made[84:]) & (made[84:] <= ahead["q0.975"]))
    # The 24 errors of a series go together: 60 series leave a standard error of about 2 %.
    assert 0.9 <= np.mean(held) <= 0.99


def test_a_long_history_spreads_its_steps_and_the_band_still_grows_as_a_walk():
    made = pd.Series(wandering(300, 1.0, 8), MONTHS, name="sold")
    fit = of.Model("sold", [of.Trend(form="stochastic")]).fit(made)
    steps = [name for name in fit.layout.names if "level step" in name]
    assert len(steps) == 60
    half = np.square(np.ptp(fit.forecast(240).table[["q0.025", "q0.975"]].to_numpy(), axis=1))
    # The variance of a walk grows by the same amount in every period.
    grown = np.diff(half[100:])
    assert grown == pytest.approx(grown.mean(), rel=1e-6)
    assert grown.mean() > 0.0


def test_contributions_add_up_and_the_equation_gives_the_fit(walk):
    months = walk.forecast(6)
    total = months.contributions.table.groupby("period")["contribution"].sum()
    assert total.to_numpy() == pytest.approx(months.mean, rel=1e-10)
    parts = of.walk(months, "mean").table
    assert np.isfinite(parts.select_dtypes("number").to_numpy()).all()
    path = of.trend(months)
    assert path.bends == ()
    assert "wanders from" in path.sentence
    assert of.figure(path).axes
    assert "level step to 2013-12-01" in walk.equation


@pytest.mark.parametrize(
    ("given", "said"),
    [
        ({"slope": "constant"}, "slope belongs to the form stochastic"),
        ({"form": "stochastic", "slope": "steep"}, "Allowed: none, constant, stochastic"),
        ({"form": "stochastic", "knots": ["2012-01-01"]}, "knots bend a line"),
        ({"form": "stochastic", "knot_every": 3}, "knot_every belongs to"),
    ],
)
def test_options_that_do_not_fit_are_refused(given, said):
    with pytest.raises(of.InputError, match=said):
        of.Trend(**given)


def test_too_few_periods_to_wander_are_refused():
    with pytest.raises(of.InputError, match="too few to learn how a level wanders"):
        of.Model("sold", [of.Trend(form="stochastic")]).fit(pd.Series([1.0, 2, 3, 5], MONTHS[:4], name="sold"))


def test_an_estimated_base_beside_more_found_bends_than_rows():
    generator = np.random.default_rng(1)
    warm = generator.normal(10.0, 5.0, 66)
    sold = 100.0 + np.cumsum(generator.normal(size=66)) + 2.0 * np.maximum(8.0 - warm, 0.0)
    warm[:36] = np.nan
    data = pd.DataFrame({"sold": sold, "warm": warm}, MONTHS[:66])
    terms = [of.Trend(knots="found", knot_every=2), of.Season(), of.Driver("warm", below="estimated")]
    found = of.Model("sold", terms).fit(data).coefficients.set_index("column")["coefficient"]
    assert found["warm: base below"] == pytest.approx(8.0, abs=1.5)
    assert found["warm below a base"] == pytest.approx(2.0, abs=0.7)
