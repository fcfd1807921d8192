"""Walks: the step-by-step account from one value of the target to another."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import pandas as pd

from offing.base import InputError, count
from offing.base.arrays import Array
from offing.base.results import Entry, Result, numbered, register
from offing.base.text import number, percent, rounded, signed, text_table, wrapped
from offing.explain.why.difference import Pieces
from offing.model.decomposition import ADJUSTMENT, BASELINE, CORRECTION, PAST, UNEXPLAINED
from offing.model.fitted import Fitted
from offing.model.forecast import AS_PLANNED
from offing.model.rows import keyed

#: What the rows that are no terms are called in sentences.
_WORDS = {
    BASELINE: "the level",
    CORRECTION: "the mean of noise",
    PAST: "what the periods before carry on",
    UNEXPLAINED: "what no term explains",
    ADJUSTMENT: "what was changed by hand, or by limits,",
}


#: Rows that no term makes and of which no interval is known.
TECHNICAL = (CORRECTION, UNEXPLAINED, ADJUSTMENT)
#: Steps of less than this share of the start are reported together.
SMALL = 0.001


@dataclass(frozen=True)
class Step:
    """One step of a walk: what it adds in each group of periods (g,), and how far its 95 % interval reaches."""

    name: str
    label: str
    phase: str
    amount: Array
    half: Array


@dataclass(frozen=True)
class Walk(Result, figure="walks.draw_walk"):
    """The account from one value to another. Made by `offing.walk`.

    Attributes
    ----------
    target, unit
        What is walked on, and its unit.
    spans
        Names of the groups of periods (g,) that are summed.
    from_words, to_words
        What lies at the start and at the end.
    start, end
        The values there (g,).
    steps
        What lies between; their amounts add up to ``end − start`` in every group.
    total_half
        How far the 95 % interval of the change reaches (g,), from the coefficients; NaN where nothing is said.
    outcome
        The 95 % interval of the change (2, g) that counts everything: noise, coefficients and drivers; NaN where the
        end is no forecast of outcomes, or the start none that is known.
    phases
        What is done one after the other, in that order; empty where no order enters.
    notes
        What was left out, and the like.
    total
        The same walk over all spans together, where there are several.
    scenario
        Of which scenario the end is.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=6, freq="D")
    >>> data = pd.DataFrame({"sold": [3.0, 5.0, 4.0, 6.0, 5.0, 7.2], "rain": [1, 0, 1, 0, 1, 0]}, days)
    >>> fit = of.Model("sold", terms=[of.Driver("rain")]).fit(data)
    >>> plan = pd.DataFrame({"rain": [0, 1]}, pd.date_range("2024-01-07", periods=2, freq="D"))
    >>> found = of.walk(fit.forecast(2, plan=plan), "mean")
    >>> found.start.round(2).tolist(), found.end.round(2).tolist(), found.table["step"].tolist()
    ([10.07], [10.07], ['baseline', 'rain', 'unexplained'])
    """

    target: str
    unit: str
    spans: tuple[str, ...]
    from_words: str
    to_words: str
    start: Array
    end: Array
    steps: tuple[Step, ...]
    total_half: Array
    phases: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    total: Walk | None = None
    outcome: Array | None = None
    scenario: str = AS_PLANNED

    @property
    def drawable(self) -> bool:
        """Whether anything lies between start and end."""
        return bool(self.moved)

    @property
    def change(self) -> Array:
        """End less start (g,)."""
        return self.end - self.start

    @property
    def moved(self) -> tuple[Step, ...]:
        """The steps that are not zero throughout, the largest first; phase by phase where there are any."""
        size = max(float(np.abs(self.end).max()), float(np.abs(self.start).max()))
        steps = [step for step in self.steps if np.abs(step.amount).max() > 1e-9 * size]
        order = {phase: i for i, phase in enumerate(self.phases)}
        return tuple(sorted(steps, key=lambda step: (order.get(step.phase, 0), -abs(step.amount.sum()))))

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a span and step: ``span, phase, step, amount, low, high, share, points``.

        `low` and `high` bound 95 % and are NaN where nothing can be said; `share` is that of the change, `points` are
        points of growth: the step in percent of the start.
        """
        frames = []
        for g, span in enumerate(self.spans):
            amounts = np.array([step.amount[g] for step in self.steps])
            half = np.array([step.half[g] for step in self.steps])
            change, start = self.change[g], self.start[g]
            frames.append(
                pd.DataFrame(
                    {
                        "span": span,
                        "phase": [step.phase for step in self.steps],
                        "step": [step.name for step in self.steps],
                        "amount": amounts,
                        "low": amounts - half,
                        "high": amounts + half,
                        "share": amounts / change if change else np.full(len(amounts), np.nan),
                        "points": 100.0 * amounts / start if start > 0.0 else np.full(len(amounts), np.nan),
                    }
                )
            )
        return pd.concat(frames, ignore_index=True)

    @cached_property
    def wide(self) -> pd.DataFrame:
        """One row a span: ``start``, one column a step, ``end``."""
        columns = {f"{step.phase}: {step.name}" if step.phase else step.name: step.amount for step in self.steps}
        return pd.DataFrame({"start": self.start, **columns, "end": self.end}, index=pd.Index(self.spans, name="span"))

    @property
    def whole(self) -> Walk:
        """The same for all spans together."""
        return self if self.total is None else self.total

    def then(self, later: Walk) -> Walk:
        """Walk on: with another walk that starts where this one ends, as two phases of one.

        Raises
        ------
        InputError
            If the other one does not start there.
        """
        check_same(self.target, self.unit, later.target, later.unit)
        if self.spans != later.spans or not np.allclose(self.end, later.start, rtol=1e-9, atol=0.0):
            raise InputError(
                "the second walk does not start where the first ends",
                "Walk on from the same values of the same periods.",
                key="later",
            )
        first, second = self.to_words, later.to_words
        steps = [
            replace(step, phase=step.phase or name)
            for each, name in ((self, first), (later, second))
            for step in each.steps
        ]
        phases = tuple(dict.fromkeys([*(self.phases or (first,)), *(later.phases or (second,))]))
        return replace(
            self,
            to_words=second,
            end=later.end,
            steps=tuple(steps),
            phases=phases,
            total_half=np.full(len(self.spans), np.nan),
            outcome=None,
            notes=(*self.notes, *later.notes),
            total=None if self.total is None or later.total is None else self.total.then(later.total),
        )

    @property
    def headline(self) -> str:
        """The whole change in words, without its interval."""
        return self._change([])

    @property
    def sentence(self) -> str:
        """The whole change, in words."""
        return self._change(self.sure if self.from_words != BASELINE else [])

    @property
    def sure(self) -> list[str]:
        """The intervals of the whole change in words: first the one that counts everything, each named."""
        walk = self.whole
        change, half = float(walk.change[0]), float(walk.total_half[0])
        own = f"{signed(change - half)} to {signed(change + half)}" if np.isfinite(half) and half else ""
        if walk.outcome is None or not np.isfinite(walk.outcome[:, 0]).all():
            return [f"95 % {own}, counting the coefficients alone"] if own else []
        low, high = (float(each) for each in walk.outcome[:, 0])
        full = f"95 % {signed(low)} to {signed(high)}, counting noise, coefficients and drivers"
        return [full, *([f"the coefficients alone {own}"] if own else [])]

    def _change(self, sure: list[str]) -> str:
        walk = self.whole
        start, end, change = float(walk.start[0]), float(walk.end[0]), float(walk.change[0])
        unit = f" {self.unit}" if self.unit else ""
        inside = [*([percent(change / start)] if start > 0.0 and change else []), *sure]
        statements = f" ({', '.join(inside)})" if inside else ""
        head = f"{self.target}, {self.to_words} of {walk.spans[0]}: {number(end, 4)}{unit}"
        if self.from_words == BASELINE:
            return f"{head}, which is {signed(change, 4)}{unit}{statements} from the baseline of {number(start, 4)}."
        return f"{head}, against {number(start, 4)} of {self.from_words}: {signed(change, 4)}{unit}{statements}."

    @property
    def sentences(self) -> str:
        """The change and each step, the largest first."""
        return "\n".join([self.sentence, *self.statements(), *self.notes])

    def statements(self) -> list[str]:
        """A sentence a step, the largest first; phase by phase where there are any."""
        walk, lines = self.whole, []
        unit = f" {self.unit}" if self.unit else ""
        for phase in walk.phases or ("",):
            steps = [step for step in walk.moved if step.phase == phase]
            if phase and steps:
                part = sum(float(each.amount[0]) for each in steps)
                lines.append(f"{phase[:1].upper()}{phase[1:]}: {signed(part)}{unit}.")
            # A step beside which the whole is nothing to speak of is reported with its like.
            large = [step for step in steps if abs(step.amount[0]) >= SMALL * abs(walk.start[0])]
            lines += [("  " if phase else "") + self.said(step) for step in large]
            rest = [step for step in steps if step not in large]
            if rest:
                sums, verb = sum(float(step.amount[0]) for step in rest), "adds" if len(rest) == 1 else "add"
                small = count(len(rest), "more small step" if large else "small step")
                lines.append(("  " if phase else "") + f"{small} {verb} up to {signed(sums)}{unit}.")
        return lines or ["Nothing differs."]

    def said(self, step: Step) -> str:
        """One step as a sentence, with its number, unit, direction and interval."""
        walk = self.whole
        amount, half, start = float(step.amount[0]), float(step.half[0]), float(walk.start[0])
        unit = f" {self.unit}" if self.unit else ""
        who = step_name(step)
        verb = "adds" if amount > 0.0 else "takes away"
        points = f", {number(abs(100.0 * amount / start))} points of growth" if start > 0.0 else ""
        statements = f" ({between_words(amount, half)})" if between_words(amount, half) else ""
        sure = "" if not half > abs(amount) else "; it is not significant"
        return f"{who[:1].upper()}{who[1:]} {verb} {number(abs(amount))}{unit}{points}{statements}{sure}."

    def __str__(self) -> str:
        statements = self.sentences if self.total is None else "\n".join([self.sentence, *self.notes])
        return f"{wrapped(statements)}\n\n{self.text_table()}"

    def text_table(self) -> str:
        """The steps to read: one row a step, one column a span, or their intervals where there is one span."""
        steps = self.moved
        names = [f"{step.phase}: {step.label}" if step.phase else step.label for step in steps]
        rows = [f"start: {self.from_words}", *names, f"end: {self.to_words}"]
        if len(self.spans) > 1:
            columns = [
                rounded([self.start[g], *(step.amount[g] for step in steps), self.end[g]])
                for g in range(len(self.spans))
            ]
            return text_table(["step", *self.spans], [rows, *columns])
        amounts = [float(step.amount[0]) for step in steps]
        half = [float(step.half[0]) for step in steps]
        cells = rounded([float(self.start[0]), *amounts, float(self.end[0])])
        lows, highs = (
            [
                cell if h else ""
                for cell, h in zip(
                    rounded([a + sign * h for a, h in zip(amounts, half, strict=True)]), half, strict=True
                )
            ]
            for sign in (-1.0, 1.0)
        )
        start = float(self.start[0])
        points = [f"{signed(100.0 * each / start, 2)}" if start > 0.0 else "" for each in amounts]
        return text_table(
            ["step", self.unit or "amount", "from", "to", "points"],
            [rows, cells, ["", *lows, ""], ["", *highs, ""], ["", *points, ""]],
        )


