"""Results and their registry: every kind has words, table, figure and short form; CONTRIBUTING's exercises work."""

import ast
import importlib
import json
import re
import sys
import types
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import offing as of
from offing.base import results
from offing.base.results import ENTRIES, RESULTS, Entry, Result, alone, by_name, numbered, register
from offing.study.outputs import StudyOutput
from offing.terms import Block, Reference, Term, registry

PAGE = (Path(__file__).parents[1] / "CONTRIBUTING.md").read_text(encoding="utf-8")
MONTHS = pd.period_range("2019-01", periods=60, freq="M")
FARE = 20.0 + np.tile([0.0, 1.0, 3.0, 2.0, 5.0], 12)
SOLD = (
    900.0 - 10.0 * FARE + 50.0 * np.sin(2 * np.pi * np.arange(60) / 12) + np.tile([1.0, -2.0, 1.5, 0.5, -2.0, 1.0], 10)
)
STUDY = """format = 1
[sources.boats]
file = "boats.csv"
[sources.plan]
file = "plan.csv"
plan_for = "boats"
[target]
data = "boats.sold"
[[terms]]
type = "season"
[[terms]]
type = "driver"
data = "boats.fare"
[forecast]
horizon = 6
"""


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    """A small study with its tables."""
    made = tmp_path_factory.mktemp("boats")
    pd.DataFrame({"month": MONTHS.astype(str), "sold": SOLD, "fare": FARE}).to_csv(made / "boats.csv", index=False)
    ahead = pd.period_range("2024-01", periods=6, freq="M")
    pd.DataFrame({"month": ahead.astype(str), "fare": 22.0}).to_csv(made / "plan.csv", index=False)
    (made / "study.toml").write_text(STUDY)
    return made


@pytest.fixture
def kept(monkeypatch):
    """Registries whose additions end with the test."""
    for name in ("ENTRIES", "RESULTS"):
        table = getattr(results, name)
        before = dict(table)
        yield_back = (table, before)
        monkeypatch.setattr(results, f"_{name}_kept", yield_back, raising=False)
    terms = dict(registry.TERMS)
    yield
    for name in ("ENTRIES", "RESULTS"):
        table, before = getattr(results, f"_{name}_kept")
        table.clear()
        table.update(before)
    registry.TERMS.clear()
    registry.TERMS.update(terms)


@pytest.mark.parametrize("name", sorted(RESULTS))
def test_every_kind_of_result_has_words_a_table_and_a_figure(name):
    kind = RESULTS[name]
    assert hasattr(kind, "table") or "table" in kind.__dataclass_fields__
    assert kind.sentence is not Result.sentence or kind.sentences is not Result.sentences
    module, function = kind.plotted_by.split(".")
    assert callable(getattr(importlib.import_module(f"offing.draw.{module}"), function))
    assert getattr(of.results, name, kind) is kind


def test_the_classes_of_results_are_found_in_one_place_and_no_longer_among_the_functions():
    assert set(RESULTS) <= {
        *of.results.__all__,
        "History",
        "Years",
        "Seasons",
        "Scatter",
        "LeadLags",
        "Coverage",
    }
    assert not set(of.results.__all__) & set(of.__all__)
    assert len(of.__all__) <= 78
    with pytest.raises(AttributeError, match=r"offing has no 'totales'\. Did you mean 'totals'\?"):
        _ = of.totales


def test_what_a_study_shows_reads_shortly_escapes_names_and_speaks_json(folder):
    study = of.open_study(folder / "study.toml")
    shown = set()
    for command in ("fit", "forecast", "explain"):
        for entry in results.shown_by(command):
            for each in entry.of(study, "" if entry.heading else next(iter(study.fits))).values():
                if not isinstance(each, Result):
                    continue
                shown.add(type(each).__name__)
                assert re.fullmatch(rf"<{type(each).__name__}: .{{1,92}}>", repr(each)), repr(each)
                assert str(each).strip()
                assert each._repr_html_().startswith(("<p>", "<table"))
                found = json.loads(each.to_json())
                assert found["sentences"]
                assert len(found["table"]) == len(each.table)
                for name in each.table.select_dtypes("float"):
                    cells = [np.nan if row[name] is None else row[name] for row in found["table"]]
                    assert np.array_equal(cells, each.table[name], equal_nan=True), "no digit is lost"
    assert {"Fit", "Forecast", "Contributions", "Effects", "Totals", "CycleShape", "Sensitivity", "TermTests"} <= shown


def test_names_from_data_are_inert_in_html():
    hostile = "<script>alert(1)</script>"
    sold = pd.DataFrame({"sold": SOLD, hostile: FARE}, MONTHS)
    fit = of.Model("sold", [of.Driver(hostile)]).fit(sold)
    for each in (fit, of.effects(fit), of.elasticities(fit), of.variance_shares(fit), of.term_tests(fit)):
        assert "<script" not in each._repr_html_()


