"""One more candidate of a back-test: its members in one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from offing.base import InputError, nearest
from offing.base.arrays import Array
from offing.evaluation.combination_methods import (
    FEWEST,
    LEARNT,
    METHODS,
    STATED_WEIGHTS,
    Pooling,
    check_method,
    pooled_quantiles,
    stated_weights,
)
from offing.evaluation.fold_results import Basis, Run
from offing.evaluation.past_forecasts import PastForecasts


def combined_runs(
    backtest: PastForecasts,
    *,
    method: str = "mean",
    members: Sequence[str] | None = None,
    pooling: Pooling = "quantiles",
    name: str | None = None,
    weights: Mapping[str, float] | None = None,
) -> list[Run]:
    """The runs of one more candidate, some members in one; see `Backtest.combined`."""
    check_method(method, pooling)
    if weights is not None:
        method, members = STATED_WEIGHTS, [each for each, weight in weights.items() if weight > 0.0]
    own = [run.name for run in backtest.own if run.kind in ("model", "external")]
    chosen = list(dict.fromkeys(own)) if members is None else list(members)
    for each in chosen:
        if each not in {run.name for run in backtest.runs}:
            raise InputError(
                f"there is no forecast {each!r}", nearest(each, [run.name for run in backtest.runs]), key="members"
            )
    if len(chosen) < 2 and weights is None:
        raise InputError(f"found {len(chosen)} members", "Give two or more.", key="members")
    title = name or ("mean of models" if method == "mean" else method)
    if title in {run.name for run in backtest.runs}:
        raise InputError(f"there is a forecast {title!r} already", "Give another name.", key="name")
    runs = []
    for basis in backtest.bases:
        for series in backtest.series:
            parts = [next(run for run in backtest.chosen(basis, series) if run.name == each) for each in chosen]
            runs.append(
                _combined(parts, title, basis, method, pooling, [(weights or {}).get(each, 0.0) for each in chosen])
            )
    return runs


def _combined(  # noqa: PLR0917  what a run is made of
    parts: Sequence[Run], name: str, basis: Basis, method: str, pooling: Pooling, stated: Sequence[float]
) -> Run:
    """One run made of several on the same origins."""
    means = np.stack([run.mean for run in parts], axis=-1)
    weights = stated_weights(stated, means.shape) if method == STATED_WEIGHTS else learnt_weights(parts, method)

    def quantiles() -> Array:
        own = np.array([run.quantiles for run in parts])
        f, h = means.shape[:2]
        flat = own.reshape(len(parts), f * h, -1)
        return pooled_quantiles(flat, weights.reshape(f * h, -1), pooling).reshape(f, h, -1)

    made = quantiles if all(run.made is not None for run in parts) else None
    return Run(
        parts[0].series,
        name,
        basis,
        "combination",
        parts[0].cuts,
        (weights * means).sum(axis=-1),
        made,
        seconds=sum(run.seconds for run in parts if run.kind == "model"),
        members=tuple(run.name for run in parts),
        weights=weights,
    )


def learnt_weights(parts: Sequence[Run], method: str) -> Array:
    """Weights (f, h, m) of members at each origin, from what was known of their errors there."""
    means = np.stack([run.mean for run in parts], axis=-1)
    errors = np.stack([run.error for run in parts], axis=-1)
    found = np.empty(means.shape)
    for fold in range(len(means)):
        known = parts[0].cuts.known_by(fold)[:fold, :, None] & np.isfinite(errors[:fold])
        whole = np.asarray(known.all(axis=-1))
        rows = errors[:fold][whole]
        enough = int(whole.any(axis=1).sum()) >= FEWEST
        found[fold] = METHODS[method if enough or method not in LEARNT else "mean"](means[fold], rows)
    return found
