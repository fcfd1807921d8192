"""One regression: coefficients, how strongly they are shrunk towards zero, shape parameters and the noise's dynamics.

Nested as: what rows are worth under a robust loss; strengths and dynamics by restricted maximum likelihood given the
shapes; shapes by least squares given strengths and dynamics (Golub & Pereyra 1973, with the step of Kaufman 1975); each
until nothing moves. Bounds hold the coefficients that would pass them, and all is learnt again beside these.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array
from offing.engine.ar_estimation import Dynamics, NoiseFit, carry_on
from offing.engine.ar_filter import Chain, Times
from offing.engine.least_squares import Estimate, Reduced, least_squares
from offing.engine.robust_loss import Loss, Robust
from offing.engine.shapes import Bent, Shapes
from offing.engine.threads import threads_for
from offing.engine.variable_projection import Beside, End, Trial, descend, lowest
from offing.engine.variance_components import Groups, Keeping, learn

#: Searches here end within a dozen rounds; more than this say that they do not end.
_ROUNDS = 60
#: Ends of the search for shapes that are followed where strengths or dynamics are estimated as well: each costs a
#: whole estimation of these.
_FOLLOWED = 2


@dataclass(frozen=True)
class Problem:
    """What is to be estimated from n rows.

    `groups` (k + s,) gives the strength group of each coefficient, −1 where it is free; `bounded` (G,) says which
    groups' spread is kept from zero, `stated` which group's spread is stated, −1 for none. A coefficient of a group is
    drawn `towards` a value (k + s,), its spread being the group's times its `scales` (k + s,). Linear coefficients stay
    within `lower` and `upper` (k + s,), and so that the functions `rising` (m, k + s) of them are not negative. With
    `dynamics` noise is a chain over the `times` (n,) of the rows; without, rows can be `worth` (n,) more or less, and
    the `loss` of large residuals be less than their square.
    """

    target: Array
    columns: Array
    times: Times
    groups: Groups
    bounded: Keeping = field(default_factory=lambda: np.zeros(0, dtype=np.intp))
    dynamics: Dynamics | None = None
    shapes: Shapes | None = None
    stated: int = -1
    scales: Array | None = None
    towards: Array | None = None
    lower: Array | None = None
    upper: Array | None = None
    rising: Array | None = None
    worth: Array | None = None
    loss: Loss = "squares"

    @property
    def chain(self) -> Chain:
        """The noise before anything is learnt of it."""
        return Chain((), self.times, self.worth)

    @property
    def units(self) -> Array:
        """The scale (k + s,) of each coefficient's spread."""
        return np.ones(len(self.groups)) if self.scales is None else self.scales

    @property
    def limits(self) -> tuple[Array, Array] | None:
        """Bounds (k + s,) of the coefficients, if there are any."""
        if self.lower is None or self.upper is None:
            return None
        return self.lower, self.upper


@dataclass(frozen=True)
class Solved:
    """The estimate, γ of each group (G,), whether the rounds came to rest, and what was learnt of the noise."""

    estimate: Estimate
    ratios: Array
    converged: bool
    noise_fit: NoiseFit | None = None


def regress(problem: Problem) -> Solved:
    """Solve a problem.

    Raises
    ------
    TooFewRowsError
        If the rows do not suffice for the columns.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine.solver import Problem, regress
    >>> x = np.column_stack([np.ones(5), np.arange(5.0)])
    >>> regress(Problem(2.0 + x[:, 1], x, np.arange(5), np.array([-1, -1]))).estimate.beta.round(9).tolist()
    [2.0, 1.0]
    """
    with threads_for(*problem.columns.shape):
        return _solved(problem)


def _solved(problem: Problem) -> Solved:
    if problem.towards is not None and problem.towards.any():
        k = problem.columns.shape[1]
        moved = replace(
            problem,
            target=problem.target - problem.columns @ problem.towards[:k],
            towards=None,
            lower=None if problem.lower is None else problem.lower - problem.towards,
            upper=None if problem.upper is None else problem.upper - problem.towards,
        )
        solved = _solved(moved)
        return replace(solved, estimate=solved.estimate.moved(problem.towards))
    if problem.loss != "squares":
        return _robust(problem)
    return _within(problem)


