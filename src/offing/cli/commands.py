"""The commands. Whatever is heavy is imported when a command runs, so that help is immediate."""

from __future__ import annotations

import sys
import time
import traceback
from pathlib import Path
from typing import Any, Literal

import click

from offing import __version__

#: Seconds that a search's results take to write and draw, or to print, with the start of the program.
_WRITING, _PRINTING = 3.0, 1.0


def _echo(text: str, *, err: bool = False) -> None:
    """Print, with control characters from names and notes shown as codes: the one place that prints."""
    from offing.base.printing import printable  # noqa: PLC0415

    click.echo(printable(text), err=err)


class _Commands(click.Group):
    """A group that ends in one clear line, whatever happens: 2 where the input is wrong, 1 where it is our fault."""

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except (click.ClickException, click.exceptions.Exit, click.Abort, BrokenPipeError):
            raise  # a reader that has seen enough, such as head, is no fault: the command ends without a word
        except Exception as error:
            from offing.base import InputError  # noqa: PLC0415

            if isinstance(error, InputError):
                _echo(f"Error: {error}", err=True)
                sys.exit(2)
            if _interrupted(error):
                raise click.Abort from error
            _echo(_fault(error, ctx.params.get("trace")), err=True)
            sys.exit(1)


def _interrupted(error: BaseException | None) -> bool:
    """Whether an error came of Ctrl-C, which code that was just being loaded may turn into another one."""
    while error is not None:
        if isinstance(error, KeyboardInterrupt):
            return True
        error = error.__cause__ or error.__context__
    return False


def _fault(error: Exception, trace: Path | None) -> str:
    """What to say of an unforeseen fault; its trace goes to a file where one is named."""
    kind = type(error).__name__
    head = f"Error: a fault of Offing, not of your data ({kind})."
    if trace is None:
        return f"{head} Run 'offing --trace FILE ...' to write its trace, and report it with that."
    try:
        trace.write_text("".join(traceback.format_exception(error)), encoding="utf-8")
    except OSError as unwritable:
        return f"{head} Its trace could not be written to {trace} ({unwritable.strerror})."
    return f"{head} Its trace is in {trace}: report it with that."


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="offing")
@click.option("--trace", type=click.Path(path_type=Path, dir_okay=False), help="Where to write the trace of a fault.")
def offing(trace: Path | None) -> None:
    """Forecast a series from its drivers, the calendar and the season, and say what each contributes.

    Start with 'offing draft TABLE' on your own data, or with 'offing demo', which writes an example and runs it.
    """


@offing.command()
@click.argument("folder", type=click.Path(path_type=Path, file_okay=False), default=Path("tern-islands"))
@click.option(
    "--story",
    type=click.Choice(["ferry", "heat", "boatyard", "service"]),
    default="ferry",
    help="Which one.",
    show_default=True,
)
def demo(folder: Path, story: str) -> None:
    """Write a made-up study into FOLDER, run it in full and compare it with the truth.

    FOLDER is tern-islands by default. The ferry's study is of weeks, that of the district heat of hours, that of the
    boatyard of quarters with months and weeks; that of the service reads months from a small statistics service.
    """
    from offing.demo import run_boatyard, run_ferry, run_heat, run_service  # noqa: PLC0415

    runs = {"ferry": run_ferry, "heat": run_heat, "boatyard": run_boatyard, "service": run_service}
    runs[story](folder, _echo)


@offing.command()
@click.argument("paths", nargs=-1, required=True)
@click.option("--target", help="What is to be forecast, as SOURCE.COLUMN; a file's source is its name.")
@click.option("--to", help="Frequency to plan at: hour, day, week, month, quarter or year.")
@click.option("--set", "said", multiple=True, metavar="SOURCE.KEY=VALUE", help="What is known of a file.")
@click.option("--out", type=click.Path(path_type=Path, file_okay=False), help="Folder for tables and figures.")
@click.option("--find", "word", help="Search the catalogue of a statistics service, whose address is given, by a word.")
@click.option("--full", is_flag=True, help="Add all tables to the first screen.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON text instead of words.")
def inspect(  # noqa: PLR0917  click gives every option by its name
    paths: tuple[str, ...],
    target: str | None,
    to: str | None,
    said: tuple[str, ...],
    out: Path | None,
    word: str | None,
    full: bool,
    as_json: bool,
) -> None:
    """Look at data before any model: PATHS are one study, or tables with the target's first.

    Says what was read, what is missing or strange, what moves the target, and what only you can answer. With --find,
    PATHS is the address of a statistics service.
    """
    from offing.study.inspection import found_series, inspected, survey_bundle, survey_json  # noqa: PLC0415

    if word is not None:
        _echo(found_series(str(paths[0]), word))
        return
    survey = inspected([Path(path) for path in paths], target, to, said)
    text = survey_json(survey) if as_json else survey.full if full else str(survey)
    written = []
    if out is not None:
        written += survey_bundle(survey).write(out)
    if written and not as_json:
        text += "\n\nWritten: " + ", ".join(str(file) for file in written)
    _echo(text)


