"""Nothing that was not known at an origin reaches a forecast made there: all terms, treatments, outlooks, both bases."""

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.terms import TERMS
from test_models import SPECIMENS, Peeking, weekly

#: Rows before the first origin and before the second; what is forecast; all rows.
FIRST, SECOND, AHEAD, ROWS = 118, 126, 5, 140
DAYS = [f"{day:%Y-%m-%d}" for day in weekly(ROWS).index[[FIRST, SECOND]]]

TREATMENTS = {
    "none": [],
    "filled": [of.Treat("fare", missing="linear"), of.Treat("sold", outliers="replace")],
    "left out": [of.Treat("sold", outliers="exclude"), of.Treat("flag", missing="zero")],
    "smoothed": [of.Treat("fare", smooth=3, centred=True), of.Treat("sold", outliers="pulse")],
}


def world(kind):
    data = weekly(ROWS)
    data.iloc[40, 1] = np.nan  # a gap in the fare
    data.iloc[60, 0] *= 3.0  # a value of the target that stands out
    data["kind"] = np.tile(["red", "blue", "blue", "green"], 35)
    return data if kind == "category" else data.drop(columns="kind")


def model_of(kind, treatments):
    term = SPECIMENS.get(kind) or Peeking("fare")
    scale = "level" if term.multiplies_trend else "log"
    terms = [term, of.Driver("flag", lags=[0, 1]), *([of.Trend()] if scale == "level" else [])]
    if isinstance(term, of.Interaction):
        terms += [of.Driver(name, lags=[13], name=f"late {name}") for name in ("flag", "fare")]
    return of.Model("sold", scale=scale, terms=terms, treatments=TREATMENTS[treatments])


def noted(model, data, basis, planned=(), origins=DAYS):
    """What is forecast from the first origin."""
    found = of.backtest(model, data, horizon=AHEAD, origins=origins, basis=basis, planned=planned)
    (run,) = found.own
    assert run.cuts.ends.tolist() == [FIRST, SECOND][: len(origins)]
    return np.column_stack([run.mean[0], run.quantiles[0]])


def hostile(data, basis, planned):
    """All that is not known at the first origin is something else."""
    worse = data.copy()
    later = worse.index[FIRST:]
    worse.loc[later, "sold"] = np.linspace(20.0, 4000.0, len(later))
    known = ["fare", "flag"] if basis == "ex-post" else planned
    for column in ("fare", "flag"):
        # Later values of a planned column are known as far as they are forecast from, and no farther needed.
        start = FIRST + AHEAD if column in known else FIRST
        worse.loc[worse.index[start:], column] = np.linspace(3.0, 70.0, ROWS - start)
    if "kind" in worse and basis == "ex-ante" and "kind" not in planned:
        worse.loc[later, "kind"] = "grey"
    return worse


@pytest.mark.parametrize("basis", ["ex-post", "ex-ante"])
@pytest.mark.parametrize("kind", [*dict.fromkeys([*TERMS, *SPECIMENS]), "peeking"])
def test_nothing_leaks_into_a_back_test(kind, basis):
    """(a) hostile later cells change no bit, (b) data cut by hand give the same, (c) known cells matter, (d) peeking is
    seen."""
    treatments = list(TREATMENTS)[[*TERMS, *SPECIMENS, "peeking"].index(kind) % len(TREATMENTS)]
    treatments = "none" if kind in ("peeking", "own-lags", "standardised", "sums") else treatments
    planned = {"ex-ante": ["kind"] if kind == "category" else [], "ex-post": []}[basis]
    model, data = model_of(kind, treatments), world(kind)
    usual = noted(model, data, basis, planned)
    assert np.isfinite(usual).all()
    same = np.array_equal(usual, noted(model, hostile(data, basis, planned), basis, planned))
    assert same == (kind != "peeking"), "the planted fault must be seen"
    if kind == "peeking":
        return
    cut = data.iloc[:FIRST]
    plan = data.iloc[FIRST : FIRST + AHEAD].drop(columns="sold")
    if basis == "ex-post":
        ahead = model.fit(cut).forecast(AHEAD, plan=plan)
    else:
        ahead = model.fit(cut).forecast(AHEAD, plan=plan[["kind"]] if planned else None, missing_plans="expected")
    from offing.evaluation.fold_results import PROBABILITIES

    by_hand = np.column_stack([ahead.mean, ahead.quantiles(PROBABILITIES.tolist())])
    assert np.allclose(usual, by_hand, rtol=1e-10, atol=1e-9)
    changed = data.copy()
    changed.loc[changed.index[FIRST - 8], ["sold", "fare"]] *= 1.01
    assert not np.array_equal(usual, noted(model, changed, basis, planned))


