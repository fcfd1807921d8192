"""The drivers' future: rules, marks, scenarios, changes, goals, simulated drivers and adjustments by hand."""

import numpy as np
import pandas as pd
import pytest

import offing as of
from test_models import weekly

ROWS, CUT, AHEAD = 150, 130, 13
DATA = weekly(ROWS)
PAST, PLAN = DATA.iloc[:CUT], DATA.iloc[CUT:].drop(columns="sold")
TERMS = [of.Season(harmonics=1), of.Driver("fare", transform=["log"]), of.Driver("flag", lags=[0, 1])]
FIT = of.Model("sold", scale="log", terms=TERMS).fit(PAST)
BASE = FIT.forecast(AHEAD, plan=PLAN)


def under(rule, driver="fare", plan=PLAN, fit=FIT):
    return fit.forecast(AHEAD, plan=plan, scenario=of.Scenario("s", {driver: rule}))


def values(ahead, driver="fare"):
    rows = ahead.drivers[ahead.drivers["driver"] == driver]
    return rows["value"].to_numpy(), rows["mark"].tolist()


def test_each_rule_says_how_a_driver_goes_on():
    fare, ahead = DATA["fare"].to_numpy(), DATA["fare"].to_numpy()[CUT : CUT + AHEAD]
    before = fare[CUT - 52 : CUT - 52 + AHEAD]
    years = np.arange(1, AHEAD + 1) * 7 / 365.2425
    expected = {
        "last value": (of.LastValue(), np.full(AHEAD, fare[CUT - 1])),
        "growing": (of.LastValue(growth=4.0), fare[CUT - 1] * 1.04**years),
        "year before": (of.YearBefore(), before),
        "year before and more": (of.YearBefore(growth=3.0), before * 1.03),
        "a value": (19.5, np.full(AHEAD, 19.5)),
        "a path": (list(range(20, 20 + AHEAD)), np.arange(20.0, 20.0 + AHEAD)),
        "percent": (of.Shift(percent=-10.0), ahead * 0.9),
        "amount": (of.Shift(amount=2.0), ahead + 2.0),
        "a year": (of.AsIn(2023), fare[CUT - 52 : CUT - 52 + AHEAD]),
        "by name": ("last value", np.full(AHEAD, fare[CUT - 1])),
    }
    for name, (rule, path) in expected.items():
        found, marks = values(under(rule))
        assert found == pytest.approx(path, rel=1e-4), name
        assert set(marks) == {"assumed"}, name
    since = DATA.index[CUT + 4]
    found, marks = values(under(of.Shift(percent=50.0, since=since, until=DATA.index[CUT + 5])))
    assert found == pytest.approx(ahead * np.where(np.isin(np.arange(AHEAD), [4, 5]), 1.5, 1.0))
    assert marks == ["plan"] * 4 + ["assumed"] * 2 + ["plan"] * 7
    dated = under(of.Stated({str(since.date()): 99.0}))
    assert values(dated)[0][4] == 99.0
    assert values(dated)[1].count("assumed") == 1


def test_a_scenario_equal_to_the_base_differs_by_exactly_nothing():
    same = [
        of.Scenario("no change", {"fare": of.Shift(percent=0.0)}),
        of.Scenario("the plan itself", {"fare": PLAN["fare"].iloc[:AHEAD].tolist()}),
        of.Scenario("back", {"fare": of.AsPlanned()}, base=of.Scenario("dear", {"fare": of.Shift(percent=9.0)})),
    ]
    found = of.scenarios(FIT, same, AHEAD, plan=PLAN)
    for each in same:
        assert np.array_equal(found.of(each.name).mean, BASE.mean)
        assert (found.differences(each.name) == 0.0).all(axis=None)
    assert (found.totals["difference"] == 0.0).all()
    assert "the interval includes zero" not in found.sentences


