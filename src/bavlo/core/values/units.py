"""Units: read, compared and converted, with water as depth and rates by calendar month or year."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

import numpy as np

from bavlo.errors import RequestError, known_words, setting

if TYPE_CHECKING:
    import cf_units

MM = "mm"
# What stands in files for a unit that nobody stated.
SAYS_NOTHING = ("unspecified", "unknown", "undefined", "unset", "none", "n/a", "na", "-", "--", "?")
# What the unit library says of the most usual units, so that a small job need not load it:
# mm of water that one is, the same as a rate, and whether it is one of temperature.
WELL_KNOWN: dict[str, tuple[float | None, tuple[float, str] | None, bool]] = {
    "mm": (1.0, None, False),
    "mm day-1": (None, (1.0, "day"), False),
    "degC": (None, None, True),
    "K": (None, None, True),
}

CALENDAR_RATE = re.compile(
    r"\s*(?:/\s*|\bper\s+)?\b(months?|mon|mo|years?|yrs?|a|dekads?|dek|pentads?)\b\s*(-1|\^-1)?$"
)
# A mean length in days, to judge whether a rate is plausible; sums count calendar time.
MEAN_DAYS = {"day": 1.0, "pentad": 5.07, "dekad": 10.1, "month": 30.4, "year": 365.2}


USUAL = (
    "mm", "cm", "m", "inch", "mm day-1", "mm h-1", "kg m-2", "kg m-2 s-1", "m3", "km3", "degC", "K",
    "degF", "m s-1", "km h-1", "hPa", "Pa", "%", "1", "days", "W m-2",
)  # fmt: skip


def known_unit(text: str, field: str) -> None:
    """Refuse a unit that was asked for and that UDUNITS does not know, with the nearest usual one.

    Raises
    ------
    RequestError
    """
    if text in WELL_KNOWN:
        return
    import cf_units

    try:
        cf_units.Unit(_written_out(text))
    except ValueError:
        what = f"'{text}' is no unit that UDUNITS knows"
        raise RequestError(field, what, known_words(text, USUAL, "such as")) from None


def read_unit(text: str, where: object) -> cf_units.Unit:
    """A unit, or an error that names what holds it."""
    import cf_units

    try:
        unit = cf_units.Unit(_written_out(text))
    except ValueError:
        raise RequestError(
            "",
            f"{where}{': ' if str(where) else ''}'{text}' is no unit that UDUNITS knows",
            "give it with ‹input_unit›",
        ) from None
    return unit


def _written_out(text: str) -> str:
    """Spellings that files use and UDUNITS does not read."""
    text = text.strip().strip("[]").strip().replace("**", "^")
    text = re.sub(r"^(Kg|KG)\b", "kg", text)
    text = re.sub(r"^(.*\S)\s*/\s*(\d+)\s*(h|hr|hrs|hours?)$", r"\1 (\2 hour)^-1", text)
    text = re.sub(r"\s+(of water equivalent|of water|w\. ?e\.)$", "", text)
    text = re.sub(r"^(degrees?|deg)[ _.]?(C|F|K)$", r"deg\2", text).replace("degK", "K")
    return {"C": "degC", "F": "degF", "Celsius": "degC", "millimeters": "mm"}.get(text, text)


def stated_unit(text: str) -> str:
    """A unit as a file states it; empty where its word for it says nothing."""
    return "" if text.strip().lower() in SAYS_NOTHING else text


def same_unit(one: str, other: str) -> bool:
    """Whether two spellings are of one unit: Celsius and degC."""
    if one == other or not (one and other):
        return one == other
    return bool(read_unit(one, "") == read_unit(other, ""))


def depth_factor(text: str) -> float | None:
    """How many mm of water one of a unit is; None where it is no depth of water."""
    if text in WELL_KNOWN:
        return WELL_KNOWN[text][0]
    unit = read_unit(text, "")
    if unit.is_unknown() or unit.is_no_unit():
        return None
    if unit.is_convertible(MM):
        return float(unit.convert(1.0, MM))
    if unit.is_convertible("kg m-2"):
        return float(unit.convert(1.0, "kg m-2"))  # 1 kg m-2 of water is 1 mm
    return None


def rate_parts(text: str) -> tuple[float, str] | None:
    """(mm, per what) of a rate of water: per "day", or per calendar pentad, dekad, month, year."""
    if text in WELL_KNOWN:
        return WELL_KNOWN[text][1]
    match = CALENDAR_RATE.search(text)
    if match and (match.group(2) or "/" in match.group(0) or "per" in match.group(0)):
        factor = depth_factor(text[: match.start()].strip() or "1")
        starts = {"mo": "month", "de": "dekad", "pe": "pentad"}
        per = starts.get(match.group(1)[:2], "year")
        return None if factor is None else (factor, per)
    unit = read_unit(text, "")
    for base in ("mm day-1", "kg m-2 day-1"):
        if unit.is_convertible(base):
            return float(unit.convert(1.0, base)), "day"
    return None


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
    start, end = depth_factor(unit), depth_factor(target)
    if start is not None and end is not None:
        return values * (start / end)
    if (rate := rate_parts(unit)) and (to := rate_parts(target)):
        if rate[1] != to[1]:
            raise RequestError(
                "unit",
                f"'{unit}' and '{target}' count time by different calendar units",
                f"use a unit per {rate[1]}",
            )
        return values * (rate[0] / to[0])
    source, goal = read_unit(unit, setting("unit")), read_unit(target, setting("unit"))
    if not source.is_convertible(goal):
        raise RequestError(
            "unit", f"{unit or 'a number without unit'} cannot be converted to {target}", ""
        )
    if difference:
        slope = (source.convert(1e6, goal) - source.convert(0.0, goal)) / 1e6
        return values * float(np.format_float_positional(slope, precision=12)) if slope else values
    return np.asarray(source.convert(np.asarray(values, np.float64), goal))


def step_of_a_day(unit: str) -> float:
    """mm that a rate of one unit makes in a day (a mean one, for rates by month or year)."""
    parts = rate_parts(unit)
    if parts is None:
        return 0.0
    return parts[0] / MEAN_DAYS[parts[1]]


def is_rate_unit(unit: str) -> bool:
    """Whether a unit is one of water per time."""
    return rate_parts(unit) is not None


def suits(unit: str, target: str) -> bool:
    """Whether values in a unit can be converted to another."""
    try:
        convert(np.zeros(1), unit, target, difference=False)
    except RequestError:
        return False
    return True


def by_depth(one: str, two: str) -> tuple[str, str]:
    """Units in which two quantities are multiplied or divided.

    Where one counts water by mass (kg m-2) and the other by depth (mm), both count it by depth.

    Examples
    --------
    >>> by_depth("mm", "kg m-2 s-1")
    ('mm', 'mm s-1')
    """
    masses = [_is_water_by_mass(unit) for unit in (one, two)]
    waters = [depth_factor(unit) is not None or is_rate_unit(unit) for unit in (one, two)]
    if not all(waters) or masses[0] == masses[1]:
        return one, two
    first, second = (
        (MM if depth_factor(unit) is not None else f"{MM} s-1") if mass else unit
        for unit, mass in zip((one, two), masses, strict=True)
    )
    return first, second


def _is_water_by_mass(unit: str) -> bool:
    read = read_unit(unit, "")
    return bool(read.is_convertible("kg m-2") or read.is_convertible("kg m-2 s-1"))


def depth_in_mm(unit: str) -> float:
    """How many mm of water one of a unit of depth is."""
    factor = depth_factor(unit)
    if factor is None:
        raise RequestError("measure", f"volume needs a depth of water, not {unit or 'no unit'}")
    return factor


def is_temperature(unit: str) -> bool:
    """Whether a unit is one of temperature."""
    if unit in WELL_KNOWN:
        return WELL_KNOWN[unit][2]
    return bool(unit) and bool(read_unit(unit, "").is_convertible("K"))
