"""Walks: from anything to a forecast in steps that add up, whose order does not matter or is reported."""

from dataclasses import replace

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.demo import ferry
from offing.demo.ferry import BEND, TRUTH
from offing.model import fitting
from test_models import SPECIMENS, weekly

ROWS, CUT, AHEAD = 150, 130, 13
DATA = weekly(ROWS).assign(kind=np.resize(["red", "blue", "blue", "green"], ROWS))
PAST, PLAN = DATA.iloc[:CUT], DATA.iloc[CUT:].drop(columns="sold")
BEFORE = CUT - 6
DRIVERS = [of.Driver("flag", lags=[0, 1]), of.Driver("fare", name="plain fare")]
SCENARIO = of.Scenario("dearer", {"plain fare": of.Shift(percent=5.0)})


def models():
    found = {}
    for kind, term in SPECIMENS.items():
        if kind == "condition":  # which these weeks cannot show ahead
            continue
        late = [of.Driver(name, lags=[13], name=f"late {name}") for name in ("flag", "fare")]
        terms = [term, *DRIVERS, *(late if isinstance(term, of.Interaction) else [])]
        scale = "level" if term.multiplies_trend else "log"
        errors = "ar" if kind in ("season", "driver", "interaction", "holidays") else None
        found[kind] = {"scale": scale, "terms": terms, "errors": errors}
    found["differences"] = {"scale": "log", "terms": DRIVERS, "transform": ["difference"]}
    found["growth"] = {"terms": DRIVERS, "transform": ["growth"]}
    found["working days"] = {"scale": "log", "terms": DRIVERS, "transform": ["per working day"]}
    found["level by days"] = {"terms": DRIVERS, "transform": ["per day"]}
    found["level by working days"] = {"terms": DRIVERS, "transform": ["per working day"]}
    found["limits"] = {"terms": DRIVERS, "lower_limit": 30.0, "upper_limit": 136.0}
    found["offset"] = {"scale": "log", "terms": DRIVERS, "offset": 3.0}
    return found


MODELS = models()


def gap(walk):
    """How far the steps are from adding up, as a share."""
    sums = np.sum([step.amount for step in walk.steps], axis=0)
    return np.max(np.abs(walk.start + sums - walk.end) / np.maximum(np.abs(walk.end), np.abs(walk.start)))


@pytest.mark.parametrize("name", MODELS)
def test_every_walk_of_every_model_adds_up_and_is_nothing_from_a_to_a(name):
    model = of.Model("sold", **MODELS[name])
    fit = model.fit(PAST)
    ahead = fit.forecast(AHEAD, plan=PLAN)
    earlier = DATA.iloc[BEFORE:].drop(columns="sold").assign(fare=lambda rows: rows["fare"] * 1.02)
    last = model.fit(DATA.iloc[:BEFORE]).forecast(AHEAD, plan=earlier)
    dearer = fit.forecast(AHEAD, plan=PLAN, scenario=SCENARIO)
    came = model.fit(DATA.iloc[: CUT + 5])
    pairs = [
        (ahead, None),
        (ahead, "mean"),
        (ahead, "last-year"),
        (ahead, ("2023-03-01", "2023-06-30")),
        (ahead, {"flag": 1.0}),
        (dearer, ahead),
        (ahead, last),
        (came, last),
        (fit, "last-year"),
    ]
    for end, start in pairs:
        for by in (None, "month", "period"):
            walk = of.walk(end, start, by=by)
            assert gap(walk) < 1e-9, (start, by)
            assert walk.end.sum() == pytest.approx(walk.whole.end[0], rel=1e-12)
            assert gap(walk.whole) < 1e-9
    assert of.walk(ahead).end[0] == pytest.approx(ahead.mean.sum(), rel=1e-12)
    assert of.walk(came, last).end[0] == pytest.approx(DATA["sold"].iloc[BEFORE : CUT + 5].sum(), rel=1e-12)
    for each in (ahead, last):
        assert all((step.amount == 0.0).all() for step in of.walk(each, each).steps)
    again = of.walk(model.fit(PAST).forecast(AHEAD, plan=PLAN), ahead)
    assert max(np.abs(step.amount).max() for step in again.steps) < 1e-9 * ahead.mean.sum()


