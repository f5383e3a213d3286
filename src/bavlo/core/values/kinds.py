"""Kinds: what a variable's numbers are, an amount, a rate, a state, a count or a class code."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from bavlo.core.time.axis import DAY, SECOND, TimeAxis
from bavlo.core.time.periods import PeriodRule, periods_between
from bavlo.core.values.combine import TOTAL
from bavlo.core.values.evidence import (
    ADDED_UP,
    NOT_ADDED_UP,
    held_water,
    left_open,
    name_of_water,
    number_of_days,
    stays,
)
from bavlo.core.values.units import (
    CALENDAR_RATE,
    MM,
    WELL_KNOWN,
    convert,
    depth_factor,
    is_temperature,
    rate_parts,
    read_unit,
    step_of_a_day,
)
from bavlo.errors import RequestError

AMOUNT, RATE, STATE = "amount", "rate", "state"

COUNT, CLASS = "count", "class"

ACCUMULATED = "accumulated"  # amounts since a beginning, of which differences are taken

MADE_OF = "made of"  # evidence of what a formula makes

NOT_TOLD = "not told"  # a depth that may be an amount of its step or a state

DAYS = ("days", "day", "d")

COUNTED = re.compile(
    r"^(people|persons?|inhabitants?|individuals|households?|counts?|heads?|animals)( per cell)?$",
    re.IGNORECASE,
)

# What names suggest where a file gives no unit; never more than suggested.
SUGGESTED = (
    (re.compile(r"^(precip|rain|pr$|tp$)", re.IGNORECASE), "mm"),
    (re.compile(r"^(tas|tmax|tmin|tmean|temp|t2m)", re.IGNORECASE), "degC or K"),
)


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
    kind, kind_evidence
        Its kind where somebody said it, or it was made of others, and by what that is known.
    colours
        Colours of class codes, as `#rrggbb`.
    level
        Which values of further dimensions it has, as `member 3, lead 24 h`, where there are others.
    """

    name: str
    unit: str = ""
    standard_name: str = ""
    long_name: str = ""
    cell_methods: str = ""
    flags: tuple[tuple[int, str], ...] = ()
    difference: bool = False
    kind: str = ""
    kind_evidence: str = ""
    colours: tuple[tuple[int, str], ...] = ()
    level: str = ""

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
        number in each cell (people), CLASS a code that is never averaged. NOT_TOLD is a depth of
        which nothing says whether it is an amount or a state, or of which two things disagree.
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


def quantity(variable: Variable, where: object) -> Quantity:
    """What kind of number a variable is: as was said, else by the evidence that there is.

    That is, in this order: flags, the unit, and for depths of water the CF standard name, the cell
    methods over time, and whole words of its names.

    Parameters
    ----------
    where
        What to name in an error about the unit.
    """
    text = variable.unit
    is_counted = bool(COUNTED.search(text))
    if text and text not in WELL_KNOWN and not is_counted and not CALENDAR_RATE.search(text):
        read_unit(text, where)
    if variable.kind:
        return _as_said(variable)
    if variable.flags:
        return Quantity(CLASS, text, "", "flag_values")
    if is_counted:
        return Quantity(COUNT, text, "", f"unit {text}")
    if not text:
        return Quantity(STATE, "", "", "no unit")
    if rate_parts(text):
        # Metres per second are a wind unless the name says that they are rain.
        water = name_of_water(variable.standard_name, variable.name, variable.long_name)
        if water:
            return Quantity(RATE, text, MM, f"unit {text} and name {water}")
        if re.match(r"mm\b|kg\b|millimet|inch", text):
            return Quantity(RATE, text, MM, f"unit {text}")
    if text in DAYS:
        return _days(variable)
    if depth_factor(text) is not None:
        return _depth(variable)
    return Quantity(STATE, text, "", f"unit {text}")


def _days(variable: Variable) -> Quantity:
    """The kind of days, which add up only where they are a number of days."""
    names = (variable.standard_name, variable.long_name, variable.name)
    counted = number_of_days(names)
    if counted:
        return Quantity(AMOUNT, variable.unit, variable.unit, f"unit days and name {counted}")
    if ADDED_UP.search(variable.cell_methods):
        return Quantity(AMOUNT, variable.unit, variable.unit, "cell_methods time: sum")
    return Quantity(NOT_TOLD, variable.unit, "", "only unit days")


def _depth(variable: Variable) -> Quantity:
    """The kind of a depth, which alone tells nothing."""
    text = variable.unit
    methods = variable.cell_methods
    water = name_of_water(variable.standard_name, variable.name, variable.long_name)
    adds, differs = ADDED_UP.search(methods), NOT_ADDED_UP.search(methods)
    if variable.standard_name and stays(variable.standard_name):
        if adds:
            why = f"standard name {variable.standard_name}, but cell_methods time: sum"
            return Quantity(NOT_TOLD, text, "", why)
        return Quantity(STATE, text, "", f"standard name {variable.standard_name}")
    held = held_water((variable.standard_name, variable.name, variable.long_name))
    if held and not adds:
        return Quantity(STATE, text, "", f"name {held}")
    if differs and (adds or water):
        why = f"{f'name {water}' if water else 'cell_methods time: sum'}, but {differs.group(0)}"
        return Quantity(NOT_TOLD, text, "", why)
    if adds:
        return Quantity(AMOUNT, text, _depth_total(text), "cell_methods time: sum")
    if water and water == variable.standard_name:
        return Quantity(AMOUNT, text, _depth_total(text), f"standard name {water}")
    doubtful = left_open((variable.name, variable.long_name))
    if water and not doubtful:
        return Quantity(AMOUNT, text, _depth_total(text), f"unit {text} and name {water}")
    return Quantity(NOT_TOLD, text, "", f"name {doubtful}" if water else f"only unit {text}")


