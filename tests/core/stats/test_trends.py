"""Trends against brute force, SciPy, and the coverage that an interval promises."""

import itertools

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from bavlo.core.stats.trends import (
    HAMED_RAO,
    OLS,
    PREWHITEN,
    SEN,
    adjusted,
    hamed_rao,
    mann_kendall,
    prewhitened,
    trends,
)

YEARS = np.arange(1991, 2021)
RNG = np.random.default_rng(21)


def brute(values, years):
    """Slope, S and variance of one series, pair by pair."""
    pairs = [
        (i, j)
        for i, j in itertools.combinations(range(len(values)), 2)
        if not np.isnan(values[i] + values[j])
    ]
    slopes = [(values[j] - values[i]) / (years[j] - years[i]) for i, j in pairs]
    s = sum(np.sign(values[j] - values[i]) for i, j in pairs)
    known = values[~np.isnan(values)]
    n = known.size
    groups = np.unique(known, return_counts=True)[1]
    ties = sum(t * (t - 1) * (2 * t + 5) for t in groups)
    return np.median(slopes), s, (n * (n - 1) * (2 * n + 5) - ties) / 18


@given(
    st.lists(st.one_of(st.none(), st.integers(-5, 5), st.floats(-50, 50)), min_size=12, max_size=24)
)
def test_slope_s_and_p_agree_with_brute_force_over_all_pairs(numbers):
    values = np.array([np.nan if v is None else float(v) for v in numbers])
    years = 2000 + np.arange(values.size)
    found = trends(values[:, None], years)
    known = np.flatnonzero(~np.isnan(values))
    if known.size < 10 or known.size < 0.7 * (known[-1] - known[0] + 1):
        assert np.isnan(found.slope[0])
        return
    gaps = np.abs(np.diff(np.sort(values[known])))
    if ((gaps > 0) & (gaps < 1e-9)).any():
        return  # closer than ties are told apart
    slope, s, variance = brute(values, years)
    assert found.slope[0] == pytest.approx(10 * slope, rel=1e-9, abs=1e-12)
    own = mann_kendall(values[:, None])
    assert own[0][0] == s
    assert own[1][0] == pytest.approx(variance)
    z = 0.0 if variance == 0 else (s - np.sign(s)) / np.sqrt(variance)
    assert found.p_value[0] == pytest.approx(2 * stats.norm.sf(abs(z)), rel=1e-9)


def test_the_slope_is_that_of_scipy_and_its_interval_close_to_it():
    values = RNG.normal(0, 1, (30, 40)) + 0.05 * np.arange(30)[:, None]
    found = trends(values, YEARS)
    for k in range(values.shape[1]):
        slope, intercept, low, high = stats.theilslopes(values[:, k], YEARS, 0.95)
        assert found.slope[k] == pytest.approx(10 * slope, rel=1e-12)
        # Ranks between two slopes are interpolated here and rounded there.
        assert found.lower[k] == pytest.approx(10 * low, abs=0.02)
        assert found.upper[k] == pytest.approx(10 * high, abs=0.02)
        assert found.intercept[k] == pytest.approx(
            np.median(values[:, k] - slope * YEARS), rel=1e-9
        )
        assert np.isfinite(intercept)


@pytest.mark.parametrize("method", ["sen", OLS])
def test_the_interval_of_white_noise_holds_the_true_slope_as_often_as_it_says(method):
    rng = np.random.default_rng(2)
    values = rng.normal(0, 1, (30, 1000)) + 0.03 * np.arange(30)[:, None]
    found = trends(values, YEARS, method)
    inside = (found.lower <= 0.3) & (found.upper >= 0.3)
    assert 0.93 <= inside.mean() <= 0.97


def test_least_squares_without_autocorrelation_is_that_of_scipy():
    values = np.array([1.0, -1.0] * 15)[:, None] + 0.1 * np.arange(30)[:, None]
    found = trends(values, YEARS, OLS)  # neighbours alternate, so that r1 counts as 0
    wanted = stats.linregress(YEARS, values[:, 0])
    assert found.slope[0] == pytest.approx(10 * wanted.slope)
    assert found.p_value[0] == pytest.approx(wanted.pvalue)
    reach = 10 * wanted.stderr * stats.t.ppf(0.975, 28)
    assert found.upper[0] - found.slope[0] == pytest.approx(reach)


def ar1(phi, count, rng):
    noise = rng.normal(size=(80, count))
    out = np.zeros_like(noise)
    for y in range(1, len(noise)):
        out[y] = phi * out[y - 1] + noise[y]
    return out[-30:]