def test_a_scenario_builds_on_another_and_differences_are_paired():
    dear = of.Scenario("dear", {"fare": of.Shift(percent=10.0)})
    both = of.Scenario("both", {"fare": of.Shift(percent=10.0), "flag": 1.0}, base=dear)
    found = of.scenarios(FIT, [dear, both], AHEAD, plan=PLAN)
    assert found.names == ("as planned", "dear", "both")
    assert values(found.of("both"))[0] == pytest.approx(PLAN["fare"].to_numpy()[:AHEAD] * 1.21)
    assert found.assumed["both"][0] == "'fare' +10 %, then +10 %"
    gap = found.differences("dear")
    slope = FIT.coefficients.set_index("column")["coefficient"]["log fare"]
    assert gap["difference"].to_numpy() == pytest.approx(BASE.mean * np.expm1(slope * np.log(1.1)), rel=1e-9)
    # Noise and coefficients are shared, so that the difference is far better known than either total.
    alone = of.paths(found.of("dear")).totals()
    width = found.totals.loc["dear", "high"] - found.totals.loc["dear", "low"]
    assert width < 0.5 * float(alone["q0.975"].iloc[0] - alone["q0.025"].iloc[0])
    error = FIT.coefficients.set_index("column")["std_error"]["log fare"]
    by_hand = 2 * 1.98 * error * np.log(1.1) * BASE.mean.sum() * 1.1**slope
    assert width == pytest.approx(by_hand, rel=0.25)
    assert found.walk("both", "dear").change[0] == pytest.approx(found.table["both"].sum() - found.table["dear"].sum())


def test_the_worst_year_seen_is_that_with_the_lowest_forecast():
    fare = DATA["fare"].to_numpy()
    totals = {k: under(fare[CUT - 52 * k : CUT - 52 * k + AHEAD].tolist()).mean.sum() for k in (1, 2)}
    for word, pick in (("worst", min), ("best", max)):
        k = pick(totals, key=totals.get)
        scenario = of.Scenario("s", {"fare": of.AsIn(word, together=["flag"])})
        flag = DATA["flag"].to_numpy()
        both = {
            k: FIT.forecast(
                AHEAD,
                scenario=of.Scenario(
                    "h", {"fare": fare[CUT - 52 * k :][:AHEAD].tolist(), "flag": flag[CUT - 52 * k :][:AHEAD].tolist()}
                ),
            ).mean.sum()
            for k in (1, 2)
        }
        assert under(of.AsIn(word)).mean.sum() == pytest.approx(totals[k])
        assert FIT.forecast(AHEAD, scenario=scenario).mean.sum() == pytest.approx(pick(both.values()))
        noted = FIT.forecast(AHEAD, scenario=scenario).assumed["fare"]
        assert f"of 2 years seen the {word}" in noted
        assert "with 'flag'" in noted


def drivers_world(seed=5, n=260):
    """Two drivers whose shocks go together, and a target that adds both."""
    generator = np.random.default_rng(seed)
    shocks = generator.normal(size=(n, 2)) @ np.linalg.cholesky([[1.0, 0.8], [0.8, 1.0]]).T
    series = np.zeros((n, 2))
    for t in range(1, n):
        series[t] = 0.6 * series[t - 1] + shocks[t]
    cold, wind = 10.0 + series[:, 0], 5.0 + series[:, 1]
    load = 50.0 + 3.0 * cold + 2.0 * wind + generator.normal(0.0, 0.3, n)
    return pd.DataFrame({"load": load, "cold": cold, "wind": wind}, pd.date_range("2023-01-02", periods=n, freq="D"))


def test_modelled_drivers_keep_how_they_go_together_and_widen_the_forecast():
    data = drivers_world()
    fit = of.Model("load", terms=[of.Driver("cold"), of.Driver("wind")]).fit(data)
    unknown = of.Scenario("unknown", {"cold": of.Modelled(), "wind": of.Modelled()})
    ahead = fit.forecast(10, scenario=unknown)
    assert set(ahead.drivers["mark"]) == {"modelled"}
    paths = of.simulated_drivers(ahead, 20_000, seed=3)
    seen = [each.ahead.fit.fitted["residual"].iloc[5:] for each in ahead.outlooks]
    kept = [each.iloc[:, 0] for each in paths.values()]
    assert np.corrcoef(seen)[0, 1] == pytest.approx(0.8, abs=0.06)
    assert np.corrcoef(kept)[0, 1] == pytest.approx(np.corrcoef(seen)[0, 1], abs=0.03)
    # The doubt about the sum is that of the simulated drivers, put through the equation.
    moved = 3.0 * paths["cold"].to_numpy() + 2.0 * paths["wind"].to_numpy()
    half = np.sum([each.cov_root for each in ahead.outlooks], axis=0)
    assert np.sqrt(np.square(half).sum(axis=0)) == pytest.approx(moved.std(axis=0), rel=0.05)
    alone = fit.forecast(10, scenario=of.Scenario("one", {"cold": of.Modelled(), "wind": 5.0}))
    assert (ahead.spread > alone.spread).all()
    assert "forecast by a separate model (own lags; RMSE" in ahead.assumed["cold"], "there is neither trend nor season"
    with pytest.raises(of.InputError, match="no driver of the forecast is modelled"):
        of.simulated_drivers(BASE)


