"""Counts: what can be told of a condition in a period, each with its rules in one entry."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from bavlo.errors import RequestError, one_of

NEVER = np.int32(2**31 - 1)

Counts = dict[str, np.ndarray]
Join = Callable[[np.ndarray, np.ndarray], np.ndarray]


def add_exactly(one: np.ndarray, other: np.ndarray) -> np.ndarray:
    """Sums (…, 2, K) with what rounding has lost of them, added up without losing more.

    Exact, and so the same in any order, where the numbers that went in span less than a hundred
    binary digits (Knuth, The Art of Computer Programming, vol. 2, §4.2.2).
    """
    a, b = one[..., 0, :], other[..., 0, :]
    with np.errstate(invalid="ignore"):  # an infinite sum has lost nothing
        total = a + b
        part = total - a
        lost = (a - (total - part)) + (b - part)
        rest = np.nan_to_num(lost + one[..., 1, :] + other[..., 1, :])
        whole = total + rest
        return np.stack([whole, np.nan_to_num(rest - (whole - total))], axis=-2)


@dataclass(frozen=True)
class CountUnits:
    """The words that units of counts are made of.

    Parameters
    ----------
    steps
        What steps are called in a count: days, else steps.
    variable
        Unit of the variable that is tested.
    is_state
        Whether it is a state, whose excess adds up over time.
    daily
        Whether steps are a day or shorter, so that first and last are days.
    """

    steps: str
    variable: str
    is_state: bool
    daily: bool

    @property
    def excess(self) -> str:
        """Of how far values are beyond a threshold, added up."""
        if self.is_state and self.variable:
            return f"{self.variable} day" if self.steps == "days" else self.variable
        return self.variable or "1"


@dataclass(frozen=True)
class Count:
    """One count.

    Parameters
    ----------
    name
        As in the `count` column.
    meaning
        One line for the help.
    unit
        Of its values, from the words of a condition.
    join
        How the counts of two runs of steps become one.
    empty
        The count of a period in which nothing has happened.
    is_sum
        Whether values are added up, in the unit of the variable.
    of_amounts
        Whether it is for amounts only.
    follows_spells
        Whether spells have to be followed.
    is_day
        Whether it is a step of the period, 1 the first, over the cells that have one.
    derive
        From other counts and the steps with data, (P, K) each, to its values; None where it is
        counted itself.
    needs
        The counts that it is derived from.
    """

    name: str
    meaning: str
    unit: Callable[[CountUnits], str]
    join: Join = np.add
    empty: int = 0
    is_sum: bool = False
    of_amounts: bool = False
    follows_spells: bool = False
    is_day: bool = False
    derive: Callable[[Counts, np.ndarray], np.ndarray] | None = None
    needs: tuple[str, ...] = ()


COUNTS: dict[str, Count] = {
    count.name: count
    for count in (
        Count(
            "days",
            "steps that meet it (with `for N days`: in spells of at least N)",
            lambda u: u.steps,
        ),
        Count(
            "share",
            "these as a share of the steps with data",
            lambda u: "1",
            derive=lambda counts, valid: counts["days"] / valid,
            needs=("days",),
        ),
        Count(
            "spells",
            "spells that end in the period",
            lambda u: "spells",
            follows_spells=True,
        ),
        Count(
            "longest",
            "longest of them, or of those still running at its end, each with all of its steps",
            lambda u: u.steps,
            join=np.maximum,
            follows_spells=True,
        ),
        Count(
            "total",
            "rain of the steps that meet it",
            lambda u: u.variable,
            join=add_exactly,
            is_sum=True,
            of_amounts=True,
        ),
        Count(
            "excess",
            "how far they are beyond the threshold, added up",
            lambda u: u.excess,
            join=add_exactly,
            is_sum=True,
        ),
        Count(
            "first",
            "day of the period on which it is first met, 1 its first day",
            lambda u: "day" if u.daily else "step",
            join=np.minimum,
            empty=int(NEVER),
            is_day=True,
        ),
        Count(
            "last",
            "day of the period on which it is last met",
            lambda u: "day" if u.daily else "step",
            join=np.maximum,
            empty=-1,
            is_day=True,
        ),
    )
}


def parse_counts(names: Sequence[str]) -> tuple[str, ...]:
    """Check the names of counts; `steps` is another word for `days`."""
    wanted = ["days" if name == "steps" else name for name in names]
    odd = next((name for name in wanted if name not in COUNTS), None)
    if odd is not None:
        raise RequestError("count", f"'{odd}' is no count", one_of(odd, COUNTS))
    return tuple(dict.fromkeys(wanted))


def any_count(names: Sequence[str], rule: Callable[[Count], bool]) -> bool:
    """Whether a rule holds for any of some counts."""
    return any(rule(COUNTS[name]) for name in names if name in COUNTS)