def _robust(problem: Problem) -> Solved:
    """Squares weighted by what the loss makes of each residual, until nothing moves (Holland & Welsch 1977)."""
    recent = np.ones(len(problem.target)) if problem.worth is None else problem.worth
    solved, settled = _within(problem), False

    def judged(before: Robust | None) -> Robust:
        residual = problem.target - _values(problem, solved.estimate.beta)
        return Robust.of(residual * np.sqrt(recent), solved.estimate.effective_dof, problem.loss, before)

    robust, before = judged(None), np.full(len(problem.groups), np.inf)
    for _ in range(4 * _ROUNDS):
        still = np.abs(solved.estimate.beta - before) <= 1e-10 * np.maximum(np.abs(solved.estimate.beta), 1e-8)
        settled = robust.settled and bool(still.all())
        if settled:
            break
        before = solved.estimate.beta
        solved = _within(replace(problem, worth=recent * robust.weights))
        robust = judged(robust)
    solved = replace(solved, converged=solved.converged and settled)
    rows = _linearised(problem, solved.estimate.beta) * np.sqrt(recent)[:, None]
    return replace(solved, estimate=robust.judged(solved.estimate, rows))


def _within(problem: Problem) -> Solved:
    """The problem solved within its bounds: coefficients that pass them are held there, and the rest learnt again."""
    solved = _free(problem, np.zeros(problem.columns.shape[1], dtype=bool))
    if not solved.estimate.active.any():
        return solved
    k = problem.columns.shape[1]
    for _ in range(_ROUNDS):
        active = solved.estimate.active[:k]
        again = _free(problem, active)
        if (again.estimate.active[:k] == active).all():
            return again
        solved = again
    return replace(solved, converged=False)


def _free(problem: Problem, held: NDArray[np.bool_]) -> Solved:
    """Strengths, dynamics and shapes learnt with some coefficients `held` (k,) at their bounds; the estimate of all."""
    bounds = problem.limits
    learning = problem if bounds is None or not held.any() else _without(problem, held, *bounds)
    shapes = learning.shapes
    if shapes is None or problem.shapes is None:
        flat = np.zeros(problem.columns.shape[1], dtype=bool)
        chain, ratios, reduced, noise_fit = _learn(learning, learning.columns, learning.target, problem.groups)
        estimate = least_squares(
            problem.columns,
            problem.target,
            ratios=_spread(ratios, problem),
            chain=chain,
            shapes=flat,
            bounds=bounds,
            rising=problem.rising,
            reduced=reduced if learning is problem else None,
            variance=_noise(ratios, problem),
        )
        return Solved(estimate, ratios, True, noise_fit)
    found = _separated(learning, shapes)
    bent, k = problem.shapes.bend(found.theta), problem.columns.shape[1]
    # The slopes are those at the coefficients within the bounds, so that a held one gives its shapes none.
    wide = np.column_stack([_all_columns(problem, problem.shapes, bent), found.slopes])
    aim = problem.target - bent.offset + found.slopes @ found.theta
    limits = _bounds_beside(found.theta, problem)
    estimate = least_squares(
        wide,
        aim,
        ratios=_spread(found.ratios, problem),
        chain=found.chain,
        bounds=limits,
        rising=problem.rising,
        shapes=np.arange(len(problem.groups)) >= k,
        variance=_noise(found.ratios, problem),
    )
    beta, active = estimate.beta.copy(), estimate.active.copy()
    beta[k:], active[k:] = found.theta, False
    unconstrained = estimate.unconstrained if active.any() else beta
    return Solved(
        replace(estimate, beta=beta, active=active, unconstrained=unconstrained),
        found.ratios,
        found.converged,
        found.noise_fit,
    )