def test_the_models_of_drivers_hold_what_they_state_in_many_worlds():
    """Joint intervals of the target with unknown drivers hold the truth as often as they say."""
    inside = 0
    for seed in range(120):
        whole = drivers_world(seed, 200)
        fit = of.Model("load", terms=[of.Driver("cold"), of.Driver("wind")]).fit(whole.iloc[:-5])
        row = of.paths(fit.forecast(5, missing_plans="expected")).totals().iloc[0]
        inside += bool(row["q0.1"] <= whole["load"].iloc[-5:].sum() <= row["q0.9"])
    assert 84 <= inside <= 108, "of 120 worlds 96 should; three standard deviations are 13"


def test_changes_of_drivers_are_ranked_and_those_that_work_together_reported():
    found = of.sensitivity(BASE, {"fare": 10.0, "flag": of.Shift(amount=1.0)})
    by_hand = {
        name: float(under(rule, name).mean.sum() - BASE.mean.sum())
        for name, rule in (("fare", of.Shift(percent=10.0)), ("flag", of.Shift(amount=1.0)))
    }
    assert dict(zip(found.drivers, found.total, strict=True)) == pytest.approx(by_hand)
    assert abs(found.total[0]) >= abs(found.total[1])
    assert (found.low < found.total).all()
    assert found.periods.sum().to_numpy() == pytest.approx(found.total)
    both = of.Scenario("both", {"fare": of.Shift(percent=10.0), "flag": of.Shift(amount=1.0)})
    together = FIT.forecast(AHEAD, plan=PLAN, scenario=both).mean.sum() - BASE.mean.sum()
    assert found.pairs[0, 1] == pytest.approx(together - sum(by_hand.values()))
    level = of.Model("sold", terms=TERMS).fit(PAST).forecast(AHEAD, plan=PLAN)
    assert of.sensitivity(level).interactions.empty, "on the level scale effects add"
    both_up = of.sensitivity(level, {"fare": 10.0, "flag": of.Shift(amount=1.0)})
    assert abs(both_up.pairs[0, 1]) < 1e-9 * level.mean.sum()
    assert of.sensitivity(level).changes[of.sensitivity(level).drivers.index("flag")] == "on against off"


@pytest.mark.parametrize(
    ("more", "options"),
    [
        ([], {}),
        ([], {"scale": "log"}),
        ([], {"scale": "log", "offset": 25.0, "errors": "ar"}),
        ([], {"scale": "level", "upper_limit": 140.0}),
        ([of.Interaction(["fare", "flag"])], {"scale": "log"}),
        ([of.OwnLags([1])], {"scale": "log"}),
        ([of.Trend(), of.Season(name="growing", grows_with="trend", harmonics=1)], {"scale": "level"}),
    ],
)
def test_what_two_changes_do_together_is_what_the_model_run_with_both_says(more, options):
    """Where changes add on the working scale they are not run together: the sum must be the same."""
    past = PAST.assign(sold=PAST["sold"].clip(upper=139.0)) if "upper_limit" in options else PAST
    ahead = of.Model("sold", [*TERMS, *more], **options).fit(past).forecast(AHEAD, plan=PLAN)
    rules = {"fare": of.Shift(percent=10.0), "flag": of.Shift(amount=0.5)}
    found = of.sensitivity(ahead, {"fare": 10.0, "flag": of.Shift(amount=0.5)})
    total = {}
    for name, own in (("fare", {"fare"}), ("flag", {"flag"}), ("both", {"fare", "flag"})):
        scenario = of.Scenario(name, {each: rules[each] for each in own})
        total[name] = ahead.fit.forecast(AHEAD, plan=PLAN, scenario=scenario).mean.sum() - ahead.mean.sum()
    together = total["both"] - total["fare"] - total["flag"]
    assert found.pairs[0, 1] == pytest.approx(together, rel=1e-8, abs=1e-8 * ahead.mean.sum())


