"""Saved models: what comes back is what was saved, newer rows are forecast from, joined or fitted, and files are checked."""

import hashlib
import json
import sys
from pathlib import Path

import jsonschema
import numpy as np
import pandas as pd
import pytest

import offing as of
from test_models import SPECIMENS, weekly

#: Rows fitted, and all there are.
OLD, ALL = 130, 150


def data_of(n=ALL):
    return weekly(ALL).assign(kind=np.tile(["red", "blue", "blue", "green"], 40)[:ALL]).iloc[:n]


def model_of(kind, **stated):
    term = SPECIMENS[kind]
    scale = "level" if term.multiplies_trend else "log"
    terms = [term, of.Driver("flag", lags=[20]), *([of.Trend()] if scale == "level" else [])]
    if isinstance(term, of.Interaction):
        terms += [of.Driver(name, lags=[13], name=f"late {name}") for name in ("flag", "fare")]
    return of.Model("sold", terms, scale, **stated)


def plan_for(kind, start):
    if kind != "category":
        return None
    return pd.DataFrame(
        {"kind": ["green", "red"] * 5}, pd.date_range(data_of().index[0], periods=200, freq="7D")[start:][:10]
    )


def every_number(fit, plan, horizon=10):
    """All that a fit says, as numbers."""
    ahead = fit.forecast(horizon, plan=plan)
    numeric = fit.coefficients.select_dtypes("number")
    tables = [numeric, fit.fitted.iloc[:, :3], fit.contributions.wide, ahead.table, ahead.contributions.wide]
    tables += [of.effects(fit).table.select_dtypes("number"), of.term_tests(fit).table.select_dtypes("number")]
    return np.concatenate([each.to_numpy(dtype=float).ravel() for each in tables])


def outcome(fit, plan):
    """Its numbers, or why there are none."""
    try:
        return every_number(fit, plan)
    except of.InputError as error:
        return str(error)


@pytest.mark.parametrize("errors", ["independent", "ar"])
@pytest.mark.parametrize("kind", SPECIMENS)
def test_what_is_loaded_is_what_was_saved(kind, errors, tmp_path):
    """Bit by bit; and so is what newer rows make of it: forecast from, joined, fitted."""
    if errors == "ar" and kind == "own-lags":
        return
    fit = model_of(kind, errors=errors).fit(data_of(OLD))
    fit.save(tmp_path / "fit.json")
    loaded = of.load(tmp_path / "fit.json")
    plan = plan_for(kind, OLD)
    assert np.array_equal(every_number(fit, plan), every_number(loaded, plan), equal_nan=True)
    assert str(fit) == str(loaded)
    assert fit.details == loaded.details
    newer, later = data_of().iloc[OLD - 5 :], plan_for(kind, ALL)
    for change in ("apply", "update", "refit"):
        one, other = (outcome(getattr(each, change)(newer), later) for each in (fit, loaded))
        assert type(one) is type(other)
        np.testing.assert_array_equal(one, other, err_msg=change)
    loaded.save(tmp_path / "again.json")
    assert (tmp_path / "again.json").read_bytes() == (tmp_path / "fit.json").read_bytes()


@pytest.mark.parametrize(
    ("stated", "driver"),
    [
        ({}, {}),
        ({"scale": "log"}, {}),
        ({"half_life": 30.0}, {}),
        ({"covariance": "hc3"}, {}),
        ({"transform": ["difference"]}, {}),
        ({"window": 90}, {"at_most": -1.5}),
    ],
    ids=str,
)
def test_joined_rows_give_the_coefficients_of_all_rows(stated, driver):
    """Where nothing but coefficients is learnt, it is the fit of all rows; with a window, of those and the newer."""
    data = weekly(ALL)
    terms = [of.Trend(), of.Driver("fare", **driver), of.Driver("flag", lags=[0, 1]), of.Season(harmonics=2)]
    joined = of.Model("sold", terms, **stated).fit(data.iloc[:OLD]).update(data.iloc[OLD:])
    rows = len(data) - OLD + stated.get("window", OLD)
    again = of.Model("sold", terms, **{**stated, "window": rows}).fit(data)
    for name in ("coefficient", "std_error", "low"):
        one, other = joined.coefficients[name], again.coefficients[name]
        np.testing.assert_allclose(one, other, rtol=1e-7, atol=1e-9, err_msg=name)
    assert joined.coefficients["status"].tolist() == again.coefficients["status"].tolist()
    plan = pd.DataFrame({"fare": 20.0, "flag": 0.0}, pd.date_range(data.index[-1], periods=6, freq="7D")[1:])
    tables = [each.forecast(5, plan=plan).table for each in (joined, again)]
    np.testing.assert_allclose(*tables, rtol=1e-8)


