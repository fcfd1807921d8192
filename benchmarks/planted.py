"""Plant faults one by one in a copy of the code, run the tests concerned, and print those that no test notices.

``python benchmarks/planted.py`` takes them all, ``python benchmarks/planted.py 3 17`` some. A fault is a file, a text
that stands there once, what is put in its place, and the tests that should notice.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple

ROOT = Path(__file__).resolve().parent.parent


class Fault(NamedTuple):
    """One planted fault."""

    what: str
    file: str
    old: str
    new: str
    tests: str


FAULTS = [
    Fault(
        "degrees of freedom count a coefficient at its bound",
        "engine/least_squares.py",
        "dof = float(n - (free & ~active).sum())",
        "dof = float(n - free.sum())",
        "test_independent test_constraints",
    ),
    Fault(
        "the REML determinant lacks the free coefficients",
        "engine/variance_components.py",
        "float(2.0 * np.log(sizes).sum()),",
        "0.0,",
        "test_independent test_dynamics",
    ),
    Fault(
        "an estimated base is softened three times as wide",
        "terms/response_forms.py",
        "_SOFTNESS = 0.04",
        "_SOFTNESS = 0.12",
        "test_independent test_forms",
    ),
    Fault(
        "the correlation band ignores autocorrelation",
        "engine/correlation.py",
        "max(1.0 + both, 0.2)",
        "1.0",
        "test_independent test_inspect",
    ),
    Fault(
        "what was carried in is bounded too",
        "terms/coefficient_constraints.py",
        'm = k - names[-1].endswith(", before the data")',
        "m = k",
        "test_independent test_constraints",
    ),
    Fault(
        "a lead may use the first unknown period",
        "terms/driver.py",
        "lags = sorted({lag + back for lag in self.lags for back in reach(self.steps, axis.frequency)})",
        "lags = sorted({max(lag, 0) + back for lag in self.lags for back in reach(self.steps, axis.frequency)})",
        "test_independent test_forms test_driver_forms",
    ),
    Fault(
        "resampled noise comes in blocks of length 1",
        "model/joint_simulation.py",
        "length = max(round(len(residual) ** (1.0 / 3.0)), 1)",
        "length = 1",
        "test_independent test_chances",
    ),
    Fault(
        "lags are chosen by Akaike's criterion",
        "model/lag_selection.py",
        "estimate.effective_dof * np.log(n))",
        "estimate.effective_dof * 2.0)",
        "test_independent test_mixed",
    ),
    Fault(
        "a scenario keeps the uncertainty of drivers that it states",
        "model/reapply.py",
        "if view.change(Assumed, view.sources.find(each.reference)) is None",
        "",
        "test_independent test_outlook",
    ),
    Fault(
        "a flag is measured from its mean",
        "terms/driver.py",
        "return 0.0 if (values == 0.0).mean() >= _MOSTLY or is_flag(values) else None",
        "return None",
        "test_models",
    ),
    Fault(
        "changes of drivers that work together are added",
        "explain/what_if/sensitivity.py",
        "return fit.scale.plain and not (limited or factors or shared)",
        "return True",
        "test_outlook",
    ),
    Fault(
        "an older change of a column lies on top",
        "tables/point_in_time.py",
        "for own, change in self.changes:",
        "for own, change in reversed(self.changes):",
        "test_models",
    ),
    Fault(
        "figures that are not wanted are drawn",
        "study/outputs.py",
        'return wanted is None or any(figure == each or figure.startswith(f"{each}-") for each in wanted)',
        "return True",
        "test_results",
    ),
    Fault(
        "drivers' own models may go below zero",
        "model/driver_forecasts.py",
        "lower = 0.0 if np.isfinite(values).any() and np.nanmin(values) >= 0.0 else None",
        "lower = None",
        "test_independent test_outlook",
    ),
    Fault(
        "covariances of sums omit the slopes of the log scale",
        "model/joint_simulation.py",
        "(path.mean * path.factor + scale.offset if scale.log else 1.0) / path.factor",
        "np.ones(len(path.mean)) / path.factor",
        "test_independent test_totals",
    ),
    Fault(
        "the nested test has the wrong sign",
        "engine/comparison_tests.py",
        "found = equal_accuracy(small, large - apart, overlap)",
        "found = equal_accuracy(large - apart, small, overlap)",
        "test_judging",
    ),
    Fault(
        "the winner may have been scored on fewer origins",
        "evaluation/search_loop.py",
        "return min((each for each in tried if each.folds == most and np.isfinite(each.score)),",
        "return min((each for each in tried if np.isfinite(each.score)),",
        "test_independent test_search",
    ),
    Fault(
        "a search is held back from one period too few",
        "evaluation/search.py",
        "context = SearchContext(space, series, plan, chosen, score, held_back,",
        "context = SearchContext(space, series, plan, chosen, score, held_back - 1,",
        "test_independent test_search",
    ),
    Fault(
        "an outside forecast takes the older of two",
        "evaluation/external_forecasts.py",
        'for i in made[np.argsort(origins[made], kind="stable")].tolist():',
        'for i in made[np.argsort(-origins[made], kind="stable")].tolist():',
        "test_independent test_backtests",
    ),
    Fault(
        "an outside forecast of the period after counts",
        "evaluation/external_forecasts.py",
        "at = int(periods[i]) - int(cuts.rows[fold, 0])",
        "at = int(periods[i]) - int(cuts.rows[fold, 0]) - 1",
        "test_backtests test_independent",
    ),
    Fault(
        "few origins are tested by the normal distribution",
        "engine/t_distribution.py",
        "return float(stdtr(float(dof), -t))",
        "return float(stdtr(1e9, -t))",
        "test_judging",
    ),
    Fault(
        "a screening's final fit sees all data",
        "evaluation/screening.py",
        "return self.model(size).fit_at(self.base.information)",
        "return self.model(size).fit_at(self.base.information.at(None))",
        "test_one_door",
    ),
    Fault(
        "screening learns treatments from all data",
        "evaluation/screening.py",
        "past = Model.of(base.stated).fit_at(base.information.at(origin, known_ahead=frozenset()))",
        "past = base",
        "test_screening test_one_door",
    ),
    Fault(
        "an identity of drivers is not reported",
        "diagnostics/leaks.py",
        "if share < _IDENTITY:",
        "if share < 0.0:",
        "test_serious",
    ),
    Fault(
        "own lags are fed with outcomes in screening",
        "evaluation/screening_problem.py",
        "ahead = running(later @ beta, tuple(phi.tolist()))",
        "ahead = later @ beta",
        "test_screening",
    ),
    Fault(
        "a lag's noise does not live on in growth",
        "model/target_transform.py",
        "sums = np.cumsum(np.square(response))[len(response) - horizon :]",
        "sums = np.ones(horizon)",
        "test_growth_lags",
    ),
    Fault(
        "a number stands in for a missing driver ahead",
        "evaluation/shared_folds.py",
        "return _Made(made, 0, own, aim, self.logged & ~missing)",
        "return _Made(made, 0, own, aim, self.logged)",
        "test_backtests",
    ),
    Fault(
        "two estimated bases may cross",
        "terms/driver.py",
        "np.array([least, lower.lower]),",
        "np.array([-wide, lower.lower]),",
        "test_shapes",
    ),
    Fault(
        "an interaction forgets the slope of a shared base",
        "terms/interaction.py",
        "own = (by_a[:, :, None, :] * b[:, None, :, None]).reshape(n, m, sizes[0])",
        "own = 0.0 * (by_a[:, :, None, :] * b[:, None, :, None]).reshape(n, m, sizes[0])",
        "test_shapes",
    ),
    Fault(
        "a cap is a floor",
        "terms/power_transforms.py",
        "(np.minimum if self.upper else np.maximum)(series(axis), self.limit)",
        "(np.maximum if self.upper else np.minimum)(series(axis), self.limit)",
        "test_shapes",
    ),
    Fault(
        "the manifest vouches for files that it does not look at",
        "writers/files.py",
        "all(file_digest(folder / name) == digest for name, digest in listed.items())",
        "all((folder / name).exists() for name in listed)",
        "test_safety",
    ),
    Fault(
        "control characters reach the terminal",
        "base/printing.py",
        "return _STEERING.sub(lambda found:",
        'return re.sub("$^", lambda found:',
        "test_safety",
    ),
    Fault(
        "a query of DuckDB may write",
        "tables/sources/reading_only.py",
        "if statements[0].type != duckdb.StatementType.SELECT:",
        "if False:",
        "test_sources",
    ),
    Fault(
        "SQLite's authorizer allows everything",
        "tables/sources/reading_only.py",
        "return sqlite3.SQLITE_OK if action in _SQLITE and not outside else sqlite3.SQLITE_DENY",
        "return sqlite3.SQLITE_OK",
        "test_sources",
    ),
    Fault(
        "functions that read files are run by PostgreSQL",
        "tables/sources/reading_only.py",
        "        if found:\n",
        "        if False:\n",
        "test_sources",
    ),
    Fault(
        "joint paths share one stream for coefficients and noise",
        "model/joint_simulation.py",
        "shocks = _shocks(forecast, reach, count, streams[1], noise)",
        "shocks = _shocks(forecast, reach, count, np.random.default_rng(seed), noise)",
        "test_chances test_outlook",
    ),
    Fault(
        "quantiles leave out the coefficients' uncertainty",
        "model/forecast.py",
        "spread = np.sqrt(path.variances + np.square(self.spread))",
        "spread = np.sqrt(path.variances)",
        "test_models test_totals test_covariance",
    ),
    Fault(
        "the mean of a log-normal variable is its median",
        "model/fit_state.py",
        "means = np.exp(levels + variances / 2.0) - self.scale.offset if self.scale.log else levels",
        "means = np.exp(levels) - self.scale.offset if self.scale.log else levels",
        "test_models test_trend_forms",
    ),
    Fault(
        "a known value gives way to the plan",
        "tables/point_in_time.py",
        "fill = (marks[there] != MISSING) & np.isfinite(fresh) & (known.marks[here] == MISSING)",
        "fill = (marks[there] != MISSING) & np.isfinite(fresh)",
        "test_models test_needed",
    ),
    Fault(
        "values count as known one period early",
        "tables/point_in_time.py",
        "return np.where(known_at <= self.origin, ACTUAL, later).astype(np.int8)",
        "return np.where(known_at <= self.origin + (table.axis.edges[1] - table.axis.edges[0]), ACTUAL, later)"
        ".astype(np.int8)",
        "test_leaks test_one_door",
    ),
    Fault(
        "hc3 divides by the root of one less the leverage",
        "engine/robust_covariance.py",
        '"hc3": 1.0 / remaining',
        '"hc3": 1.0 / np.sqrt(remaining)',
        "test_covariance",
    ),
    Fault(
        "the interval of a share is one-sided",
        "engine/binomial.py",
        "tail = (1.0 - level) / 2.0",
        "tail = 1.0 - level",
        "test_judging",
    ),
    Fault(
        "a winter starts in the wrong year",
        "outlook/as_in.py",
        "back = here - int(winter.group(1) if winter else self.year)",
        "back = here - int(winter.group(1) if winter else self.year) - bool(winter)",
        "test_needed",
    ),
    Fault(
        "an unseen level has the effect of the last one",
        "terms/category.py",
        "dummies[new] = np.array(state.counts) / sum(state.counts)",
        "dummies[new] = np.eye(len(state.levels))[-1]",
        "test_needed",
    ),
    Fault(
        "contributions in parts forget the first period's noise",
        "model/contributions.py",
        ".standing(path.variances[:1] / 2.0)",
        ".standing(path.variances[low : low + 1] / 4.0)",
        "test_large",
    ),
    Fault(
        "interrupted folds count as forecasts of zero",
        "evaluation/refit.py",
        "        np.full((folds, h), np.nan),\n        np.full((folds, h, len(PROBABILITIES)), np.nan),",
        "        np.zeros((folds, h)),\n        np.zeros((folds, h, len(PROBABILITIES))),",
        "test_safety",
    ),
    Fault(
        "a unit that changes within a column is read",
        "tables/notation.py",
        "    if odd:\n",
        "    if odd and not unit:\n",
        "test_your_tables",
    ),
    Fault(
        "ids whose categories are parsed as numbers are taken",
        "tables/sources/csv.py",
        "                if any(_of_numbers(part[name]) for name in text):\n                    raise NotPlainError\n",
        "",
        "test_your_tables test_large",
    ),
    Fault(
        "a Friday lasts until Monday",
        "calendar/frequency.py",
        'if self.unit != "business day":\n            return edges[1:]',
        "if self.unit:\n            return edges[1:]",
        "test_business_days",
    ),
    Fault(
        "holidays are business days",
        "calendar/frequency.py",
        "busdaycalendar(holidays=np.array(self.closed, dtype=np.int64)",
        "busdaycalendar(holidays=np.array((), dtype=np.int64)",
        "test_business_days",
    ),
    Fault(
        "revisions count from the ends of their periods",
        "tables/downloads.py",
        "came if i == 0 else np.maximum(came, instant_of(day, frequency)[0])",
        "came",
        "test_web",
    ),
    Fault(
        "outliers are looked for without autocorrelation",
        "engine/outlier_tests.py",
        "return float(np.clip(r + ",
        "return 0.0 * float(np.clip(r + ",
        "test_outliers",
    ),
    Fault(
        "ten series in a hundred of noise have an outlier",
        "engine/outlier_tests.py",
        "ALPHA = 0.01",
        "ALPHA = 0.3",
        "test_outliers",
    ),
    Fault(
        "steps of the level are outliers",
        "engine/outlier_tests.py",
        "and len(steps) < _MOST_STEPS",
        "and len(steps) < 0",
        "test_outliers",
    ),
    Fault(
        "a readable column is taken for the target",
        "inspection/target.py",
        "    if chosen in first.unusable:\n",
        "    if chosen in first.unusable and len(names) < 2:\n",
        "test_your_tables",
    ),
    Fault(
        "totals are left out unchecked",
        "tables/layout.py",
        'if totals == "check":\n            _check_totals',
        'if totals == "":\n            _check_totals',
        "test_your_tables",
    ),
    Fault(
        "texts beside dates that repeat are added up",
        "inspection/several_rows.py",
        "    if known:\n",
        "    if not known:\n",
        "test_your_tables",
    ),
    Fault(
        "a stock is summed",
        "tables/aggregation_rules.py",
        '(STATES, "last", "a stock")',
        '(STATES, "sum", "a stock")',
        "test_your_tables",
    ),
    Fault(
        "a doubled hour is two lines",
        "tables/frequency_detection.py",
        'frequency.unit == "hour" and frequency.zone is None and',
        'frequency.unit == "hour" and frequency.zone and',
        "test_your_tables test_hostile",
    ),
    Fault(
        "redirects leave the web",
        "tables/sources/web.py",
        'not in ("http", "https")',
        'not in ("http", "https", "file")',
        "test_web",
    ),
    Fault(
        "joint paths keep their own width",
        "model/joint_simulation.py",
        "* swell * fit.model.widen_intervals",
        "* swell",
        "test_draft",
    ),
    Fault(
        "the short way of a back-test keeps the model's own width",
        "evaluation/shared_folds.py",
        "np.square(all_of.spread(c))) * model.widen_intervals",
        "np.square(all_of.spread(c)))",
        "test_draft",
    ),
    Fault(
        "an origin has a say in what is chosen for it",
        "drafting/widening.py",
        "errors.sum(axis=1, keepdims=True) - errors",
        "errors.sum(axis=1, keepdims=True) + 0.0 * errors",
        "test_draft",
    ),
    Fault(
        "past errors narrow intervals",
        "drafting/widening.py",
        "max(size.mean() / _NORMAL, 1.0)",
        "float(size.mean() / _NORMAL)",
        "test_draft",
    ),
    Fault(
        "a saved model forgets what treatments learnt",
        "model/stored_fit.py",
        ".treated(list(record.patches))",
        ".treated([])",
        "test_saved",
    ),
    Fault(
        "older values win over newer rows",
        "model/renew.py",
        "for table in (old, newer):\n        place = table.axis.first - axis.first\n        own = table.columns[name]",
        "for table in (newer, old):\n        place = table.axis.first - axis.first\n        own = table.columns[name]",
        "test_repeated test_saved",
    ),
    Fault(
        "joined rows forget what coefficients are drawn towards",
        "model/renew.py",
        ").moved(towards)",
        ")",
        "test_saved",
    ),
    Fault(
        "joined rows do not fade the older ones",
        "model/renew.py",
        "old.whole * np.sqrt(faded)",
        "old.whole",
        "test_saved",
    ),
    Fault(
        "a saved file of any content is taken",
        "model/saved.py",
        'if file["checksum"] != _digest(file["content"]):',
        "if False:",
        "test_saved",
    ),
    Fault(
        "an archive's walk takes the periods from the wrong start",
        "explain/why/walk_sides.py",
        "against.account.only(axis.ordinals - against.axis.first)",
        "against.account.only(axis.ordinals - end.axis.first)",
        "test_archive",
    ),
    Fault(
        "the same forecast is archived again",
        "archiving/archive.py",
        "if each.digest not in there",
        "if True",
        "test_archive",
    ),
    Fault(
        "rows of a database are added and not replaced",
        "writers/database.py",
        "    connection.execute(sa.delete(target).where(*same), list(distinct.values()))\n",
        "",
        "test_output",
    ),
    Fault(
        "monitoring takes residuals for known exactly",
        "engine/change_detection.py",
        "size = 1.0 + float(x @ gain)",
        "size = 1.0",
        "test_monitoring",
    ),
    Fault(
        "a step's size ignores what noise carries on",
        "explain/monitoring.py",
        "_whitened_step(self.fit, len(self.errors) - stretch[0]))",
        "np.ones(len(self.errors) - stretch[0]))",
        "test_monitoring",
    ),
    Fault(
        "bounds forget that all stretches are looked at",
        "engine/change_detection.py",
        "np.quantile(largest, 1.0 - LEVEL_SHARE)",
        "np.quantile(largest, 0.5)",
        "test_monitoring",
    ),
    Fault(
        "a run again compares with another scenario's plan",
        "study/repeated.py",
        '& (old["scenario"] == AS_PLANNED)\n    ]\n    both',
        '& (old["scenario"] != AS_PLANNED)\n    ]\n    both',
        "test_repeated",
    ),
    Fault(
        "what lives on through own lags starts at zero in what is handed over",
        "model/forecast_formulas.py",
        "before[lead - len(known) :] = known",
        "before[lead - len(known) :] = 0.0 * known",
        "test_handing_over",
    ),
    Fault(
        "the workbook's logarithmic mean loses its series near zero",
        "writers/spreadsheet_formulas.py",
        "1+{x}/2+{x}*{x}/6+{x}*{x}*{x}/24",
        "1",
        "test_workbook",
    ),
    Fault(
        "an empty cell of the plan counts as zero",
        "writers/workbook/inputs.py",
        'f"IF(ISNUMBER({text}),{text},NA())"',
        "text",
        "test_workbook",
    ),
    Fault(
        "an SQL query takes the larger value where the smaller one is meant",
        "writers/sql_query.py",
        "return (both + apart) / 2.0 if largest else (both - apart) / 2.0",
        "return (both + apart) / 2.0",
        "test_handing_over",
    ),
    Fault(
        "a page's script stands in it as a name of the data writes it",
        "page/render.py",
        "autoescape=True",
        "autoescape=False",
        "test_page",
    ),
    Fault(
        "a page's hover shows another period's contributions",
        "page/page.js",
        "columns.why = own.t.map((_, i) => largest(own.rows, i));",
        "columns.why = own.t.map((_, i) => largest(own.rows, Math.max(i - 1, 0)));",
        "test_page",
    ),
    Fault(
        "stock adds up quantiles of single periods",
        "explain/what_if/stock.py",
        "sums = np.cumsum(self.paths.values[:, : self.longest], axis=1)",
        "sums = np.cumsum(np.sort(self.paths.values[:, : self.longest], axis=0), axis=1)",
        "test_handing_over",
    ),
]


def survives(fault: Fault) -> str:
    """Why a fault counts as not noticed; an empty text if a test fails with it."""
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder)
        for name in ("src", "tests"):
            shutil.copytree(ROOT / name, copy / name, ignore=shutil.ignore_patterns("__pycache__"))
        for name in ("conftest.py", "pyproject.toml", "README.md", "CONTRIBUTING.md"):
            shutil.copy(ROOT / name, copy / name)
        path = copy / "src" / "offing" / fault.file
        text = path.read_text(encoding="utf-8")
        if text.count(fault.old) < 1:
            return "the place is not there any more"
        path.write_text(text.replace(fault.old, fault.new, 1), encoding="utf-8")
        tests = [f"tests/{name}.py" for name in fault.tests.split()]
        command = [sys.executable, "-m", "pytest", "-x", "-q", "-n", "0", "-p", "no:cacheprovider", *tests]
        environment = {**os.environ, "PYTHONPATH": str(copy / "src"), "OPENBLAS_NUM_THREADS": "1"}
        done = subprocess.run(command, cwd=copy, capture_output=True, text=True, check=False, env=environment)
        return "" if done.returncode == 1 else f"the tests end with status {done.returncode}"


def main() -> None:
    """Plant the faults and print what became of them."""
    chosen = [int(each) - 1 for each in sys.argv[1:]] or list(range(len(FAULTS)))
    left = 0
    with ThreadPoolExecutor(2) as pool:
        for i, why in zip(chosen, pool.map(lambda i: survives(FAULTS[i]), chosen), strict=True):
            left += bool(why)
            print(
                f"{i + 1:2d} {'SURVIVES' if why else 'caught  '} {FAULTS[i].what}{f': {why}' if why else ''}",
                flush=True,
            )
    print(f"{len(chosen) - left} of {len(chosen)} faults caught")


if __name__ == "__main__":
    main()