@pytest.mark.parametrize("how", ["constant", "percent", "amount"])
def test_seeking_a_goal_turns_the_forecast_round(how):
    rule = {"constant": 21.3, "percent": of.Shift(percent=7.7), "amount": of.Shift(amount=-1.4)}[how]
    wanted = {"constant": 21.3, "percent": 7.7, "amount": -1.4}[how]
    total = float(under(rule).mean.sum())
    found = of.solve_for(BASE, "fare", total, how=how, limits={"constant": (10.0, 40.0)}.get(how))
    assert found.met
    assert found.value == pytest.approx(wanted, rel=1e-9)
    assert found.forecast.mean.sum() == pytest.approx(total, rel=1e-12)
    part = of.solve_for(
        BASE,
        "fare",
        float(under(rule).mean[4:8].sum()),
        how=how,
        limits={"constant": (10.0, 40.0)}.get(how),
        span=(DATA.index[CUT + 4], DATA.index[CUT + 7]),
    )
    assert part.value == pytest.approx(wanted, rel=1e-9)
    assert np.array_equal(part.forecast.mean[:4], BASE.mean[:4])


def test_a_goal_out_of_reach_is_reported_with_the_nearest():
    found = of.solve_for(BASE, "fare", 1e7, limits=(15.0, 25.0))
    assert not found.met
    assert found.value in (15.0, 25.0)
    assert "No 'fare' between 15 and 25 makes the total of 13 weeks" in found.sentence
    # A bent curve reaches a total from either side of its top.
    bent = PAST.assign(sold=100.0 - np.square(PAST["fare"] - PAST["fare"].mean()))
    ahead = of.Model("sold", terms=[of.Driver("fare", curve="smooth")]).fit(bent).forecast(AHEAD, plan=PLAN)
    twice = of.solve_for(ahead, "fare", float(bent["sold"].quantile(0.3)) * AHEAD)
    assert twice.met
    assert len(twice.others) >= 1
    assert of.solve_for(ahead, "fare", twice.goal, limits=(min(twice.value, *twice.others) - 1e-3, 1e3)).met
    for ask, message in (
        (lambda: of.solve_for(BASE, "fares", 1.0), "no driver 'fares'"),
        (lambda: of.solve_for(BASE, "fare", float("nan")), "found nan"),
        (lambda: of.solve_for(BASE, "fare", 1.0, how="double"), "found 'double'"),
        (lambda: of.solve_for(BASE, "fare", 1.0, limits=(2.0, 1.0)), "lower one first"),
        (lambda: of.solve_for(BASE, "fare", 1.0, span="2031"), "lies in 2031"),
    ):
        with pytest.raises(of.InputError, match=message):
            ask()