@pytest.mark.parametrize("basis", ["ex-post", "ex-ante"])
@pytest.mark.parametrize("planned", [(), ("fare",), ("fare", "flag")])
@pytest.mark.parametrize("treatments", TREATMENTS)
def test_no_treatment_and_no_outlook_leaks(treatments, planned, basis):
    terms = [of.Trend(), of.Driver("fare", transform=["log"], lags=[0, 2]), of.Driver("flag")]
    model = of.Model("sold", terms, scale="log", treatments=TREATMENTS[treatments])
    data = world("")
    usual = noted(model, data, basis, planned)
    assert np.array_equal(usual, noted(model, hostile(data, basis, planned), basis, planned))
    if basis == "ex-ante":
        # A planned column's later values are used, others' are not.
        moved = data.copy()
        moved.loc[moved.index[FIRST : FIRST + AHEAD], "fare"] += 1.0
        assert np.array_equal(usual, noted(model, moved, basis, planned)) == ("fare" not in planned)


def test_folds_together_and_again_are_the_same():
    """Whether columns are shared or every fold is fitted by itself, to 1e-10, with gaps, bounds and both scales."""
    from offing.evaluation.refit import refitted

    data = weekly(ROWS)
    data.iloc[[30, 31, 121], 0] = np.nan
    data.iloc[50, 1] = np.nan
    terms = [
        of.Trend(),
        of.Season("year", harmonics=2),
        of.Driver("fare", lags=[0, 3]),
        of.Driver("flag", sign="positive"),
    ]
    for scale in ("level", "log"):
        model = of.Model("sold", terms, scale=scale, lower_limit=1.0)
        found = of.backtest(model, data, horizon=4, origins=7, every=2, basis="ex-post", gap=1)
        (again,) = refitted([found.jobs[""]])
        (together,) = found.own
        assert np.allclose(together.mean, again.mean, rtol=1e-10)
        assert np.allclose(together.quantiles, again.quantiles, rtol=1e-10)
        assert np.allclose(together.train, again.train, rtol=1e-9)
        assert together.columns.tolist() == again.columns.tolist()


def test_plans_with_dates_and_delays_are_honoured():
    """A plan serves as it stood at each origin; a delayed target is known later."""
    data = weekly(60)[["sold", "fare"]]
    plan_rows = []
    for made in (48, 52):
        for ahead in range(6):
            if made + ahead < 60:
                plan_rows.append(
                    {"week": data.index[made + ahead], "made": data.index[made], "fare": 20.0 + made + ahead}
                )
    plan = of.read(
        pd.DataFrame(plan_rows),
        time="week",
        released="made",
        later_rows="plan",
        frequency="week",
        week_ends="sunday",
        stamp="start",
    )
    table = of.read(data.rename_axis("week").reset_index(), time="week", stamp="start", release_delay=1)
    model = of.Model("sold", [of.Driver("fare")])
    days = [f"{data.index[at]:%Y-%m-%d}" for at in (48, 52)]
    found = of.backtest(model, table, horizon=2, origins=days, basis="ex-ante", plans={"data": plan})
    (run,) = found.own
    assert run.cuts.ends.tolist() == [47, 51], "a week's value comes out a week after its end"
    for fold, (at, end) in enumerate(((48, 47), (52, 51))):
        known = data.iloc[:end].assign(fare=data["fare"].iloc[:end])
        fit = model.fit(known)
        # The first week is not out; it was not planned, so that a model of the driver's own expects it.
        assert run.mean[fold, 1] == pytest.approx(
            fit.forecast(2, plan=pd.DataFrame({"fare": [0.0, 20.0 + at]}, data.index[end : end + 2])).mean[1], rel=1e-9
        )
