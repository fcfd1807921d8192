"""Dated events against hand arithmetic and known truths, and the jumps that no term states."""

import numpy as np
import pandas as pd
import pytest

import offing as of

WEEKS = pd.date_range("2023-01-02", periods=120, freq="7D")


def column(event, index=WEEKS):
    values = pd.Series(np.arange(float(len(index))) % 7, index=index, name="sold")
    fit = of.Model("sold", terms=[event]).fit(of.read(values, stamp="start") if index is WEEKS else of.read(values))
    return fit.design[:, 1]


def test_columns_are_those_of_hand_arithmetic():
    pulse = column(of.Event("fair", "2023-01-12", until="2023-01-17"))
    assert pulse[:4].tolist() == pytest.approx([0.0, 4 / 7, 2 / 7, 0.0])
    step = column(of.Event("hall", "2023-01-11", form="step"))
    assert step[:3].tolist() == pytest.approx([0.0, 5 / 7, 1.0])
    assert (step[2:] == 1.0).all()
    ramp = column(of.Event("road", "2023-01-09", form="ramp"))
    assert ramp[:3].tolist() == pytest.approx([0.0, 3.5 / 365.25, 10.5 / 365.25])
    decay = column(of.Event("advert", "2023-01-09", until="2023-01-15", form="decay", half_life=2.0))
    assert decay[:5].tolist() == pytest.approx([0.0, 1.0, 0.5**0.5, 0.5, 0.5**1.5])
    before = column(of.Event("advert", "2022-12-26", until="2023-01-01", form="decay", half_life=1.0))
    assert before[:3].tolist() == pytest.approx([0.5, 0.25, 0.125]), "what happened before the data still acts"
    table = pd.DataFrame({"date": ["2023-01-09", "2023-01-23"], "until": ["2023-01-15", ""], "strength": [2, -7]})
    assert column(of.Event("offers", table=table))[:5].tolist() == pytest.approx([0.0, 2.0, 0.0, -1.0, 0.0])
    months = pd.period_range("2023-01", periods=30, freq="M").to_timestamp()
    assert column(of.Event("fair", "2023-02-27", until="2023-03-01"), months)[1:3].tolist() == pytest.approx(
        [2 / 28, 1 / 31]
    )


def test_effects_of_events_are_recovered_with_the_stated_coverage():
    """300 series with a step, a ramp and a fair every year, all with the same design: 95 % intervals cover as stated."""
    generator = np.random.default_rng(12)
    fairs = pd.DataFrame(
        {"date": ["2023-06-05", "2024-06-03", "2025-03-03"], "until": ["2023-06-11", "2024-06-09", ""]}
    )
    terms = [
        of.Event("hall", "2023-11-06", form="step"),
        of.Event("road", "2024-03-04", form="ramp"),
        of.Event("fair", table=fairs),
    ]
    truth = np.array([12.0, -20.0, 30.0])
    design = (
        of.Model("sold", terms).fit(of.read(pd.Series(np.arange(120.0) % 5, WEEKS, name="sold"), stamp="start")).design
    )
    inside = []
    for _ in range(300):
        sold = 200.0 + design[:, 1:] @ truth + generator.normal(0.0, 4.0, 120)
        table = (
            of.Model("sold", terms).fit(of.read(pd.Series(sold, WEEKS, name="sold"), stamp="start")).coefficients[1:]
        )
        inside.append((table["low"] <= truth) & (truth <= table["high"]))
    assert np.abs(np.mean(inside, axis=0) - 0.95).max() < 4.0 * np.sqrt(0.95 * 0.05 / 300)


def test_an_event_counts_from_the_day_it_was_known():
    sold = of.read(pd.Series(100.0 + np.arange(120) % 9, WEEKS, name="sold"), stamp="start")
    early = sold.axis.part(0, 100)
    cut = of.read(pd.Series(100.0 + np.arange(100) % 9, WEEKS[:100], name="sold"), stamp="start")
    table = pd.DataFrame(
        {"date": ["2023-06-05", "2024-12-09", "2024-12-16"], "known_from": ["", "2024-06-01", "2024-12-03"]}
    )
    event = of.Event("strike", table=table)
    ahead = of.Model("sold", [event]).fit(cut).forecast(5)
    assert early.ends[-1] == ahead.fit.view.origin
    assert ahead.design[:, 1].tolist() == pytest.approx([0.0, 1 / 7, 0.0, 0.0, 0.0]), "the third was announced later"
    with pytest.raises(of.InputError, match="it does not touch the fitted 100 weeks"):
        of.Model("sold", [of.Event("gala", "2024-12-09")]).fit(cut)
    with pytest.raises(of.InputError, match="it does not touch the fitted"):
        of.Model("sold", [of.Event("ban", "2023-06-05", known_from="2025-01-01")]).fit(cut)


