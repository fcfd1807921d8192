"""The commands. Whatever is heavy is imported when a command runs, so that help is immediate."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import click

from offing import __version__


class _Commands(click.Group):
    """A group that ends in one clear message when the input is wrong."""

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except ValueError as error:
            from offing.base import InputError  # noqa: PLC0415

            if not isinstance(error, InputError):
                raise
            click.echo(f"Error: {error}", err=True)
            sys.exit(2)


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="offing")
def offing() -> None:
    """Forecast a series from its drivers, the calendar and the season, and say what each contributes.

    Start with 'offing demo': it writes an example study, runs it and says what to open.
    """


@offing.command()
@click.argument("folder", type=click.Path(path_type=Path, file_okay=False), default=Path("tern-islands"))
def demo(folder: Path) -> None:
    """Write a made-up study into FOLDER, run it in full and compare it with the truth.

    FOLDER is tern-islands by default.
    """
    from offing.demo import run_demo  # noqa: PLC0415

    run_demo(folder, click.echo)


def _study_command(step: str, text: str) -> None:
    """Add a command that takes one study."""

    @offing.command(step, help=text)
    @click.argument("study", type=click.Path(path_type=Path))
    @click.option("--out", type=click.Path(path_type=Path, file_okay=False), help="Folder for the results' files.")
    @click.option("--json", "as_json", is_flag=True, help="Print one JSON text instead of words.")
    def run(study: Path, out: Path | None, as_json: bool) -> None:
        from offing.study import open_study  # noqa: PLC0415
        from offing.study.outputs import bundle, in_json, in_words  # noqa: PLC0415

        opened = open_study(study)
        text = in_json(opened, step) if as_json else in_words(opened, step)
        if out is not None:
            files = bundle(opened, step).write(out)
            if not as_json:
                text += f"\n\nWritten to {out}: {', '.join(file.name for file in files)}"
        click.echo(text)


_study_command("fit", "Fit the models of STUDY, a TOML file: what each driver does, and the coefficients.")
_study_command("forecast", "Forecast the target of STUDY, a TOML file, with intervals.")
_study_command("explain", "Split every forecast of STUDY, a TOML file, into what each term contributes.")