def _depth_total(unit: str) -> str:
    if not unit or unit == MM or depth_factor(unit) is None:
        return unit
    return unit if read_unit(unit, "").is_convertible(MM) else MM


def _as_said(variable: Variable) -> Quantity:
    """The kind that somebody said, or an error where the unit cannot be of it."""
    kind, text = variable.kind, variable.unit
    if kind not in (RATE, AMOUNT):
        return Quantity(kind, text, "", variable.kind_evidence)
    is_rate = bool(text) and rate_parts(text) is not None
    if kind == RATE and not is_rate:
        raise RequestError(
            "kind",
            f"{variable.name} in {text or 'no unit'} is no rate: that is water per time",
            "give its unit too, as ‹input_unit mm/day›",
        )
    if kind == AMOUNT and is_rate:
        raise RequestError(
            "kind",
            f"{variable.name} in {text} is a rate, and an amount has no unit per time",
            "give its unit too, as ‹input_unit mm›",
        )
    is_depth = bool(text) and depth_factor(text) is not None
    total = MM if kind == RATE else _depth_total(text) if is_depth else text
    return Quantity(kind, text, total, variable.kind_evidence)


def step_amounts(what: Quantity, time: TimeAxis) -> np.ndarray:
    """What a value of each step is multiplied by to give that step's amount.

    Returns
    -------
    factor : (T,) float64
        1 for amounts; for rates the step's length in the rate's own unit of time, calendar months
        and years being those that the step lies in.
    """
    if what.kind != RATE:
        factor = depth_factor(what.unit) if what.total_unit == MM and what.kind == AMOUNT else 1.0
        return np.full(len(time), factor if factor is not None else 1.0)
    parts = rate_parts(what.unit)
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
    return np.asarray(factor * length)


def as_asked(what: Quantity, combine: str | None) -> Quantity:
    """A depth of a kind that is not told as what it must be for steps to be combined so.

    Parameters
    ----------
    combine
        How a user wants steps combined; None where that was left open, which tells nothing.
    """
    if what.kind != NOT_TOLD or combine is None:
        return what
    if combine == TOTAL:
        return Quantity(AMOUNT, what.unit, _depth_total(what.unit), "asked to be added up")
    return Quantity(STATE, what.unit, "", f"asked for the {combine} of steps")


def check_told(what: Quantity, variable: Variable, where: object) -> None:
    """Ask for the kind of a depth before steps are combined, where it is not told.

    Raises
    ------
    RequestError
    """
    if what.kind == NOT_TOLD and not what.unit:
        raise RequestError(str(where), *codes_text(variable))
    if what.kind == NOT_TOLD:
        own = f"{variable.name}=" if variable.kind_evidence.startswith(MADE_OF) else ""
        raise RequestError(
            str(where),
            f"nothing tells whether {variable.name} in {what.unit} is an amount of each step "
            f"or a state ({what.why})",
            f"say ‹kind {own}amount› to add steps up, or ‹kind {own}state› to average them",
        )


def codes_text(variable: Variable) -> tuple[str, str]:
    """The question what whole numbers without unit are, and how to answer it."""
    return (
        f"nothing tells whether {variable.name}, a few whole numbers without unit, holds class "
        "codes, counts or a state",
        "say ‹kind class› to measure shares or majority, ‹kind count› to add cells up, or "
        "‹kind state› to average",
    )


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
                f"values down to {lowest:.4g} {what.unit}, which rain never is: perhaps something "
                "counted downward, such as evaporation, "
                "a missing value that the file does not declare, or anomalies"
            )
        if what.kind == RATE:
            daily = highest * step_of_a_day(what.unit)
            if daily > 5000:
                return (
                    f"rates up to {highest:.4g} {what.unit}, which is {daily:.4g} mm a day: "
                    "perhaps totals labelled as rates (see ‹input_unit›)"
                )
            return ""
        depth = highest * (depth_factor(what.unit) or 1.0)
        if depth > 20000:
            return (
                f"amounts up to {highest:.4g} {what.unit}, which is {depth:.4g} mm: perhaps "
                "another unit, or a missing value that the file does not declare"
            )
        return ""
    if difference:
        return ""
    if what.kind == STATE and is_temperature(what.unit):
        ends = convert(np.array([lowest, highest]), what.unit, "degC", difference=False)
        low, high = (float(value) for value in ends)
        kelvin = read_unit(what.unit, "") == read_unit("K", "")
        if low > 100:
            return (
                f"temperatures from {lowest:.4g} to {highest:.4g} {what.unit}: perhaps Kelvin "
                "labelled as Celsius (see ‹input_unit K›)"
            )
        if kelvin and high < -150:
            return (
                f"temperatures from {lowest:.4g} to {highest:.4g} K: perhaps Celsius labelled as "
                "Kelvin (see ‹input_unit degC›)"
            )
        if high > 60 or low < -95:
            return (
                f"temperatures from {lowest:.4g} to {highest:.4g} {what.unit}, beyond what occurs "
                "on land: perhaps a missing value that the file does not declare"
            )
    return ""


def total_unit_of(what: Quantity, combine: str) -> str:
    """The unit that values come in once they are combined."""
    return what.total_unit if combine == TOTAL else what.unit
