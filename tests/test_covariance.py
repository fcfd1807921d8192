"""Covariances that trust less: against their written-out formulas, and in coverage where the classical one fails."""

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.engine.robust_covariance import usual_lags

DAYS = pd.date_range("2023-01-01", periods=200, freq="D")


def table(seed=1, carried=0.0, uneven=False, n=200):
    generator = np.random.default_rng(seed)
    x = np.zeros(n)
    noise = np.zeros(n)
    for t in range(n):
        x[t] = generator.normal() + (0.8 * x[t - 1] if t and carried else 0.0)
        noise[t] = generator.normal() + (carried * noise[t - 1] if t else 0.0)
    if uneven:
        noise *= 0.2 + np.square(x)
    return pd.DataFrame({"sold": 3.0 + 2.0 * x + noise, "x": x}, DAYS[:n])


def fitted(frame, covariance):
    return of.Model("sold", terms=[of.Driver("x")], covariance=covariance).fit(frame)


def written_out(frame, kind, lags=4):
    """The sandwich in dense arithmetic."""
    x = np.column_stack([np.ones(len(frame)), frame["x"]])
    y = frame["sold"].to_numpy()
    used = np.isfinite(y)
    x, y, at = x[used], y[used], np.flatnonzero(used)
    n, k = x.shape
    bread = np.linalg.inv(x.T @ x)
    e = y - x @ bread @ x.T @ y
    h = np.einsum("ij,jk,ik->i", x, bread, x)
    scale = {"hc0": e**2, "hc1": e**2 * n / (n - k), "hc2": e**2 / (1 - h), "hc3": e**2 / (1 - h) ** 2}
    if kind in scale:
        inner = x.T @ (x * scale[kind][:, None])
    else:
        scores = x * e[:, None]
        inner = np.zeros((k, k))
        for i in range(n):
            for j in range(n):
                distance = abs(int(at[i] - at[j]))
                if distance <= lags:
                    inner += (1.0 - distance / (lags + 1.0)) * np.outer(scores[i], scores[j])
        inner *= n / (n - k)
    return np.sqrt(np.diag(bread @ inner @ bread))


@pytest.mark.parametrize("kind", ["hc0", "hc1", "hc2", "hc3", "newey-west"])
@pytest.mark.parametrize("gaps", [False, True])
def test_each_is_its_formula(kind, gaps):
    frame = table(2, 0.5, uneven=True)
    if gaps:
        frame.iloc[[20, 21, 22, 90], 0] = np.nan
    fit = fitted(frame, kind)
    errors = written_out(frame, kind, usual_lags(int(fit.used.sum())))
    np.testing.assert_allclose(fit.coefficients["std_error"], errors, rtol=1e-9)
    np.testing.assert_allclose(fit.coefficients["coefficient"], fitted(frame, "classical").coefficients["coefficient"])


def test_careful_covariances_cover_where_the_classical_one_does_not():
    def coverage(covariance, **world):
        rows = [fitted(table(seed, **world), covariance).coefficients.iloc[1] for seed in range(80)]
        return np.mean([row["low"] <= 2.0 <= row["high"] for row in rows])

    assert coverage("classical", uneven=True) < 0.75
    assert coverage("hc3", uneven=True) >= 0.92
    related = {"carried": 0.7}
    assert coverage("classical", **related) < 0.75
    assert coverage("newey-west", **related) >= coverage("classical", **related) + 0.1


def test_intervals_of_contributions_and_forecasts_follow():
    frame = table(3, uneven=True)
    plan = pd.DataFrame({"x": [3.0, -3.0]}, pd.date_range(DAYS[-1] + pd.Timedelta("1D"), periods=2))
    plain, careful = fitted(frame, "classical"), fitted(frame, "hc3")
    ratio = careful.coefficients["std_error"].iloc[1] / plain.coefficients["std_error"].iloc[1]
    width = [np.subtract(fit.contributions.high, fit.contributions.low)[1] for fit in (careful, plain)]
    np.testing.assert_allclose(width[0] / width[1], ratio)
    spread = [fit.forecast(2, plan=plan).spread for fit in (careful, plain)]
    assert (spread[0] > spread[1]).all()


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (lambda: of.Model("sold", covariance="hc9"), "found 'hc9'. Allowed: classical, hc0"),
        (lambda: of.Model("sold", covariance="hc3", errors="ar"), "which hc3 would count a second time"),
        (
            lambda: of.Model("sold", [of.Holidays(country="NO")], covariance="hc3").fit(table(1)),
            "are shrunk towards zero",
        ),
    ],
)
def test_what_does_not_go_together_is_refused(make, message):
    with pytest.raises(of.InputError, match=message):
        make()


def test_the_study_says_it_too(tmp_path, run_cli):
    table(4).rename_axis("day").to_csv(tmp_path / "a.csv")
    body = (
        'format = 1\n[sources.a]\nfile = "a.csv"\n[target]\ndata = "a.sold"\n[[terms]]\ntype = "trend"\n[estimation]\n'
    )
    (tmp_path / "s.toml").write_text(body + 'covariance = "newey-west"\n')
    assert of.open_study(tmp_path / "s.toml").models[0].covariance == "newey-west"
    (tmp_path / "s.toml").write_text(body + 'covariance = "hc3"\nerrors = "ar"\n')
    ran = run_cli("fit", tmp_path / "s.toml")
    assert ran.status == 2
    assert "line 9, key 'estimation.covariance'" in ran.err