@offing.command()
@click.argument("paths", nargs=-1, required=True, metavar="TABLE...")
@click.option("--target", help="What is to be forecast, as SOURCE.COLUMN; a file's source is its name.")
@click.option("--to", help="Frequency to plan at: hour, day, week, month, quarter or year.")
@click.option("--set", "said", multiple=True, metavar="SOURCE.KEY=VALUE", help="What is known of a file.")
@click.option("--horizon", type=int, help="How many periods to forecast.")
@click.option("--until", help="Up to which date to forecast, instead.")
@click.option("--plan", "plans", multiple=True, help="A table of the drivers' planned values; any number of them.")
@click.option("--holidays", help="A table of holidays, or a country's code such as NO.")
@click.option("--budget", help="The time for everything, such as 30s or 2min.")
@click.option("--out", type=click.Path(path_type=Path, file_okay=False), help="Folder for the study and the results.")
@click.option("--script", type=click.Path(path_type=Path, dir_okay=False), help="Write the model as a Python script.")
@click.option("--workers", type=int, help="How many processes share the work.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON text instead of words.")
def draft(  # noqa: PLR0917  click gives every option by its name
    paths: tuple[str, ...],
    target: str | None,
    to: str | None,
    said: tuple[str, ...],
    horizon: int | None,
    until: str | None,
    plans: tuple[str, ...],
    holidays: str | None,
    budget: str | None,
    out: Path | None,
    script: Path | None,
    workers: int | None,
    as_json: bool,
) -> None:
    """Forecast from bare tables: TABLE... hold the target first, then drivers, plans and holidays in any order.

    Chooses a model by its forecasts from past origins, says how good it was and what drives it, and with --out writes
    the study, the forecast and what explains it. A study instead of tables is drafted again: it stays as it is unless
    past forecasts support a change.
    """
    started = time.monotonic()
    from offing.base.parallel import processes  # noqa: PLC0415
    from offing.study.drafted import Request, drafted, in_json, write  # noqa: PLC0415

    requested = Request(target, to, said, horizon, until, tuple(map(Path, plans)), holidays, budget)
    with processes(workers):
        found = drafted([Path(path) for path in paths], requested, spent=time.monotonic() - started)
        text = in_json(found) if as_json else str(found)
        written = write(found, out, script)
    if out is not None and not as_json:
        text += (
            f"\n\nWritten to {out}: study.toml, with its results in {len(written) - 1 - (script is not None)} files. "
        )
        text += "Open draft.png and contributions.png first."
    if script is not None and not as_json:
        text += f"\n\nWritten: {script}"
    _echo(text)


def _shown_options(command: Any) -> Any:
    """Options of all commands that show the fits of a study."""
    for each in (
        click.option("--full", is_flag=True, help="Add standard errors, t, p, tests and shares of the terms."),
        click.option("--as-of", help="A date: only what was known then counts."),
        click.option("--json", "as_json", is_flag=True, help="Print one JSON text instead of words."),
        click.option("--out", type=click.Path(path_type=Path, file_okay=False), help="Folder for the results' files."),
    ):
        command = each(command)
    return command


def _saved_options(command: Any) -> Any:
    """Options of a command that takes a saved model as well."""
    for each in (
        click.option("--plan", multiple=True, metavar="FILE", help="With a saved model: a plan of its drivers."),
        click.option("--data", multiple=True, metavar="FILE", help="With a saved model: newer rows to forecast from."),
    ):
        command = each(command)
    return command


def _opened(
    path: Path,
    as_of: str | None,
    data: tuple[str, ...],
    plan: tuple[str, ...],
    learning: Literal["apply", "update", "refit"] = "apply",
) -> Any:
    """A study, or a saved model where the path ends in ``.json``."""
    from offing.base import InputError  # noqa: PLC0415
    from offing.study import open_study  # noqa: PLC0415

    if path.suffix != ".json":
        for option, given in (("--data", data), ("--plan", plan)):
            if given:
                raise InputError("a study names its files itself", "Change its [sources].", file=path.name, key=option)
        return open_study(path, as_of=as_of)
    from offing.study.saved import open_saved  # noqa: PLC0415

    if as_of is not None:
        raise InputError("a saved model knows what it was fitted to", "Leave out --as-of.", file=path.name)
    return open_saved(path, data=data, plan=plan, learning=learning)