def _bounds_beside(theta: Array, problem: Problem) -> tuple[Array, Array] | None:
    """The coefficients' bounds, and those of shapes (s,) that lie at one: the linear step must not leave it."""
    shapes, wide = problem.shapes, np.full(len(problem.groups), np.inf)
    if shapes is None:
        return problem.limits
    lower, upper = (-wide, wide) if problem.limits is None else problem.limits
    own = len(lower) - len(theta)
    lower, upper = lower.copy(), upper.copy()
    lower[own:] = np.where(theta <= shapes.lower, theta, lower[own:])
    upper[own:] = np.where(theta >= shapes.upper, theta, upper[own:])
    return (lower, upper) if np.isfinite([lower, upper]).any() else None


def _without(problem: Problem, held: NDArray[np.bool_], lowest: Array, highest: Array) -> Problem:
    """The problem with the `held` columns (k,) at their bounds, and out of the way of the others."""
    k = problem.columns.shape[1]
    lower, upper = lowest[:k], highest[:k]
    limit = np.where(np.isfinite(lower), lower, upper)
    both = np.isfinite(lower) & np.isfinite(upper) & held
    if both.any():  # the nearer of two bounds is the one that holds it
        unconstrained = least_squares(problem.columns, problem.target, ratios=np.full(k, np.inf)).beta
        limit[both] = np.clip(unconstrained, lower, upper)[both]
    fixed = np.where(held, limit, 0.0)
    columns = np.where(held, 0.0, problem.columns)
    shapes = problem.shapes
    if shapes is not None:
        out, bend, every = held[shapes.varying], shapes.bend, shapes.many

        def bent(theta: Array) -> Bent:
            all_of = bend(theta)
            free = np.where(out, 0.0, all_of.columns)
            return Bent(free, all_of.offset, lambda beta: all_of.slopes(np.where(out, 0.0, beta)))

        def many(thetas: Array) -> tuple[Array, Array]:
            all_of, offsets = every(thetas)
            return np.where(out, 0.0, all_of), offsets

        shapes = replace(shapes, bend=bent, many=many)
    return replace(
        problem, target=problem.target - problem.columns @ fixed, columns=columns, shapes=shapes, lower=None, upper=None
    )


def _values(problem: Problem, beta: Array) -> Array:
    """What the model gives (n,) at coefficients (k + s,)."""
    k = problem.columns.shape[1]
    if problem.shapes is None:
        return np.asarray(problem.columns @ beta)
    bent = problem.shapes.bend(beta[k:])
    return np.asarray(_all_columns(problem, problem.shapes, bent) @ beta[:k] + bent.offset)


def _linearised(problem: Problem, beta: Array) -> Array:
    """Columns (n, k + s), those of shapes being slopes."""
    k = problem.columns.shape[1]
    if problem.shapes is None:
        return problem.columns
    bent = problem.shapes.bend(beta[k:])
    return np.column_stack([_all_columns(problem, problem.shapes, bent), bent.slopes(beta[problem.shapes.varying])])


def _spread(ratios: Array, problem: Problem) -> Array:
    """γ (k + s,) of each coefficient."""
    groups = problem.groups
    return np.where(groups >= 0, np.append(ratios, np.inf)[groups] * np.square(problem.units), np.inf)


def _noise(ratios: Array, problem: Problem) -> float | None:
    """The noise's variance where it was learnt against a stated spread."""
    return 1.0 / float(ratios[problem.stated]) if problem.stated >= 0 else None


def _learn(
    problem: Problem, columns: Array, target: Array, groups: Groups, near: NoiseFit | None = None
) -> tuple[Chain, Array, Reduced | None, NoiseFit | None]:
    """The noise's chain and γ of the groups, together, and the whitened rows with their triangle if any were made."""
    scaled = columns
    if problem.scales is not None:
        inside = problem.units[: columns.shape[1]]
        scaled = columns * inside
    if problem.dynamics is not None:
        found = carry_on(
            scaled,
            target,
            problem.times,
            groups=groups,
            bounded=problem.bounded,
            dynamics=problem.dynamics,
            stated=problem.stated,
            near=near,
        )
        return found.chain, found.ratios, None, found
    if not len(problem.bounded):
        return problem.chain, np.zeros(0), None, None
    reduced = Reduced.of(scaled, target, problem.chain)
    learnt = learn(reduced.whole, groups, len(target), problem.bounded, stated=problem.stated)
    return problem.chain, learnt.ratios, reduced if scaled is columns else None, None


