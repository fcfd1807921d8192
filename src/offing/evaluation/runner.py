"""How the folds of jobs are fitted: together where columns can be shared, else again."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from offing.base import InputError
from offing.base.arrays import Array
from offing.evaluation.fold_results import Basis, Run
from offing.evaluation.refit import Job, attempted_again, refitted
from offing.evaluation.shared_folds import fitted_together

Mask = NDArray[np.bool_]


def run_all(jobs: Sequence[Job], executor: Executor | None = None) -> list[Run]:
    """The runs of some jobs in their order.

    Raises
    ------
    InputError
        If a fold cannot be fitted or forecast, naming its origin.
    """
    shared, left = _together(jobs)
    again = dict(zip([i for i, _ in left], refitted([job for _, job in left], executor), strict=True))
    return [_merged(shared.get(i), again.get(i)) for i in range(len(jobs))]


def attempt_all(jobs: Sequence[Job], executor: Executor | None = None) -> list[Run | InputError]:
    """The runs of some jobs in their order, or why there is none."""
    shared, left = _together(jobs)
    again = dict(zip([i for i, _ in left], attempted_again([job for _, job in left], executor), strict=True))
    found: list[Run | InputError] = []
    for i in range(len(jobs)):
        other = again.get(i)
        found.append(other if isinstance(other, InputError) else _merged(shared.get(i), other))
    return found


_Shared = dict[int, tuple[Run, Mask]]


def _together(jobs: Sequence[Job]) -> tuple[_Shared, list[tuple[int, Job]]]:
    """What was fitted together, by place, with the folds that are sure; and jobs of the folds that are left."""
    groups: dict[tuple[str, Basis, tuple[int, ...]], list[int]] = {}
    for i, job in enumerate(jobs):
        if job.method == "recursion":
            groups.setdefault((job.series, job.basis, tuple(job.cuts.ends.tolist())), []).append(i)
    shared: _Shared = {}
    for members in groups.values():
        for i, found in zip(members, fitted_together([jobs[i] for i in members]), strict=True):
            if found is not None and found[1].any():
                shared[i] = found
    left = []
    for i, job in enumerate(jobs):
        if i not in shared:
            left.append((i, job))
        elif not shared[i][1].all():
            left.append((i, replace(job, cuts=job.cuts.only(np.flatnonzero(~shared[i][1]).tolist()))))
    return shared, left


def _merged(shared: tuple[Run, Mask] | None, again: Run | None) -> Run:
    """One run of the folds fitted together and of those refitted."""
    if shared is None:
        if again is None:
            raise RuntimeError("a job was neither fitted together nor again")
        return again
    run, sure = shared
    if again is None:
        return run
    mean, columns = run.mean.copy(), np.array(run.columns)
    mean[~sure], columns[~sure] = again.mean, again.columns
    return replace(
        run,
        mean=mean,
        columns=columns,
        made=_Both(run, again, sure, "quantiles"),
        trained=_Both(run, again, sure, "train"),
        seconds=run.seconds + again.seconds,
    )


@dataclass(frozen=True)
class _Both:
    """What two runs make of one thing, each for its folds."""

    first: Run
    second: Run
    sure: Mask
    what: str

    def __call__(self) -> Array:
        found = np.array(getattr(self.first, self.what))
        found[~self.sure] = getattr(self.second, self.what)
        return found
