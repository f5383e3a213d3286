"""Measures: how the cells of a region become one number."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from bavlo.core.values.combine import MEAN
from bavlo.core.values.kinds import AMOUNT, NOT_TOLD, RATE, STATE, Quantity
from bavlo.core.values.percents import percent_in
from bavlo.core.values.units import is_temperature
from bavlo.errors import RequestError, one_of

# What the measures of a region are made of.
MEANS, TOTALS, NUMBERS, VOLUMES = "means", "totals", "numbers", "volumes"
EXTREMES, SQUARES, CLASSES, RANKS = "extremes", "squares", "classes", "ranks"

Refusal = tuple[str, str]  # what is wrong, and what to do


class Sample(Protocol):
    """What measures are computed from: T steps of R regions."""

    @property
    def mean(self) -> np.ndarray:
        """(T, R) area-weighted mean, NaN where a region has no cell with data."""

    @property
    def variance(self) -> np.ndarray:
        """(T, R) area-weighted population variance."""

    @property
    def number(self) -> np.ndarray:
        """(T, R) cells with data, each counted by its covered share."""

    @property
    def covered_total(self) -> np.ndarray:
        """(T, R) values times the covered share of their cell."""

    @property
    def volume(self) -> np.ndarray:
        """(T, R) values times their area on the ellipsoid, km²."""

    def extreme(self, choose: np.ufunc) -> np.ndarray:
        """(T, R) lowest (np.fmin) or highest (np.fmax) value."""

    def majority(self) -> np.ndarray:
        """(T, R) the code with the largest weight."""

    def percentile(self, percent: float) -> np.ndarray:
        """(T, R) weighted percentile."""


@dataclass(frozen=True)
class Measure:
    """One way from cells to a number.

    Parameters
    ----------
    name
        As in the `measure` column.
    compute
        From a sample of the cells to (T, R) values.
    meaning
        One line for the help.
    order
        Whether regions or cells come first where nobody says so: `region` where measuring each
        step and then combining equals combining each cell first.
    linear
        Whether that of a longer time is made of those of its parts.
    adds_up
        Whether sums over steps and over cells may change places.
    difference
        Whether the result is a difference, which takes no offset when its unit is changed.
    unit
        Of the result, where it is not that of the values.
    percent
        Of a percentile.
    refusal
        Why it is not for a variable with this quantity, name and way to combine; None where it is.
    of_classes
        Whether it is for class codes; they have one measure each for a table of their own.
    made_of
        What has to be known of the cells: sums tell nothing of ranks, say.
    of_whole
        Whether it is too low where cells lack data, and so has a value only where all cells have
        data that ever do, unless `min_area` is given.
    """

    name: str
    compute: Callable[[Sample], np.ndarray]
    meaning: str
    order: str = "cell"
    linear: bool = False
    adds_up: bool = False
    difference: bool = False
    unit: str | None = None
    percent: float | None = None
    refusal: Callable[[Quantity, str, str], Refusal | None] = lambda what, held, combine: None
    of_classes: bool = False
    made_of: str = MEANS
    of_whole: bool = False

    @property
    def needs_areas(self) -> bool:
        """Whether it needs the areas of the cells on the ellipsoid."""
        return self.made_of in (VOLUMES, CLASSES)


def _ratio(top: np.ndarray, bottom: np.ndarray) -> np.ndarray:
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(bottom != 0, top / bottom, np.nan)


def _sum_refusal(what: Quantity, held: str, combine: str) -> Refusal | None:
    if what.kind in (AMOUNT, RATE, NOT_TOLD) or (what.kind == STATE and what.unit not in ("", "1")):
        return (
            f"the sum over cells of {held} depends on the size of the cells",
            "use volume for depths of water and mean for states",
        )
    return None


def _volume_refusal(what: Quantity, held: str, combine: str) -> Refusal | None:
    if what.kind not in (AMOUNT, RATE, NOT_TOLD):
        return f"volume needs depths of water, not {held}", "use mean or sum"
    if combine == MEAN and what.kind != NOT_TOLD:
        return (
            "volume is that of a total, and the mean of steps is a depth for each of them",
            "use ‹combine total›",
        )
    return None


def _cv_refusal(what: Quantity, held: str, combine: str) -> Refusal | None:
    if what.kind == STATE and is_temperature(what.unit):
        return "the zero of a temperature is a convention, so its cv means nothing", "use std"
    return None


SHARES = "shares"  # a measure with a table of its own
BILINEAR = "bilinear"  # of points only, whose overlay has the weights

MEASURES: dict[str, Measure] = {
    m.name: m
    for m in (
        Measure(
            "mean",
            lambda s: s.mean,
            "area-weighted mean of the cells",
            order="region",
            linear=True,
            adds_up=True,
        ),
        Measure("min", lambda s: s.extreme(np.fmin), "lowest of the cells", made_of=EXTREMES),
        Measure("max", lambda s: s.extreme(np.fmax), "highest of the cells", made_of=EXTREMES),
        Measure(
            "range",
            lambda s: s.extreme(np.fmax) - s.extreme(np.fmin),
            "highest minus lowest",
            difference=True,
            made_of=EXTREMES,
        ),
        Measure(
            "std",
            lambda s: np.sqrt(s.variance),
            "area-weighted standard deviation (population form)",
            difference=True,
            made_of=SQUARES,
        ),
        Measure(
            "cv",
            lambda s: _ratio(np.sqrt(s.variance), s.mean),
            "std divided by mean, without unit",
            difference=True,
            unit="1",
            refusal=_cv_refusal,
            made_of=SQUARES,
        ),
        Measure(
            "sum",
            lambda s: s.covered_total,
            "values times the covered share of their cell, for numbers per cell such as people",
            order="region",
            linear=True,
            adds_up=True,
            refusal=_sum_refusal,
            of_whole=True,
            made_of=TOTALS,
        ),
        Measure(
            "count",
            lambda s: s.number,
            "cells with data, each by its covered share",
            order="region",
            made_of=NUMBERS,
            linear=True,
            unit="cells",
            of_classes=True,
        ),
        Measure(
            "volume",
            lambda s: s.volume,
            "depth of water times area",
            order="region",
            linear=True,
            adds_up=True,
            unit="m3",
            refusal=_volume_refusal,
            made_of=VOLUMES,
            of_whole=True,
        ),
        Measure(
            "majority",
            lambda s: s.majority(),
            "the class code with the largest area",
            order="region",
            of_classes=True,
            made_of=CLASSES,
        ),
        Measure(
            SHARES,
            lambda s: s.majority(),
            "share and km² of each class code, as a table of its own",
            order="region",
            of_classes=True,
            made_of=CLASSES,
        ),
        Measure(
            "median",
            lambda s: s.percentile(50),
            "area-weighted median",
            percent=50,
            made_of=RANKS,
        ),
        Measure(
            BILINEAR,
            lambda s: s.mean,
            "at points: between the centres of the four cells around",
            order="region",
            linear=True,
            adds_up=True,
        ),
    )
}


def parse_measure(name: str) -> Measure:
    """A measure by its name; `p90` is the 90th percentile, `p99.5` works too."""
    name = name.strip().lower()
    if name in MEASURES:
        return MEASURES[name]
    percent = percent_in(name, "measure")
    if percent is not None:
        return Measure(
            name,
            lambda s: s.percentile(percent),
            f"{percent:g}th percentile of the cells, weighted by area",
            percent=percent,
            made_of=RANKS,
        )
    raise RequestError(
        "measure",
        f"'{name}' is no measure",
        one_of(name, [*MEASURES, "pNN"]),
    )
