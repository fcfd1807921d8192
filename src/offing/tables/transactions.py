"""Transaction lines, any number a date, gathered into periods; read in chunks, so that size does not matter."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import Finding, InputError, Progress, ahead, nearest
from offing.calendar import DAY, Axis, Frequency
from offing.tables.aggregation_rules import KEYS, Combine
from offing.tables.changing_clocks import check_clock
from offing.tables.date_parsing import Stamps
from offing.tables.notation import understood
from offing.tables.number_parsing import Marks, to_numbers, wrong_cell
from offing.tables.reshape import id_texts
from offing.tables.sources import NotPlainError, Source

Ints = NDArray[np.int64]


@dataclass(frozen=True)
class Gathered:
    """Combined values (n,) by column for each series, on the axis of all of them; ``covered`` shows whole periods.

    `days` are the different days (d,) on which there are lines, in order.
    """

    axis: Axis
    series: dict[str, dict[str, NDArray[np.float64]]]
    covered: NDArray[np.bool_]
    lines: int


@dataclass
class _Running:
    """What has been gathered so far."""

    parts: list[pd.DataFrame] = field(default_factory=list)
    ids: dict[str, int] = field(default_factory=dict)
    days: set[int] = field(default_factory=set)
    lines: int = 0


@dataclass(frozen=True)
class Lines:
    """How the lines of a source are gathered.

    Attributes
    ----------
    source, time, ids
        Where they come from, their column of dates, and those that identifies series.
    combine
        How the lines of a period become one value; columns without a way are not read.
    stamps
        How dates are read.
    frequency
        Into which periods they go.
    notation, missing
        How numbers are written by column, and words for "nothing is known".
    """

    source: Source
    time: str
    ids: tuple[str, ...]
    combine: Combine
    stamps: Callable[[pd.Series], Stamps]
    frequency: Frequency
    notation: Mapping[str, str] = field(default_factory=dict)
    missing: frozenset[str] = frozenset()

    def gather(self) -> Gathered:
        """Combine the lines of each period and each series.

        Raises
        ------
        InputError
            If a column is missing, or a date, id or number cannot be read, naming its row.
        """
        known = [str(name) for name in self.source.sample().columns]
        for column in (*self.combine.how, *self.combine.weights.values()):
            if column not in known:
                raise InputError(
                    f"there is no column {column!r}", nearest(column, known), file=self.source.file, key="combine"
                )
        try:
            running = self._run(plain=not (self.notation or self.missing))
        except (NotPlainError, InputError):
            running = self._run(plain=False)  # what is wrong, and in which row, only text shows
        if not running.parts:
            raise InputError("there are no lines", file=self.source.file)
        return _placed(running, self.combine, self.frequency)

    def _run(self, *, plain: bool) -> _Running:
        running, combine = _Running(), self.combine
        text = list(dict.fromkeys([self.time, *self.ids, *combine.counted]))
        marks = None if plain else self.source.marks(self._plainer(self.source.sample()[combine.numbers]))
        with Progress(f"reading {self.source.file}") as progress:
            for cells, share in ahead(self.source.chunks(text, combine.numbers, plain)):
                rows = _values(cells if plain else self._plainer(_filled(cells)), combine, marks, self.source.file)
                if len(rows):
                    self._add(running, rows)
                progress.update(share)
        return running

    def _plainer(self, cells: pd.DataFrame) -> pd.DataFrame:
        """The cells with the numbers' texts as Python writes them, but for the marks."""
        numbers = [name for name in self.combine.numbers if name in cells.columns]
        if not (self.notation or self.missing):
            return cells
        plainer = understood(pd.DataFrame(cells[numbers]), self.notation, self.missing, self.source.file)
        for fault in plainer.faults.values():
            raise fault
        return cells.assign(**{name: plainer.cells[name] for name in numbers})

    def _add(self, running: _Running, rows: pd.DataFrame) -> None:
        # Dates repeat: each different one is read once.
        codes, different = _coded(rows[self.time])
        first = _first_rows(codes, len(different))
        read = self.stamps(pd.Series(different, rows.index[first], name=self.time))
        if self.frequency.unit == "hour" and read.zone is not None and read.instants is None:
            check_clock(read, self.source.file, rows.index[first])
        instants = read.on(self.frequency)
        running.days |= set((self.frequency.wall(instants) // DAY).tolist())
        ordinals = self.frequency.ordinals(instants)
        values = {KEYS[0]: self._series(running, rows), KEYS[1]: ordinals[codes], "at": instants[codes]}
        wanted = dict.fromkeys((*self.combine.how, *self.combine.weights.values()))
        keyed = pd.DataFrame({**values, **{name: rows[name].array for name in wanted}}, copy=False)
        running.parts.append(self.combine.part(keyed))
        running.lines += len(rows)

    def _series(self, running: _Running, rows: pd.DataFrame) -> Ints:
        """Number (n,) of each line's series."""
        if not self.ids:
            running.ids.setdefault("", 0)
            return np.zeros(len(rows), dtype=np.int64)
        # Different ids are few: their texts are joined once each, however many lines bear them.
        coded = {name: _coded(rows[name]) for name in self.ids}
        (codes, different), *others = coded.values()
        for own, more in others:
            codes = codes * len(more) + own
        codes, kinds = pd.factorize(codes) if others else (codes, different)
        first = _first_rows(codes, len(kinds))
        groups = pd.DataFrame(
            {name: different[own[first]] for name, (own, different) in coded.items()}, index=rows.index[first]
        )
        texts = id_texts(groups, self.ids, self.source.file)
        numbers = [running.ids.setdefault(str(text), len(running.ids)) for text in texts]
        return np.array(numbers, dtype=np.int64)[codes]


def _first_rows(codes: NDArray[np.intp], kinds: int) -> NDArray[np.intp]:
    """The first place of each of the numbers from 0 up to `kinds` in `codes` (n,)."""
    first = np.zeros(kinds, dtype=np.intp)
    first[codes[::-1]] = np.arange(len(codes))[::-1]  # of several writes the last one stays
    return first


def _coded(column: pd.Series) -> tuple[NDArray[np.intp], NDArray[Any]]:
    """Number (n,) of each cell's value, and the different values (m,)."""
    if isinstance(column.dtype, pd.CategoricalDtype):
        codes = column.cat.codes.to_numpy()
        sizes = np.bincount(codes + 1, minlength=len(column.cat.categories) + 1)
        if not sizes[0]:
            used = np.flatnonzero(sizes[1:])
            places = np.zeros(len(sizes) - 1, dtype=np.intp)
            places[used] = np.arange(len(used))
            return places[codes], np.asarray(column.cat.categories[used], dtype=object)
        column = column.astype(object)
    codes, different = pd.factorize(column, use_na_sentinel=False)
    return codes, np.asarray(different)


def _filled(cells: pd.DataFrame) -> pd.DataFrame:
    """The rows that hold anything."""
    empty = np.ones(len(cells), dtype=bool)
    for name in cells.columns:
        column = cells[name]
        blank = column.isna().to_numpy()
        if pd.api.types.is_object_dtype(column) or pd.api.types.is_string_dtype(column):
            blank = blank | (column == "").to_numpy(dtype=bool, na_value=True)
        empty &= blank
        if not empty.any():
            return cells
    return pd.DataFrame(cells[~empty])


def _values(cells: pd.DataFrame, combine: Combine, marks: Marks | None, file: str) -> pd.DataFrame:
    """The cells with numbers as numbers and counted cells as missing where they are empty."""
    numbers: dict[str, NDArray[np.float64]] = {}
    for name in combine.numbers:
        if marks is not None and name in marks.doubtful:
            raise marks.doubt(name, file)
        column = cells[name]
        if column.dtype == np.float64:
            values = column.to_numpy()
            wrong = ~np.isfinite(values) & ~np.isnan(values)
        else:
            values, wrong = to_numbers(column, marks)
        if wrong.any():
            raise wrong_cell(column, values, int(np.flatnonzero(wrong)[0]), file)
        numbers[name] = values
    counted = {name: cells[name].where(cells[name] != "") for name in combine.counted if name not in numbers}
    return cells.assign(**numbers, **counted)


def _placed(running: _Running, combine: Combine, frequency: Frequency) -> Gathered:
    found = combine.joined(running.parts)
    ordinals = found.index.get_level_values(1)
    axis = Axis(frequency, int(ordinals.min()), int(ordinals.max() - ordinals.min()) + 1)
    series = {}
    for text, number in sorted(running.ids.items()):
        mine = found.loc[number]
        at = mine.index.to_numpy() - axis.first
        columns = {}
        for column, how in combine.how.items():
            # A period without a line sold nothing; what its price would have been is unknown.
            values = np.full(axis.n, 0.0 if how in ("sum", "count") else np.nan)
            values[at] = mine[column].to_numpy()
            columns[column] = values
        series[text] = columns
    return Gathered(axis, series, _covered(axis, np.array(sorted(running.days), dtype=np.int64)), running.lines)


def _covered(axis: Axis, days: Ints) -> NDArray[np.bool_]:
    """Which periods (n,) the lines cover from end to end.

    The first counts as whole if its first days without a line are no more than between lines elsewhere (19 of 20
    gaps are no longer), so that a closed weekend does not make it partial; so does the last.
    """
    whole = np.ones(axis.n, dtype=bool)
    if axis.frequency.unit == "hour" or axis.frequency.per_day:
        return whole
    first, after = axis.days
    usual = int(np.quantile(np.diff(days), 0.95)) - 1 if len(days) > 1 else 0
    whole[0] = days[0] - first[0] <= usual
    whole[-1] &= bool(after[-1] - 1 - days[-1] <= usual)
    return whole


def gap_note(gathered: Gathered, file: str, combine: Combine) -> Iterator[Finding]:
    """A finding where periods without lines count as zero."""
    summed = [column for column, how in combine.how.items() if how in ("sum", "count")]
    if not summed:
        return
    column = summed[0]
    inside = np.sum([values[column][1:-1] == 0.0 for values in gathered.series.values()])
    if inside:
        unit = gathered.axis.frequency.unit
        yield Finding(
            "no lines",
            "note",
            f"{file}: {int(inside)} {unit}s without lines count as 0 in '{column}'.",
            advice="State treatments for zeros if nothing could be sold then.",
            evidence={"periods": float(inside)},
        )