@offing.command("fit")
@click.argument("study", type=click.Path(path_type=Path))
@_shown_options
@click.option("--save", type=click.Path(path_type=Path, dir_okay=False), help="A file for the fits: NAME.model.json.")
@click.option("--data", multiple=True, metavar="FILE", help="With a saved model: newer rows to fit as well.")
@click.option("--update", is_flag=True, help="With --data: join the rows, and keep what else was learnt.")
def fit(  # noqa: PLR0917  click gives every option by its name
    study: Path,
    out: Path | None,
    as_json: bool,
    as_of: str | None,
    full: bool,
    save: Path | None,
    data: tuple[str, ...],
    update: bool,
) -> None:
    """Fit the models of STUDY, a TOML file: what each driver does, and the coefficients.

    With --save the fits are kept in a file, from which forecast and explain go on without the data. STUDY may be such
    a file; with --data its models learn from newer rows.
    """
    from offing.base import InputError  # noqa: PLC0415
    from offing.study.outputs import StudyOutput  # noqa: PLC0415

    if update and not data:
        raise InputError("there are no newer rows to be joined", "Give them with --data.", key="--update")
    opened = _opened(study, as_of, data, (), "update" if update else "refit")
    _report(StudyOutput(opened, "fit"), out, as_json, full=full)
    if save is not None:
        from offing.study.saved import save_study  # noqa: PLC0415

        save_study(opened, save)
        if not as_json:
            _echo(f"\nSaved: {save}")


@offing.command("forecast")
@click.argument("study", type=click.Path(path_type=Path))
@_shown_options
@_saved_options
def forecast(  # noqa: PLR0917  click gives every option by its name
    study: Path,
    out: Path | None,
    as_json: bool,
    as_of: str | None,
    full: bool,
    data: tuple[str, ...],
    plan: tuple[str, ...],
) -> None:
    """Forecast the target of STUDY, a TOML file, or of a model that fit --save has written, with intervals."""
    from offing.study.outputs import StudyOutput  # noqa: PLC0415
    from offing.study.repeated import changes_since  # noqa: PLC0415

    opened = _opened(study, as_of, data, plan)
    changed = "" if out is None or as_json else changes_since(opened, out)
    _report(StudyOutput(opened, "forecast"), out, as_json, full=full)
    if changed:
        _echo(f"\n{changed}")
    if (kept := opened.keep()) and not as_json:
        _echo(f"\n{kept}")


@offing.command("explain")
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "--against",
    help="Tell why the forecast differs from this: last-year, mean, a period such as 2025-07, a scenario, the day or "
    "the study file of an earlier forecast; archive, or archive:2026-06-01; or outcome, with --as-of.",
)
@click.option("--brief", is_flag=True, help="With --against: points instead of sentences.")
@_shown_options
@_saved_options
def explain(  # noqa: PLR0917  click gives every option by its name
    study: Path,
    against: str | None,
    brief: bool,
    out: Path | None,
    as_json: bool,
    as_of: str | None,
    full: bool,
    data: tuple[str, ...],
    plan: tuple[str, ...],
) -> None:
    """Say why: split every forecast of STUDY, a TOML file or a saved model, into what each term contributes.

    With --against it writes a page of plain sentences on what changed, the most important first.
    """
    from offing.study.outputs import StudyOutput  # noqa: PLC0415
    from offing.study.stories import noted  # noqa: PLC0415

    opened = _opened(study, as_of, data, plan)
    if against is not None:
        _echo(noted(opened, against, brief=brief, out=out, as_json=as_json))
        return
    _report(StudyOutput(opened, "explain"), out, as_json, full=full)


@offing.command("export")
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--as", "form", required=True, help="page, workbook, sql, python, cell or bundle.")
@click.option("--out", type=click.Path(path_type=Path, file_okay=False), default=Path(), help="Folder for the files.")
@click.option("--table", default="drivers", help="For sql: the table that holds the drivers.", show_default=True)
@click.option("--period", default="period", help="For sql: its column of dates.", show_default=True)
@click.option("--as-of", help="As of which day: what was known then counts.")
@_saved_options
def export(  # noqa: PLR0917  click gives every option by its name
    study: Path,
    form: str,
    out: Path,
    table: str,
    period: str,
    as_of: str | None,
    data: tuple[str, ...],
    plan: tuple[str, ...],
) -> None:
    """Hand the forecasts of STUDY, a TOML file or a saved model, to others, who need no Offing to use them.

    As a page that opens in a browser, a workbook in which plans can be changed, a query in SQL, a function in Python, a
    formula for one cell, or a bundle of everything.
    """
    from offing.study.handing_over import export as handed  # noqa: PLC0415

    for file in handed(_opened(study, as_of, data, plan), form, out, table=table, period=period):
        _echo(f"Written: {file}")


