"""What Offing answers, and the registry of it: one record an answer, with its words, its table and its figure."""

from __future__ import annotations

import json
import math
import re
import zlib
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar

from offing.base.text import as_html, rounded, text_table, wrapped

if TYPE_CHECKING:
    import pandas as pd

#: All kinds of results by the names of their classes, in the order in which they were defined.
RESULTS: dict[str, type[Result]] = {}

#: How much of a result's first sentence stands in its one-line form.
_MOST = 90


class Result:
    """A frozen record that answers one question; whatever shows results knows this class alone.

    A kind of result states ``table`` and ``sentence`` or ``sentences``, and names its figure in the class statement, a
    module of `offing.draw` and a function in it: ``class Totals(Result, figure="totals.draw_totals")``. From these come
    its text, its one-line form, its HTML for notebooks and its JSON.

    Examples
    --------
    >>> import pandas as pd
    >>> from dataclasses import dataclass
    >>> from offing.base.results import Result
    >>> @dataclass(frozen=True)
    ... class Level(Result, figure="series.draw_fit", listed=False):
    ...     value: float
    ...     @property
    ...     def sentence(self):
    ...         return f"The level is {self.value:g}."
    ...     @property
    ...     def table(self):
    ...         return pd.DataFrame({"level": [self.value]})
    >>> Level(3.0)
    <Level: The level is 3.>
    """

    #: Module and function in `offing.draw` that draw it.
    plotted_by: ClassVar[str] = ""

    @property
    def drawable(self) -> bool:
        """Whether there is anything to draw."""
        return True

    if TYPE_CHECKING:

        @property
        def table(self) -> pd.DataFrame:
            """The answer as a table."""

    def __init_subclass__(cls, *, figure: str = "", listed: bool = True, **keywords: Any) -> None:
        super().__init_subclass__(**keywords)
        cls.plotted_by = figure or cls.plotted_by
        # A dataclass writes out all of its arrays, unless the class itself has another form.
        cls.__repr__ = Result.__repr__  # type: ignore[method-assign]
        if not listed:
            return
        if cls.__name__ in RESULTS and RESULTS[cls.__name__].__module__ != cls.__module__:
            raise TypeError(
                f"two kinds of results are called {cls.__name__}: in {RESULTS[cls.__name__].__module__} "
                f"and {cls.__module__}"
            )
        RESULTS[cls.__name__] = cls

    @property
    def sentence(self) -> str:
        """The answer in one sentence."""
        return self.sentences.split("\n", 1)[0]

    @property
    def sentences(self) -> str:
        """The answer in words, a line a sentence."""
        return self.sentence

    def text_table(self) -> str:
        """The table as text, rounded."""
        frame = self.table
        cells = [
            rounded(frame[name]) if frame[name].dtype.kind in "fiu" else [str(each) for each in frame[name]]
            for name in frame
        ]
        return text_table([str(name) for name in frame], cells)

    def __str__(self) -> str:
        return f"{wrapped(self.sentences)}\n\n{self.text_table()}"

    def __repr__(self) -> str:
        words = self.sentence
        return f"<{type(self).__name__}: {words if len(words) <= _MOST else words[:_MOST].rstrip() + ' …'}>"

    def _repr_html_(self) -> str:
        return as_html(self.sentences, self.table)

    def to_json(self) -> str:
        """Words and table as JSON text: ``{"sentences": […], "table": [{…}, …]}``, null where a number is undefined."""
        rows = [
            {str(name): _plain(cell) for name, cell in row.items()}
            for row in self.table.reset_index().to_dict("records")
        ]
        return json.dumps(
            {"sentences": self.sentences.splitlines(), "table": rows}, ensure_ascii=False, allow_nan=False
        )


def _plain(cell: Any) -> Any:
    """A cell as JSON has it, all of a number's digits kept."""
    if cell is None or cell != cell:  # noqa: PLR0124  NaN and NaT
        return None
    if isinstance(cell, float):
        return cell if math.isfinite(cell) else None
    if isinstance(cell, (bool, int)):
        return cell
    return cell.isoformat() if hasattr(cell, "isoformat") else str(cell)


