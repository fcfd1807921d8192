"""Whether the accuracies of forecasts differ significantly."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from offing.base.arrays import Array
from offing.engine.t_distribution import two_sided_p, upper_p


@dataclass(frozen=True)
class AccuracyTest:
    """The mean difference of losses, its standard error, the statistic and its p; NaN where nothing can be said.

    The p is that of Student's t with `dof` degrees of freedom.
    """

    difference: float
    std_error: float
    statistic: float
    p: float
    dof: int


def equal_accuracy(first: Array, second: Array, overlap: int = 0) -> AccuracyTest:
    """Test that two forecasts have the same expected loss (Diebold & Mariano 1995), two-sided.

    With the small-sample correction of Harvey, Leybourne & Newbold (1997), and Student's t with one degree of freedom
    less than there are origins.

    Parameters
    ----------
    first, second
        Losses (f,) at the same origins, in their order.
    overlap
        How many origins after one still share outcomes with its forecast: the lags of the variance. Where these
        make it negative, none are used.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import equal_accuracy
    >>> found = equal_accuracy(np.array([1.0, 2.0, 3.0, 2.0]), np.array([2.0, 2.5, 3.5, 4.0]))
    >>> round(found.statistic, 4), round(found.p, 4)
    (-2.8284, 0.0663)
    """
    differences = np.asarray(first - second)
    n, mean = len(differences), float(differences.mean()) if len(differences) else float("nan")
    if n < 3 or not np.isfinite(differences).all() or np.ptp(differences) == 0.0:
        return AccuracyTest(mean, float("nan"), float("nan"), float("nan"), max(n - 1, 0))
    overlap = min(overlap, n - 2)
    moved = differences - mean
    own = [float(moved[lag:] @ moved[: n - lag]) / n for lag in range(overlap + 1)]
    variance = (own[0] + 2.0 * sum(own[1:])) / n
    if variance <= 0.0:
        variance, overlap = own[0] / n, 0
    h = overlap + 1
    # The correction is a factor of the statistic; here it widens the standard error.
    error = float(np.sqrt(variance / ((n + 1 - 2 * h + h * (h - 1) / n) / n)))
    return AccuracyTest(mean, error, mean / error, float(two_sided_p(np.array(mean / error), n - 1)), n - 1)


def nested_accuracy(small: Array, large: Array, apart: Array, overlap: int = 0) -> AccuracyTest:
    """Test that a larger model does not forecast better than a smaller one that it contains (Clark & West 2007).

    If the smaller one is right, the larger one's needless coefficients make it the worse one; squared differences of
    the two forecasts, which measure that, are taken off its squared errors. One-sided; the origins are few, so that the
    statistic has Student's t with one degree of freedom less than there are origins, and not the normal distribution.

    Parameters
    ----------
    small, large
        Squared errors (f,) of the two.
    apart
        Squared differences (f,) of the two forecasts.
    overlap
        As for `equal_accuracy`.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import nested_accuracy
    >>> found = nested_accuracy(np.array([4.0, 1.0, 9.0, 4.0]), np.array([1.0, 1.0, 4.0, 2.25]), np.full(4, 0.25))
    >>> round(found.difference, 4), found.p < 0.05
    (2.6875, True)
    """
    found = equal_accuracy(small, large - apart, overlap)
    return replace(found, p=upper_p(found.statistic, found.dof)) if np.isfinite(found.statistic) else found


def best_set(losses: Array, *, block: int = 1, draws: int = 2000, seed: int = 0) -> Array:
    """The p (m,) with which each of m forecasts belongs to the set of the best (Hansen, Lunde & Nason 2011).

    The worst, by the largest t of its mean loss against that of all, leaves the set while equality of all is rejected;
    its p is the largest of the tests so far. Those whose p is at least 0.05 hold the best with 95 % probability.

    Parameters
    ----------
    losses
        Losses (f, m) at f origins in their order.
    block
        Length of the runs of origins that are drawn together (circular block bootstrap, Politis & Romano 1992).
    draws, seed
        How many samples are drawn, and from which seed.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import best_set
    >>> losses = np.random.default_rng(1).normal(size=(40, 3)) ** 2 + np.array([0.0, 0.0, 3.0])
    >>> (best_set(losses) >= 0.05).tolist()
    [True, True, False]
    """
    n, m = losses.shape
    generator = np.random.default_rng(seed)
    runs = -(-n // block)
    places = (generator.integers(n, size=(draws, runs, 1)) + np.arange(block)).reshape(draws, -1)[:, :n] % n
    means = losses[places].mean(axis=1) - losses.mean(axis=0)
    p, remaining, so_far = np.ones(m), list(range(m)), 0.0
    while len(remaining) > 1:
        part = means[:, remaining] - means[:, remaining].mean(axis=1, keepdims=True)
        own = losses[:, remaining].mean(axis=0) - losses[:, remaining].mean()
        deviation = np.maximum(np.sqrt(np.square(part).mean(axis=0)), 1e-300)
        reached = own / deviation
        worst = int(np.argmax(reached))
        so_far = max(so_far, float(((part / deviation).max(axis=1) >= reached[worst]).mean()))
        p[remaining.pop(worst)] = so_far
    return p
