"""Searching for a better model in a stated time, and an honest figure of how good the winner is."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Executor
from pathlib import Path
from typing import Any, get_args

import numpy as np

from offing.base import InputError, nearest
from offing.base.parallel import Workers
from offing.evaluation.backtesting import bases_of
from offing.evaluation.fold_results import Basis
from offing.evaluation.origins import Origins
from offing.evaluation.scoring import SCORES, check_score
from offing.evaluation.search_log import Record, mark_of
from offing.evaluation.search_loop import Method, SearchContext, SearchLoop, best_of
from offing.evaluation.search_result import Search
from offing.evaluation.search_space import Space
from offing.model import Model
from offing.model.fit import Data
from offing.model.model import tables_of
from offing.tables import Panel, Table, split_series


def search(
    model: Model,
    data: Data,
    choices: Mapping[str, Sequence[Any]] | None = None,
    *,
    optional: Sequence[str] = (),
    horizon: int,
    budget: float | None = None,
    method: Method = "grid",
    tries: int | None = None,
    seed: int = 0,
    score: str = "RMSE",
    held_back: int | None = None,
    origins: int | None = None,
    first_origin: object = None,
    every: int | None = None,
    gap: int = 0,
    basis: Basis | None = None,
    planned: Sequence[str] = (),
    plans: Mapping[str, Table | Panel] | None = None,
    record: str | Path | None = None,
    report: Callable[[str], object] | None = None,
    executor: Executor | None = None,
) -> Search:
    """Search for a better model among stated choices, and score the winner once on periods that were held back.

    Parameters
    ----------
    model, data
        What the choices start from, and what it is fitted to.
    choices
        Values to choose from, by ``TERM.FIELD`` such as ``season.harmonics``, or by a field of the model: ``scale``,
        ``errors``, ``order``, ``loss``, ``half_life``, ``window`` (how many of the newest periods are fitted) and so
        on.
    optional
        Names of terms that may be left out.
    horizon, origins, first_origin, every, gap, basis, planned, plans
        As for `offing.backtest`; of ``basis`` only one, ex-ante by default where there are drivers.
    budget
        Seconds for everything. The first candidates show what one costs, and how many fit is reported (`report`)
        before the others are tried. By default there is no limit.
    method
        ``grid``: all of them, in an order drawn at random, so that any part of them is a fair sample. ``random``:
        `tries` of them. ``narrowing``: few origins for all (or `tries`) of them, then thrice as many origins for the
        best third, and so on (Jamieson & Talwalkar 2016).
    tries
        How many candidates at most.
    seed
        Of the order.
    score
        What is to be small.
    held_back
        How many of the newest periods the search never sees; by default twice the horizon.
    record
        A file in which all that was tried is kept, and from which a search that was stopped goes on.
    report
        Called with a line on how many candidates fit into the time.
    executor
        As for `offing.backtest`.

    Raises
    ------
    InputError
        For unknown choices or words, too short a history, a record of another search, or if no candidate can be
        fitted.

    Notes
    -----
    An interruption from the keyboard leaves the best so far. Plain regressions among the candidates share one design
    (see `offing.backtest`).

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2012-01", periods=144, freq="M")
    >>> wave = 10 * np.sin(2 * np.pi * np.arange(144) / 12) + np.random.default_rng(1).normal(size=144)
    >>> sold = pd.Series(100.0 + wave, months, name="sold")
    >>> model = of.Model("sold", [of.Trend(), of.Season("year", harmonics=3)])
    >>> of.search(model, sold, {"season.harmonics": [1, 2, 3]}, optional=["trend"], horizon=6).chosen
    {'season.harmonics': 1, 'trend': 'out'}
    """
    started = time.monotonic()
    if method not in get_args(Method):
        raise InputError(f"found {method!r}", nearest(str(method), get_args(Method)), key="method")
    if budget is not None and not budget > 0.0:
        raise InputError(f"found {budget!r}", "Give a number of seconds.", key="budget")
    if method == "random" and tries is None and budget is None:
        raise InputError("a random search needs an end", "Give tries or a budget.", key="tries")
    if SCORES[check_score(score)].better != "low":
        raise InputError(
            f"found {score!r}, which is not the better the smaller", "Give RMSE or CRPS, say.", key="score"
        )
    held_back = 2 * horizon if held_back is None else held_back
    if isinstance(held_back, bool) or held_back < horizon:
        raise InputError(f"found {held_back!r}", f"Hold back at least the horizon, {horizon}.", key="held_back")
    space = Space(model, choices or {}, tuple(optional))
    series = split_series(tables_of(data), model.target)
    chosen = bases_of([model], basis)[-1]
    plan = Origins(horizon, origins, first_origin, every, gap)
    mark = mark_of(space, series, (plan, chosen, score, held_back, tuple(planned)))
    kept = Record(record, mark)
    with Workers(executor) as workers:
        context = SearchContext(space, series, plan, chosen, score, held_back, tuple(planned), plans or {}, workers)
        loop = SearchLoop(context, kept, started, budget, report)
        try:
            loop.run(method, tries, seed)
        except KeyboardInterrupt:
            loop.stopped = "It was interrupted: this is the best so far."
        tried = loop.latest()
        if not any(np.isfinite(each.score) for each in tried):
            why = next((each.why for each in tried if each.why), "no time was left")
            raise InputError(f"no candidate could be scored: {why}", "Give other choices, or more time.", key="choices")
        held = context.held(best_of(tried))
    return Search(
        space,
        tuple(tried),
        plan,
        chosen,
        score,
        held_back,
        held,
        context.folds,
        loop.expected,
        time.monotonic() - started,
        loop.stopped,
        tables_of(data),
    )