def test_contributions_are_the_walk_from_the_baseline():
    ahead = of.Model("sold", scale="log", terms=[of.Season(harmonics=2), *DRIVERS]).fit(PAST).forecast(4, plan=PLAN)
    rows = ahead.contributions
    walk = of.walk(ahead, by="period")
    assert walk.start == pytest.approx(rows.values[0], rel=1e-12)
    for step in walk.steps[1:]:
        at = rows.rows.index(step.name)
        assert step.amount == pytest.approx(rows.values[at], rel=1e-9, abs=1e-9)
        assert step.amount + step.half == pytest.approx(rows.high[at], rel=1e-9, abs=1e-9)
    # Sums have intervals of their own, which are narrower than the sums of intervals.
    whole = {step.name: step for step in walk.whole.steps}
    at = rows.rows.index("flag")
    assert whole["flag"].half[0] <= (rows.high - rows.values)[at].sum() * (1.0 + 1e-12)


def test_a_year_on_year_walk_by_hand():
    """On the level scale a step is a coefficient times the change of its driver, and its interval that of the sum."""
    fit = of.Model("sold", terms=[of.Trend(), *DRIVERS]).fit(PAST)
    walk = of.walk(fit.forecast(AHEAD, plan=PLAN), "last-year")
    steps = {step.name: step for step in walk.steps}
    table = fit.coefficients.set_index("column")["coefficient"]
    fare = DATA["fare"].to_numpy()
    change = float((fare[CUT : CUT + AHEAD] - fare[CUT - 52 : CUT - 52 + AHEAD]).sum())
    assert steps["plain fare"].amount[0] == pytest.approx(table["plain fare"] * change, rel=1e-9)
    error = fit.coefficients.set_index("column")["std_error"]["plain fare"]
    reach = 1.9789  # Student's t of 125 degrees, by table
    assert steps["plain fare"].half[0] == pytest.approx(reach * error * abs(change), rel=1e-3)
    left = fit.fitted["residual"].iloc[CUT - 52 : CUT - 52 + AHEAD].sum()
    assert steps["unexplained"].amount[0] == pytest.approx(-left, rel=1e-9)
    assert walk.start[0] == pytest.approx(DATA["sold"].iloc[CUT - 52 : CUT - 52 + AHEAD].sum())


def test_the_whole_history_against_the_year_before_leaves_the_first_year_out():
    fit = of.Model("sold", terms=[of.Season(harmonics=1), *DRIVERS]).fit(PAST)
    walk = of.walk(fit, "last-year", span=(PAST.index[0], PAST.index[-1]))
    sold = PAST["sold"].to_numpy()
    assert walk.start[0] == pytest.approx(sold[1 : CUT - 52].sum()), "the first week lacks the flag of the week before"
    assert walk.end[0] == pytest.approx(sold[53:].sum())
    assert walk.notes == ("Left out: 53 weeks without known values there.",)
    assert gap(walk) < 1e-9


def test_on_the_log_scale_a_step_is_a_logarithmic_mean_times_the_change():
    fit = of.Model("sold", scale="log", terms=DRIVERS).fit(PAST)
    plain, dear = fit.forecast(2, plan=PLAN), fit.forecast(2, plan=PLAN, scenario=SCENARIO)
    walk = of.walk(dear, plain, by="period")
    assert [step.name for step in walk.moved] == ["plain fare"], "what is the same on both sides adds nothing"
    beta = fit.coefficients.set_index("column")["coefficient"]["plain fare"]
    moved = beta * 0.05 * PLAN["fare"].iloc[:2].to_numpy()
    means = (dear.mean - plain.mean) / np.log(dear.mean / plain.mean)
    assert walk.moved[0].amount == pytest.approx(means * moved, rel=1e-9)


def test_no_order_of_the_terms_enters():
    terms = [of.Season(harmonics=2), *DRIVERS]
    found = []
    for each in (terms, terms[::-1]):
        walk = of.walk(of.Model("sold", scale="log", terms=each).fit(PAST).forecast(AHEAD, plan=PLAN), "last-year")
        found.append({step.name: step.amount[0] for step in walk.steps})
    assert found[0].keys() == found[1].keys()
    for name, amount in found[0].items():
        assert found[1][name] == pytest.approx(amount, rel=1e-6, abs=1e-6)


