"""What a command gives, from the entries of its results: words for the screen, files for a folder, JSON."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import pandas as pd

from offing.base import Finding, InputError, count
from offing.base.progress import Progress
from offing.base.results import AHEAD, SELECTING, Entry, file_part, shown_by
from offing.base.text import wrapped
from offing.evaluation.selected_drivers import selected_lines
from offing.study.delivery import REQUESTED, shaped, to_database
from offing.study.study import Study
from offing.writers import Bundle, csv_text, json_text, left_out_rows, parquet

#: Series without a result that are named on the screen.
_MOST_NAMED = 5


@dataclass(frozen=True)
class Output:
    """The results of one command, by its entries; what differs between commands, subclasses say."""

    subject: Any
    command: str

    @property
    def units(self) -> Mapping[str, Any]:
        """What each entry is asked about by name, and what its rows are keyed by."""
        return {"": self.subject}

    def headed(self, name: str) -> str:
        """What stands over a unit's words."""
        return str(self.subject.title)

    @property
    def study(self) -> Study:
        """The study that says what is written, how, and where."""
        raise NotImplementedError

    def findings(self) -> list[dict[str, object]]:
        """Entries of ``findings.json``."""
        raise NotImplementedError

    def record(self) -> dict[str, object]:
        """What ``run.json`` holds."""
        raise NotImplementedError

    def notes(self) -> list[str]:
        """What stands below all words."""
        return []

    def more_rows(self) -> dict[str, pd.DataFrame]:
        """Rows that belong to no result, by file."""
        return {}

    def more_files(self) -> dict[str, str]:
        """Files that are no tables, by name."""
        return {}

    def draws(self) -> bool:
        """Whether there are figures at all."""
        return True

    def wanted(self) -> list[str] | None:
        """The figures that are stated, by how their files' names begin; None for all."""
        return None

    @cached_property
    def _made(self) -> dict[tuple[str, str], Mapping[str, Any]]:
        return {}

    def _results(self, entry: Entry, name: str) -> Mapping[str, Any]:
        """The results of an entry of one unit, made once for words, files and figures."""
        if (entry.kind, name) not in self._made:
            self._made[entry.kind, name] = entry.of(self.subject, name)
        return self._made[entry.kind, name]

    def _of(self, entry: Entry) -> Iterator[tuple[str, Any, Mapping[str, Any]]]:
        """The results of an entry: the unit, what its rows are keyed by, and the results by what separates them."""
        for name, key in {"": self.subject}.items() if entry.heading else self.units.items():
            yield name, key, self._results(entry, name)

    def in_words(self, *, full: bool = False) -> str:
        """The results to read; with all statistics if `full`."""
        command = f"{self.command} --full" if full else self.command
        named = {each.kind: each for each in [*shown_by(self.command), *shown_by(command)]}
        entries = sorted(named.values(), key=lambda each: (each.rank, each.kind))
        parts = []
        for name in self.units:
            text, close = "", False
            for entry in entries:
                say = entry.text.get(command) or entry.text.get(self.command)
                if say is None or entry.heading:
                    continue
                for words in filter(None, map(say, self._results(entry, name).values())):
                    text += ("\n" if close and entry.joined else "\n\n" if text else "") + words
                    close = entry.joined and "\n\n" not in words
            head = self.headed(name)
            parts.append(f"{head}\n{'=' * len(head)}\n{text}")
        for entry in entries:
            if entry.heading and self.command in entry.text:
                parts += [
                    f"{entry.heading}\n{'=' * len(entry.heading)}\n{entry.text[self.command](each)}"
                    for each in self._results(entry, "").values()
                ]
        return "\n\n".join([*parts, *self.notes()])

    def tables(self) -> dict[str, pd.DataFrame]:
        """The contract's tables by file name without ending, all results below each other."""
        found: dict[str, list[pd.DataFrame]] = {}
        for entry in shown_by(self.command):
            if self.command not in entry.files_for:
                continue
            for _, key, results in self._of(entry):
                for each in results.values():
                    for file, rows in entry.files.items():
                        if (made := rows(each, key)) is not None:
                            found.setdefault(file, []).append(made)
        for file, made in self.more_rows().items():
            found.setdefault(file, []).append(made)
        return {name: pd.concat(rows, ignore_index=True) for name, rows in found.items()}

    def to_database(self) -> str:
        """Write what belongs into the database of ``[output]``, if it names one, and say so."""
        return to_database(self.study, self.tables())

    def pictures(self, only: list[str] | None = None) -> dict[str, bytes]:
        """PNG figures by name; of several units each name ends in its own."""
        from offing.draw import figure  # noqa: PLC0415  Matplotlib takes half a second, and only files need it
        from offing.draw.style import png  # noqa: PLC0415

        found: dict[str, bytes] = {}
        if not self.draws():
            return found
        wanted = self.wanted() if only is None else only
        entries = [
            each for each in shown_by(self.command) if self.command in each.figure_for and _may(each.kind, wanted)
        ]
        with Progress("drawing figures") as bar:
            for done, entry in enumerate(entries):
                for name, _, results in self._of(entry):
                    for part, each in results.items():
                        kind = f"{entry.kind}-{part}" if part else entry.kind
                        if _is(kind, wanted) and each.drawable:
                            found[kind + self.suffix(name)] = png(figure(each))
                bar.update((done + 1) / len(entries))
        return found

    def suffix(self, name: str) -> str:
        """What the names of a unit's files end in."""
        return ""

    def not_drawn(self) -> str:
        """Why there are no figures, where nothing was said of them; else an empty text."""
        return ""

    def bundle(self, figures: list[str] | None = None) -> Bundle:
        """All files, figures included: all that are wanted, or `figures`, by the files' names."""
        files = Bundle()
        form = self.study.spec.output
        for name, rows in shaped(self.study, self.command, self.tables()).items():
            csv = form.format == "csv" or name == REQUESTED
            files.add(f"{name}.csv" if csv else f"{name}.parquet", csv_text(rows) if csv else parquet(rows))
        for name, text in self.more_files().items():
            files.add(name, text)
        files.add("findings.json", json_text(self.findings()))
        files.add("run.json", json_text(self.record()))
        for name, picture in self.pictures(figures).items():
            files.add(f"{name}.png", picture)
        return files

    def in_json(self) -> str:
        """Tables, findings and record as one JSON text."""
        rows = {name: table.to_dict("records") for name, table in self.tables().items()}
        return json_text({**rows, "findings": self.findings(), "run": self.record()}).rstrip("\n")