def test_a_broken_entry_fails_with_its_name(kept):
    ask = lambda study, name: {}  # noqa: E731
    with pytest.raises(TypeError, match="an entry has no kind"):
        register(Entry("", of=ask, figure_for=["fit"]))
    with pytest.raises(TypeError, match="two entries are called 'totals'"):
        register(Entry("totals", of=ask, figure_for=["fit"]))
    with pytest.raises(TypeError, match="the entry 'silent' neither says, draws nor writes anything"):
        register(Entry("silent", of=ask))
    with pytest.raises(TypeError, match="the entry 'unwritten' has files and no command that writes them"):
        register(Entry("unwritten", of=ask, files={"x": lambda found, fit: None}))
    with pytest.raises(TypeError, match=r"two kinds of results are called Totals: in offing\.explain\.totals and "):

        class Totals(Result):
            """Another of that name."""


def test_figures_are_refused_for_what_is_no_result(kept):
    @dataclass(frozen=True)
    class Bare(Result):
        sentence = "Nothing to see."

    assert repr(Bare()) == "<Bare: Nothing to see.>"
    for thing in (Bare(), 3, "x", None):
        with pytest.raises(of.InputError, match=f"There is no figure of a {type(thing).__name__}"):
            of.figure(thing)


def test_parts_of_names_differ_where_names_do():
    assert alone(None) == {}
    assert numbered([7]) == {"": 7}
    assert numbered([7], always=True) == {"1": 7}
    assert by_name({"a": 1}) == {"": 1}
    several = by_name({"a b": 1, "a/b": 2, "plain": 3})
    assert len(several) == 3
    assert "plain" in several
    assert all(re.fullmatch(r"[\w.-]+", part) for part in several)


def blocks(heading):
    """The code of CONTRIBUTING below a heading."""
    section = PAGE.split(f"## {heading}", 1)[1].split("\n## ", 1)[0]
    return re.findall(r"```python\n(.*?)```", section, flags=re.DOTALL)


def as_module(name, code, monkeypatch):
    module = types.ModuleType(name)
    monkeypatch.setitem(sys.modules, name, module)
    exec(compile(code, f"<{name}>", "exec"), module.__dict__)  # noqa: S102  the page's own code
    return module


def test_a_new_answer_is_one_file_and_one_figure(folder, tmp_path, kept, monkeypatch):
    answer, figure = blocks("A new answer, start to end")
    assert len((answer + figure).splitlines()) < 80
    peaks = as_module("offing.explain.peaks", answer, monkeypatch).peaks
    as_module("offing.draw.peaks", figure, monkeypatch)
    (folder / "peaks.toml").write_text(STUDY + "[peaks]\nmost = 2\n")
    study = of.open_study(folder / "peaks.toml")
    output = StudyOutput(study, "explain")
    highest = study.forecasts["main"].table["forecast"].max()
    words = f"sold is highest in the period from 2024-04-01: {highest:.1f}"[:-2]
    assert words in output.in_words()
    files = output.bundle(["peaks"]).write(tmp_path)
    assert "peaks.csv" in {path.name for path in files}
    assert [path.name for path in files if path.suffix == ".png"] == ["peaks.png"], "only what was wanted"
    rows = pd.read_csv(tmp_path / "peaks.csv")
    assert rows.columns.tolist() == ["series", "model", "scenario", "period", "forecast"]
    assert rows["forecast"].tolist() == sorted(study.forecasts["main"].table["forecast"])[:-3:-1]
    assert json.loads(output.in_json())["peaks"][0]["period"] == rows["period"][0]
    assert repr(peaks(study.forecasts["main"])).startswith("<Peaks: sold is highest")
    (folder / "wrong.toml").write_text(STUDY + "[peaks]\nmots = 2\n")
    with pytest.raises(
        of.InputError, match=r"line 17, key 'peaks\.mots': there is no such key\. Did you mean 'most'\?"
    ):
        of.open_study(folder / "wrong.toml")


def test_a_new_form_of_a_driver_is_a_class_and_a_line(monkeypatch):
    form, _ = blocks("A new form of a driver, a new source, a new term")
    assert len(form.splitlines()) < 60
    transforms = importlib.import_module("offing.terms.transforms")
    monkeypatch.setattr(transforms, "_NAMED", dict(transforms._NAMED))
    power = importlib.import_module("offing.terms.power_transforms")
    step, line = form.split("# In terms/transforms.py:\n")
    exec(compile(step, "<form>", "exec"), power.__dict__)  # noqa: S102  the page's own code
    exec(line, {"_NAMED": transforms._NAMED, "Inverse": power.Inverse})  # noqa: S102
    sold = pd.DataFrame({"sold": 100.0 + 600.0 / FARE, "fare": FARE}, MONTHS)
    fit = of.Model("sold", [of.Driver("fare", transform=["inverse"])]).fit(sold)
    assert fit.coefficients["coefficient"].to_numpy() == pytest.approx([100.0, 600.0])
    with pytest.raises(of.InputError, match="found 0, of which there is no inverse"):
        of.Model("sold", [of.Driver("fare", transform=["inverse"])]).fit(sold.assign(fare=FARE - 20.0))