@pytest.mark.parametrize("scale", ["level", "log"])
def test_a_to_b_to_c_is_a_to_c(scale):
    fit = of.Model("sold", scale=scale, terms=[of.Season(harmonics=1), *DRIVERS]).fit(PAST)
    a = fit.forecast(AHEAD, plan=PLAN)
    b = fit.forecast(AHEAD, plan=PLAN, scenario=SCENARIO)
    c = fit.forecast(AHEAD, plan=PLAN, scenario=of.Scenario("both", {"flag": 1.0}, base=SCENARIO))
    direct, method = of.walk(c, a), of.walk(b, a).then(of.walk(c, b))
    assert method.change == pytest.approx(direct.change, rel=1e-12)
    assert gap(method) < 1e-9
    assert len(method.phases) == 2
    for step in direct.steps if scale == "level" else ():
        parts = [each.amount[0] for each in method.steps if each.name == step.name]
        assert sum(parts) == pytest.approx(step.amount[0], rel=1e-9, abs=1e-9)
    with pytest.raises(of.InputError, match="does not start where the first ends"):
        of.walk(b, a).then(of.walk(c, a))


def only(walk, phase):
    """The changes of the phases, and that no other has any."""
    sums = {each: sum(step.amount[0] for step in walk.steps if step.phase == each) for each in walk.phases}
    for name, value in sums.items():
        assert name == phase or abs(value) < 1e-9 * walk.end[0], name
    return sums.get(phase, 0.0)


def test_a_revision_walk_show_what_changed_and_nothing_else(monkeypatch):
    fits = []
    usual = fitting.solve_design
    monkeypatch.setattr(fitting, "solve_design", lambda *given: fits.append(given) or usual(*given))
    model = of.Model("sold", scale="log", errors="ar", terms=[of.Season(harmonics=1), *DRIVERS])
    first = model.fit(PAST).forecast(AHEAD, plan=PLAN)
    planned = model.fit(PAST).forecast(AHEAD, plan=PLAN.assign(fare=PLAN["fare"] + 1.0))
    beta = first.fit.coefficients.set_index("column")["coefficient"]["plain fare"]
    moved = only(of.walk(planned, first), "changed assumptions")
    assert moved == pytest.approx(first.mean.sum() * np.expm1(beta), rel=1e-3)
    # Another model on the same data is one more fit, and nothing else changes.
    fits.clear()
    other = of.Model("sold", scale="log", errors="ar", terms=DRIVERS).fit(PAST).forecast(AHEAD, plan=PLAN)
    walk = of.walk(other, first)
    assert only(walk, "changed model") == pytest.approx(other.mean.sum() - first.mean.sum(), rel=1e-9)
    assert len(fits) == 2, "the new model's own, and the old one's on the new data"
    # New data are the drivers' values, the outcomes, and what is re-estimated.
    later = DATA.iloc[: CUT + 4].copy()
    later.iloc[CUT - 1, 0] += 9.0
    later.iloc[CUT : CUT + 4, later.columns.get_loc("fare")] *= 1.1
    newer = model.fit(later).forecast(AHEAD, plan=DATA.iloc[CUT + 4 :].drop(columns="sold"))
    fits.clear()
    walk = of.walk(newer, first)
    assert not fits, "no fit but the two that are there"
    sums = {phase: sum(step.amount[0] for step in walk.steps if step.phase == phase) for phase in walk.phases}
    assert list(sums) == [
        "revised data",
        "drivers' actual values",
        "changed assumptions",
        "new actual values",
        "re-estimated",
    ]
    share = np.log(1.0) + beta * 0.1 * DATA["fare"].iloc[CUT : CUT + 4].to_numpy()
    assert sums["drivers' actual values"] == pytest.approx(float((first.mean[:4] * np.expm1(share)).sum()), rel=0.05)
    assert abs(sums["changed assumptions"]) < 1e-6
    assert sums["revised data"] > 0.0, "the last noise carries on"
    assert walk.end[0] == pytest.approx(later["sold"].iloc[CUT:].sum() + newer.mean[:9].sum(), rel=1e-12)
    came = of.walk(model.fit(later), first)
    assert came.phases == ("revised data", "drivers that turned out otherwise", "re-estimated", "unexplained")
    assert came.end[0] == pytest.approx(later["sold"].iloc[CUT:].sum(), rel=1e-12)