def test_joined_rows_are_weighted_and_shrunk_as_before():
    """Noise that carries on, an expectation and bends that are shrunk towards zero, against dense algebra."""
    data, noise = weekly(ALL), np.random.default_rng(5).normal(0.0, 4.0, ALL)
    for t in range(1, ALL):
        noise[t] += 0.6 * noise[t - 1]
    data["sold"] += noise
    terms = [of.Trend(knots="found"), of.Driver("fare", expected=-3.0, give_or_take=2.0)]
    fit = of.Model("sold", terms, errors="ar").fit(data.iloc[:OLD])
    joined = fit.update(data.iloc[OLD:140]).update(data.iloc[140:])
    assert joined.estimate.chain.phi == fit.estimate.chain.phi
    (phi,) = fit.estimate.chain.phi
    assert abs(phi) > 0.01
    rows = np.column_stack([joined.design, joined.transformed])
    white = rows - phi * np.vstack([np.zeros(rows.shape[1]), rows[:-1]])
    white[0] = rows[0] * np.sqrt(1.0 - phi**2)
    pull = 1.0 / np.sqrt(fit.estimate.ratios)
    towards = np.where(np.array(joined.layout.names) == "fare", -3.0, 0.0)
    system = np.vstack([white[:, :-1], np.diag(pull)])
    aim = np.concatenate([white[:, -1], pull * towards])
    np.testing.assert_allclose(joined.estimate.beta, np.linalg.lstsq(system, aim)[0], rtol=1e-6, atol=1e-9)


def test_a_shape_moves_towards_that_of_all_rows():
    data = weekly(ALL)
    stock = np.zeros(ALL)
    for t in range(ALL):
        stock[t] = data["flag"].iloc[t] + (0.5 * stock[t - 1] if t else 0.0)
    data["sold"] = 50.0 + 20.0 * stock + np.random.default_rng(2).normal(0.0, 1.0, ALL)
    model = of.Model("sold", [of.Driver("flag", carry_over="estimated")])
    fit, whole = model.fit(data.iloc[:OLD]), model.fit(data)
    joined = fit.update(data.iloc[OLD:])
    shares = [each.coefficients.query("kind == 'shape'")["coefficient"].item() for each in (fit, joined, whole)]
    assert abs(shares[1] - shares[2]) < 0.05 * abs(shares[0] - shares[2])


def test_old_coefficients_forecast_from_newer_rows():
    """By hand: the line of the old rows, and the share of the last noise that carries on."""
    data = weekly(ALL)
    fit = of.Model("sold", [of.Driver("flag")], errors="ar").fit(data.iloc[:OLD])
    newer = fit.apply(data.iloc[OLD:])
    assert newer.coefficients["coefficient"].tolist() == fit.coefficients["coefficient"].tolist()
    constant, flag = fit.estimate.beta
    last = data["sold"].iloc[-1] - constant - flag * data["flag"].iloc[-1]
    (phi,) = fit.estimate.chain.phi
    plan = pd.DataFrame({"flag": [1.0, 0.0]}, pd.date_range(data.index[-1], periods=3, freq="7D")[1:])
    expected = [constant + flag + phi * last, constant + phi**2 * last]
    np.testing.assert_allclose(newer.forecast(2, plan=plan).table["forecast"], expected, rtol=1e-12)
    assert any(each.check == "older coefficients" for each in newer.findings)


