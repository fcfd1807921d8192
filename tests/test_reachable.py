"""Every choice of the calendar terms can be said in a study file and means there what it means in Python."""

import inspect
import re

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.base.results import RESULTS

SAID = {
    "polynomial": ('type = "trend"\nform = "polynomial"\ndegree = 3', of.Trend(form="polynomial", degree=3)),
    "knots": (
        'type = "trend"\nknots = ["2023-05-01", 2024-01-01]\ndamping = 0.9',
        of.Trend(knots=["2023-05-01", "2024-01-01"], damping=0.9),
    ),
    "found bends": ('type = "trend"\nknots = "found"\nknot_every = 6', of.Trend(knots="found", knot_every=6)),
    "sharp bends": ('type = "trend"\nknots = "found"\nat_most = 2', of.Trend(knots="found", at_most=2)),
    "limits": (
        'type = "trend"\nform = "saturating"\nlower = 10\nupper = "estimated"',
        of.Trend(form="saturating", lower=10.0, upper="estimated"),
    ),
    "limit over time": (
        'type = "trend"\nform = "saturating"\nupper = "boats.roof"',
        of.Trend(form="saturating", upper="boats.roof"),
    ),
    "reference": ('type = "trend"\nreference = "a year before"', of.Trend(reference="a year before")),
    "chosen": ('type = "season"\nharmonics = "chosen"\nevidence = true', of.Season(harmonics="chosen", evidence=True)),
    "any length": ('type = "season"\ncycle = "365.25 days"\nharmonics = 4', of.Season("365.25 days", harmonics=4)),
    "kinds": (
        'type = "season"\ncycle = "day"\nacross = "kind of day"\ncountry = "NO"\n'
        'kinds = { work = ["monday","tuesday","wednesday","thursday","friday"], rest = ["saturday","sunday"] }',
        of.Season(
            "day",
            across="kind of day",
            country="NO",
            kinds={"work": ["monday", "tuesday", "wednesday", "thursday", "friday"], "rest": ["saturday", "sunday"]},
        ),
    ),
    "changing": (
        'type = "season"\ndrift = true\nchanges = ["2023-01-01"]\nreference = "January"',
        of.Season(drift=True, changes=["2023-01-01"], reference="January"),
    ),
    "growing": ('type = "season"\nharmonics = 2\ngrows_with = "trend"', of.Season(harmonics=2, grows_with="trend")),
    "holidays": (
        'type = "holidays"\ncountry = "NO"\nhalf_days = true\npooling = "full"\ndays_before = 2\nwindow = "shared"\n'
        'by_weekday = true\nbridge_days = true\nbefore_long_weekend = true\ngroups = { spring = ["Easter Sunday"] }\n'
        'ignore = ["New Year\'s Day"]\ngrows_with = "trend"',
        of.Holidays(
            country="NO",
            half_days=True,
            pooling="full",
            days_before=2,
            window="shared",
            by_weekday=True,
            bridge_days=True,
            before_long_weekend=True,
            groups={"spring": ["Easter Sunday"]},
            ignore=["New Year's Day"],
            grows_with="trend",
        ),
    ),
    "calendars": (
        'type = "holidays"\ncalendars = [{ country = "NO", weight = 2 }, { country = "DE", subdivision = "BY" }]',
        of.Holidays(calendars=[{"country": "NO", "weight": 2}, {"country": "DE", "subdivision": "BY"}]),
    ),
    "working time": (
        'type = "working-time"\ncounts = ["working days", "easter"]\ncountry = "NO"\neaster_days = 7',
        of.WorkingTime(["working days", "easter"], country="NO", easter_days=7),
    ),
    "event": (
        'type = "event"\nname = "terminal"\nform = "ramp"\ndates = ["2023-05-01"]\nknown_from = "2023-01-01"',
        of.Event("terminal", form="ramp", dates=["2023-05-01"], known_from="2023-01-01"),
    ),
}