def test_an_undated_jump_is_found_dated_and_sized():
    generator = np.random.default_rng(3)
    noise = generator.normal(0.0, 3.0, 120)
    step = pd.Series(200.0 + 10.0 * (np.arange(120) >= 70) + noise, WEEKS, name="sold")
    data = of.read(step, stamp="start", unit={"sold": "boxes"})
    (noted,) = [each for each in of.Model("sold").fit(data).findings if each.check == "unexplained step"]
    assert "From 2024-05-06 on the target is" in noted.message
    assert "boxes above what the model explains" in noted.message
    assert noted.evidence["size"] == pytest.approx(10.0, abs=2.0)
    line = noted.advice.partition("[[terms]] ")[2].rstrip(".")
    event = of.Event("jump", line.partition('dates = "')[2].partition('"')[0], form="step")
    assert not of.Model("sold", [event]).fit(data).findings
    pulse = noise + 200.0
    pulse[40] -= 25.0
    (noted,) = of.Model("sold", scale="log").fit(of.read(pd.Series(pulse, WEEKS, name="sold"), stamp="start")).findings
    assert noted.check == "unexplained pulse"
    assert noted.message.startswith("In 2023-10-09 the target is")
    assert "% below what the model explains" in noted.message


@pytest.mark.parametrize("correlation", [0.0, 0.6])
def test_noise_shows_no_jumps_more_often_than_stated(correlation):
    """400 series without a jump; with autocorrelation a little more, since its estimate errs."""
    generator = np.random.default_rng(5)
    steps = pulses = 0
    for _ in range(400):
        noise = np.zeros(120)
        for t in range(1, 120):
            noise[t] = correlation * noise[t - 1] + generator.normal()
        checks = [
            each.check for each in of.Model("sold", [of.Trend()]).fit(pd.Series(noise, WEEKS, name="sold")).findings
        ]
        steps += "unexplained step" in checks
        pulses += "unexplained pulse" in checks
    assert pulses <= 3
    assert steps <= (3 if correlation == 0.0 else 12)


@pytest.mark.parametrize(
    ("call", "message"),
    [
        (lambda: of.Event("a"), "an event has dates or a table of them"),
        (lambda: of.Event("a", "2024-01-01", table=pd.DataFrame()), "Give one of them."),
        (lambda: of.Event("a", "2024-01-01", form="bump"), "Allowed: pulse, step, ramp, decay, approach."),
        (lambda: of.Event("a", "2024-01-01", form="decay"), "half_life belongs to the forms decay"),
        (lambda: of.Event("a", "2024-01-01", half_life=2.0), "half_life belongs to the forms decay"),
        (lambda: of.Event("a", "2024-01-01", form="decay", half_life=0.0), "Give a number above 0"),
        (lambda: of.Event("a", "someday"), "found 'someday', which is not a date."),
        (lambda: of.Event("a", "2024-02-01", until="2024-01-01"), "the event ends before it starts"),
        (lambda: of.Event("a", "2024-02-01", until="2024-03-01", form="step"), "until is the last day of one pulse"),
        (lambda: of.Event(dates="2024-02-01"), "a term needs a name"),
        (
            lambda: column(of.Event("a", table=pd.DataFrame({"day": ["2024-01-01"]}))),
            "found column 'day'. Choose from: date, until",
        ),
        (
            lambda: column(of.Event("a", table=pd.DataFrame({"date": ["2024-01-01"], "strength": ["much"]}))),
            "row 1, column 'strength', term 'a': found 'much', which is not a number",
        ),
    ],
)
def test_faulty_events_are_reported(call, message):
    with pytest.raises(of.InputError) as noted:
        call()
    assert message.lower() in str(noted.value).lower()