def test_panels_drivers_that_are_selected_and_treated_values_come_back(tmp_path):
    """Series share a table that has no ids; selected drivers and values set apart are stored with the fit."""
    data = weekly(ALL).reset_index(names="week")
    ports = pd.concat([data.assign(port=port, sold=data["sold"] + shift) for port, shift in (("N", 0.0), ("S", 40.0))])
    ports.loc[ports.index[60], "sold"] *= 3.0
    tables = {
        "ports": of.read(ports[["week", "port", "sold"]], id="port"),
        "rest": of.read(data[["week", "fare", "flag"]]),
    }
    model = of.Model(
        "ports.sold",
        [of.Season(harmonics=1)],
        treatments=[of.Treat("ports.sold", outliers="pulse")],
        driver_selection=of.DriverSelection(of.candidates(["rest.fare", "rest.flag"]), origins=4),
    )
    fits = model.fit_each(tables)
    fits.save(tmp_path / "ports.json")
    loaded = of.load_each(tmp_path / "ports.json")
    assert list(loaded) == ["N", "S"]
    assert len(json.loads((tmp_path / "ports.json").read_text())["content"]["tables"]) == 3, (
        "the shared table is there once"
    )
    with pytest.raises(of.InputError, match="2 fits"):
        of.load(tmp_path / "ports.json")
    for name, fit in fits.items():
        assert fit.model.chosen == loaded[name].model.chosen
        assert any(term.from_treatment for term in loaded[name].model.terms)
        assert str(fit) == str(loaded[name])
        assert fit.treatments == loaded[name].treatments
        np.testing.assert_array_equal(fit.fitted["fitted"], loaded[name].fitted["fitted"])
    assert str(loaded.refit_each(tables)["S"]) == str(fits["S"])


FILE = {}


def saved_text(tmp_path, change=None, *, checked=True):
    """A saved model's file, with its content changed, and its checksum as if it had been written so."""
    if not FILE:
        fit = of.Model("sold", [of.Trend(), of.Driver("fare", transform=["log"])], errors="ar").fit(data_of(OLD))
        fit.save(tmp_path / "once.json")
        FILE["text"] = (tmp_path / "once.json").read_text()
    file = json.loads(FILE["text"])
    if change is not None:
        change(file)
    if checked:
        content = json.dumps(file["content"], sort_keys=True, separators=(",", ":"))
        file["checksum"] = hashlib.sha256(content.encode()).hexdigest()
    return json.dumps(file, ensure_ascii=False, separators=(",", ":"))


def set_at(*steps):
    """A change of one value in the content."""
    *path, value = steps

    def change(file):
        inner = file["content"]
        for step in path[:-1]:
            inner = inner[step]
        inner[path[-1]] = value

    return change


