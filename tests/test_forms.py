"""Curves, several bases, lags on a polynomial, windows, categories and interactions: truths come back."""

import numpy as np
import pandas as pd
import pytest

import offing as of

N = 240
WEEKS = pd.date_range("2020-01-06", periods=N + 20, freq="7D")


def world(seed=1, spread=1.0, n=N):
    generator = np.random.default_rng(seed)
    frame = pd.DataFrame(
        {
            "temp": 12.0 + 9.0 * np.cos(2.0 * np.pi * np.arange(n + 20) / 52.18) + generator.normal(0.0, 3.0, n + 20),
            "ads": generator.gamma(2.0, 3.0, n + 20),
            "rain": generator.gamma(1.0, 4.0, n + 20),
            "ship": generator.choice(["Auk", "Skua", "Tern"], n + 20, p=[0.2, 0.3, 0.5]),
        },
        index=WEEKS[: n + 20],
    )
    return frame, generator.normal(0.0, spread, n + 20)


def column(fit):
    return fit.coefficients.set_index("column")["coefficient"]


def adds_up(fit, plan):
    """Contributions of history and forecast add up, whatever the terms."""
    ahead = fit.forecast(12, plan=plan)
    for result, mean in ((fit.contributions, fit.fitted["fitted"]), (ahead.contributions, ahead.table["forecast"])):
        wide = result.wide.drop(columns="total")
        assert np.allclose(wide.sum(axis=1, skipna=False), mean, equal_nan=True)
    return ahead


def test_several_bases_are_a_broken_line_given_or_found():
    frame, noise = world()
    heat, cool = np.maximum(10.0 - frame["temp"], 0.0), np.maximum(frame["temp"] - 17.0, 0.0)
    frame["sold"] = 50.0 + 2.0 * heat + 1.5 * cool + noise
    past, plan = frame.iloc[:N], frame.iloc[N:].drop(columns=["sold", "ship"])
    stated = of.Model("sold", terms=[of.Driver("temp", below=10.0, above=17.0)]).fit(past)
    x = np.column_stack([np.ones(N), cool[:N], heat[:N]])
    assert np.allclose(stated.estimate.beta, np.linalg.lstsq(x, past["sold"], rcond=None)[0], rtol=1e-9)
    found = of.Model("sold", terms=[of.Driver("temp", below="estimated", above="estimated")]).fit(past)
    rows = found.coefficients.set_index("column")
    for name, truth in (("temp: base below", 10.0), ("temp: base above", 17.0), ("temp below a base", 2.0)):
        assert abs(rows.loc[name, "coefficient"] - truth) < 3.0 * rows.loc[name, "std_error"] < 2.5
    adds_up(found, plan)
    broken = of.Model("sold", terms=[of.Driver("temp", above=[5.0, 10.0, 17.0])]).fit(past)
    knots = np.column_stack([np.ones(N), *(np.maximum(past["temp"] - at, 0.0) for at in (5.0, 10.0, 17.0))])
    assert np.allclose(broken.estimate.beta, np.linalg.lstsq(knots, past["sold"], rcond=None)[0], rtol=1e-9)


def test_a_smooth_curve_is_the_penalised_least_squares_and_follows_the_truth():
    frame, noise = world(2, 1.0)
    truth = 6.0 * np.sin(frame["temp"] / 5.0)
    frame["sold"] = 50.0 + truth + noise
    past, plan = frame.iloc[:N], frame.iloc[N:].drop(columns=["sold", "ship"])
    fit = of.Model("sold", terms=[of.Driver("temp", curve="smooth")]).fit(past)
    (strength,) = fit.ratios.values()
    columns = fit.rows.blocks[0].columns
    penalty = np.diag([0.0, 0.0, *np.full(columns.shape[1] - 1, 1.0 / strength)])
    x = np.column_stack([np.ones(N), columns])
    assert np.allclose(fit.estimate.beta, np.linalg.solve(x.T @ x + penalty, x.T @ past["sold"]), rtol=1e-6, atol=1e-8)
    away = fit.explained - (50.0 + truth[:N])
    assert np.sqrt(np.mean(away**2)) < 0.5
    # Beyond what was seen it goes straight on.
    far = plan.assign(temp=np.linspace(past["temp"].max(), past["temp"].max() + 19.0, 20))
    ahead = adds_up(fit, far)
    assert np.abs(np.diff(ahead.table["forecast"], 2)).max() < 1e-8
    straight = frame.assign(sold=50.0 + 0.3 * frame["temp"] + noise).iloc[:N]
    line = of.Model("sold", terms=[of.Driver("temp", curve="smooth")]).fit(straight)
    assert line.estimate.effective_dof < 4.5, "what is straight stays nearly straight"


