"""Every fit and refit goes through one door: what an origin did not know changes no bit of any result."""

import ast
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import offing as of
from test_models import weekly

KNOWN, ROWS = 118, 140
WEEKS = weekly(ROWS).index
#: The first moment at which the last known week is over.
DAY = f"{WEEKS[KNOWN]:%Y-%m-%d}"
EARLIER = f"{WEEKS[KNOWN - 6]:%Y-%m-%d}"


def world():
    generator = np.random.default_rng(5)
    data = weekly(ROWS)
    return data.assign(**{f"x{i}": generator.normal(size=ROWS) for i in range(4)})


def hostile(data):
    """All later values are something else; so are the drivers' plans."""
    worse = data.copy()
    worse.iloc[KNOWN:] = np.linspace(20.0, 4000.0, (ROWS - KNOWN) * data.shape[1]).reshape(-1, data.shape[1])
    return worse


MODEL = of.Model("sold", [of.Trend(), of.Driver("fare"), of.Driver("flag")], scale="log", name="all")
PLAIN = of.Model("sold", [of.Trend()], name="plain")
LAGGED = of.Model("sold", [of.OwnLags([1]), of.Driver("flag")])
SELECTION = of.DriverSelection(of.candidates([f"x{i}" for i in range(4)]), most=2, origins=4)
SELECTING = of.Model("sold", [of.Trend(), of.Driver("flag")], driver_selection=SELECTION)


def numbers(found):
    """All numbers of a table, or of an array, as bytes can compare them."""
    return np.asarray(found.select_dtypes("number") if isinstance(found, pd.DataFrame) else found, dtype=float)


def study_of(data, folder, more):
    data.rename_axis("week").to_csv(folder / "data.csv")
    text = """format = 1
[sources.data]
file = "data.csv"
stamp = "start"
[target]
data = "data.sold"
[[terms]]
type = "trend"
[[terms]]
type = "driver"
data = "data.flag"
[forecast]
horizon = 3
missing_plans = "expected"
[driver_selection]
columns = ["data.x0", "data.x1", "data.x2", "data.x3"]
most = 2
origins = 4
"""
    (folder / "study.toml").write_text(text + more)
    return of.open_study(folder / "study.toml", as_of=DAY)


def fitted(model, data, day=DAY):
    return model.fit(data, as_of=day)


def ahead(fit, **how):
    return fit.forecast(3, missing_plans="expected", **how)


CALLS = {
    "fit": lambda data, folder: fitted(MODEL, data).estimate.beta,
    "fit_each": lambda data, folder: MODEL.fit_each(data, as_of=DAY)[""].fitted,
    "forecast": lambda data, folder: ahead(fitted(MODEL, data)).table,
    "direct forecast": lambda data, folder: ahead(fitted(LAGGED, data), method="direct").table,
    "drivers' own models": lambda data, folder: (
        of.scenarios(
            fitted(MODEL, data), [of.Scenario("own", {"fare": of.Modelled(), "flag": of.LastValue()})], 3
        ).table
    ),
    "selected drivers": lambda data, folder: fitted(SELECTING, data).estimate.beta,
    "combination": lambda data, folder: (
        of.combine(
            [PLAIN, of.Model("sold", name="mean")], data, horizon=2, as_of=DAY, method="past errors", origins=5
        ).table
    ),
    "running estimate": lambda data, folder: of.nowcast(PLAIN, data, [EARLIER, DAY], period=WEEKS[KNOWN + 2]).table,
    "back-test": lambda data, folder: (
        of.backtest([MODEL, SELECTING], data, horizon=3, origins=[EARLIER, DAY], basis="ex-ante")
        .table.query("origin <= @DAY")
        .drop(columns="target")
    ),
    "stability": lambda data, folder: of.parameter_stability(fitted(MODEL, data)).table,
    "term tests": lambda data, folder: of.term_tests(fitted(MODEL, data)).table,
    "shares": lambda data, folder: of.variance_shares(fitted(MODEL, data)).table,
    "walk between fits": lambda data, folder: (
        of.walk(ahead(fitted(MODEL, data)), against=ahead(fitted(MODEL, data, EARLIER))).table
    ),
    "study screening": lambda data, folder: study_of(data, folder, "").screenings["main"].fit().fitted,
    "study, earlier forecast": lambda data, folder: (
        study_of(data, folder, f'[[walks]]\nagainst = "{EARLIER}"\n').walks["main"][0].table
    ),
    "study, selecting model": lambda data, folder: (
        study_of(data, folder, '[models.all]\nterms = ["trend", "flag"]\ndriver_selection = true\n')
        .forecasts["all"]
        .table
    ),
}


@pytest.mark.parametrize("call", CALLS)
def test_nothing_after_the_origin_changes_a_bit(call, tmp_path):
    data = world()
    folders = [tmp_path / name for name in ("usual", "hostile", "known")]
    for folder in folders:
        folder.mkdir()
    usual = numbers(CALLS[call](data, folders[0]))
    assert usual.size
    assert np.array_equal(usual, numbers(CALLS[call](hostile(data), folders[1])), equal_nan=True)
    changed = data.copy()
    changed.iloc[KNOWN - 9] *= 1.01
    assert not np.array_equal(usual, numbers(CALLS[call](changed, folders[2])), equal_nan=True), "what is known counts"


def test_there_is_no_way_around_the_door():
    """Views of the past are made in one place, and fits in another."""
    src = Path(of.__file__).parent
    cutting, fitting = set(), set()
    for path in src.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Call):
                name = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
                if name == "View" or (name == "cut" and len(node.args) > 1):
                    cutting.add(path.relative_to(src).as_posix())
                if name == "Fit":
                    fitting.add(path.relative_to(src).as_posix())
    assert cutting == {"tables/information.py", "tables/point_in_time.py"}
    assert fitting == {"model/fit.py"}


def test_a_screening_keeps_to_the_study_s_origin(tmp_path):
    found = study_of(world(), tmp_path, "").screenings["main"]
    assert found.base.axis.n == found.fit().axis.n == KNOWN
    assert found.fit(2).model.name == "main with 2 drivers"


def test_the_running_estimate_uses_the_plan():
    """A driver's value that the plan contains is no longer refused, and counts."""
    data, plans = world(), []
    for value in (0.0, 1.0):
        plan = pd.DataFrame({"flag": value}, WEEKS[KNOWN : KNOWN + 4])
        plans.append({"data": of.read(plan, stamp="start", frequency="week", week_ends="sunday", later_rows="plan")})
    table = {"data": of.read(data.iloc[:KNOWN], stamp="start", frequency="week", week_ends="sunday")}
    model = of.Model("data.sold", [of.Driver("data.flag")])
    found = [of.nowcast(model, table, [DAY], plan=plan).table["forecast"].item() for plan in plans]
    effect = model.fit(table).coefficients.set_index("column").loc["flag", "coefficient"]
    assert found[1] - found[0] == pytest.approx(effect)
    with pytest.raises(of.InputError, match="plan"):
        of.nowcast(model, table, [DAY])
