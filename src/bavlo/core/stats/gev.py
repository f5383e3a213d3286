"""Return levels: the generalised extreme value distribution fitted to yearly highest values."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

LEAST_YEARS = 20
REPLICATES = 1000
SEED = 1943
CONFIDENCE = 0.95
GUMBEL = 1e-6  # a shape nearer to zero is that of Gumbel


@dataclass(frozen=True)
class Gev:
    """F(x) = exp(-(1 - k (x - location) / scale)^(1/k)); k is Hosking's, the negative of ξ."""

    location: float
    scale: float
    shape: float

    def quantile(self, chance: np.ndarray) -> np.ndarray:
        """Values that are not exceeded with the given chances."""
        reduced = -np.log(np.asarray(chance, np.float64))
        if abs(self.shape) < GUMBEL:
            return self.location - self.scale * np.log(reduced)
        return self.location + self.scale / self.shape * (1 - reduced**self.shape)


def l_moments(ordered: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """First two L-moments and L-skewness of samples (..., N) in ascending order.

    Unbiased, by probability-weighted moments (Hosking 1990, J. R. Statist. Soc. B 52, 105-124).
    """
    n = ordered.shape[-1]
    j = np.arange(n)
    b0 = ordered.mean(axis=-1)
    b1 = (ordered * j).sum(axis=-1) / (n * (n - 1))
    b2 = (ordered * j * (j - 1)).sum(axis=-1) / (n * (n - 1) * (n - 2))
    l2 = 2 * b1 - b0
    with np.errstate(invalid="ignore", divide="ignore"):
        return b0, l2, (6 * b2 - 6 * b1 + b0) / l2


def fit_l_moments(values: np.ndarray) -> list[Gev]:
    """Fit each row of (S, N) values.

    Hosking, Wallis and Wood (1985, Technometrics 27, 251-261) give the first guess of the shape;
    Newton's method on the L-skewness the rest, so that the fit's L-moments are the sample's.
    """
    from scipy import special

    mean, l2, skew = l_moments(np.sort(values, axis=-1))
    c = 2 / (3 + skew) - np.log(2) / np.log(3)
    shape = 7.8590 * c + 2.9554 * c * c
    for _ in range(20):
        step = 1e-6
        error = _skewness(shape) - skew
        slope = (_skewness(shape + step) - _skewness(shape - step)) / (2 * step)
        change = np.clip(error / slope, -0.5, 0.5)
        shape = np.clip(shape - change, -0.999, 5.0)
        if np.nanmax(np.abs(change), initial=0.0) < 1e-12:
            break
    shape = np.where(np.abs(shape) < GUMBEL, GUMBEL / 2, shape)
    gamma = special.gamma(1 + shape)
    gumbel = np.abs(shape) < GUMBEL
    with np.errstate(invalid="ignore", divide="ignore"):
        scale = np.where(gumbel, l2 / np.log(2), l2 * shape / ((1 - 2.0**-shape) * gamma))
        location = np.where(
            gumbel, mean - np.euler_gamma * scale, mean - scale * (1 - gamma) / shape
        )
    return [
        Gev(float(a), float(b), float(c))
        for a, b, c in zip(location.ravel(), scale.ravel(), shape.ravel(), strict=True)
    ]


def _skewness(shape: np.ndarray) -> np.ndarray:
    """L-skewness of a GEV: 2 (1 - 3^-k) / (1 - 2^-k) - 3."""
    near = np.where(np.abs(shape) < 1e-7, 1e-7, shape)
    return 2 * (1 - 3.0**-near) / (1 - 2.0**-near) - 3


def fit_likelihood(values: np.ndarray) -> list[Gev]:
    """Fit each row of (S, N) values by maximum likelihood, beginning at the L-moment fit."""
    from scipy import optimize

    out = []
    for sample, start in zip(
        np.atleast_2d(values), fit_l_moments(np.atleast_2d(values)), strict=True
    ):
        spread = float(sample.std()) or 1.0
        middle = float(sample.mean())
        reduced = (sample - middle) / spread
        first = np.array(
            [(start.location - middle) / spread, np.log(start.scale / spread), start.shape]
        )
        found = optimize.minimize(
            _minus_likelihood,
            first,
            (reduced,),
            method="Nelder-Mead",
            options={"xatol": 1e-8, "fatol": 1e-10, "maxiter": 4000, "maxfev": 4000},
        )
        location, log_scale, shape = found.x
        out.append(
            Gev(
                float(location * spread + middle),
                float(np.exp(log_scale) * spread),
                float(shape),
            )
        )
    return out


def _minus_likelihood(parameters: np.ndarray, values: np.ndarray) -> float:
    location, log_scale, shape = parameters
    away = (values - location) / np.exp(log_scale)
    if abs(shape) < GUMBEL:
        return float(np.sum(away + np.exp(-away)) + values.size * log_scale)
    inner = 1 - shape * away
    if (inner <= 0).any() or abs(shape) >= 1:
        return float("inf")
    y = -np.log(inner) / shape
    return float(np.sum((1 - shape) * y + np.exp(-y)) + values.size * log_scale)


FITS = {"lmoments": fit_l_moments, "ml": fit_likelihood}


def return_levels(
    values: np.ndarray, years: np.ndarray, method: str
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Values that are exceeded once in so many years on average, with a confidence interval.

    Parameters
    ----------
    values : (N,) float64
        Highest values of N years.
    years : (Q,)
        Return periods.
    method
        lmoments or ml.

    Returns
    -------
    value, lower, upper : (Q,) float64
        The interval is the middle 95 % of a parametric bootstrap of 1,000 samples with a fixed
        seed; NaN where all years are equal.
    """
    chance = 1 - 1 / np.asarray(years, np.float64)
    nothing = np.full(chance.shape, np.nan)
    if np.ptp(values) <= 0:
        return nothing, nothing, nothing
    fit = FITS[method](values[None])[0]
    rng = np.random.default_rng(SEED)
    drawn = fit.quantile(rng.random((REPLICATES, values.size)))
    fits = fit_l_moments(drawn)
    if method == "ml":
        fits = fit_likelihood(drawn[: REPLICATES // 5])
    levels = np.stack([one.quantile(chance) for one in fits])
    levels = levels[np.isfinite(levels).all(axis=1)]
    tail = (1 - CONFIDENCE) / 2
    lower, upper = np.quantile(levels, [tail, 1 - tail], axis=0, method="median_unbiased")
    return fit.quantile(chance), lower, upper


def plotting_positions(count: int) -> np.ndarray:
    """(N,) return periods of the values in ascending order (Gringorten 1963): 1 / (1 - F)."""
    rank = np.arange(1, count + 1)
    chance = (rank - 0.44) / (count + 0.12)
    return 1 / (1 - chance)