def test_curves_cover_the_truth():
    """60 series: at the five points the 95 % intervals of the curve against its middle hold the truth."""
    hits = []
    for seed in range(60):
        frame, noise = world(seed, 1.5)
        frame["sold"] = 50.0 + 6.0 * np.sin(frame["temp"] / 5.0) + noise
        fit = of.Model("sold", terms=[of.Driver("temp", curve="smooth")]).fit(frame.iloc[:N])
        points = np.quantile(frame["temp"].iloc[:N], [0.1, 0.25, 0.5, 0.75, 0.9])
        true = 6.0 * (np.sin(points / 5.0) - np.sin(points[2] / 5.0))[[0, 1, 3, 4]]
        rows = fit.coefficients[fit.coefficients["column"].str.contains(" against ")]
        hits.append((rows["low"].to_numpy() <= true) & (rows["high"].to_numpy() >= true))
    assert 0.92 <= np.mean(hits) <= 0.99, np.mean(hits)


def test_a_rising_curve_never_falls_and_costs_nothing_where_the_truth_rises():
    frame, noise = world(3, 4.0)
    frame["sold"] = 50.0 + 8.0 * np.tanh((frame["temp"] - 12.0) / 3.0) + noise
    past = frame.iloc[:N]
    free = of.Model("sold", terms=[of.Driver("temp", curve="smooth")]).fit(past)
    rising = of.Model("sold", terms=[of.Driver("temp", curve="rising")]).fit(past)
    place = np.argsort(past["temp"].to_numpy())
    assert np.diff(rising.explained[place]).min() >= -1e-9
    assert rising.estimate.rss >= free.estimate.rss * (1.0 - 1e-9)
    # The best of all rising curves of this basis: no feasible step lowers the penalised sum.
    columns, (strength,) = rising.rows.blocks[0].columns, rising.ratios.values()
    x = np.column_stack([np.ones(N), columns])
    penalty = np.diag([0.0, 0.0, *np.full(columns.shape[1] - 1, 1.0 / strength)])
    slope = x.T @ (past["sold"] - x @ rising.estimate.beta) - penalty @ rising.estimate.beta
    limits = rising.layout.rising
    tight = limits[np.abs(limits @ rising.estimate.beta) < 1e-8]
    weights, *_ = np.linalg.lstsq(tight.T, -slope, rcond=None)
    assert np.allclose(tight.T @ weights, -slope, atol=1e-5 * np.abs(x.T @ past["sold"]).max())
    assert weights.min() > -1e-6
    falling = of.Model("sold", terms=[of.Driver("temp", curve="falling")]).fit(past)
    assert np.ptp(falling.explained) < 1.0
    with pytest.raises(of.InputError, match="too few for a curve"):
        of.Model("sold", terms=[of.Driver("flag", curve="smooth")]).fit(past.assign(flag=past["rain"] > 3.0))


def test_lags_on_a_polynomial_are_its_least_squares_and_show_every_lag():
    frame, noise = world(4)
    weights = 1.0 - (np.arange(9) - 3.0) ** 2 / 40.0
    values = np.convolve(frame["ads"], weights)[: N + 20]
    frame["sold"] = 20.0 + values + noise
    past = frame.iloc[:N]
    fit = of.Model("sold", terms=[of.Driver("ads", lags=range(9), lag_degree=2)]).fit(past)
    rows = fit.coefficients.iloc[1:]
    assert rows["column"].tolist() == ["ads", *(f"ads (lag {k})" for k in range(1, 9))]
    lagged = np.column_stack([past["ads"].shift(k) for k in range(9)])[8:]
    curve = np.vander(np.arange(9.0), 3)
    x = np.column_stack([np.ones(N - 8), lagged @ curve])
    beta = np.linalg.lstsq(x, past["sold"].iloc[8:], rcond=None)[0]
    assert np.allclose(rows["coefficient"], curve @ beta[1:], rtol=1e-7)
    assert (np.abs(rows["coefficient"] - weights) < 3.5 * rows["std_error"]).all()
    assert fit.estimate.kept.sum() == 4
    adds_up(fit, frame.iloc[N:].drop(columns=["sold", "ship"]))