def _judging_command(step: str, text: str, several: bool = False) -> None:
    """Add a command that judges models on the past."""

    @offing.command(step, help=text)
    @click.argument(
        "studies",
        metavar="STUDY..." if several else "STUDY",
        nargs=-1 if several else 1,
        required=True,
        type=click.Path(path_type=Path),
    )
    @click.option("--out", type=click.Path(path_type=Path, file_okay=False), help="Folder for the results' files.")
    @click.option("--workers", type=int, help="How many processes share the work.")
    @click.option("--json", "as_json", is_flag=True, help="Print one JSON text instead of words.")
    def run(studies: tuple[Path, ...] | Path, out: Path | None, workers: int | None, as_json: bool) -> None:
        from offing.base.parallel import processes  # noqa: PLC0415
        from offing.study import open_study  # noqa: PLC0415
        from offing.study.judged_outputs import judged  # noqa: PLC0415

        paths = studies if isinstance(studies, tuple) else (studies,)
        with processes(workers):
            _report(judged([open_study(path) for path in paths], step), out, as_json)


def _report(output: Any, out: Path | None, as_json: bool, *, full: bool = False) -> None:
    """Print what a command gives, and write its files."""
    text = output.in_json() if as_json else output.in_words(full=full)
    if out is not None:
        files = output.bundle().write(out)
        if not as_json:
            text += f"\n\nWritten to {out}: {', '.join(file.name for file in files)}"
            text += "".join(f"\n{each}" for each in [output.not_drawn()] if each)
        for form in output.study.spec.output.export if output.command in ("forecast", "explain") else ():
            from offing.study.handing_over import export as handed  # noqa: PLC0415

            handed_on = handed(output.study, form, out)
            text += "" if as_json else "".join(f"\nWritten to {file}" for file in handed_on)
    written = output.to_database()
    if written and not as_json:
        text += f"\n\n{written}"
    _echo(text)


@offing.command("search")
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--budget", help="The time for everything, such as 60s, 5min or 1h.")
@click.option(
    "--out",
    type=click.Path(path_type=Path, file_okay=False),
    help="Folder for the results' files; a search that was stopped goes on from there.",
)
@click.option("--workers", type=int, help="How many processes share the work.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON text instead of words.")
@click.option("--drivers", is_flag=True, help="Choose among the many drivers that [driver_selection] offers.")
def search(  # noqa: PLR0917  click gives every option by its name
    study: Path, budget: str | None, out: Path | None, workers: int | None, as_json: bool, drivers: bool
) -> None:
    """Search for a better model among what [search] of STUDY, a TOML file, offers.

    The newest periods are held back; the winner is scored on them once, honestly. With --drivers the best model of
    every number of drivers, among those of [driver_selection].
    """
    started = time.monotonic()
    from offing.base.parallel import processes  # noqa: PLC0415
    from offing.base.results import SELECTING  # noqa: PLC0415
    from offing.study import open_study  # noqa: PLC0415
    from offing.study.judged import study_search  # noqa: PLC0415
    from offing.study.judged_outputs import judged  # noqa: PLC0415
    from offing.writers import made  # noqa: PLC0415

    opened = open_study(study)
    if drivers:
        from offing.base import InputError  # noqa: PLC0415
        from offing.study.outputs import StudyOutput  # noqa: PLC0415

        if budget is not None:
            raise InputError("a choice of drivers takes no budget", "Leave out --budget.", key="--budget")
        _report(StudyOutput(opened, SELECTING), out, as_json)
        return
    record = None
    if out is not None:
        record = made(out) / "search-record.jsonl"
    spent = time.monotonic() - started + (_WRITING if out is not None else _PRINTING)
    with processes(workers):
        found = study_search(opened, budget, record, lambda line: _echo(line, err=True), spent=spent)
        _report(judged([opened], "search", found), out, as_json)


@offing.command("monitor")
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--out", type=click.Path(path_type=Path, file_okay=False), help="Folder for the results' files.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON text instead of words.")
def monitor(study: Path, out: Path | None, as_json: bool) -> None:
    """Say whether the models of STUDY, a TOML file with an archive, still hold: keep, update or rethink.

    Compares what came with what was forecast. Exit status for schedulers: 0 keep, 3 update, 4 rethink.
    """
    from offing.explain.monitoring import STATUS  # noqa: PLC0415
    from offing.study import open_study  # noqa: PLC0415
    from offing.study.outputs import StudyOutput  # noqa: PLC0415

    opened = open_study(study)
    _report(StudyOutput(opened, "monitor"), out, as_json)
    worst = max(STATUS[each.verdict] for each in opened.monitoring.values())
    if worst:
        click.get_current_context().exit(worst)


_judging_command("backtest", "Forecast from past origins, as STUDY, a TOML file, would have done there.")
_judging_command(
    "compare", "Compare the models of STUDY, a TOML file, or those of several, on past origins.", several=True
)