def test_adjustments_by_hand_stay_apart_and_are_scored():
    day = [str(each.date()) for each in DATA.index[CUT : CUT + AHEAD]]
    who = {"reason": "a fair", "author": "Ida"}
    given = [
        of.Adjustment(day[0], amount=50.0, **who),
        of.Adjustment((day[2], day[4]), percent=10.0, **who),
        of.Adjustment((day[6], day[9]), total=400.0, **who),
        of.Adjustment(day[0], amount=5.0, **who),
    ]
    made = of.adjust_forecast(BASE, given)
    assert made.mean[0] == pytest.approx(BASE.mean[0] + 55.0)
    assert made.mean[2:5] == pytest.approx(BASE.mean[2:5] * 1.1)
    assert made.mean[6:10].sum() == pytest.approx(400.0)
    assert np.array_equal(made.mean[10:], BASE.mean[10:])
    rows = made.contributions
    assert rows.values.sum(axis=0) == pytest.approx(made.mean, rel=1e-9)
    assert rows.values[rows.rows.index("adjustment")] == pytest.approx(made.mean - BASE.mean)
    assert {step.name: step.amount[0] for step in of.walk(made).steps}["adjustment"] == pytest.approx(
        made.mean.sum() - BASE.mean.sum()
    )
    assert np.array_equal(made.without(0, 1, 2, 3).mean, BASE.mean)
    came = pd.Series(BASE.mean * np.r_[np.ones(2), np.full(11, 1.1)], DATA.index[CUT : CUT + AHEAD])
    scored = made.scored(came)
    assert scored["helped"].tolist() == [False, True, bool(scored["error_after"][2] < scored["error_before"][2]), False]
    assert scored["error_after"][1] == pytest.approx(0.0, abs=1e-9)
    assert "Ida: a fair." in made.sentences
    faults = [
        (
            [of.Adjustment(day[0], percent=1.0, **who), of.Adjustment(day[0], amount=1.0, **who)],
            "contradict each other",
        ),
        ([of.Adjustment("2031", percent=1.0, **who)], "lies outside the forecast"),
        ([of.Adjustment("2024", total=9e4, **who)], "neither known nor forecast"),
    ]
    for adjustments, message in faults:
        with pytest.raises(of.InputError, match=message):
            of.adjust_forecast(BASE, adjustments)
    limited = of.Model("sold", TERMS, upper_limit=140.0).fit(PAST.assign(sold=PAST["sold"].clip(upper=140.0)))
    with pytest.raises(of.InputError, match="beyond the target's limits"):
        of.adjust_forecast(limited.forecast(AHEAD, plan=PLAN), [of.Adjustment(day[0], percent=900.0, **who)])
    for fields, message in (
        ({"percent": 1.0}, "has no reason"),
        ({**who}, "no size"),
        ({**who, "percent": 1.0, "total": 2.0}, "percent and total"),
        ({**who, "amount": float("inf")}, "found inf"),
    ):
        with pytest.raises(of.InputError, match=message):
            of.Adjustment(day[0], **fields)


def test_assumptions_that_mean_nothing_end_in_one_message():
    faults = [
        (lambda: under(of.Shift(percent=1.0), "fares"), "the model has no driver 'fares'"),
        (lambda: under(of.Shift(percent=1.0, since="2031-01-01")), "no period of 'fare' lies in 2031-01-01"),
        (lambda: under(of.Stated({"2031-01-01": 3.0})), "lies in 2031-01-01"),
        (lambda: under([1.0, 2.0]), "found 2 values for 'fare', but 13 periods"),
        (lambda: under(of.AsIn(1990)), "no whole run of these periods in 1990"),
        (lambda: under(of.Shift(percent=1.0), plan=None), "nothing is planned of 'fare'"),
        (of.Shift, "a percentage or an amount"),
        (lambda: of.Shift(percent=float("nan")), "found nan"),
        (lambda: of.AsIn("coldest"), "found 'coldest'"),
        (lambda: of.Scenario("s", {"fare": "as ever"}), "driver 'fare': there is no method 'as ever'"),
        (lambda: of.Scenario("s", {"fare": {"method": "year before", "grow": 1.0}}), "has no 'grow'"),
        (lambda: of.Scenario("s", {"fare": {"method": "as in"}}), "needs more than is given"),
        (lambda: of.Scenario("as planned", {}), "Give a name other than"),
        (lambda: of.Scenario("s", [1]), "a rule for each driver"),
        (lambda: of.scenarios(FIT, [], AHEAD, plan=PLAN), "there is no scenario"),
        (lambda: of.scenarios(FIT, [of.Scenario("s", {})] * 2, AHEAD, plan=PLAN), "two scenarios are called 's'"),
        (lambda: of.scenarios(FIT, [of.Scenario("s", {"x": 1.0})], AHEAD, plan=PLAN), "scenario 's': the model has no"),
        (lambda: of.sensitivity(BASE, {"fares": 1.0}), "no driver 'fares'"),
        (lambda: of.sensitivity(BASE, {"fare": "modelled"}), "a model of its own is no change of 'fare'"),
        (lambda: of.year_of_days(BASE.contributions, term="fares"), "no contribution of 'fares'"),
        (lambda: of.year_of_days(BASE.contributions, year=1990), "no day of 1990"),
    ]
    for ask, message in faults:
        with pytest.raises(of.InputError, match=message):
            ask()
    far = of.scenarios(FIT, [of.Scenario("far", {"fare": 99.0})], AHEAD, plan=PLAN)
    assert "Beyond what history has seen, 'far': In 13 weeks of the forecast 'fare'" in far.sentences


