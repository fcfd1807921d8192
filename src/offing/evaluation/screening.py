"""Which of many drivers: the best model of every size, and how well such a choice forecasts."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import nullcontext
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, get_args

import numpy as np
import pandas as pd

from offing.base import Finding, InputError, Progress, count
from offing.base.arrays import Array
from offing.base.results import Result
from offing.base.stored import storable
from offing.base.text import number, percent, text_table
from offing.engine.subset_selection import MOST_SUBSETS
from offing.evaluation.screening_problem import Method, ScreeningProblem, SelectionOptions, laid_out_for
from offing.model import Fit, Model
from offing.model.fitted import Fitted
from offing.model.options import DriverSelector, ModelOptions
from offing.model.rows import keyed
from offing.terms import Driver

#: Pairs of halves are usually 50 (Meinshausen & Bühlmann 2010): a share then has a standard error of 0.07 at most.
_RESAMPLES = 50
#: The last share of the rows in which the origins lie.
_TESTED = 1.0 / 3.0


@dataclass(frozen=True)
class Screening(Result, figure="screening.draw_screening"):
    """The best model of every size, from none of the candidates on. Made by `offing.screen`; printed, a table.

    Attributes
    ----------
    base
        A fit of the model without any candidate.
    candidates
        What was chosen from.
    chosen
        For every size the candidates of its best model, by their places.
    errors
        Squared error (origins, sizes) of forecasts on the fitted scale, each from the choice made before its origin.
    method, mix
        How it was chosen.
    lost
        How many rows the longest lag of any candidate took.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> generator = np.random.default_rng(3)
    >>> days = pd.date_range("2024-01-01", periods=200, freq="D")
    >>> data = pd.DataFrame(generator.normal(size=(200, 6)), days, list("abcdef"))
    >>> data["sold"] = 5.0 + 2.0 * data["c"] - data["e"] + generator.normal(size=200)
    >>> found = of.screen(data, of.Model("sold"), of.candidates(list("abcdef")))
    >>> found.size, sorted(each.name for each in found.drivers())
    (2, ['c', 'e'])
    """

    base: Fitted
    candidates: tuple[Driver, ...]
    chosen: tuple[tuple[int, ...], ...]
    errors: Array
    method: Method
    mix: float
    lost: int
    seed: int
    selection: DriverSelection
    problem: ScreeningProblem

    @cached_property
    def error(self) -> Array:
        """Root mean squared error (sizes,) over all origins."""
        return np.asarray(np.sqrt(self.errors.mean(axis=0)))

    @cached_property
    def band(self) -> Array:
        """One standard error (sizes,) of the error, from how it differs between origins."""
        spread = self.errors.std(axis=0, ddof=1) / np.sqrt(len(self.errors))
        return np.asarray(spread / (2.0 * np.maximum(self.error, 1e-300)))

    @cached_property
    def best(self) -> int:
        """The size of the least error."""
        return int(np.argmin(self.error))

    @cached_property
    def size(self) -> int:
        """The smallest size whose error is within one standard error of the least (Breiman et al. 1984)."""
        return int(np.flatnonzero(self.error <= self.error[self.best] + self.band[self.best])[0])

    def drivers(self, size: int | None = None) -> list[Driver]:
        """The candidates of the best model of a size, by default the one proposed."""
        return [self.candidates[i] for i in self.chosen[self._checked(size)]]

    def model(self, size: int | None = None) -> Model:
        """The best model of a size, by default the one proposed, named after it such as ``main with 3 drivers``.

        It records which drivers were selected on its data, so that it has no p values for them, and so that a back-test
        reports that its scores are too good.
        """
        added = self.drivers(size)
        base = Model.of(self.base.stated)
        return replace(
            base,
            name=f"{base.name} with {count(len(added), 'driver')}",
            terms=(*base.terms, *added),
            chosen=(*base.chosen, *(str(term.name) for term in added)),
        )

    def selecting_model(self, size: int | None = None) -> Model:
        """The model that repeats the selection at every origin, for an honest back-test; of a stated size, if any."""
        return replace(
            Model.of(self.base.stated),
            name=f"{self.base.model.name} with selected drivers",
            driver_selection=replace(self.selection, size=size),
        )

    def fit(self, size: int | None = None) -> Fit:
        """That model, fitted to all rows."""
        return self.model(size).fit_at(self.base.information)

    def _checked(self, size: int | None) -> int:
        size = self.size if size is None else size
        if not 0 <= size < len(self.chosen):
            raise InputError(f"found {size!r}", f"Give a size from 0 to {len(self.chosen) - 1}.", key="size")
        return size

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a size: ``size, error, one_se, drivers``."""
        names = ["; ".join(str(self.candidates[i].name) for i in kept) for kept in self.chosen]
        return pd.DataFrame(
            {"size": range(len(self.chosen)), "error": self.error, "one_se": self.band, "drivers": names}
        )

    @cached_property
    def stability(self) -> pd.DataFrame:
        """How often each candidate is among the proposed size's in 50 seeded halves of the data: ``driver, share``.

        Halves are runs of neighbouring rows, so that these stay together (Meinshausen & Bühlmann 2010).
        """
        size = max(self.size, 1)
        taken = np.zeros(len(self.candidates))
        generator = np.random.default_rng(self.seed)
        rows = self.problem.rows
        length = max(len(rows) // 20, 1)
        blocks = np.array_split(rows, max(len(rows) // length, 2))
        for _ in range(_RESAMPLES):
            half = generator.permutation(len(blocks))[: len(blocks) // 2]
            path = self.problem.path(np.concatenate([blocks[i] for i in sorted(half.tolist())]), size)
            taken[list(path[-1])] += 1.0
        frame = pd.DataFrame({"driver": [str(each.name) for each in self.candidates], "share": taken / _RESAMPLES})
        return frame.sort_values("share", ascending=False, kind="stable", ignore_index=True)

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What to know about the choice."""
        found = []
        if self.size == 0:
            message = f"None of the {len(self.candidates)} candidates improves forecasts of periods not seen."
            found.append(Finding("no gain", "warning", message, advice="Keep the model without them."))
        if self.lost:
            unit = self.base.axis.frequency.unit
            message = (
                "All sizes are compared on the same rows: the longest lag or an unknown value takes "
                f"{count(self.lost, unit)}."
            )
            found.append(Finding("rows lost", "note", message, evidence={"rows": float(self.lost)}))
        return tuple(found)

    @property
    def sentences(self) -> str:
        """What was found, in words."""
        none, least = self.error[0], self.error[self.size]
        head = f"{len(self.candidates)} candidates, compared by forecasts from {len(self.errors)} origins"
        gain = percent(least / none - 1.0) if none > 0.0 else "0 %"
        lines = [
            f"{head}; the whole choice was made again before each.",
            f"Proposed: {count(self.size, 'driver')}, with an error of {number(float(least))} ({gain} against none).",
            *(str(finding) for finding in self.findings),
        ]
        return "\n".join(lines)

    def __str__(self) -> str:
        table = self.table
        columns = [
            [str(size) + (" *" if size == self.size else "") for size in table["size"]],
            [number(value, 4) for value in table["error"]],
            [number(value, 2) for value in table["one_se"]],
            [name[:70] + (" …" if len(name) > 70 else "") for name in table["drivers"]],
        ]
        return f"{self.sentences}\n\n{text_table(['size', 'error', 'one s.e.', 'drivers'], columns)}"


def screen(
    data: Any,
    model: Model,
    candidates: Sequence[Driver],
    *,
    method: Method = "forward",
    mix: float = 1.0,
    most: int = 10,
    origins: int = 8,
    seed: int = 1,
) -> Screening:
    """Choose among many drivers by forecasts of periods that the choice has not seen.

    Before every origin the whole choice is made again from the rows so far, and only how many drivers are kept is
    judged by the errors after it; choosing on all rows and scoring there would find gains in pure noise.

    Parameters
    ----------
    data
        As for ``Model.fit``.
    model
        The target, its scale and the terms that are always there.
    candidates
        Drivers to choose from, such as `offing.candidates` makes.
    method
        ``forward``: the one that helps most, then the next given the first. ``path``: along the path of an L1 penalty,
        estimated without it. ``subsets``: the best of all sets, for up to 16 candidates.
    mix
        Of the ``path``: below 1 the rest of the penalty is on squares (an elastic net), which keeps drivers that move
        together in or out together.
    most
        The largest size.
    origins
        From how many origins it is judged: the last third of the rows is cut into as many parts.
    seed
        For the halves of `Screening.stability`.

    Raises
    ------
    InputError
        If a candidate has an estimated shape, terms are estimated that cannot be shared between sizes, or the rows do
        not suffice.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> generator = np.random.default_rng(4)
    >>> days = pd.date_range("2024-01-01", periods=120, freq="D")
    >>> noise = pd.DataFrame(generator.normal(size=(120, 30)), days, [f"x{i}" for i in range(30)])
    >>> noise["sold"] = generator.normal(size=120)
    >>> of.screen(noise, of.Model("sold"), of.candidates([f"x{i}" for i in range(30)])).size
    0
    """
    selection = DriverSelection(candidates, method, mix, most, origins)
    check_names(model, selection)
    return screen_series(model.fit(data), selection, seed=seed)


def screen_series(base: Fitted, selection: DriverSelection, *, seed: int = 1, quiet: bool = False) -> Screening:
    """See `screen`; `base` is a fit of the model. Inside other long work it is `quiet` about its own progress."""
    check_names(base.model, selection)
    whole = laid_out_for(base, base.view, base.axis, base, selection)
    rows, most, origins = whole.rows, selection.most, selection.origins
    tested = max(int(len(rows) * _TESTED), origins)
    first = len(rows) - tested
    widest = len(whole.always) + most * max(len(step) for step in whole.steps)
    if first < widest + 10:
        raise InputError(
            f"before the first origin there are {count(max(first, 0), 'row')}, too few to choose {most} drivers beside "
            f"{count(len(whole.always), 'column')}",
            "Give a smaller most, fewer terms or more data.",
            key="most",
        )
    errors = []
    with nullcontext() if quiet else Progress("screening drivers") as progress:
        for i, part in enumerate(np.array_split(rows[first:], origins)):
            errors.append(_errors_after(base, selection, whole, part))
            if progress is not None:
                progress.update((i + 1) / (origins + 1))
    chosen = whole.path(rows, most)
    lost = int(base.used.sum()) - len(rows)
    table = np.array(errors)[:, : len(chosen)]
    return Screening(
        base,
        tuple(selection.candidates),
        tuple(chosen),
        table,
        selection.method,
        selection.mix,
        lost,
        seed,
        selection,
        whole,
    )


def _errors_after(base: Fitted, selection: DriverSelection, whole: ScreeningProblem, part: np.ndarray) -> Array:
    """Mean squared error (sizes,) in some rows of what is selected and estimated from what was known before them.

    Treatments, knots, centres and the like are learnt there as well. Of the drivers the actual values count.
    """
    table = base.view.sources.tables[base.source]
    origin = int(table.known_at()[base.axis.first - table.axis.first + int(part[0]) - 1])
    past = Model.of(base.stated).fit_at(base.information.at(origin, known_ahead=frozenset()))
    known = laid_out_for(past, past.view, past.axis, past, selection)
    known = replace(known, rows=known.rows[np.isin(past.axis.ordinals[known.rows], base.axis.ordinals[whole.rows])])
    start = past.axis.first + past.axis.n - base.axis.first
    later = base.axis.part(start, int(part[-1]) + 1)
    view = replace(base.view, rows=past.axis, patches=past.view.patches)
    ahead = laid_out_for(base, past.walk_of_nothing(view, later), later, past, selection)
    outcome = np.full(later.n, np.nan)
    outcome[part - start] = whole.target[part]
    return known.squared_errors(ahead.columns, outcome, selection.most)


def _check(selection: DriverSelection) -> None:
    candidates, method, mix = selection.candidates, selection.method, selection.mix
    if method not in get_args(Method):
        raise InputError(f"found {method!r}", f"Allowed: {', '.join(get_args(Method))}.", key="method")
    if len(candidates) < 1 or any(not isinstance(each, Driver) for each in candidates):
        raise InputError(
            "found no drivers to choose from", "Give a list of Driver, such as candidates makes.", key="candidates"
        )
    if isinstance(mix, bool) or not 0.0 < mix <= 1.0:
        raise InputError(f"found {mix!r}", "Give a number above 0 and up to 1.", key="mix")
    for key, value in (("most", selection.most), ("origins", selection.origins)):
        if isinstance(value, bool) or not isinstance(value, int) or value < (2 if key == "origins" else 1):
            raise InputError(
                f"found {value!r}",
                "Give a whole number from 2 on." if key == "origins" else "Give a whole number from 1 on.",
                key=key,
            )
    size = selection.size
    if size is not None and (isinstance(size, bool) or not isinstance(size, int) or not 0 <= size <= selection.most):
        raise InputError(f"found {size!r}", f"Give a size from 0 to {selection.most}.", key="size")
    shaped = [each for each in candidates if each.shaped or each.curve is not None or each.shrink_with is not None]
    if shaped:
        raise InputError(
            f"'{shaped[0].name}' has a shape that is estimated, which would have to be found again in every set",
            "State its shape, or choose first and estimate shapes then.",
            key="candidates",
        )
    if method == "subsets" and len(candidates) > MOST_SUBSETS:
        raise InputError(
            f"there are {len(candidates)} candidates, of which all sets are too many",
            f'Use method = "forward", or at most {MOST_SUBSETS}.',
            key="method",
        )
    if method != "forward" and any(len(each.lags) * len(each.chains) > 1 for each in candidates):
        raise InputError(
            "candidates with several columns stay together only in a forward search",
            'Use method = "forward".',
            key="method",
        )


def check_names(model: ModelOptions, selection: DriverSelection) -> None:
    """Refuse two terms of one name.

    Raises
    ------
    InputError
        Naming it.
    """
    names = [str(each.name) for each in (*model.terms, *selection.candidates)]
    for name in names:
        if names.count(name) > 1:
            raise InputError(f"two drivers are called '{name}'", "Give one of them another name.", key="candidates")


def screening_rows(found: Screening) -> pd.DataFrame:
    """Rows of ``screening.csv``: one a size."""
    rows = found.table.assign(proposed=found.table["size"] == found.size)
    return keyed(rows, found.base, "")


def stability_rows(found: Screening) -> pd.DataFrame:
    """Rows of ``stability.csv``: one a candidate."""
    return keyed(found.stability, found.base, "")


@dataclass(frozen=True)
class DriverSelection(SelectionOptions):
    """Candidate drivers among which a model selects at every origin. For ``Model(driver_selection=...)``.

    A back-test of such a model repeats the whole selection in each fold, so that its scores are honest.

    Parameters
    ----------
    candidates, method, mix, most, origins
        As for `offing.screen`.
    size
        How many drivers; by default as many as `offing.screen` proposes at each origin.

    Raises
    ------
    InputError
        As `offing.screen`.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> generator = np.random.default_rng(3)
    >>> days = pd.date_range("2024-01-01", periods=200, freq="D")
    >>> data = pd.DataFrame(generator.normal(size=(200, 6)), days, list("abcdef"))
    >>> data["sold"] = 5.0 + 2.0 * data["c"] - data["e"] + generator.normal(size=200)
    >>> selection = of.DriverSelection(of.candidates(list("abcdef")))
    >>> of.Model("sold", driver_selection=selection).fit(data).model.chosen
    ('c', 'e')
    """

    size: int | None = None

    def __post_init__(self) -> None:
        object.__setattr__(self, "candidates", tuple(self.candidates))
        _check(self)

    def select(self, base: Fitted) -> tuple[Driver, ...]:
        """The drivers selected beside the terms of a fit, from what it knew."""
        found = screen_series(base, self, quiet=True)
        return tuple(found.drivers(self.size if self.size is None else min(self.size, len(found.chosen) - 1)))

    def needs(self) -> tuple[str, ...]:
        """The columns that the candidates look at."""
        return tuple(dict.fromkeys(reference for each in self.candidates for reference in each.needs()))


storable(DriverSelector, "driver-selection", DriverSelection)
