"""Return levels against SciPy's own distribution and published properties."""

import numpy as np
import pytest
from scipy import integrate, stats

from bavlo.core.stats.gev import (
    Gev,
    fit_l_moments,
    fit_likelihood,
    l_moments,
    plotting_positions,
    return_levels,
)


@pytest.mark.parametrize("shape", [-0.3, -0.05, 0.0, 0.1, 0.4])
def test_quantiles_are_those_of_scipy(shape):
    chance = np.array([0.01, 0.5, 0.9, 0.99, 0.999])
    ours = Gev(30.0, 7.0, shape).quantile(chance)
    np.testing.assert_allclose(ours, stats.genextreme.ppf(chance, shape, 30, 7), rtol=1e-9)


def test_l_moments_are_those_of_their_definition():
    values = np.sort(np.random.default_rng(2).gamma(2, 10, 9))
    pairs = [abs(a - b) / 2 for i, a in enumerate(values) for b in values[:i]]
    mean, l2, _ = l_moments(values)
    np.testing.assert_allclose([mean, l2], [values.mean(), np.mean(pairs)])


@pytest.mark.parametrize("shape", [-0.2, 0.0, 0.25])
def test_a_fit_finds_the_distribution_again(shape):
    sample = stats.genextreme.rvs(shape, 50, 12, size=40_000, random_state=3)
    for fit in (fit_l_moments(sample[None])[0], fit_likelihood(sample[None, :4000])[0]):
        np.testing.assert_allclose([fit.location, fit.scale], [50, 12], rtol=0.04)
        assert abs(fit.shape - shape) < 0.04
    # The L-moments of the fit are those of the sample: mean and spread by quadrature.
    fit = fit_l_moments(sample[None])[0]
    mean = integrate.quad(lambda p: fit.quantile(np.array(p)), 0, 1, limit=200)[0]
    spread = integrate.quad(lambda p: (2 * p - 1) * fit.quantile(np.array(p)), 0, 1, limit=200)[0]
    np.testing.assert_allclose([mean, spread], l_moments(np.sort(sample))[:2], rtol=1e-4)


def test_maximum_likelihood_is_at_least_as_likely_as_scipys():
    sample = stats.genextreme.rvs(0.1, 50, 12, size=60, random_state=5)
    fit = fit_likelihood(sample[None])[0]
    ours = stats.genextreme.logpdf(sample, fit.shape, fit.location, fit.scale).sum()
    theirs = stats.genextreme.logpdf(sample, *stats.genextreme.fit(sample)).sum()
    assert ours >= theirs - 1e-6


def test_intervals_hold_the_level_and_are_the_same_every_time():
    sample = stats.genextreme.rvs(0.0, 50, 12, size=30, random_state=6)
    years = np.array([2, 10, 100])
    value, lower, upper = return_levels(sample, years, "lmoments")
    assert (lower < value).all()
    assert (value < upper).all()
    assert (np.diff(value) > 0).all()
    again = return_levels(sample, years, "lmoments")
    assert all((a == b).all() for a, b in zip((value, lower, upper), again, strict=True))
    assert np.isnan(return_levels(np.full(30, 5.0), years, "ml")[0]).all()


def test_the_highest_of_n_years_is_plotted_beyond_n():
    assert plotting_positions(30)[-1] == pytest.approx(30.12 / 0.56)