def test_revisions_of_treated_data_are_of_the_same_model():
    """A value that a treatment sets apart has a column of its own, which does not make another model of it."""
    earlier, odd = DATA.iloc[BEFORE:].drop(columns="sold"), DATA.copy()
    odd.iloc[CUT - 3, 0] *= 3.0
    treatments = [of.Treat("sold", outliers="pulse"), of.Treat("fare", missing="linear")]
    model = of.Model("sold", [of.Season(harmonics=1), *DRIVERS], treatments=treatments, errors="ar")
    last = model.fit(odd.iloc[:BEFORE]).forecast(AHEAD, plan=earlier)
    now = model.fit(odd.iloc[:CUT])
    assert len(now.model.terms) == len(last.fit.model.terms) + 1
    walk = of.walk(now.forecast(AHEAD, plan=PLAN), last)
    assert "changed model" not in walk.phases
    assert gap(walk) < 1e-9
    other = of.Model("sold", DRIVERS, treatments=treatments).fit(odd.iloc[:CUT]).forecast(AHEAD, plan=PLAN)
    assert gap(of.walk(other, last)) < 1e-9
    assert gap(of.walk(now, last)) < 1e-9


def test_revisions_of_windows_and_of_equations_by_horizon():
    """A window that moved on changes no step before the estimate; equations by horizon have one step of all terms."""
    earlier = DATA.iloc[BEFORE:].drop(columns="sold")
    model = of.Model("sold", [of.Trend(), *DRIVERS], scale="log", window=60)
    last = model.fit(DATA.iloc[:BEFORE]).forecast(AHEAD, plan=earlier)
    walk = of.walk(model.fit(PAST).forecast(AHEAD, plan=PLAN), last)
    assert gap(walk) < 1e-9
    for phase in ("revised data", "drivers' actual values", "changed assumptions"):
        assert abs(sum(step.amount[0] for step in walk.steps if step.phase == phase)) < 1e-9 * walk.end[0], phase
    own = of.Model("sold", terms=[of.OwnLags([1]), *DRIVERS])
    last = own.fit(DATA.iloc[:BEFORE]).forecast(10, plan=earlier, method="direct")
    now = own.fit(PAST).forecast(4, plan=PLAN, method="direct")
    assert of.walk(now, last).phases == ("re-estimated",)
    assert max(gap(of.walk(now, last)), gap(of.walk(own.fit(PAST), last)), gap(of.walk(now, "last-year"))) < 1e-9


def test_steps_of_true_effects_lie_in_their_intervals_as_often_as_stated():
    """Worlds with known coefficients and related noise: year on year steps of driver and trend."""
    inside = {"fare": 0, "trend": 0}
    worlds, n = 300, 120
    for seed in range(worlds):
        generator = np.random.default_rng(seed)
        fare = 10.0 + np.cumsum(generator.normal(0.0, 0.4, n + 12))
        noise = generator.normal(0.0, 1.0, n)
        for t in range(1, n):
            noise[t] += 0.4 * noise[t - 1]
        months = pd.period_range("2010-01", periods=n + 12, freq="M")
        years = np.arange(n + 12) / 12.0
        sold = 60.0 - 2.0 * fare[:n] + 1.5 * years[:n] + noise
        data = pd.DataFrame({"sold": sold, "fare": fare[:n]}, months[:n])
        plan = pd.DataFrame({"fare": fare[n:]}, months[n:])
        ahead = of.Model("sold", terms=[of.Trend(), of.Driver("fare")], errors="ar").fit(data).forecast(12, plan=plan)
        steps = {step.name: step for step in of.walk(ahead, "last-year").steps}
        truth = {"fare": -2.0 * float((fare[n:] - fare[n - 12 : n]).sum()), "trend": 1.5 * 12}
        for name, value in truth.items():
            inside[name] += bool(abs(steps[name].amount[0] - value) <= steps[name].half[0])
    for count in inside.values():
        # Of 300 worlds 285 should; three standard deviations of a binomial count are 11.
        assert 271 <= count <= 297, inside


