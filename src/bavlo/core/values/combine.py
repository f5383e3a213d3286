"""How the steps of a period become one number, as it is asked for in `combine`."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from bavlo.core.values.tokens import plain_number
from bavlo.errors import RequestError, setting

TOTAL = "total"
MEAN = "mean"
MIN = "min"
MAX = "max"
COMBINES = (TOTAL, MEAN, MIN, MAX)
RUNNING = "running"
DEGREE_DAYS = "degree-days"


@dataclass(frozen=True)
class DegreeDays:
    """Degrees above or below a threshold, times days.

    Parameters
    ----------
    above
        Above the threshold (growing, cooling) rather than below (heating).
    threshold, unit
        A temperature.
    """

    above: bool
    threshold: float
    unit: str

    def __str__(self) -> str:
        side = "above" if self.above else "below"
        return f"{DEGREE_DAYS} {side} {plain_number(self.threshold)} {self.unit}"

    @property
    def total_unit(self) -> str:
        """Unit of the total."""
        return f"{self.unit} day"


@dataclass(frozen=True)
class Degrees:
    """Degrees above or below a threshold, from temperatures in a unit of their own.

    Parameters
    ----------
    asked
        The threshold, and in which unit degrees are counted.
    unit
        Of the temperatures.
    """

    asked: DegreeDays
    unit: str

    def of(self, values: np.ndarray) -> np.ndarray:
        """Degrees of temperatures of any shape, 0 on the other side; NaN stays."""
        from bavlo.core.values.units import convert

        known = convert(values, self.unit, self.asked.unit, difference=False)
        away = known - self.asked.threshold if self.asked.above else self.asked.threshold - known
        return np.maximum(away, 0.0)


@dataclass(frozen=True)
class Combine:
    """What `combine` asks for.

    Parameters
    ----------
    how
        One of COMBINES; None for what suits the variable.
    running
        From the beginning of the period to each of its steps.
    degree_days
        Degree days instead of the values themselves.
    """

    how: str | None = None
    running: bool = False
    degree_days: DegreeDays | None = None

    def __str__(self) -> str:
        if self.degree_days is not None:
            return str(self.degree_days)
        return RUNNING if self.running else self.how or ""


AS_USUAL = Combine()


def parse_combine(text: str) -> Combine:
    """Read `combine`.

    Examples
    --------
    >>> parse_combine("degree-days above 10 degC").degree_days
    DegreeDays(above=True, threshold=10.0, unit='degC')
    """
    name = " ".join(text.split())
    if name in COMBINES:
        return Combine(how=name)
    if name == RUNNING:
        return Combine(running=True)
    match = re.fullmatch(rf"{DEGREE_DAYS} (above|below) ([+-]?\d+(?:\.\d+)?) ?(\S+(?: \S+)*)", name)
    if match:
        from bavlo.core.values.units import read_unit

        side, number, unit = match.groups()
        if not read_unit(unit, setting("combine")).is_convertible("K"):
            raise RequestError("combine", f"'{unit}' is no unit of temperature", "use degC or K")
        return Combine(degree_days=DegreeDays(side == "above", float(number), unit))
    raise RequestError(
        "combine",
        f"'{text}' is not known",
        f'use one of: {" ".join(COMBINES)} {RUNNING}, or "{DEGREE_DAYS} above 10 degC"',
    )