def test_autocorrelated_noise_is_called_a_trend_less_often_once_it_is_allowed_for():
    values = ar1(0.6, 600, np.random.default_rng(5))
    shares = {
        how: (trends(values, YEARS, method=how).p_value < 0.05).mean() for how in (SEN, HAMED_RAO)
    }
    assert shares[SEN] > 0.2
    assert shares[HAMED_RAO] < shares[SEN]
    ols = trends(values, YEARS, OLS)
    assert (ols.p_value < 0.05).mean() < shares[SEN]


def test_the_factor_of_hamed_and_rao_agrees_with_its_formula_written_out():
    values = ar1(0.5, 5, np.random.default_rng(9))
    values[[4, 17], 1] = np.nan
    slope = trends(values, YEARS).slope / 10
    found = hamed_rao(values, YEARS, slope)
    for k in range(5):
        detrended = values[:, k] - slope[k] * YEARS
        known = ~np.isnan(detrended)
        ranks = np.full(30, np.nan)
        ranks[known] = stats.rankdata(detrended[known])
        away = ranks - np.nanmean(ranks)
        n = known.sum()
        total = 0.0
        for lag in range(1, n):
            products = [
                away[t] * away[t + lag]
                for t in range(30 - lag)
                if not np.isnan(away[t] + away[t + lag])
            ]
            if not products:
                continue
            rho = np.mean(products) / np.nanmean(away**2) * (1 - lag / n)
            if abs(rho) > 1.959964 / np.sqrt(n):
                total += (n - lag) * (n - lag - 1) * (n - lag - 2) * rho
        assert found[k] == pytest.approx(max(1, 1 + 2 * total / (n * (n - 1) * (n - 2))))
    assert (found >= 1).all()


def test_prewhitening_leaves_a_series_without_autocorrelation_alone():
    values = np.array([0.0, 3, 1, -2, 2, 1, -3, 0, 1, -1, 2, -2])[:, None] + np.arange(12)[:, None]
    years = np.arange(12)
    np.testing.assert_array_equal(prewhitened(values, years, np.array([1.0])), values)
    noisy = ar1(0.8, 1, np.random.default_rng(3)) + 0.1 * np.arange(30)[:, None]
    changed = prewhitened(noisy, YEARS, np.array([0.1]))
    assert np.isnan(changed[0, 0])
    left = noisy[:, 0] - 0.1 * YEARS
    away = left - left.mean()
    first = (away[1:] * away[:-1]).sum() / (away**2).sum()
    np.testing.assert_allclose(changed[1:, 0], left[1:] - first * left[:-1] + 0.1 * YEARS[1:])
    found = trends(noisy, YEARS, method=PREWHITEN)
    assert found.slope[0] == trends(noisy, YEARS).slope[0]
    assert np.isfinite(found.p_value[0])


def test_too_few_or_too_scattered_values_have_no_trend():
    values = np.arange(30.0)[:, None] * np.ones(3)
    values[9:, 0] = np.nan  # nine values
    values[1:29, 1] = np.nan
    values[1:12, 1] = 5.0  # twelve of thirty years
    found = trends(values, YEARS)
    assert np.isnan(found.slope[:2]).all()
    assert found.slope[2] == pytest.approx(10)
    assert found.n.tolist() == [9, 13, 30]
    assert found.first.tolist() == [1991, 1991, 1991]


def test_a_constant_series_has_no_slope_and_no_significance():
    found = trends(np.full((30, 1), 0.1 + 0.2), YEARS)
    assert found.slope[0] == 0
    assert found.p_value[0] == 1


def test_each_of_very_many_series_has_the_trend_that_it_has_alone():
    values = RNG.normal(size=(30, 4000))  # 1.7 million pairs of years
    found = trends(values, YEARS)
    for k in (0, 1204, 1205, 2500, 3999):
        alone = trends(values[:, [k]], YEARS)
        assert found.slope[k] == alone.slope[0]
        assert found.p_value[k] == alone.p_value[0]


def test_adjusted_p_values_are_those_of_scipy():
    p = RNG.random((12, 3)) ** 2
    p[4, 1] = np.nan
    found = adjusted(p)
    for k in range(3):
        keep = ~np.isnan(p[:, k])
        np.testing.assert_allclose(found[keep, k], stats.false_discovery_control(p[keep, k]))
    assert np.isnan(found[4, 1])
