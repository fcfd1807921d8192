"""The workbook: LibreOffice calculates it again, and gets what Offing forecast, as planned and after changes."""

import datetime as dt
import io
import zipfile
from dataclasses import replace

import numpy as np
import openpyxl
import pandas as pd
import pytest

import offing as of
from handed_over import CASES, DATA, PLAN, N, case, contributions, follows
from office import changed_in, column, recalculated, wrong
from offing.model.forecast_formulas import formulas_of
from offing.writers.python_function import python_function
from offing.writers.workbook import workbook_bytes, write_workbook

pytestmark = pytest.mark.filterwarnings("ignore:Unable to read chart:UserWarning")


def typed(other):
    """Types the plan of another forecast into the framed cells."""
    tables = formulas_of(other).tables

    def change(book):
        for each in tables:
            name = "Plan" if each is tables[0] else f"Plan by {each.name}"
            for at, values in enumerate(each.columns.values(), 2):
                for row, value in enumerate(values.tolist()):
                    if row >= each.lead and (isinstance(value, str) or np.isfinite(value)):
                        book[name].cell(9 + row, at).value = value

    return change


@pytest.fixture(scope="module")
def calculated(tmp_path_factory):
    """Workbooks from wrong values, and with a changed plan: of every case that has drivers the second at least."""
    contents = {}
    for i, name in enumerate(CASES):
        planned, changed = case(name)
        content = workbook_bytes(planned, values={})
        driven = any(each.columns for each in formulas_of(planned).tables)
        if not driven or not follows(planned):
            contents[f"{i}-planned"] = wrong(content)
        if driven:
            contents[f"{i}-changed"] = changed_in(content, typed(changed))
    return recalculated(contents, tmp_path_factory.mktemp("office"))


def agree(book, forecast, *, quantiles):
    """Whether a workbook shows a forecast: means, contributions and, with the plan as exported, quantiles."""
    n = forecast.axis.n
    for name in [str(each) for each in forecast.table.columns if each != "horizon"]:
        if quantiles or name == "forecast":
            shown = np.array(column(book["Forecast"], name, n), dtype=float)
            np.testing.assert_allclose(shown, forecast.table[name], rtol=1e-9, err_msg=name)
    sheet, found = book["Contributions"], contributions(forecast)
    heads = [cell.value for cell in sheet[8]][1:]
    labels = dict(zip(forecast.contributions.rows, ("baseline", *forecast.contributions.labels), strict=True))
    for row, values in found.items():
        shown = np.array(column(sheet, labels[row], n), dtype=float)
        np.testing.assert_allclose(shown, values, rtol=1e-9, atol=1e-9 * np.abs(values).max(), err_msg=row)
    assert set(labels.values()) | {"total", "adjustment", "log bias correction"} >= set(filter(None, heads))
    np.testing.assert_allclose(column(sheet, "total", n), forecast.mean, rtol=1e-9)


@pytest.mark.parametrize("name", CASES)
def test_every_formula_is_calculated_as_the_model_does(name, calculated):
    i, forecasts = CASES.index(name), dict(zip(("planned", "changed"), case(name), strict=True))
    books = {key: calculated[f"{i}-{key}"] for key in forecasts if f"{i}-{key}" in calculated}
    assert books
    for key, book in books.items():
        agree(book, forecasts[key], quantiles=key == "planned" or follows(forecasts["planned"]))


@pytest.fixture(scope="module")
def story():
    """A forecast with words and numbers, and scenarios of it."""
    fit = of.Model("sold", [of.Trend(), of.Driver("fare"), of.Category("kind")], "log").fit(DATA.iloc[:N])
    ahead = fit.forecast(12, plan=PLAN)
    dear = of.Scenario("dear", {"fare": of.Shift(3.0)})
    return ahead, fit.forecast(12, plan=PLAN, scenario=dear)


def test_a_scenario_is_chosen_from_a_list_and_warnings_follow(story, tmp_path):
    planned, dear = story
    other = replace(planned, scenario="DEAR")  # a name in other letters is another scenario
    content = workbook_bytes(planned, scenarios=[other, dear], values={"Notes": pd.DataFrame({"a": [1.5, np.nan]})})

    def choose(book):
        book["Plan"]["B3"] = "dear"
        assert [each.sqref for each in book["Plan"].data_validations.dataValidation]

    def empty(book):
        at = [cell.value for cell in book["Plan"][8]].index("fare") + 1
        book["Plan"].cell(10, at).value = None
        book["Plan"].cell(11, at).value = 99.0

    def new_word(book):
        at = [cell.value for cell in book["Plan"][8]].index("kind") + 1
        book["Plan"].cell(9, at).value = "NONE"

    changes = {"chosen": choose, "empty": empty, "word": new_word}
    books = recalculated({name: changed_in(content, each) for name, each in changes.items()}, tmp_path)
    agree(books["chosen"], dear, quantiles=True)
    shown = column(books["empty"]["Forecast"], "forecast", 12)
    assert shown[1] == "#N/A", "an empty cell is no zero"
    assert shown[0] == pytest.approx(planned.mean[0], rel=1e-12)
    warned = column(books["empty"]["Plan"], "outside what was seen", 12)
    assert warned[2] == "fare "
    assert not warned[0]
    assert column(books["word"]["Forecast"], "forecast", 1) == ["#N/A"], "a word is known in its own letters alone"
    scenarios = openpyxl.load_workbook(io.BytesIO(content))["Scenarios"]
    heads = [
        "month",
        *(f"{name}{more}" for name in ("as planned", "DEAR", "dear") for more in ("", ": q0.025", ": q0.975")),
    ]
    assert [cell.value for cell in scenarios[4]] == heads