def test_steps_of_the_ferrys_true_effects_lie_in_their_intervals_on_the_log_scale():
    """Sixty worlds of the demo, whose effects are known: year on year steps in tickets, at the same logarithmic means."""
    true = {column: value for (_, column), value in TRUTH.items()}
    inside = dict.fromkeys(("fare", "sailings", "cruise calls", "storm hours"), 0)
    for seed in range(100, 160):
        made = ferry(seed=seed)
        terms = [
            of.Trend(knots=[BEND]),
            of.Season("year", harmonics=3),
            of.Holidays(table=made.days, pooling="none"),
            of.Driver("fare", transform=["log"]),
            of.Driver("sailings", transform=["log"]),
            of.Driver("cruise calls"),
            of.Driver("storm hours", above=[8.0]),
            of.Driver("promotion", carry_over=0.5),
        ]
        fit = of.Model("sold", terms, scale="log", errors="ar").fit(of.read(made.history, stamp="start"))
        weeks = of.walk(fit.forecast(13, plan=of.read(made.plan, stamp="start")), "last-year", by="period")
        worth = (weeks.end - weeks.start) / np.log(weeks.end / weeks.start)
        rows, n = pd.concat([made.history.drop(columns="sold"), made.plan]), len(made.history)
        effects = {
            "fare": true["log fare"] * np.log(rows["fare"].to_numpy()),
            "sailings": true["log sailings"] * np.log(rows["sailings"].to_numpy()),
            "cruise calls": true["cruise calls"] * rows["cruise calls"].to_numpy(),
            "storm hours": true["storm hours above a base"] * np.maximum(rows["storm hours"].to_numpy() - 8.0, 0.0),
        }
        steps = {step.name: step for step in weeks.whole.steps}
        for name, effect in effects.items():
            value = float(worth @ (effect[n : n + 13] - effect[n - 52 : n - 39]))
            inside[name] += bool(abs(steps[name].amount[0] - value) <= steps[name].half[0])
    # Of 60 worlds 57 should hold; three standard deviations of a binomial count are 5.
    assert all(52 <= count <= 60 for count in inside.values()), inside


def test_groups_are_one_step_with_an_interval_of_their_own():
    fit = of.Model("sold", scale="log", terms=[of.Season(harmonics=2), of.Trend(), *DRIVERS]).fit(PAST)
    ahead = fit.forecast(AHEAD, plan=PLAN)
    plain = {step.name: step for step in of.walk(ahead, "last-year").steps}
    walk = of.walk(ahead, "last-year", groups={"prices": ["plain fare", "flag"], "time": ["trend", "season"]})
    found = {step.name: step for step in walk.steps}
    assert "flag" not in found
    assert found["prices"].amount[0] == pytest.approx(plain["plain fare"].amount[0] + plain["flag"].amount[0], rel=1e-9)
    assert found["prices"].half[0] <= plain["plain fare"].half[0] + plain["flag"].half[0]
    assert gap(walk) < 1e-9


def test_series_are_summed_and_a_combination_walks_in_amounts():
    model = of.Model("sold", scale="log", terms=DRIVERS)
    one, other = model.fit(PAST), model.fit(PAST.assign(sold=PAST["sold"] * 2.0))
    both = {"north": one.forecast(AHEAD, plan=PLAN), "south": other.forecast(AHEAD, plan=PLAN)}
    walk = of.walk(both, "last-year", by="quarter")
    alone = [of.walk(each, "last-year", by="quarter") for each in both.values()]
    assert walk.end == pytest.approx(alone[0].end + alone[1].end)
    assert gap(walk) < 1e-9
    halves = [each.whole.steps[1].half[0] for each in alone]
    assert walk.whole.steps[1].half[0] == pytest.approx(np.hypot(*halves))
    frame = PAST[["sold"]].assign(fare=PAST["fare"])
    combined = of.combine(
        [of.Model("sold", [of.Trend()], name="a"), of.Model("sold", [of.Season(harmonics=1)], name="b")],
        frame,
        horizon=6,
        origins=4,
    )
    for against in (None, "last-year", "mean"):
        assert gap(of.walk(combined, against)) < 1e-9
    changed = of.reconcile(both["north"], {"2024-07": 700.0})
    steps = {step.name: step.amount[0] for step in of.walk(changed).steps}
    assert steps["adjustment"] == pytest.approx(changed.change.sum())