def opened(tmp_path, body):
    (tmp_path / "boats.csv").write_text("month,sold\n2024-01,3\n2024-02,5\n2024-03,4\n2024-04,6\n")
    head = 'format = 1\n[sources.boats]\nfile = "boats.csv"\n[target]\ndata = "boats.sold"\n'
    (tmp_path / "study.toml").write_text(head + body)
    return of.open_study(tmp_path / "study.toml")


@pytest.mark.parametrize("case", SAID)
def test_the_study_says_what_python_says(case, tmp_path):
    text, term = SAID[case]
    assert opened(tmp_path, f"[[terms]]\n{text}\n").terms == (term,)


def test_the_target_and_the_noise_are_said_too(tmp_path):
    body = 'scale = "log"\noffset = 2.0\nlower_limit = 0.0\nupper_limit = 90.0\n[estimation]\nerrors = "ar"\n'
    (model,) = opened(tmp_path, body).models
    assert (model.offset, model.lower_limit, model.upper_limit, model.errors) == (2.0, 0.0, 90.0, "ar")


@pytest.mark.parametrize(
    ("text", "message"),
    [
        (
            'type = "trend"\nknots = "fond"',
            "study.toml, line 8, key 'terms\\[1\\].knots': found 'fond'. Allowed: \"found\", or give a list",
        ),
        (
            'type = "season"\nharmonics = "choosen"',
            "study.toml, line 8, key 'terms\\[1\\].harmonics': found 'choosen'. Allowed: \"chosen\", or give a whole number",
        ),
        ('type = "holidays"\ncountry = "NO"\npooling = "partly"', "key 'terms\\[1\\].pooling': found 'partly'"),
        ('type = "trend"\nform = "saturating"\nuper = 3', "there is no such key. Did you mean 'upper'"),
    ],
)
def test_slips_name_line_and_key(text, message, tmp_path):
    with pytest.raises(of.InputError, match=message):
        opened(tmp_path, f"[[terms]]\n{text}\n")


SOLD = pd.Series(np.arange(1.0, 40.0), pd.period_range("2020-01", periods=39, freq="M"), name="sold")


@pytest.mark.parametrize(
    ("call", "nearest"),
    [
        (lambda: of.Driver("x", lag=[1]), "lags"),
        (lambda: of.Model("sold").fit(SOLD, asof="2020-05-01"), "as_of"),
        (lambda: of.Model("sold").fit(SOLD).forecast(3, levls=[0.8]), "levels"),
        (lambda: of.backtest(of.Model("sold"), SOLD, horizon=2, origin=3), "origins"),
        (lambda: of.backtest(of.Model("sold"), SOLD, horizon=2, origins=3).compare(scores="MAE"), "score"),
        (lambda: of.draft(SOLD, "sold", horzon=3), "horizon"),
    ],
    ids=range(6),
)
def test_a_wrong_keyword_is_refused_with_the_nearest_right_one(call, nearest):
    with pytest.raises(of.InputError, match=rf"has no parameter '\w+'\. Did you mean '{nearest}'\?"):
        call()


def _documented():
    for name in of.__all__:
        found = getattr(of, name)
        if callable(found):
            yield name, found
            yield from ((f"{name}.{key}", each) for key, each in vars(found).items() if inspect.isfunction(each))
    for name, kind in RESULTS.items():
        yield from ((f"{name}.{key}", each) for key, each in vars(kind).items() if inspect.isfunction(each))


def test_what_docstrings_call_parameters_are_parameters():
    for name, found in _documented():
        text = inspect.getdoc(found) or ""
        section = re.search(r"^Parameters\n-+\n(.*?)(?=^\w[^\n]*\n-{3,}$|\Z)", text, re.DOTALL | re.MULTILINE)
        if section is None or name == "read":
            continue
        heads = re.findall(r"^(\w[\w, ]*)$", section.group(1), re.MULTILINE)
        stated = {each.strip() for head in heads for each in head.split(",")}
        assert stated <= set(inspect.signature(found).parameters), name
