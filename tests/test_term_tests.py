"""Joint tests of terms against the sums of squares with and without them."""

import numpy as np
import pandas as pd
import pytest
from scipy.stats import f as fisher

import offing as of

DAYS = pd.date_range("2024-01-01", periods=140, freq="D")


def table(seed=1, effect=3.0):
    generator = np.random.default_rng(seed)
    rain = generator.gamma(2.0, 2.0, 140)
    sold = 50.0 + effect * (DAYS.day_of_week >= 5) + 0.8 * rain + generator.normal(0.0, 3.0, 140)
    return pd.DataFrame({"sold": sold, "rain": rain}, DAYS)


def terms():
    return [of.Trend(), of.Season("week"), of.Driver("rain", lags=[0, 1])]


def test_each_is_the_f_test_of_the_two_sums_of_squares():
    fit = of.Model("sold", terms=terms()).fit(table())
    found = of.term_tests(fit).table.set_index("term")
    used = fit.used
    for place, name in enumerate(("trend", "season in week", "rain")):
        others = [column for column, owner in enumerate(fit.layout.owners) if owner != name]
        x, y = fit.design[used][:, others], fit.transformed[used]
        without = np.square(y - x @ np.linalg.lstsq(x, y, rcond=None)[0]).sum()
        q = len(fit.layout.slots[place].places)
        dof = used.sum() - fit.layout.k
        expected = (without - fit.estimate.rss) / q / (fit.estimate.rss / dof)
        assert found.loc[name, "f"] == pytest.approx(expected, rel=1e-9)
        assert found.loc[name, "p"] == pytest.approx(fisher.sf(expected, q, dof), rel=1e-8)
        assert found.loc[name, "partial_r_squared"] == pytest.approx(1.0 - fit.estimate.rss / without, rel=1e-9)


def test_a_term_of_nothing_is_called_something_as_often_as_stated():
    chances = [
        of.term_tests(of.Model("sold", terms=terms()).fit(table(seed, effect=0.0))).table.set_index("term")["p"]
        for seed in range(200)
    ]
    share = np.mean([chance["season in week"] < 0.05 for chance in chances])
    assert 0.015 <= share <= 0.1
    assert all(chance["rain"] < 0.05 for chance in chances[:50])


def test_it_follows_the_careful_covariance():
    plain = of.Model("sold", terms=[of.Driver("rain")]).fit(table())
    careful = of.Model("sold", terms=[of.Driver("rain")], covariance="hc3").fit(table())
    for fit in (plain, careful):
        t = fit.coefficients["t"].iloc[1]
        assert of.term_tests(fit).f[0] == pytest.approx(t**2, rel=1e-10)


def test_where_no_probability_holds_none_is_given():
    own = [of.Trend(knots="found", knot_every=14), of.Driver("rain", saturation="estimated"), of.Season("week")]
    found = of.term_tests(of.Model("sold", terms=own).fit(table())).table.set_index("term")
    assert found["why"].tolist() == ["shrunk towards zero", "has a shape", ""]
    assert found["p"].isna().tolist() == [True, True, False]