def test_it_opens_with_a_decimal_comma_and_says_the_same_in_every_language(story, tmp_path):
    """Formulas are stored with points, whatever the reader's language: nothing becomes a text or a date."""
    content = wrong(workbook_bytes(story[0], values={}))
    (book,) = recalculated({"a": content}, tmp_path / "numbers", locale="de-DE").values()
    agree(book, story[0], quantiles=True)
    (text,) = recalculated({"a": content}, tmp_path / "text", "html", locale="de-DE").values()
    assert f"{story[0].mean[0]:.2f}".replace(".", ",") in text, "and is shown with a comma"


def test_the_same_forecast_gives_the_same_bytes(story):
    assert workbook_bytes(story[0], values={}) == workbook_bytes(story[0], values={})


HOSTILE = ["=cmd|'/c calc'!A1", "+one", "@SUM(1)", "-x", "a\u202eb", "{=1}", "http://tern.example"]


def test_names_that_begin_like_formulas_stay_texts(tmp_path):
    contents, forecasts = {}, {}
    for i, name in enumerate(HOSTILE):
        data = DATA.rename(columns={"fare": name})
        words = data.assign(kind=np.where(data["kind"] == "none", name, data["kind"]))
        fit = of.Model("sold", [of.Driver(name), of.Category("kind")]).fit(words.iloc[:N])
        forecasts[str(i)] = fit.forecast(3, plan=words.iloc[N:].drop(columns="sold"))
        content = workbook_bytes(forecasts[str(i)], values={})
        for sheet in openpyxl.load_workbook(io.BytesIO(content)):
            for row in sheet.iter_rows():
                for cell in row:
                    assert cell.data_type != "f" or name not in cell.value, "a name became part of a formula"
                    assert cell.hyperlink is None or cell.hyperlink.target is None, "no link leads out"
        contents[str(i)] = wrong(content)
    for key, book in recalculated(contents, tmp_path).items():
        assert HOSTILE[int(key)] in [cell.value for cell in book["Plan"][8]]
        agree(book, forecasts[key], quantiles=True)


def test_what_is_too_large_or_cannot_be_written_is_refused_in_one_line(story, tmp_path, monkeypatch):
    many = of.Model("sold", [of.Season()]).fit(DATA["sold"].iloc[:N]).forecast(1200)
    monkeypatch.setattr("offing.writers.workbook.book._MOST_CELLS", 5_000)
    with pytest.raises(of.InputError, match=r"workbook of 1,200 periods .* is too large to open\. Forecast fewer"):
        write_workbook(many, tmp_path / "many.xlsx")
    monkeypatch.undo()
    file = tmp_path / "f.xlsx"
    file.write_text("old")
    monkeypatch.setattr("pathlib.Path.replace", refuse)
    with pytest.raises(of.InputError, match=r"f\.xlsx: cannot be written \(Permission denied\)"):
        write_workbook(story[0], file)
    monkeypatch.undo()
    assert file.read_text() == "old"
    assert [each.name for each in tmp_path.iterdir()] == ["f.xlsx"]
    monkeypatch.setitem(__import__("sys").modules, "xlsxwriter", None)
    with pytest.raises(of.InputError, match=r"Writing workbooks needs .* pip install 'offing\[excel\]'"):
        write_workbook(story[0], file)


def refuse(*_):
    raise PermissionError(13, "Permission denied")


def test_a_combined_or_direct_forecast_has_no_one_equation(story):
    fit = of.Model("sold", [of.OwnLags([1])]).fit(DATA["sold"].iloc[:N])
    with pytest.raises(of.InputError, match="no one equation"):
        workbook_bytes(fit.forecast(3, method="direct"), values={})
    with pytest.raises(of.InputError, match="no one equation"):
        python_function(replace(fit.forecast(3, method="direct")))


def test_periods_are_dates_and_charts_belong_to_them(story):
    content = workbook_bytes(story[0], values={})
    book = openpyxl.load_workbook(io.BytesIO(content))
    assert book["Forecast"]["A9"].value == dt.datetime(2024, 1, 1)
    names = zipfile.ZipFile(io.BytesIO(content)).namelist()
    assert sum(name.startswith("xl/charts/chart") for name in names) == 2


def test_a_scenario_with_modelled_drivers_says_what_its_intervals_lack(story):
    planned, _ = story
    expected = planned.fit.forecast(6, plan=PLAN, scenario=of.Scenario("expected", {"fare": of.Modelled()}))
    book = openpyxl.load_workbook(
        io.BytesIO(workbook_bytes(planned.fit.forecast(6, plan=PLAN), scenarios=[expected], values={}))
    )
    said = [row[1].value for row in book["Read me"].iter_rows() if row[0].value == "note"]
    assert any("'expected' do not count what is not known" in each for each in said)
    shown = [row[5].value for row in book["Scenarios"].iter_rows(min_row=5)]
    np.testing.assert_allclose(shown, expected.table["q0.025"], rtol=1e-12)
