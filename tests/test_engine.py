"""The arithmetic alone: arrays against independent computation."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from offing.engine import (
    Choice,
    Dynamics,
    Problem,
    attribute,
    explain_dependence,
    join,
    lag_one_correlation,
    least_squares,
    logarithmic_mean,
    paired,
    quantile,
    refits,
    regress,
    solve,
    take,
    triangle,
    two_sided_p,
)

seeds = st.integers(0, 2**32 - 1)


def draw(seed, n, k):
    generator = np.random.default_rng(seed)
    return generator.normal(size=(n, k)) * 10.0 ** generator.integers(-3, 4, k), generator.normal(size=n)


@given(seeds, st.integers(1, 6), st.integers(0, 12))
@settings(max_examples=40, deadline=None)
def test_triangles_stand_for_their_rows(seed, k, extra):
    matrix, _ = draw(seed, k + extra, k)
    weights = np.random.default_rng(seed).uniform(0.1, 2.0, len(matrix))
    whole = triangle(matrix, weights)
    products = matrix.T @ (weights[:, None] * matrix)
    scale = np.sqrt(np.outer(np.diag(products), np.diag(products)))
    assert np.allclose(whole.T @ whole / scale, products / scale, atol=1e-12)
    cut = len(matrix) // 2
    joined = join(triangle(matrix[:cut] if cut else np.zeros((1, k))), matrix[cut:])
    assert np.allclose(np.abs(joined), np.abs(triangle(matrix)), atol=1e-10 * np.abs(matrix).max())
    chosen = list(range(k))[::-1][: max(1, k - 1)]
    taken = take(triangle(matrix), chosen)
    assert np.allclose(np.abs(taken), np.abs(triangle(matrix[:, chosen])), atol=1e-10 * np.abs(matrix).max())


@given(seeds, st.integers(1, 5), st.integers(2, 30))
@settings(max_examples=40, deadline=None)
def test_least_squares_agrees_with_the_normal_equations(seed, k, extra):
    matrix, target = draw(seed, k + extra, k)
    estimate = least_squares(matrix, target)
    scaled = matrix / np.linalg.norm(matrix, axis=0)
    inverse = np.linalg.inv(scaled.T @ scaled) / np.outer(*[np.linalg.norm(matrix, axis=0)] * 2)
    residual = target - matrix @ estimate.beta
    assert np.abs(scaled.T @ residual).max() < 1e-12 * np.linalg.norm(target)
    variance = residual @ residual / extra
    assert estimate.variance == pytest.approx(variance, rel=1e-9)
    rows = np.random.default_rng(seed).normal(size=(4, k))
    expected = np.sqrt(variance * np.einsum("ij,jk,ik->i", rows, inverse, rows))
    assert np.allclose(estimate.standard_errors(rows), expected, rtol=1e-6)


def test_the_later_dependent_column_goes_whatever_the_rows_and_scales():
    matrix, target = draw(5, 40, 6)
    matrix[:, 3] = 1e6 * (matrix[:, 0] / np.abs(matrix[:, 0]).max() - matrix[:, 2] / np.abs(matrix[:, 2]).max())
    matrix[:, 4] = 0.0
    for rows in (slice(0, 20), slice(10, 40), slice(None)):
        estimate = least_squares(matrix[rows], target[rows])
        assert estimate.kept.tolist() == [True, True, True, False, False, True]
        alone = least_squares(matrix[rows][:, estimate.kept], target[rows])
        assert np.allclose(estimate.beta[estimate.kept], alone.beta, rtol=1e-10)
        assert np.allclose(matrix[rows] @ estimate.dependence(3), matrix[rows][:, 3], atol=1e-6)
        assert estimate.dependence(4).tolist() == [0.0] * 6
    # Rows that keep the dependence need nothing unknown; rows that break it do.
    assert not estimate.unidentified(matrix[:3]).any()
    broken = matrix[:3].copy()
    broken[1, 3] *= 1.001
    broken[2, 4] = 1e-3
    assert estimate.unidentified(broken).tolist() == [False, False, False, True, True, False]


def test_many_targets_are_solved_at_once():
    matrix, target = draw(8, 30, 4)
    both = solve(triangle(np.column_stack([matrix, target, 2.0 * target + matrix[:, 1]])), targets=2)
    alone = least_squares(matrix, target)
    assert np.allclose(both.beta[:, 0], alone.beta)
    assert np.allclose(both.beta[:, 1], 2.0 * alone.beta + [0.0, 1.0, 0.0, 0.0])
    assert both.rss == pytest.approx([alone.rss, 4.0 * alone.rss])
    assert explain_dependence(alone.whole[:-1, :-1], alone.kept, 0).tolist() == [0.0] * 4


def test_as_many_columns_as_rows_leave_no_noise():
    matrix, target = draw(9, 4, 4)
    with pytest.raises(ValueError, match="4 rows cannot estimate 4 columns and the noise"):
        least_squares(matrix, target)


@given(seeds, st.integers(1, 5), st.integers(1, 8), st.just(0.0) | st.floats(1e-9, 9.0))
@settings(max_examples=60, deadline=None)
def test_contributions_add_up_on_the_log_scale(seed, terms, n, size):
    generator = np.random.default_rng(seed)
    deviations = size * generator.normal(size=(terms, n))
    variances = np.abs(generator.normal(size=n))
    level = generator.normal(size=n)
    rows = np.vstack([level, deviations, variances / 2.0])
    amounts, _ = attribute(rows, log=True)
    size = np.abs(amounts).sum(axis=0)
    assert np.all(np.abs(amounts.sum(axis=0) - np.exp(rows.sum(axis=0))) <= 1e-12 * size)
    assert np.array_equal(np.sign(amounts[1:-1]), np.sign(deviations))
    assert amounts[0] == pytest.approx(np.exp(level))


def test_the_logarithmic_mean_keeps_its_digits_near_equal_values():
    """Against 50-digit arithmetic: (M - B)/ln(M/B) by subtraction would lose them all."""
    for x, expected in [(1e-12, 1.0000000000005), (0.0, 1.0), (-1e-9, 0.9999999995000000), (1.0, 1.718281828459045)]:
        assert logarithmic_mean(np.array([x]), np.zeros(1))[0] == pytest.approx(expected, rel=1e-15)


def test_level_contributions_are_the_rows_themselves():
    rows = np.array([[10.0, 11.0], [1.0, -2.0], [0.5, 4.0]])
    assert attribute(rows, log=False)[0] is rows


@given(seeds, st.integers(1, 7), st.integers(1, 9), st.booleans())
@settings(max_examples=60, deadline=None)
def test_what_lies_between_pairs_of_values_is_shared_out_exactly(seed, h, m, log):
    """Of each row in every group, against the loop over all pairs; a row that is the same on both sides adds nothing."""
    generator = np.random.default_rng(seed)
    end, start = generator.normal(size=(3, h)), generator.normal(size=(3, m))
    end[2], start[2] = 0.7, 0.7
    owners = np.arange(h) % 2
    worth, back = paired(end.sum(axis=0), start.sum(axis=0), owners, 2, log=log, pooled=True)
    amounts = np.array([np.bincount(owners, worth * row, minlength=2) for row in end]) - start @ back.T
    for group in range(2):
        by_hand = np.zeros(3)
        for t in np.flatnonzero(owners == group):
            for s in range(m):
                a, b = end[:, t].sum(), start[:, s].sum()
                mean = (np.exp(a) - np.exp(b)) / (a - b) if log else 1.0
                by_hand += mean * (end[:, t] - start[:, s]) / m
        assert amounts[:, group] == pytest.approx(by_hand, rel=1e-9, abs=1e-9)
    assert np.abs(amounts[2]).max() < 1e-12 * max(1.0, np.abs(worth).max())


def test_student_against_tables():
    """Two-sided points of published tables of the t distribution, to their printed digits."""
    for dof, point in [(1, 12.706), (2, 4.303), (5, 2.571), (30, 2.042), (120, 1.980)]:
        assert float(quantile(0.975, dof)) == pytest.approx(point, abs=6e-4)
        assert float(two_sided_p(np.array([point]), dof)[0]) == pytest.approx(0.05, abs=2e-4)


def test_neighbouring_residuals_are_paired_over_the_calendar():
    residual = np.array([1.0, -1.0, 1.0, 99.0, 1.0, 1.0])
    used = np.array([True, True, True, False, True, True])
    correlation, pairs = lag_one_correlation(residual, used)
    assert pairs == 3
    assert correlation == pytest.approx((-1.0 - 1.0 + 1.0) / 3.0)


@pytest.mark.parametrize("seed", range(6))
def test_refits_equal_each_regression_by_itself(seed):
    """Random choices of columns in growing folds, some shrunk towards zero, against least squares and REML of the rows."""
    generator = np.random.default_rng(seed)
    n, width = 90, 12
    x = generator.normal(size=(n, width))
    x[:, 0] = 1.0
    x[:, 5] = x[:, 4]  # the same column twice
    y = x @ generator.normal(size=width) + generator.normal(size=n)
    y[generator.integers(n, size=4)] = np.nan
    ends, ahead = np.array([40, 55, 83]), np.array([[41, 45], [56, 60], [84, 89]])
    free = Choice.of_free([0, *sorted(generator.choice(np.array([1, 2, 3, 4, 6, 7]), 4, replace=False).tolist())])
    places = np.array([0, 8, 1, 9, 10, 2])
    drawn = Choice(places, np.array([-1, 0, -1, 0, 0, -1]), np.array([bool(seed % 2)]))
    both = Choice.of_free([0, 4, 5])
    found = refits(x, y, starts=np.zeros(3, dtype=int), ends=ends, ahead=ahead, choices=[free, drawn, both])
    assert found.sure[:2].all()
    assert not found.sure[2].any(), "columns that are the same are never sure"
    for fold, end in enumerate(ends.tolist()):
        rows = np.flatnonzero(np.isfinite(y[:end]))
        own = x[rows][:, free.places]
        beta, rss, *_ = np.linalg.lstsq(own, y[rows], rcond=None)
        variance = float(rss[0]) / (len(rows) - len(beta))
        later = x[ahead[fold]][:, free.places]
        assert np.allclose(found.mean[0, fold], later @ beta, rtol=1e-11)
        spread = np.sqrt(variance * np.einsum("hi,ij,hj->h", later, np.linalg.inv(own.T @ own), later))
        assert np.allclose(found.spread(0)[fold], spread, rtol=1e-9)
        alone = regress(Problem(y[rows], x[rows][:, places], rows, drawn.groups, drawn.bounded))
        assert np.allclose(found.beta[1][fold], alone.estimate.beta, rtol=1e-8)
        assert np.allclose(found.ratios[1][fold], alone.ratios, rtol=1e-8)
        assert found.variance[1, fold] == pytest.approx(alone.estimate.variance, rel=1e-10)
        assert np.allclose(found.spread(1)[fold], alone.estimate.standard_errors(x[ahead[fold]][:, places]), rtol=1e-8)


def test_related_noise_beside_a_column_that_is_none():
    """A column of zeros, as one that is held at its bound leaves, changes nothing of what is learnt of the noise."""
    generator = np.random.default_rng(5)
    n = 80
    x = np.column_stack([np.ones(n), np.zeros(n), generator.normal(size=n), np.zeros(n)])
    noise = np.zeros(n)
    for t in range(1, n):
        noise[t] = 0.6 * noise[t - 1] + generator.normal()
    y = 3.0 + 2.0 * x[:, 2] + noise
    dynamics, none = Dynamics(1, None), np.zeros(0, dtype=bool)
    whole = regress(Problem(y, x, np.arange(n), np.full(4, -1), none, dynamics))
    alone = regress(Problem(y, x[:, [0, 2]], np.arange(n), np.full(2, -1), none, dynamics))
    assert np.allclose(whole.estimate.beta[[0, 2]], alone.estimate.beta, rtol=1e-9)
    assert whole.estimate.chain.phi == pytest.approx(alone.estimate.chain.phi, rel=1e-7)
    assert not whole.estimate.kept[[1, 3]].any()