def test_windows_and_standard_units():
    frame, noise = world(5)
    frame["sold"] = 20.0 + 0.5 * frame["ads"].rolling(4).sum() + noise
    past, plan = frame.iloc[3:N], frame.iloc[N:].drop(columns=["sold", "ship"])
    total = of.Model("sold", terms=[of.Driver("ads", transform=[{"sum": 4}])]).fit(
        frame.iloc[:N].assign(sold=past["sold"])
    )
    mean = of.Model("sold", terms=[of.Driver("ads", transform=[{"mean": 4}])]).fit(
        frame.iloc[:N].assign(sold=past["sold"])
    )
    assert column(total)["sum over 4 of ads"] == pytest.approx(0.5, abs=0.05)
    assert column(mean)["mean over 4 of ads"] == pytest.approx(4.0 * column(total)["sum over 4 of ads"], rel=1e-9)
    assert np.allclose(of.effects(total).table["change"], of.effects(mean).table["change"])
    unit = of.Model("sold", terms=[of.Driver("ads", transform=["log", "standardised"])]).fit(past)
    plain = of.Model("sold", terms=[of.Driver("ads", transform=["log"])]).fit(past)
    spread = np.log(past["ads"]).std()
    assert column(unit)["standardised log ads"] == pytest.approx(spread * column(plain)["log ads"], rel=1e-9)
    assert np.allclose(unit.forecast(12, plan=plan).table, plain.forecast(12, plan=plan).table)
    with pytest.raises(of.InputError, match="target cannot be"):
        of.Model("sold", transform=[{"mean": 3}])


@pytest.mark.parametrize("compared", ["mean", "Skua"])
def test_categories_are_reported_against_the_mean_or_a_level(compared):
    frame, noise = world(6, 0.5)
    effect = {"Auk": 3.0, "Skua": -1.0, "Tern": 0.5}
    frame["sold"] = 20.0 + frame["ship"].map(effect) + noise
    past, plan = frame.iloc[:N], frame.iloc[N:].drop(columns="sold")
    fit = of.Model("sold", terms=[of.Category("ship", compared_with=compared)]).fit(past)
    means = past.groupby("ship")["sold"].mean()
    against = past["sold"].mean() if compared == "mean" else means["Skua"]
    for level in effect:
        if level != compared:
            assert column(fit)[f"ship: {level}"] == pytest.approx(means[level] - against, abs=1e-9)
    wide = adds_up(fit, plan).contributions.wide
    assert np.allclose(wide["ship"], plan["ship"].iloc[:12].map(means) - against)
    with pytest.raises(of.InputError, match="'Gull' never came") as caught:
        fit.forecast(3, plan=plan.assign(ship=["Tern", "Gull", *["Auk"] * 18]))
    assert (caught.value.column, caught.value.period) == ("ship", of.read(frame).axis.part(N + 1, N + 2).labels()[0])
    with pytest.raises(of.InputError, match="no value there"):
        fit.forecast(3, plan=plan.assign(ship=["Tern", None, *["Auk"] * 18]))


def test_a_column_that_names_rows_is_a_finding_and_one_that_names_kinds_is_none():
    frame, noise = world(7)
    frame["sold"] = 20.0 + noise
    past = frame.iloc[:N].assign(note=[f"n{i // 2}" for i in range(N)])
    said = of.Model("sold", terms=[of.Category("note")]).fit(past).findings
    assert [finding.severity for finding in said if finding.check == "many levels"] == ["serious"]
    fine = of.Model("sold", terms=[of.Category("ship")]).fit(past).findings
    assert not [finding for finding in fine if finding.check == "many levels"]
    with pytest.raises(of.InputError, match="there is no level 'Tren'"):
        of.Model("sold", terms=[of.Category("ship", compared_with="Tren")]).fit(past)
    with pytest.raises(of.InputError, match="throughout"):
        of.Model("sold", terms=[of.Category("one")]).fit(past.assign(one="a"))