def test_a_new_source_is_a_function_and_a_suffix(tmp_path, monkeypatch):
    _, source = blocks("A new form of a driver, a new source, a new term")
    reading = importlib.import_module("offing.tables.opening")
    frames = importlib.import_module("offing.tables.sources.frames")
    monkeypatch.setattr(reading, "FILES", dict(reading.FILES))
    names = {
        "Path": Path,
        "pd": pd,
        "FILES": reading.FILES,
        "InputError": of.InputError,
        "FrameSource": frames.FrameSource,
        "plain_frame": frames.plain_frame,
        "Reading": object,
        "Source": object,
    }
    exec(compile(source, "<source>", "exec"), names)  # noqa: S102  the page's own code
    lines = [json.dumps({"month": str(month), "sold": value}) for month, value in zip(MONTHS, SOLD, strict=True)]
    (tmp_path / "boats.jsonl").write_text("\n".join(lines))
    assert of.read(tmp_path / "boats.jsonl").values("sold") == pytest.approx(SOLD)
    (tmp_path / "broken.jsonl").write_text("{")
    with pytest.raises(of.InputError, match=r"broken\.jsonl: the file holds no JSON lines"):
        of.read(tmp_path / "broken.jsonl")


@dataclass(frozen=True)
class Tide(Term):
    """A term that Offing does not know: a wave of stated length in periods."""

    name: str = "tide"
    length: float = 7.0

    measured_from = "the middle of the tide"

    def learn(self, view):
        return None

    def block(self, view, axis, state):
        turns = 2.0 * np.pi * axis.ordinals / self.length
        return Block(np.column_stack([np.sin(turns), np.cos(turns)]), ("sin", "cos"))

    def reference_on(self, view, axis, state):
        return Reference(np.zeros((1, 2)))


def test_a_term_from_elsewhere_works_in_a_study_and_everywhere_else(folder, tmp_path, kept):
    of.register_term("tide", Tide)
    study = STUDY.replace('type = "season"', 'type = "tide"\nlength = 12.0')
    (folder / "tide.toml").write_text(study)
    opened = of.open_study(folder / "tide.toml")
    (fit,) = opened.fits.values()
    season = of.Model("sold", [of.Season("year", harmonics=1), of.Driver("fare")]).fit(
        pd.DataFrame({"sold": SOLD, "fare": FARE}, MONTHS)
    )
    # A wave of twelve periods is the season's first harmonic but for the months' different lengths.
    assert fit.fitted["fitted"].to_numpy() == pytest.approx(season.fitted["fitted"].to_numpy(), abs=3.0)
    ahead = opened.forecasts["main"]
    assert ahead.contributions.values.sum(axis=0) == pytest.approx(ahead.mean, rel=1e-12)
    assert "tide" in of.variance_shares(fit).terms
    found = of.backtest(fit.model, opened.tables, horizon=3, origins=3)
    assert found.scores().set_index("model").loc["main", "MAE"].min() < 3.0
    StudyOutput(opened, "explain").bundle().write(tmp_path)
    assert "tide" in set(pd.read_csv(tmp_path / "contributions.csv")["term"])
    for name, kind, words in (
        ("Tide!", Tide, "small letters"),
        ("season", Tide, "there is a term 'season' already"),
        ("other", dict, "is not a term"),
    ):
        with pytest.raises(of.InputError, match=words):
            of.register_term(name, kind)
    (folder / "odd.toml").write_text(STUDY.replace('"season"', '"os.path"'))
    with pytest.raises(of.InputError, match=r"found 'os\.path'"):
        of.open_study(folder / "odd.toml")


def test_no_command_and_no_writer_names_a_kind_of_result():
    """What shows results goes through the entries: a kind's name stands nowhere in these files."""
    root = Path(of.__file__).parent
    for file in ("study/outputs.py", "writers/files.py", "draw/figures.py", "cli/commands.py"):
        tree = ast.parse((root / file).read_text(encoding="utf-8"))
        constants = {each.value for each in ast.walk(tree) if isinstance(each, ast.Constant)}
        names = {each.id for each in ast.walk(tree) if isinstance(each, ast.Name)}
        commands = {"fit", "forecast", "backtest", "search"}  # kinds that are called as a command is
        assert not constants & (set(ENTRIES) - commands), file
        assert not names & (set(RESULTS) - {"Study"}), file


def test_the_reference_lists_every_file_and_every_table_of_options():
    page = (Path(__file__).parents[1] / "docs" / "terms.md").read_text(encoding="utf-8")
    for entry in ENTRIES.values():
        for file in entry.files:
            assert f"`{file}.csv`" in page, file
        if entry.figure_for:
            assert f"`{entry.kind}.png`" in page or f"`{entry.kind}-*.png`" in page, entry.kind
        if entry.options is not None:
            assert (f"`[[{entry.key}]]`" if entry.requests else f"`[{entry.key}]`") in page, entry.key