ESTIMATE = ("fits", "main", "estimate")
HOSTILE = {
    "cut": (lambda text: text[: len(text) // 2], "ends in the middle"),
    "empty": (lambda text: "", "ends in the middle"),
    "no JSON": (lambda text: "format = 1", "is not JSON"),
    "another file": (lambda text: '{"a": 1}', "not a saved model"),
    "a list": (lambda text: "[]", "not a saved model"),
    "edited": (lambda text: text.replace('"trend"', '"Trend"', 1), "checksum"),
    "too large a number": (lambda text: text.replace('"rss":', '"rss":1e400,"rows":', 1), "1e400"),
    "no number": (lambda text: text.replace('"content":{', '"content":{"a":NaN,', 1), "NaN"),
    "many digits": (lambda text: text.replace('"content":{', f'"content":{{"a":{"9" * 5000},', 1), "not a saved model"),
    "nested": (lambda text: "[" * 100_000 + "]" * 100_000, "not a saved model"),
    "nested inside": (
        lambda text: text.replace('"content":{', f'"content":{{"a":{"[" * 900}{"]" * 900},', 1),
        "checksum|no model",
    ),
}


@pytest.mark.parametrize("kind", HOSTILE)
def test_a_file_that_is_no_saved_model_is_refused_in_one_line(kind, tmp_path):
    change, expected = HOSTILE[kind]
    (tmp_path / "m.json").write_text(change(saved_text(tmp_path)))
    with pytest.raises(of.InputError, match=expected) as refused:
        of.load(tmp_path / "m.json")
    assert "m.json" in str(refused.value)
    assert "\n" not in str(refused.value)


@pytest.mark.parametrize(
    ("change", "expected"),
    [
        (lambda file: file.update(version=2), "version 2"),
        (lambda file: file.update(more=1), "'more'"),
        (lambda file: file.pop("made_with"), "'made_with' is missing"),
        (set_at("study", 0), ""),
        (set_at(*ESTIMATE, "beta", [1.0, 2.0]), "estimate.beta"),
        (set_at(*ESTIMATE, "beta", "values", [1.0, 2.0]), "estimate.beta.shape"),
        (set_at(*ESTIMATE, "beta", {"type": "array", "of": "number", "shape": [1], "values": [1.0]}), "one model"),
        (set_at(*ESTIMATE, "beta", "values", 0, "os.system"), "estimate.beta.values"),
        (set_at(*ESTIMATE, "beta", "values", 0, True), "estimate.beta.values"),
        (set_at(*ESTIMATE, "type", "Popen"), "'Popen'"),
        (set_at("fits", "main", "model", "terms", 0, "type", "subprocess.Popen"), "subprocess"),
        (set_at("fits", "main", "model", "scale", "cubic"), "'cubic'"),
        (set_at("fits", "main", "model", "order", 1.5), "order"),
        (set_at("fits", "main", "model", "target", "__class__"), "__class__"),
        (set_at("fits", "main", "states", []), "one model"),
        (set_at("fits", "main", "states", 0, {"type": "DriverState"}), "DriverState"),
        (set_at("fits", "main", "tables", "data", 7), "one model"),
        (set_at("fits", "main", "axis", "n", -5), "."),
        (set_at("fits", "main", "axis", "n", 10**9), "."),
        (set_at("fits", "main", "axis", "first", 10**18), "."),
        (set_at("fits", "main", "origin", 10**30), "."),
        (set_at("fits", "main", "axis", "frequency", "zone", "../../etc/passwd"), "."),
        (set_at("tables", 0, "axis", "n", 3), "one value for each"),
        (set_at("tables", 0, "columns", "fare", "values", 0, 10**400), "."),
        (set_at("fits", {}), "no model in it"),
        (set_at("fits", "main", "scale", "changes", [{"type": "Difference"}]), "'lag' is missing"),
    ],
)
def test_what_stands_in_a_file_is_checked(change, expected, tmp_path):
    """With a checksum that fits, still nothing is made that could not have been saved."""
    (tmp_path / "m.json").write_text(saved_text(tmp_path, change))
    if not expected:
        assert of.load(tmp_path / "m.json").axis.n == OLD, "what the study asks for does not touch the fit"
        return
    with pytest.raises(of.InputError, match=expected) as refused:
        of.load(tmp_path / "m.json")
    assert "m.json" in str(refused.value)


def test_files_that_cannot_be_read_or_written(tmp_path, monkeypatch):
    with pytest.raises(of.InputError, match="no file"):
        of.load(tmp_path / "none.json")
    with pytest.raises(of.InputError, match="cannot be opened"):
        of.load(tmp_path)
    (tmp_path / "b.json").write_bytes(b"\xff\xfe")
    with pytest.raises(of.InputError, match="UTF-8"):
        of.load(tmp_path / "b.json")
    (tmp_path / "m.json").write_text(saved_text(tmp_path))
    monkeypatch.setattr("offing.model.saved.MODEL_FILE", 100)
    with pytest.raises(of.InputError, match="more than any model"):
        of.load(tmp_path / "m.json")
    fit = of.Model("sold").fit(data_of(OLD))
    (tmp_path / "old.json").write_text("old")
    monkeypatch.setattr(Path, "replace", lambda *_: (_ for _ in ()).throw(OSError(28, "No space left on device")))
    with pytest.raises(of.InputError, match="No space left"):
        fit.save(tmp_path / "old.json")
    assert (tmp_path / "old.json").read_text() == "old"
    assert not [each for each in tmp_path.iterdir() if each.name.startswith(".")]
    with pytest.raises(of.InputError, match="folder of that name"):
        fit.save(tmp_path)


def test_hostile_names_of_columns_and_words_come_back(tmp_path):
    name, word = "type\u202e=cmd|'{}'", "</script>\x00"
    data = data_of(OLD).rename(columns={"fare": name}).assign(kind=np.tile([word, "b"], OLD // 2))
    fit = of.Model("sold", [of.Driver(name), of.Category("kind", name="type")], name="is").fit(data)
    fit.save(tmp_path / "m.json")
    assert str(of.load(tmp_path / "m.json")) == str(fit)


def test_the_shipped_schema_describes_every_file(tmp_path):
    root = Path(of.__file__).parent
    shipped = json.loads((root / "model" / "model-file.schema.json").read_text(encoding="utf-8"))
    jsonschema.Draft202012Validator.check_schema(shipped)
    check = jsonschema.Draft202012Validator(shipped)
    for kind in SPECIMENS:
        model_of(kind, errors="independent").fit(data_of(OLD)).save(tmp_path / "m.json")
        check.validate(json.loads((tmp_path / "m.json").read_text()))
    wrong = json.loads(saved_text(tmp_path, set_at(*ESTIMATE, "rows", "many")))
    assert not check.is_valid(wrong)
    sys.path.insert(0, str(root.parents[1] / "docs"))
    import schema

    assert schema.text() == schema.FILE.read_text(encoding="utf-8"), "Run python docs/schema.py."


def test_newer_rows_that_do_not_belong_are_refused(tmp_path):
    data = data_of()
    fit = of.Model("sold", [of.Driver("fare")], loss="huber").fit(data.iloc[:OLD])
    with pytest.raises(of.InputError, match="Use refit"):
        fit.update(data.iloc[OLD:])
    with pytest.raises(of.InputError, match="'fare'"):
        fit.apply(data.drop(columns="fare").iloc[OLD:])
    with pytest.raises(of.InputError, match="found a list"):
        fit.apply([1, 2])
    with pytest.raises(of.InputError, match="'rest'"):
        fit.apply({"rest": data})
    months = of.read(
        pd.DataFrame({"sold": [1.0, 2.0], "fare": [1.0, 2.0]}, pd.period_range("2025-01", periods=2, freq="M"))
    )
    with pytest.raises(of.InputError, match="month"):
        fit.apply(months)
    table = of.read(data.iloc[:OLD], unit={"fare": "EUR"})
    priced = of.Model("sold", [of.Driver("fare")]).fit(table)
    with pytest.raises(of.InputError, match="was in EUR"):
        priced.apply(of.read(data.iloc[OLD:], unit={"fare": "USD"}))
    revised = data.copy()
    revised.iloc[20, revised.columns.get_loc("sold")] = np.nan
    partly = of.Model("sold", [of.Driver("fare")]).fit(revised.iloc[:OLD])
    with pytest.raises(of.InputError, match="that they had not then"):
        partly.update(data)
    assert partly.update(revised.iloc[:OLD]) is not None


STUDY = """
format = 1
title = "Ferry"
[sources.tickets]
file = "tickets.csv"
unit = { fare = "EUR" }
[sources.plan]
file = "plan.csv"
plan_for = "tickets"
[target]
data = "tickets.sold"
scale = "log"
[[terms]]
type = "season"
harmonics = 2
[[terms]]
type = "driver"
data = "tickets.fare"
[[terms]]
type = "holidays"
table = "days.csv"
[estimation]
errors = "ar"
[forecast]
horizon = 6
unknown_drivers_cost = true
[scenarios.dear]
drivers = { fare = { percent = 10.0 } }
[[walks]]
against = "last-year"
"""


@pytest.fixture
def study(tmp_path):
    """A study of 130 weeks with the plan of twenty more, and these weeks as they came in ``newer.csv``."""
    folder = tmp_path / "study"
    folder.mkdir()
    data = data_of()[["sold", "fare"]].rename_axis("week").reset_index()
    data.iloc[:OLD].to_csv(folder / "tickets.csv", index=False)
    data.iloc[OLD:].drop(columns="sold").to_csv(folder / "plan.csv", index=False)
    data.iloc[OLD:140].to_csv(folder / "newer.csv", index=False)
    (folder / "days.csv").write_text("name,date\nregatta,2022-07-06\nregatta,2023-07-05\nregatta,2024-07-03\n")
    (folder / "study.toml").write_text(STUDY)
    return folder


def test_a_saved_study_answers_elsewhere_as_it_did(study, run_cli, tmp_path):
    """Without any file of the study: forecast and explanation, scenarios and walks, word by word."""
    file, elsewhere = study / "ferry.model.json", tmp_path / "elsewhere"
    assert run_cli("fit", study / "study.toml", "--save", file).out.endswith(f"Saved: {file}\n")
    said = {step: run_cli(step, study / "study.toml", "--out", study / step).out for step in ("forecast", "explain")}
    walk = run_cli("explain", study / "study.toml", "--against", "last-year").out
    elsewhere.mkdir()
    (elsewhere / "ferry.model.json").write_bytes(file.read_bytes())
    for each in study.glob("*.*"):
        each.unlink()
    for step, text in said.items():
        ran = run_cli(step, elsewhere / "ferry.model.json", "--out", elsewhere / step)
        assert ran.status == 0, ran.err
        assert ran.out == text.replace(str(study), str(elsewhere))
        files = {each.name for each in (study / step).iterdir()} - {"run.json", "manifest.json"}
        for name in sorted(files):
            assert (elsewhere / step / name).read_bytes() == (study / step / name).read_bytes(), name
    assert run_cli("explain", elsewhere / "ferry.model.json", "--against", "last-year").out == walk


def test_a_saved_study_goes_on_from_newer_rows(study, run_cli):
    file, newer = study / "ferry.model.json", study / "newer.csv"
    run_cli("fit", study / "study.toml", "--save", file)
    forecast = run_cli("forecast", file, "--data", newer, "--json")
    assert forecast.status == 0, forecast.err
    made = of.load(file).apply(of.read(newer)).forecast(6, plan=of.read(study / "plan.csv", frequency="week"))
    rows = [each for each in json.loads(forecast.out)["forecast"] if each["scenario"] == "as planned"]
    np.testing.assert_allclose([each["forecast"] for each in rows], made.mean, rtol=1e-12)
    assert "newer.csv" in json.loads(forecast.out)["run"]["fingerprint"]
    for option, change in (((), "refit"), (("--update",), "update")):
        ran = run_cli("fit", file, "--data", newer, *option, "--save", study / "next.json")
        assert ran.status == 0, ran.err
        expected = getattr(of.load(file), change)(of.read(newer)).coefficients["coefficient"]
        np.testing.assert_allclose(of.load(study / "next.json").coefficients["coefficient"], expected, rtol=1e-12)
    cheap = pd.read_csv(study / "plan.csv").assign(fare=10.0)
    cheap.to_csv(study / "cheap.csv", index=False)
    planned = json.loads(run_cli("forecast", file, "--plan", study / "cheap.csv", "--json").out)["drivers"]
    assert {each["value"] for each in planned if each["scenario"] == "as planned"} == {10.0}


@pytest.mark.parametrize(
    ("command", "expected"),
    [
        (("forecast", "study.toml", "--data", "newer.csv"), "a study names its files itself"),
        (("backtest", "ferry.model.json"), "a saved model, not a study"),
        (("forecast", "ferry.model.json", "--as-of", "2024-01-01"), "Leave out --as-of"),
        (("forecast", "ferry.model.json", "--data", "none.csv"), "no file"),
        (("forecast", "ferry.model.json", "--data", "plan.csv"), "'sold'"),
        (("fit", "ferry.model.json", "--update"), "no newer rows"),
        (("forecast", "alone.json"), "without a study"),
        (("fit", "study.toml", "--save", "."), "is a directory"),
    ],
)
def test_saved_models_and_commands_that_do_not_go_together(study, run_cli, monkeypatch, command, expected):
    monkeypatch.chdir(study)
    run_cli("fit", "study.toml", "--save", "ferry.model.json")
    of.load("ferry.model.json").save("alone.json")
    ran = run_cli(*command)
    assert ran.status == 2
    assert expected in ran.err
    assert ran.err.count("\n") == 1 or "Usage" in ran.err


def test_a_saved_study_holds_no_address(study, run_cli, tmp_path):
    """Passwords of databases stay in the study."""
    from sqlalchemy import create_engine

    address = f"sqlite:///{tmp_path / 'secret-harbour.sqlite'}"
    pd.read_csv(study / "tickets.csv").to_sql("tickets", create_engine(address), index=False)
    source = f'database = "{address}"\ntable = "tickets"'
    (study / "study.toml").write_text(STUDY.replace('file = "tickets.csv"', source))
    ran = run_cli("fit", study / "study.toml", "--save", study / "m.json")
    assert ran.status == 0, ran.err
    text = (study / "m.json").read_text()
    assert "secret-harbour" not in text + ran.out
    assert run_cli("forecast", study / "m.json").out == run_cli("forecast", study / "study.toml").out


def forms():
    """Models with forms of drivers, trends and seasons that no specimen has, with data and what a forecast needs."""
    data = weekly(ALL)
    driver = {
        "smooth curve": {"curve": "smooth"},
        "rising curve": {"curve": "falling"},
        "estimated base": {"above": "estimated"},
        "two bases": {"above": 21.0, "below": 19.0},
        "saturation": {"saturation": "estimated"},
        "carried over": {"carry_over": "estimated"},
        "a power": {"transform": [{"power": "estimated", "between": [0.3, 2.0]}]},
        "an index": {"transform": [{"index": "2023"}]},
        "a group": {"shrink_with": "prices", "lags": [0, 1]},
        "bounds": {"at_most": -1.0, "at_least": -5.0},
        "an expectation": {"expected": -3.0, "give_or_take": 1.0},
        "half of the mean": {"reference": 19.0},
    }
    found = {name: (of.Model("sold", [of.Driver("fare", **stated)]), data) for name, stated in driver.items()}
    found["stochastic"] = (of.Model("sold", [of.Trend(form="stochastic", slope="stochastic"), of.Driver("fare")]), data)
    found["decay"] = (
        of.Model("sold", [of.Event("works", dates="2023-05-01", form="decay", half_life="estimated")]),
        data,
    )
    smooth = [of.Treat("fare", smooth=3, centred=True), of.Treat("sold", outliers="replace")]
    found["treated"] = (of.Model("sold", [of.Driver("fare")], treatments=smooth), data)
    found["recent"] = (of.Model("sold", [of.Driver("fare")], half_life=40.0, covariance="newey-west"), data)
    found["robust"] = (of.Model("sold", [of.Driver("fare")], loss="tukey"), data)
    found["growth"] = (of.Model("sold", [of.Driver("fare")], transform=["growth"]), data)
    found["seasonal noise"] = (of.Model("sold", errors="ar", seasonal_lag=4, order="chosen"), data)
    months = pd.period_range("2012-01", periods=150, freq="M")
    wander = np.cumsum(np.random.default_rng(8).normal(size=150))
    table = of.read(pd.DataFrame({"orders": wander}, months))
    quarters = of.read(
        pd.DataFrame({"sold": 50.0 + wander[2::3] + wander[1::3]}, pd.period_range("2012Q1", periods=50, freq="Q"))
    )
    for weights in ("beta", "polynomial", "smooth", "free"):
        term = of.Driver("fast.orders", span=6, skip=3, weights=weights)
        found[f"{weights} weights"] = (of.Model("slow.sold", [term]), {"slow": quarters, "fast": table})
    return found


@pytest.mark.parametrize("kind", forms())
def test_every_form_comes_back(kind, tmp_path):
    model, data = forms()[kind]
    whole = isinstance(data, dict)
    fit = model.fit(data if whole else data.iloc[:OLD])
    fit.save(tmp_path / "m.json")
    loaded = of.load(tmp_path / "m.json")
    plan = None if whole else data.iloc[OLD:].drop(columns="sold")
    horizon = 1 if whole else 10
    assert str(loaded) == str(fit)
    assert loaded.details == fit.details
    np.testing.assert_array_equal(every_number(loaded, plan, horizon), every_number(fit, plan, horizon))
    if whole:
        return
    for change in ("apply", "update", "refit"):
        results = []
        for each in (fit, loaded):
            try:
                results.append(
                    getattr(each, change)(data.iloc[OLD:140])
                    .forecast(5, plan=data.iloc[140:].drop(columns="sold"))
                    .table
                )
            except of.InputError as error:
                results.append(pd.DataFrame({"error": [str(error)]}))
        pd.testing.assert_frame_equal(*results)