@pytest.mark.parametrize(
    "rule", [of.LastValue(growth=1.0), of.YearBefore(), of.AsIn("worst"), of.AsIn(2023), of.Modelled()]
)
def test_no_rule_looks_at_what_was_not_known(rule):
    """Hostile later cells leave a scenario's forecast bitwise the same; a known cell changes it."""

    def noted(data):
        fit = of.Model("sold", scale="log", terms=TERMS).fit(
            data.assign(sold=data["sold"].where(np.arange(ROWS) < CUT))
        )
        ahead = fit.forecast(AHEAD, scenario=of.Scenario("s", {"fare": rule, "flag": 1.0}))
        return np.column_stack([ahead.table, ahead.spread])

    usual, hostile, known = noted(DATA), DATA.copy(), DATA.copy()
    hostile.loc[hostile.index[CUT:], "fare"] = np.linspace(3.0, 900.0, ROWS - CUT)
    assert np.array_equal(usual, noted(hostile))
    known.loc[known.index[[CUT - 1, CUT - 52, CUT - 60, CUT - 104]], "fare"] *= 1.2
    assert not np.array_equal(usual, noted(known))


def test_drivers_of_another_frequency_are_assumed_in_their_own_periods():
    """Of a quarter two months are not out: a scenario says what they will be, and no month that is out changes."""
    generator = np.random.default_rng(4)
    months = pd.period_range("2012-01", periods=146, freq="M")
    index = pd.Series(50.0 + generator.normal(0.0, 4.0, 146).cumsum() * 0.2, months, name="index")
    quarters = pd.period_range("2012Q1", periods=48, freq="Q")
    sums = index.to_numpy()[:144].reshape(48, 3).mean(axis=1)
    orders = pd.Series(10.0 + 2.0 * sums + generator.normal(0.0, 0.5, 48), quarters, name="orders")
    tables = {"orders": of.read(orders), "survey": of.read(index)}
    model = of.Model("orders.orders", terms=[of.Driver("survey.index", combine="mean")])
    fit = model.fit(tables)
    plain = fit.forecast(1)
    held = fit.forecast(1, scenario=of.Scenario("stall", {"index": "last value"}))
    last, known = float(index.iloc[-1]), index.iloc[-2:]
    slope = fit.coefficients["coefficient"].iloc[1]
    by_hand = fit.coefficients["coefficient"].iloc[0] + slope * (known.sum() + last) / 3.0
    assert held.mean[0] == pytest.approx(by_hand, rel=1e-9)
    assert held.drivers["mark"].tolist() == ["actual", "actual", "assumed"]
    assert plain.drivers["mark"].tolist() == ["actual", "actual", "modelled"]
    assert held.spread[0] < plain.spread[0], "what is assumed is not doubted"
    stated = fit.forecast(
        1,
        scenario=of.Scenario(
            "up", {"survey.index": of.Shift(amount=3.0)}, base=of.Scenario("stall", {"index": "last value"})
        ),
    )
    assert stated.mean[0] - held.mean[0] == pytest.approx(slope * 1.0, rel=1e-9), "one month of three, 3 higher"
    with pytest.raises(of.InputError, match="nothing is planned of 'index'"):
        fit.forecast(1, scenario=of.Scenario("up", {"index": of.Shift(amount=3.0)}))


def test_words_cannot_be_assumed_and_several_series_have_scenarios_of_their_own():
    kinds = PAST.assign(kind=np.resize(["red", "blue"], CUT))
    fit = of.Model("sold", terms=[of.Category("kind"), of.Driver("fare")]).fit(kinds)
    with pytest.raises(of.InputError, match="holds words"):
        fit.forecast(3, plan=PLAN.assign(kind="red"), scenario=of.Scenario("s", {"kind": 3.0}))
    dear = fit.forecast(3, plan=PLAN.assign(kind="red"), scenario=of.Scenario("s", {"fare": of.Shift(percent=5.0)}))
    assert [step.name for step in of.walk(dear, fit.forecast(3, plan=PLAN.assign(kind="red"))).moved] == ["fare"]


