"""Own lags of a target's changes: recursions by hand, contributions that add up, intervals as simulated."""

import numpy as np
import pandas as pd
import pytest

import offing as of

MONTHS = pd.period_range("2014-01", periods=138, freq="M")


def world(seed=1):
    """Growth on the year before that lives on by half, pushed by a driver."""
    generator = np.random.default_rng(seed)
    z, x = np.zeros(138), generator.normal(size=138)
    for t in range(1, 138):
        z[t] = 2.0 + 0.5 * z[t - 1] + x[t] + generator.normal()
    level = np.empty(138)
    level[:12] = 100.0 + np.arange(12)
    for t in range(12, 138):
        level[t] = level[t - 12] * (1.0 + z[t] / 100.0)
    return pd.DataFrame({"sold": level, "x": x}, MONTHS)


CHANGES = [
    (["growth"], "level"),
    (["difference"], "level"),
    (["difference"], "log"),
    (["log difference"], "level"),
    (["seasonal difference"], "level"),
]


@pytest.mark.parametrize(("transform", "scale"), CHANGES)
def test_the_recursion_and_its_contributions(transform, scale):
    data = world()
    plan = data[["x"]].iloc[120:]
    model = of.Model("sold", [of.OwnLags([1]), of.Driver("x")], scale, transform=transform)
    fit = model.fit(data.iloc[:120])
    sold = data["sold"].to_numpy()[:120]
    v = np.log(sold) if scale == "log" or transform == ["log difference"] else sold
    lag = 12 if transform[0] in ("growth", "seasonal difference") else 1
    z = np.full(120, np.nan)
    z[lag:] = 100.0 * (sold[lag:] / sold[:-lag] - 1.0) if transform == ["growth"] else v[lag:] - v[:-lag]
    z *= 100.0 if transform == ["log difference"] else 1.0
    rows = np.arange(lag + 1, 120)
    x = data["x"].to_numpy()
    beta, *_ = np.linalg.lstsq(np.column_stack([np.ones(len(rows)), z[rows - 1], x[rows]]), z[rows], rcond=None)
    assert fit.coefficients["coefficient"].to_numpy() == pytest.approx(beta, rel=1e-8)
    path, levels = list(z), list(v)
    for t in range(120, 138):
        path.append(beta @ [1.0, path[-1], x[t]])
        grown = levels[t - lag] * (1.0 + path[-1] / 100.0)
        step = path[-1] / (100.0 if transform == ["log difference"] else 1.0)
        levels.append(grown if transform == ["growth"] else levels[t - lag] + step)
    ahead = fit.forecast(18, plan=plan)
    assert np.allclose(ahead.path.levels, levels[120:], rtol=1e-8)
    for part, mean in ((ahead.contributions, ahead.mean), (fit.contributions, fit.means)):
        sums = part.table.groupby("period")["contribution"].sum(min_count=1).to_numpy()
        assert np.allclose(sums, mean, rtol=1e-9, equal_nan=True)


def test_growth_s_intervals_count_what_lives_on():
    """Within a year the formula gives what joint paths give that are drawn by hand with the same coefficients."""
    data = world()
    fit = of.Model("sold", [of.OwnLags([1]), of.Driver("x")], transform=["growth"]).fit(data.iloc[:120])
    ahead = fit.forecast(12, plan=data[["x"]].iloc[120:])
    generator, draws = np.random.default_rng(3), 40_000
    beta, variances = fit.estimate.draws(draws, generator)
    z = np.full(draws, fit.transformed[-1])
    x, last = data["x"].to_numpy(), data["sold"].to_numpy()[108:120]
    for h in range(12):
        z = beta[0] + beta[1] * z + beta[2] * x[120 + h] + generator.standard_normal(draws) * np.sqrt(variances)
        wide = np.quantile(last[h] * (1.0 + z / 100.0), [0.025, 0.975])
        shown = ahead.quantiles([0.025, 0.975]).to_numpy()[h]
        assert np.diff(shown) == pytest.approx(np.diff(wide), rel=0.03)