@dataclass(frozen=True)
class _Separated:
    """Where a descent ended: shapes θ (s,), what was learnt there, and the penalised sum of squares."""

    theta: Array
    slopes: Array
    chain: Chain
    ratios: Array
    objective: float
    converged: bool
    noise_fit: NoiseFit | None


def _separated(problem: Problem, shapes: Shapes) -> _Separated:
    """The best shapes, with strengths and dynamics where these are learnt."""
    plain = Beside.of(problem.columns, problem.target, shapes.varying, _loosely(problem), problem.chain)
    ends = lowest(shapes, plain)
    if problem.dynamics is None and not len(problem.bounded):
        best = ends[0].trial
        return _Separated(best.theta, best.slopes, problem.chain, np.zeros(0), best.value, ends[0].converged, None)
    tried = [_learning(problem, shapes, end.trial) for end in ends[:_FOLLOWED]]
    return min(tried, key=lambda each: each.objective)


def _loosely(problem: Problem) -> Array:
    """γ (k,) of the coefficients before any is learnt: all free, as far as the rows suffice for that.

    Where they do not, those of groups are shrunk towards zero as strongly as noise draws one of them on average.
    """
    n, k = problem.columns.shape
    groups = problem.groups[:k]
    spread = np.full(k, np.inf)
    if n > k:
        return spread
    lengths = np.square(problem.columns).sum(axis=0)
    for group in range(len(problem.bounded)):
        own = groups == group
        spread[own] = 1.0 / max(float(lengths[own].mean()), 1e-300) if own.any() else np.inf
    return spread


def _learning(problem: Problem, shapes: Shapes, trial: Trial) -> _Separated:
    """From one end of a search without strengths and dynamics: these and the shapes again until nothing moves."""
    k, ratios, converged = problem.columns.shape[1], np.full(len(problem.bounded), np.inf), False
    noise_fit: NoiseFit | None = None
    inside = np.concatenate([np.ones(k, dtype=bool), shapes.linear])
    for turn in range(_ROUNDS):
        theta, jacobian = trial.theta, trial.slopes[:, shapes.linear]
        before = np.concatenate([theta, ratios, np.zeros(0) if noise_fit is None else noise_fit.parameters])
        wide = np.column_stack([_all_columns(problem, shapes, trial.bent), jacobian])
        aim = problem.target - trial.bent.offset + jacobian @ theta[shapes.linear]
        chain, ratios, _, noise_fit = _learn(problem, wide, aim, problem.groups[inside], noise_fit)
        if noise_fit is not None:  # an order is chosen once
            problem = replace(problem, dynamics=noise_fit.dynamics)
        spread = _spread(ratios, problem)
        beside = Beside.of(problem.columns, problem.target, shapes.varying, spread[:k], chain)
        end = descend(shapes, theta, beside, spread[k:]) or End(trial, False, np.zeros((len(theta), len(theta))))
        trial, converged = end.trial, end.converged
        after = np.concatenate([trial.theta, ratios, np.zeros(0) if noise_fit is None else noise_fit.parameters])
        still = turn > 0 and bool((np.abs(after - before) <= 1e-4 * np.maximum(np.abs(before), 1e-3)).all())
        if converged and still:
            break
    else:
        converged = False
    return _Separated(trial.theta, trial.slopes, chain, ratios, trial.value, converged, noise_fit)


def _all_columns(problem: Problem, shapes: Shapes, bent: Bent) -> Array:
    """All columns (n, k) at some shapes."""
    columns = problem.columns.copy()
    columns[:, shapes.varying] = bent.columns
    return columns
