"""The runner of all stories: it writes their files, numbers and shows each step, and says what to try next."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from importlib.resources import files
from pathlib import Path

import pandas as pd

from offing.base.text import text_table
from offing.demo.compared import compare, inset, shown
from offing.model.fitted import Fitted
from offing.study import Study, open_study
from offing.study.outputs import StudyOutput
from offing.writers import Bundle, csv_text

Say = Callable[[str], object]


class Guide:
    """Leads through one story, in a folder, and shows each step through `say`."""

    def __init__(self, folder: Path, say: Say) -> None:
        self.folder, self.say = folder, say
        self._steps = 0

    def step(self, title: str, *texts: str, table: str = "", note: str = "") -> None:
        """A numbered title, what the product says, set in, a table that needs the whole width, and a note."""
        self._steps += 1
        self.say(f"{'' if self._steps == 1 else chr(10)}{self._steps}. {title}\n")
        parts = [*(inset(text) for text in texts), *([table] if table else []), *([f"   {note}"] if note else [])]
        self.say("\n\n".join(parts))

    def open(self, made: str, study: str, tables: Mapping[str, tuple[pd.DataFrame, str]]) -> Study:
        """Write tables, each with its meaning, and a study that the package holds, and open it.

        Raises
        ------
        InputError
            If the folder cannot be written to.
        """
        bundle = Bundle()
        for name, (frame, _) in tables.items():
            bundle.add(name, csv_text(frame))
        bundle.add("study.toml", packaged(study))
        bundle.write(self.folder)
        about = {name: meaning for name, (_, meaning) in tables.items()}
        about["study.toml"] = "what to read, which terms, how far to forecast"
        self.step(f"Made up {made}, and wrote to {self.folder}:", table=_listed(about))
        return open_study(self.folder / "study.toml")

    def compare(self, fit: Fitted, truth: pd.DataFrame, scale: str = "log scale", hidden: str = "") -> None:
        """Compare the estimates with the truth; those whose names hold `hidden` are counted, but not listed."""
        compared = compare(fit, truth)
        rest = compared["column"].str.contains(hidden) if hidden else pd.Series(False, compared.index)
        self.step("Compared the estimates with the truth:", table=text_table(*shown(compared[~rest], scale)))
        more = f", {int(rest.sum())} of them not listed," if rest.any() else ""
        self.say(
            f"\n   {int(compared['inside'].sum())} of {len(compared)} true effects{more} lie in their 95 % intervals; "
            "about one in twenty should not."
        )

    def results(self, study: Study, about: Mapping[str, str], figures: list[str] | None = None) -> None:
        """Write what explains the forecast, only some `figures` if these are given, and say what to open first."""
        written = StudyOutput(study, "explain").bundle(figures).write(self.folder / "results")
        title = f"Wrote {len(written)} files to {self.folder / 'results'}. Open first:"
        self.step(title, table=_listed(about))

    def next(self, commands: Mapping[str, str]) -> None:
        """Commands to try, in which ``{folder}`` is the story's, each with what it shows."""
        own = {command.replace("{folder}", str(self.folder)): about for command, about in commands.items()}
        self.say("\nTry next:")
        for command, about in own.items():
            self.say(f"     {command}{'   # ' + about if about else ''}")


def packaged(name: str) -> str:
    """The text of a file that the package holds."""
    return files("offing.demo").joinpath(name).read_text(encoding="utf-8")


def _listed(about: Mapping[str, str]) -> str:
    width = max(len(name) for name in about)
    return "\n".join(f"     {name:<{width}}  {meaning}" for name, meaning in about.items())