def test_what_cannot_be_walked_ends_in_one_message():
    fit = of.Model("sold", terms=DRIVERS).fit(PAST)
    ahead = fit.forecast(AHEAD, plan=PLAN)
    faults = [
        (lambda: of.walk(ahead, span="2031"), "no period of 13 weeks .* lies in 2031"),
        (lambda: of.walk(ahead, span="someday"), "is not a time span"),
        (lambda: of.walk(ahead, ("2023-06-01", "2023-03-01")), "lies before"),
        (lambda: of.walk(ahead, "1999"), "no known period lies in 1999"),
        (lambda: of.walk(ahead, {"fares": 3.0}), "the model has no driver 'fares'"),
        (lambda: of.walk(ahead, {"flag": "last value"}), "found 'last value' for 'flag'"),
        (lambda: of.walk(ahead, groups={"price": ["fares"]}), "there is no term 'fares' for the group 'price'"),
        (lambda: of.walk(ahead, groups={"price": "flag"}), "found 'flag' for the group"),
        (lambda: of.walk(ahead, groups={"a": ["flag"], "b": ["flag"]}), "'flag' is in two groups"),
        (lambda: of.walk(ahead, groups={"flag": ["plain fare"]}), "a term is called 'flag' as well"),
        (lambda: of.walk(ahead, by="day"), "has no sums by day"),
        (lambda: of.walk({}), "there is no series"),
        (lambda: of.walk(3.0), "found a float"),
        (lambda: of.walk(fit, ahead), "nothing that was forecast has come yet"),
        (lambda: of.walk(ahead, replace(ahead, axis=ahead.axis.shifted(40))), "do not follow each other"),
    ]
    for ask, message in faults:
        with pytest.raises(of.InputError, match=message):
            ask()
    priced = of.read(PAST.reset_index(names="week"), unit={"sold": "tickets"})
    other = of.Model("sold", terms=DRIVERS).fit(priced)
    with pytest.raises(of.InputError, match="sold is in no unit here and in tickets there"):
        of.walk(other.forecast(3, plan=PLAN), ahead)
    with pytest.raises(of.InputError, match="one is of sold, the other of fare"):
        of.walk(of.Model("fare").fit(PAST).forecast(5), ahead)


def test_outcomes_at_a_limit_leave_no_adjustment_behind():
    """A fitted value that was cut is no part of an outcome: what lies between is unexplained, and nothing else."""
    generator = np.random.default_rng(7)
    x = generator.normal(size=76)
    months = pd.period_range("2018-01", periods=76, freq="M")
    data = pd.DataFrame(
        {"sold": np.maximum(2.0 * x[:70] + generator.normal(0.0, 0.2, 70), 0.0), "x": x[:70]}, months[:70]
    )
    fit = of.Model("sold", terms=[of.Driver("x")], lower_limit=0.0).fit(data)
    assert (fit.means == 0.0).any(), "some fitted values are cut"
    ahead = fit.forecast(6, plan=pd.DataFrame({"x": x[70:]}, months[70:]))
    walk = of.walk(ahead, "last-year", by="period")
    cut = np.array([step.amount for step in walk.steps if step.name == "adjustment"]).sum()
    bare = np.array([step.amount for step in walk.steps if step.name != "adjustment"]).sum(axis=0)
    assert cut == pytest.approx(float((walk.change - bare).sum()))
    plain = ahead.contributions
    given = plain.values[plain.rows.index("adjustment")].sum() if "adjustment" in plain.rows else 0.0
    assert cut == pytest.approx(given, abs=1e-9), "only the forecast's own limits are a step"