@dataclass(frozen=True)
class Entry:
    """How the commands show a kind of result: an entry stands in the file of what it shows.

    Commands, the files of a folder, figures and JSON go through all entries, and know no kind by its name.

    Attributes
    ----------
    kind
        What its figures' files are called, alone or before what separates several of them.
    of
        The results by what separates them (an empty text where there is one only), from a study and the name of a fit;
        of what belongs to the whole study, or to what was judged, from that and an empty text.
    text
        The words on the screen, by command.
    joined
        Whether these follow the ones before without an empty line.
    figure_for
        Commands that draw it.
    files
        Rows by the name of their file, from a result and its fit, or from what belongs to the whole and that. They
        begin with the key columns; None stands for a file that is not needed.
    files_for
        Commands that write these.
    rank
        Its place on the screen and in files that several kinds share.
    title
        What its chapter of a page is called; by default its kind.
    heading
        What belongs to the whole study, and not to one fit, stands under this heading after all fits.
    options
        The function whose keyword-only arguments a study may state, in a table named `key`: names, types and defaults
        are read from it. ``study.options(kind)`` has what is stated.
    requests
        The list of tables in which a study may ask for it several times, each with what `options` takes: a function's
        arguments after the first, or all fields of a class. ``study.requests(kind)`` has them.
    """

    kind: str
    of: Callable[[Any, str], Mapping[str, Any]]
    text: Mapping[str, Callable[[Any], str]] = field(default_factory=dict)
    joined: bool = False
    figure_for: Collection[str] = ()
    files: Mapping[str, Callable[[Any, Any], pd.DataFrame | None]] = field(default_factory=dict)
    files_for: Collection[str] = ()
    rank: int = 100
    heading: str = ""
    options: Callable[..., Any] | None = None
    requests: str = ""
    title: str = ""

    @property
    def chapter(self) -> str:
        """What its chapter of a page is called."""
        plain = self.kind.replace("-", " ")
        return self.title or f"{plain[0].upper()}{plain[1:]}"

    @property
    def key(self) -> str:
        """The table of a study that states its options, or the list of tables that ask for it."""
        return self.requests or self.kind.replace("-", "_").replace(" ", "_")


#: The entries by kind.
ENTRIES: dict[str, Entry] = {}

#: The commands that show a study's fits, and those among them that look ahead.
SHOWING, AHEAD = ("fit", "forecast", "explain"), ("forecast", "explain")
#: The command that chooses among many drivers.
SELECTING = "search --drivers"
#: The same with all statistics.
FULL = ("fit --full", "forecast --full", "explain --full")


def register(entry: Entry) -> Entry:
    """Add an entry to those that the commands show.

    Raises
    ------
    TypeError
        If it has no kind, shows nothing, or another entry is of that kind.
    """
    if not entry.kind:
        raise TypeError("an entry has no kind")
    if entry.kind in ENTRIES:
        raise TypeError(f"two entries are called {entry.kind!r}")
    if not (entry.text or entry.figure_for or entry.files):
        raise TypeError(f"the entry {entry.kind!r} neither says, draws nor writes anything")
    if bool(entry.files) != bool(entry.files_for):
        raise TypeError(f"the entry {entry.kind!r} has files and no command that writes them, or the reverse")
    ENTRIES[entry.kind] = entry
    return entry


def shown_by(command: str) -> list[Entry]:
    """The entries with anything for a command, in their order on the screen."""
    own = [
        each
        for each in ENTRIES.values()
        if command in each.text or command in each.figure_for or command in each.files_for
    ]
    return sorted(own, key=lambda each: (each.rank, each.kind))


def sentence_of(result: Result) -> str:
    """The words of a result without its table, for an entry's `text`."""
    return wrapped(result.sentences)


def alone(result: object | None) -> dict[str, Any]:
    """A single result, or none, for an entry's `of`."""
    return {} if result is None else {"": result}


def numbered(results: Sequence[object], *, always: bool = False) -> dict[str, Any]:
    """Results by their places from 1; one by itself has no number, unless they `always` have."""
    if len(results) == 1 and not always:
        return {"": results[0]}
    return {str(i + 1): each for i, each in enumerate(results)}


def by_name(results: Mapping[str, object], *, always: bool = False) -> dict[str, Any]:
    """Results by names as files take them; one by itself has no name, unless they `always` have."""
    if len(results) == 1 and not always:
        return {"": next(iter(results.values()))}
    return {file_part(name): each for name, each in results.items()}


def file_part(name: str) -> str:
    """A part of a file's name that any system takes, and that differs where names do."""
    plain = re.sub(r"[^\w.-]+", "-", name).strip("-.")[:60]
    return plain if plain == name else f"{plain}-{zlib.crc32(name.encode()):08x}"