def _is(figure: str, wanted: list[str] | None) -> bool:
    """Whether a figure is among the wanted ones."""
    return wanted is None or any(figure == each or figure.startswith(f"{each}-") for each in wanted)


def _may(kind: str, wanted: list[str] | None) -> bool:
    """Whether a kind may have figures among the wanted ones, so that they have to be made."""
    return _is(kind, wanted) or any(each.startswith(f"{kind}-") for each in wanted or ())


@dataclass(frozen=True)
class StudyOutput(Output):
    """What ``fit``, ``forecast``, ``explain`` and ``search --drivers`` give of a study."""

    subject: Study

    @property
    def study(self) -> Study:
        """The study itself."""
        return self.subject

    @property
    def units(self) -> Mapping[str, Any]:
        """The study's fits, or its screenings' bases."""
        if self.command == SELECTING:
            return {name: each.base for name, each in self.subject.screenings.items()}
        if self.command in AHEAD:
            # A series without a forecast has no further results either.
            _ = self.subject.forecasts
        return self.subject.fits

    def headed(self, name: str) -> str:
        """The study's title, and of which series and model."""
        fit = self.units[name]
        several = [f"series '{fit.series}'"] if fit.series else []
        several += [f"model '{fit.model.name}'"] if len(self.subject.reported) > 1 else []
        return ": ".join([self.subject.title, *([", ".join(several)] if several else [])])

    def notes(self) -> list[str]:
        """Series without a result, and columns that no model uses."""
        if self.command == SELECTING:
            return []
        unused = _unused(self.subject) if self.command == "fit" else ""
        left_out = left_out_words(self.subject.left_out) if self.subject.left_out else ""
        return [each for each in (left_out, wrapped(unused)) if each]

    def more_rows(self) -> dict[str, pd.DataFrame]:
        """Why series have no result, below what was done to the others."""
        left_out = {} if self.command == SELECTING else self.subject.left_out
        return {"treatments": left_out_rows(left_out)} if left_out else {}

    def more_files(self) -> dict[str, str]:
        """Of a screening the lines for a study."""
        if self.command != SELECTING:
            return {}
        found = self.subject.screenings
        return {f"selected{self.suffix(name)}.toml": selected_lines(each) + "\n" for name, each in found.items()}

    def suffix(self, name: str) -> str:
        """With several fits each file's name ends in the fit's."""
        return f"-{file_part(name)}" if len(self.units) > 1 and name else ""

    def draws(self) -> bool:
        """As ``[output]`` says, else if there are not too many fits to look at."""
        return self.subject.draws(len(self.units))

    def wanted(self) -> list[str] | None:
        """The figures that ``[output]`` names."""
        stated = self.subject.spec.output.figures
        return stated if isinstance(stated, list) else None

    def not_drawn(self) -> str:
        """Why there are no figures, where nothing was said of them; else an empty text."""
        if self.subject.spec.output.figures is not None or self.draws():
            return ""
        return f'No figures are drawn of {len(self.units)} fits: state figures = "all" in [output] for them.'

    def findings(self) -> list[dict[str, object]]:
        """Those of the screenings, fits or forecasts, and why series have no result."""
        study = self.subject
        results: Mapping[str, Any] = study.forecasts if self.command in AHEAD else study.fits
        results = study.screenings if self.command == SELECTING else results
        found: list[dict[str, object]] = [
            {"series": fit.series_name, "model": fit.model.name, **dataclasses.asdict(finding)}
            for name, fit in self.units.items()
            for finding in results[name].findings
        ]
        return found + ([] if self.command == SELECTING else left_out_findings(study.left_out))

    def record(self) -> dict[str, object]:
        """What was read, with which versions."""
        return self.subject.record(plans=self.command not in ("fit", SELECTING))


def left_out_words(left_out: Mapping[str, InputError]) -> str:
    """The series without a result, each with its reason; of many the first."""
    lines = [f"{count(len(left_out), 'series has', 'series have')} no result:"]
    lines += [f"  {name}: {error}" for name, error in list(left_out.items())[:_MOST_NAMED]]
    if len(left_out) > _MOST_NAMED:
        lines.append(f"  and {len(left_out) - _MOST_NAMED:,} more, see findings.json")
    return "\n".join(lines)


def left_out_findings(left_out: Mapping[str, InputError]) -> list[dict[str, object]]:
    """Entries of ``findings.json`` for series without a result."""
    return [
        {"series": name, "model": "", **dataclasses.asdict(Finding("series", "warning", str(error)))}
        for name, error in left_out.items()
    ]


def _unused(study: Study) -> str:
    """Which columns of the sources no model uses."""
    rows = study.accounts(plans=False)
    rows = rows[~rows["use"].str.startswith(("date", "id", "target", "driver", "values"))]
    noted = [
        f"{source}.{column} ({use.removeprefix('not used: ')})" for source, column, use in rows.itertuples(index=False)
    ]
    return f"Not used: {'; '.join(noted)}." if noted else ""