def step_name(step: Step) -> str:
    """What a step is called in a sentence."""
    return _WORDS.get(step.name, f"'{step.label}'")


def between_words(value: float, half: float) -> str:
    """An interval in words; nothing where it is not known."""
    if not np.isfinite(half) or half == 0.0:
        return ""
    return f"95 % between {signed(value - half)} and {signed(value + half)}"


def check_same(target: str, unit: str, other: str, other_unit: str) -> None:
    """Refuse to walk between things that are not the same.

    Raises
    ------
    InputError
        If the targets or their units differ.
    """
    if target != other:
        raise InputError(
            f"one is of {target}, the other of {other}", "Walk between two values of one target.", key="against"
        )
    if unit != other_unit:
        raise InputError(
            f"{target} is in {unit or 'no unit'} here and in {other_unit or 'no unit'} there",
            "Bring both to one unit.",
            key="against",
        )


def steps_of(pieces: Pieces, phase: str = "") -> list[Step]:
    """The pieces of a difference as steps of a phase."""
    return [
        Step(name, label, phase, amount, half)
        for name, label, amount, half in zip(pieces.names, pieces.labels, pieces.amounts, pieces.half, strict=True)
    ]


def together(walks: Mapping[str, Walk], over: str) -> Walk:
    """The walks of several series as one: what they share of name and phase is added up.

    Intervals take the series' coefficients as independent, for each has its own fit.

    Raises
    ------
    InputError
        If they differ in periods or unit.
    """
    every: Sequence[Walk] = list(walks.values())
    first = every[0]
    for name, each in walks.items():
        if each.spans != first.spans:
            raise InputError(f"series {name!r} has other periods than the first", "Ask for a span of all.", key="span")
        check_same(over, first.unit, over, each.unit)
    found: dict[tuple[str, str], Step] = {}
    for walk in every:
        for step in walk.steps:
            kept = found.get((step.phase, step.name))
            found[step.phase, step.name] = (
                step
                if kept is None
                else replace(kept, amount=kept.amount + step.amount, half=np.hypot(kept.half, step.half))
            )
    halves = np.sqrt(np.square([each.total_half for each in every]).sum(axis=0))
    phases = tuple(dict.fromkeys(phase for each in every for phase in each.phases))
    outcome = None
    if all(each.outcome is not None for each in every):
        # Series are taken as independent, so that the distances of the ends from the change add up in squares.
        away = np.array([each.outcome - each.change for each in every if each.outcome is not None])
        outcome = np.sum([each.change for each in every], axis=0) + np.array([[-1.0], [1.0]]) * np.sqrt(
            np.square(away).sum(axis=0)
        )
    return replace(
        first,
        target=over,
        outcome=outcome,
        start=np.sum([each.start for each in every], axis=0),
        phases=phases,
        total_half=halves,
        end=np.sum([each.end for each in every], axis=0),
        steps=tuple(found.values()),
        notes=(f"Summed over {len(every)} series.", *dict.fromkeys(note for each in every for note in each.notes)),
        total=None if first.total is None else together({n: each.whole for n, each in walks.items()}, over),
    )


def walk_rows(found: Walk, fit: Fitted, scenario: str = AS_PLANNED) -> pd.DataFrame:
    """Rows of ``walks.csv``: one a span and step, after those of start and end."""
    rows = found.table.copy()
    rows.insert(0, "against", found.from_words)
    ends = [
        pd.DataFrame({"against": found.from_words, "span": found.spans, "phase": "", "step": step, "amount": values})
        for step, values in (("start", found.start), ("end", found.end))
    ]
    return keyed(pd.concat([ends[0], rows, ends[1]], ignore_index=True), fit, scenario)


register(
    Entry(
        "walk",
        title="From one forecast to another",
        of=lambda study, name: numbered(study.walks[name], always=True),
        text={"explain": str},
        figure_for=["explain"],
        files={"walks": lambda found, fit: walk_rows(found, fit, found.scenario)},
        files_for=["explain"],
        rank=44,
    )
)
