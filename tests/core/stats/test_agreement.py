"""Agreement of records against SciPy and plain loops."""

import numpy as np
import pytest
from scipy import stats

from bavlo.core.stats.agreement import AGREEMENTS, agreement, own_anomalies, pearson, spread

RNG = np.random.default_rng(12)
CYCLE = np.tile(np.arange(12), 10)
EVERYWHERE = np.ones(120, bool)


def records():
    a = RNG.gamma(2, 30, (120, 4))
    b = a * 0.8 + RNG.normal(0, 9, a.shape)
    a[RNG.random(a.shape) < 0.1] = np.nan
    b[RNG.random(b.shape) < 0.1] = np.nan
    both = np.isnan(a) | np.isnan(b)
    a[both], b[both] = np.nan, np.nan
    return a, b


def test_every_statistic_agrees_with_its_definition_record_by_record():
    a, b = records()
    away = [own_anomalies(each, CYCLE, EVERYWHERE) for each in (a, b)]
    found, n = agreement(a, b, *away)
    assert set(found) == set(AGREEMENTS)
    for k in range(a.shape[1]):
        keep = ~np.isnan(a[:, k])
        x, y, cycle = a[keep, k], b[keep, k], CYCLE[keep]
        assert n[k] == keep.sum()
        means = [np.array([v[cycle == c].mean() for c in range(12)])[cycle] for v in (x, y)]
        dx, dy = x - means[0], y - means[1]
        wanted = {
            "bias": (y - x).mean(),
            "percent_bias": 100 * (y.sum() - x.sum()) / x.sum(),
            "mae": np.abs(y - x).mean(),
            "rmse": np.sqrt(((y - x) ** 2).mean()),
            "correlation": stats.pearsonr(x, y)[0],
            "rank_correlation": stats.spearmanr(x, y)[0],
            "anomaly_correlation": stats.pearsonr(dx, dy)[0],
            "same_sign": np.mean(dx * dy > 0),
        }
        for name, value in wanted.items():
            assert found[name][k] == pytest.approx(value, rel=1e-12), name


def test_anomalies_are_of_the_own_mean_of_each_period_of_the_year_over_the_base():
    a, _ = records()
    inside = np.arange(120) < 60
    found = own_anomalies(a, CYCLE, inside)
    for c in range(12):
        mean = np.nanmean(a[(c == CYCLE) & inside], axis=0)
        np.testing.assert_allclose(found[c == CYCLE], a[c == CYCLE] - mean)


def test_a_record_that_does_not_vary_has_no_correlation():
    flat = np.full((20, 1), 0.1 + 0.2)
    other = RNG.normal(size=(20, 1))
    assert np.isnan(pearson(flat, other)).all()
    assert np.isnan(pearson(other[:2], other[:2])).all()
    assert pearson(other, 3 * other + 1)[0] == pytest.approx(1)


def test_the_source_that_stands_apart_is_farthest_from_the_median_of_the_others():
    values = [np.array([[1.0, 5.0, np.nan, 2.0]]), np.array([[2.0, 5.0, 3.0, np.nan]])]
    values += [np.array([[9.0, 1.0, 4.0, np.nan]]), np.array([[2.5, np.nan, 3.5, np.nan]])]
    found = spread(values)
    assert found.lowest.tolist()[0][:3] == [1, 1, 3]
    assert found.highest.tolist()[0][:3] == [9, 5, 4]
    assert found.lowest_of[0].tolist() == [0, 2, 1, -1]
    assert found.highest_of[0].tolist() == [2, 0, 2, -1]
    # Of 3, 4 and 3.5 the first two are as far away as each other: the first is named.
    assert found.apart[0].tolist() == [2, 2, 1, -1]
    assert np.isnan(found.span[0, 3])
    assert found.n[0].tolist() == [4, 3, 3, 1]
    two = spread(values[:2])
    assert (two.apart == -1).all()