def test_intervals_of_past_errors_leave_every_question_as_it_is():
    past = of.backtest(FIT.model, PAST, horizon=AHEAD, origins=8, every=4, basis="ex-post")
    ahead = FIT.forecast(AHEAD, plan=PLAN, levels=[0.5, 0.8])
    given = of.recalibrate(ahead, past)
    assert not np.allclose(given.table["q0.9"], ahead.table["q0.9"])
    assert of.sensitivity(given).total == pytest.approx(of.sensitivity(ahead).total)
    assert of.sensitivity(given).pairs == pytest.approx(of.sensitivity(ahead).pairs, nan_ok=True)
    assert of.solve_for(given, "fare", 1200.0).value == pytest.approx(of.solve_for(ahead, "fare", 1200.0).value)
    assert of.walk(given, "last-year").change == pytest.approx(of.walk(ahead, "last-year").change)
    raised = of.adjust_forecast(given, [of.Adjustment("2024-07", percent=10.0, reason="a fair", author="Ida")])
    july = raised.changes[0] != 0.0
    assert raised.table["high"][july].to_numpy() == pytest.approx(1.1 * given.quantiles([0.975])["q0.975"][july])


def test_a_day_of_hours_is_the_whole_day_over_changing_clocks():
    """Dates without a time stand for all hours of the day, of which that of the change has 23."""
    hours = pd.date_range("2026-03-01", "2026-04-02", freq="h", inclusive="left", tz="Europe/Lisbon")
    generator = np.random.default_rng(2)
    warm = generator.normal(9.0, 3.0, len(hours))
    load = 60.0 - 1.5 * warm + generator.normal(0.0, 0.5, len(hours))
    past = hours < pd.Timestamp("2026-03-27", tz="Europe/Lisbon")
    table = of.read(pd.DataFrame({"load": load, "warm": warm}, hours)[past])
    plan = of.read(pd.DataFrame({"warm": warm}, hours)[~past])
    fit = of.Model("load", terms=[of.Driver("warm")]).fit(table)
    ahead = fit.forecast(int((~past).sum()), plan=plan)
    clock = hours[~past]
    for since, until, count in (("2026-03-29", "2026-03-29", 23), ("2026-03-28", "2026-03-29", 47)):
        cold = of.Scenario("cold", {"warm": of.Shift(amount=-4.0, since=since, until=until)})
        changed = fit.forecast(len(clock), plan=plan, scenario=cold)
        assert (changed.mean != ahead.mean).sum() == count
        made = of.adjust_forecast(ahead, [of.Adjustment((since, until), percent=5.0, reason="a fair", author="Ida")])
        assert (made.changes[0] != 0.0).sum() == count
        assert of.paths(ahead, count=500).within((since, until)).axis.n == count
        solved = of.solve_for(
            ahead, "warm", float(changed.mean[changed.mean != ahead.mean].sum()), how="amount", span=(since, until)
        )
        assert solved.value == pytest.approx(-4.0)
    one = of.adjust_forecast(ahead, [of.Adjustment("2026-03-29 12:00", percent=5.0, reason="a fair", author="Ida")])
    assert (one.changes[0] != 0.0).sum() == 1


@pytest.mark.parametrize(
    "stated",
    [{"scale": "log", "offset": 5.0}, {"errors": "ar", "scale": "log"}, {"transform": ["difference"]}],
    ids=str,
)
def test_the_interval_of_a_changed_driver_is_that_of_the_walk_to_it(stated):
    generator, months = np.random.default_rng(4), pd.period_range("2016-01", periods=96, freq="M")
    fare, rain = generator.normal(5.0, 1.0, 96), generator.normal(3.0, 1.0, 96)
    wander = np.cumsum(generator.normal(0.0, 0.3, 96))
    data = pd.DataFrame({"fare": fare, "rain": rain, "sold": 100.0 + wander + 3.0 * fare + 2.0 * rain}, months)
    model = of.Model("sold", [of.Trend(form="stochastic"), of.Driver("fare", lags=[0, 1]), of.Driver("rain")], **stated)
    plan = pd.DataFrame({"fare": 6.0, "rain": 3.5}, pd.period_range("2024-01", periods=8, freq="M"))
    fit = model.fit(data)
    ahead = fit.forecast(8, plan=plan)
    found = of.sensitivity(ahead, {"fare": 10.0})
    dear = of.Scenario("dear", {"fare": of.Shift(percent=10)})
    walk = of.walk(fit.forecast(8, plan=plan, scenario=dear), ahead, by="period").whole
    assert found.total[0] == pytest.approx(walk.change[0], rel=1e-9)
    assert found.high[0] - found.total[0] == pytest.approx(walk.total_half[0], rel=1e-9)
