"""Units, and what kind of number they make a variable: an amount, a rate or a state."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache

import cf_units
import numpy as np

from bavlo.core.errors import RequestError
from bavlo.core.periods import PeriodRule, periods_between
from bavlo.core.timeaxis import DAY, SECOND, TimeAxis

AMOUNT, RATE, STATE = "amount", "rate", "state"
COUNT, CLASS = "count", "class"
MM = "mm"

# CF standard names, and the names that files give such variables, of water that is counted up.
WATER_NAMES = re.compile(
    r"precip|rain|snowfall|runoff|evap|drainage|lwe_thickness|^(tp|pr|ppt|prcp|rr)$", re.IGNORECASE
)
COUNTED = re.compile(
    r"^(people|persons?|inhabitants?|individuals|households?|counts?|heads?|animals)( per cell)?$",
    re.IGNORECASE,
)
# What names suggest where a file gives no unit; never more than suggested.
SUGGESTED = (
    (re.compile(r"^(precip|rain|pr$|tp$)", re.IGNORECASE), "mm"),
    (re.compile(r"^(tas|tmax|tmin|tmean|temp|t2m)", re.IGNORECASE), "degC or K"),
)
CALENDAR_RATE = re.compile(r"\s*(?:/\s*|\bper\s+)?\b(months?|mon|mo|years?|yrs?|a)\b\s*(-1|\^-1)?$")


@dataclass(frozen=True)
class Variable:
    """A variable as its file describes it, in CF terms.

    Parameters
    ----------
    name
        Name in the file, or the name given to it.
    unit
        As in the file, or as the user put it right; empty where it is not known.
    flags
        Class codes and their meanings, where it holds classes.
    difference
        A difference of temperatures, which takes no offset when its unit is changed (CF-1.11
        `units_metadata`).
    """

    name: str
    unit: str = ""
    standard_name: str = ""
    long_name: str = ""
    cell_methods: str = ""
    flags: tuple[tuple[int, str], ...] = ()
    difference: bool = False

    @property
    def title(self) -> str:
        """What to call it on a chart."""
        return (self.long_name or self.standard_name or self.name).replace("_", " ")


@dataclass(frozen=True)
class Quantity:
    """How a variable's numbers are to be treated.

    Parameters
    ----------
    kind
        AMOUNT is summed, RATE is multiplied by time and summed, STATE is averaged; COUNT is a
        number in each cell (people), CLASS a code that is never averaged.
    unit
        Of the values as they are read.
    total_unit
        Of their total over time; empty for a state.
    why
        In a few words, what the kind was told by.
    """

    kind: str
    unit: str
    total_unit: str
    why: str


def read_unit(text: str, where: object) -> cf_units.Unit:
    """A unit, or an error that names what holds it."""
    try:
        unit = cf_units.Unit(_written_out(text))
    except ValueError:
        raise RequestError(
            where, f"'{text}' is no unit that UDUNITS knows", "give it with --input-unit"
        ) from None
    return unit


def _written_out(text: str) -> str:
    """Spellings that files use and UDUNITS does not read."""
    text = text.strip()
    text = re.sub(r"^(degrees?|deg)[ _.]?(C|F|K)$", r"deg\2", text).replace("degK", "K")
    return {"C": "degC", "F": "degF", "Celsius": "degC", "millimeters": "mm"}.get(text, text)


@lru_cache(maxsize=256)
def _depth_factor(text: str) -> float | None:
    """How many mm of water one of a unit is; None where it is no depth of water."""
    unit = read_unit(text, "")
    if unit.is_unknown() or unit.is_no_unit():
        return None
    if unit.is_convertible(MM):
        return float(unit.convert(1.0, MM))
    if unit.is_convertible("kg m-2"):
        return float(unit.convert(1.0, "kg m-2"))  # 1 kg m-2 of water is 1 mm
    return None


@lru_cache(maxsize=256)
def _rate_parts(text: str) -> tuple[float, str] | None:
    """(mm, per what) of a rate of water: per "day", or per mean calendar "month" or "year"."""
    match = CALENDAR_RATE.search(text)
    if match and (match.group(2) or "/" in match.group(0) or "per" in match.group(0)):
        factor = _depth_factor(text[: match.start()].strip() or "1")
        per = "month" if match.group(1).startswith("mo") else "year"
        return None if factor is None else (factor, per)
    unit = read_unit(text, "")
    for base in ("mm day-1", "kg m-2 day-1"):
        if unit.is_convertible(base):
            return float(unit.convert(1.0, base)), "day"
    return None


def quantity(variable: Variable, where: object) -> Quantity:
    """What kind of number a variable is, from its unit, standard name and cell methods.

    Parameters
    ----------
    where
        What to name in an error about the unit.
    """
    text = variable.unit
    if variable.flags:
        return Quantity(CLASS, text, "", "flag_values")
    if COUNTED.search(text):
        return Quantity(COUNT, text, "", f"unit {text}")
    if not text:
        return Quantity(STATE, "", "", "no unit")
    read_unit(text, where) if not CALENDAR_RATE.search(text) else None
    named = [n for n in (variable.standard_name, variable.name, variable.long_name) if n]
    water = next((name for name in named if WATER_NAMES.search(name)), "")
    if _rate_parts(text):
        # Metres per second are a wind unless the name says that they are rain.
        if water:
            return Quantity(RATE, text, MM, f"unit {text} and name {water}")
        if re.match(r"mm\b|kg\b|millimet|inch", text):
            return Quantity(RATE, text, MM, f"unit {text}")
    factor = _depth_factor(text)
    if factor is not None:
        total = MM if not read_unit(text, where).is_convertible(MM) else text
        if re.search(r"\btime\s*:\s*sum\b", variable.cell_methods):
            return Quantity(AMOUNT, text, total, "cell_methods time: sum")
        if water:
            return Quantity(AMOUNT, text, total, f"unit {text} and name {water}")
    return Quantity(STATE, text, "", f"unit {text}")


def step_amounts(what: Quantity, time: TimeAxis) -> np.ndarray:
    """What a value of each step is multiplied by to give that step's amount.

    Returns
    -------
    factor : (T,) float64
        1 for amounts; for rates the step's length in the rate's own unit of time, calendar months
        and years being those that the step lies in.
    """
    if what.kind != RATE:
        factor = _depth_factor(what.unit) if what.total_unit == MM and what.kind == AMOUNT else 1.0
        return np.full(len(time), factor if factor is not None else 1.0)
    parts = _rate_parts(what.unit)
    assert parts is not None
    factor, per = parts
    if per == "day":
        return factor * (time.duration / DAY)
    axis = periods_between(PeriodRule(per), time.calendar, int(time.start[0]), int(time.end[-1]))
    # Calendar time as a number of months or years, linear within each of them.
    edges = np.append(axis.start, axis.end[-1])
    count = np.arange(edges.size, dtype=np.float64)
    zero = edges[0]
    length = np.interp((time.end - zero) / SECOND, (edges - zero) / SECOND, count) - np.interp(
        (time.start - zero) / SECOND, (edges - zero) / SECOND, count
    )
    return factor * length


def convert(values: np.ndarray, unit: str, target: str, *, difference: bool) -> np.ndarray:
    """Values in another unit.

    Parameters
    ----------
    values : float64 array
        Changed copy is returned.
    unit, target
        From and to; 1 kg m-2 of water is 1 mm.
    difference
        Values are differences (a range, a standard deviation), which take no offset.
    """
    if unit == target:
        return values
    start, end = _depth_factor(unit), _depth_factor(target)
    if start is not None and end is not None:
        return values * (start / end)
    if (rate := _rate_parts(unit)) and (to := _rate_parts(target)):
        if rate[1] != to[1]:
            raise RequestError(
                "--unit",
                f"'{unit}' and '{target}' count time by different calendar units",
                f"use a unit per {rate[1]}",
            )
        return values * (rate[0] / to[0])
    source, goal = read_unit(unit, "--unit"), read_unit(target, "--unit")
    if not source.is_convertible(goal):
        raise RequestError(
            "--unit", f"{unit or 'a number without unit'} cannot be converted to {target}", ""
        )
    if difference:
        slope = (source.convert(1e6, goal) - source.convert(0.0, goal)) / 1e6
        return values * float(np.format_float_positional(slope, precision=12)) if slope else values
    return np.asarray(source.convert(np.asarray(values, np.float64), goal))


def as_amount(what: Quantity) -> Quantity:
    """A state in a depth of water as the amount that a user says it is; else as it was."""
    factor = _depth_factor(what.unit) if what.unit and what.kind == STATE else None
    if factor is None:
        return what
    total = what.unit if read_unit(what.unit, "").is_convertible(MM) else MM
    return Quantity(AMOUNT, what.unit, total, "--combine total")


def suggested_unit(variable: Variable) -> str:
    """What the name of a variable without unit suggests; empty for most names."""
    return next((unit for names, unit in SUGGESTED if names.search(variable.name)), "")


def implausible(what: Quantity, lowest: float, highest: float, *, difference: bool = False) -> str:
    """What is odd about the range of a variable and the likely cause; empty when nothing is.

    Parameters
    ----------
    lowest, highest
        Range of the values, in the variable's unit.
    """
    if what.kind in (AMOUNT, RATE):
        if lowest < -1e-6 * max(1.0, abs(highest)):
            return (
                f"values down to {lowest:.4g} {what.unit}, though rain is never below 0: perhaps "
                "a missing value that the file does not declare, or anomalies"
            )
        if what.kind == RATE:
            daily = highest * step_of_a_day(what.unit)
            if daily > 5000:
                return (
                    f"rates up to {highest:.4g} {what.unit}, which is {daily:.4g} mm a day: "
                    "perhaps totals labelled as rates (see --input-unit)"
                )
            return ""
        depth = highest * (_depth_factor(what.unit) or 1.0)
        if depth > 20000:
            return (
                f"amounts up to {highest:.4g} {what.unit}, which is {depth:.4g} mm: perhaps "
                "another unit, or a missing value that the file does not declare"
            )
        return ""
    if difference:
        return ""
    if what.kind == STATE and what.unit and read_unit(what.unit, "").is_convertible("K"):
        ends = convert(np.array([lowest, highest]), what.unit, "degC", difference=False)
        low, high = (float(value) for value in ends)
        kelvin = read_unit(what.unit, "") == read_unit("K", "")
        if low > 100:
            return (
                f"temperatures from {lowest:.4g} to {highest:.4g} {what.unit}: perhaps Kelvin "
                "labelled as Celsius (see --input-unit K)"
            )
        if kelvin and high < -150:
            return (
                f"temperatures from {lowest:.4g} to {highest:.4g} K: perhaps Celsius labelled as "
                "Kelvin (see --input-unit degC)"
            )
        if high > 60 or low < -95:
            return (
                f"temperatures from {lowest:.4g} to {highest:.4g} {what.unit}, beyond what occurs "
                "on land: perhaps a missing value that the file does not declare"
            )
    return ""


def step_of_a_day(unit: str) -> float:
    """mm that a rate of one unit makes in a day (a mean one, for rates by month or year)."""
    parts = _rate_parts(unit)
    if parts is None:
        return 0.0
    return parts[0] / {"day": 1.0, "month": 30.4, "year": 365.2}[parts[1]]


def is_rate_unit(unit: str) -> bool:
    """Whether a unit is one of water per time."""
    return _rate_parts(unit) is not None


def suits(unit: str, target: str) -> bool:
    """Whether values in a unit can be converted to another."""
    try:
        convert(np.zeros(1), unit, target, difference=False)
    except RequestError:
        return False
    return True


def depth_in_mm(unit: str) -> float:
    """How many mm of water one of a unit of depth is."""
    factor = _depth_factor(unit)
    if factor is None:
        raise RequestError("--measure", f"volume needs a depth of water, not {unit or 'no unit'}")
    return factor