def test_interactions_multiply_and_share_by_the_rule():
    frame, noise = world(8, 0.5)
    weekend = (np.arange(N + 20) % 5 == 0).astype(float)
    frame["fest"] = weekend
    frame["sold"] = 30.0 - 0.4 * frame["rain"] + 5.0 * weekend - 0.8 * frame["rain"] * weekend + noise
    past, plan = frame.iloc[:N], frame.iloc[N:].drop(columns=["sold", "ship"])
    terms = [of.Driver("rain"), of.Driver("fest")]
    own = of.Model("sold", terms=[*terms, of.Interaction(["rain", "fest"])]).fit(past)
    shared = of.Model("sold", terms=[*terms, of.Interaction(["rain", "fest"], shared=True)]).fit(past)
    b = column(own)
    assert b["rain x fest"] == pytest.approx(-0.8, abs=0.1)
    rain, fest = past["rain"].to_numpy(), past["fest"].to_numpy()
    a0, b0 = rain.mean(), 0.0  # a flag is measured from zero
    wide, split = adds_up(own, plan) and own.contributions.wide, adds_up(shared, plan) and shared.contributions.wide
    assert np.allclose(wide["rain x fest"], b["rain x fest"] * (rain * fest - a0 * b0))
    assert np.allclose(split["rain"] - wide["rain"], b["rain x fest"] * (rain - a0) * (fest + b0) / 2.0)
    assert np.allclose(split["fest"] - wide["fest"], b["rain x fest"] * (fest - b0) * (rain + a0) / 2.0)
    assert "rain x fest" not in split
    season = of.Interaction(["season", "fest"])
    fit = of.Model("sold", terms=[of.Season(harmonics=1), of.Driver("fest"), season]).fit(past)
    assert [name for name in column(fit).index if " x " in name] == ["season: sin 1 x fest", "season: cos 1 x fest"]
    adds_up(fit, plan)


def test_an_effect_that_works_only_beyond_a_value_of_another_driver():
    frame, noise = world(9, 0.5)
    frame["sold"] = 30.0 + 1.0 * frame["ads"] * (frame["temp"] > 15.0) + 0.2 * frame["ads"] + noise
    past, plan = frame.iloc[:N], frame.iloc[N:].drop(columns=["sold", "ship"])
    terms = [of.Driver("ads"), of.Driver("temp"), of.Interaction(["ads", "temp"], above=15.0, name="warm ads")]
    fit = of.Model("sold", terms=terms).fit(past)
    assert column(fit)["ads x temp above 15"] == pytest.approx(1.0, abs=0.05)
    met = (past["temp"] > 15.0).to_numpy()
    part = past["ads"].to_numpy() * met - past["ads"].mean() * met.mean()
    assert np.allclose(fit.contributions.wide["warm ads"], column(fit)["ads x temp above 15"] * part)
    adds_up(fit, plan)


@pytest.mark.parametrize(
    ("terms", "words"),
    [
        ([of.Driver("ads"), of.Interaction(["ads", "tmp"])], "there is no term 'tmp'"),
        ([of.Driver("ads"), of.OwnLags(), of.Interaction(["ads", "own lags"])], "cannot be multiplied"),
        ([of.Trend(), of.Season(), of.Interaction(["trend", "season"])], "grows_with"),
        ([of.Driver("ads"), of.Trend(), of.Interaction(["ads", "trend"], above=1.0)], "is no driver"),
        ([of.Driver("ads", curve="smooth"), of.Driver("rain"), of.Interaction(["ads", "rain"])], "State its shape"),
    ],
)
def test_interactions_that_mean_nothing_are_refused(terms, words):
    frame, noise = world(1)
    with pytest.raises(of.InputError, match=words):
        of.Model("sold", terms=terms).fit(frame.assign(sold=noise).iloc[:N])


@pytest.mark.parametrize("form", ["decay", "approach"])
def test_effects_of_events_fade_with_the_distance_in_time(form):
    frame, noise = world(10, 0.4)
    at = [30, 75, 120, 166, 200, 250]
    away = np.arange(N + 20)[:, None] - np.array(at)
    away = away if form == "decay" else -away
    truth = np.where(away >= 0, 6.0 * 0.5 ** (np.maximum(away, 0) / 2.5), 0.0).sum(axis=1)
    frame["sold"] = 20.0 + truth + noise
    dates = pd.DataFrame({"date": frame.index[at], "until": frame.index[at] + pd.Timedelta(days=6)})
    past = frame.iloc[:N]
    fit = of.Model("sold", terms=[of.Event("fest", table=dates, form=form, half_life="estimated")]).fit(past)
    rows = fit.coefficients.set_index("column")
    for name, true in (("fest", 6.0), ("fest: half-life in periods", 2.5)):
        assert abs(rows.loc[name, "coefficient"] - true) < 3.5 * rows.loc[name, "std_error"] < 1.0
    stated = of.Model("sold", terms=[of.Event("fest", table=dates, form=form, half_life=2.5)]).fit(past)
    x = np.column_stack([np.ones(N), truth[:N] / 6.0])
    assert np.allclose(stated.estimate.beta, np.linalg.lstsq(x, past["sold"], rcond=None)[0], rtol=1e-9)
    adds_up(fit, None)
