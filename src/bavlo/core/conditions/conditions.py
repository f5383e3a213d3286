"""Conditions: threshold tests on variables, as `tmax > p90 and tmin > p90 for 3 days`."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from bavlo.core.values.percents import percent_in
from bavlo.core.values.tokens import Tokens, plain_number
from bavlo.errors import RequestError

FIELD = "when"
BY_DAY, WET_DAYS, ALL_DAYS = "calendar day", "wet days", "all days"

OPERATORS: dict[str, Callable[[np.ndarray, np.ndarray], np.ndarray]] = {
    ">": np.greater,
    ">=": np.greater_equal,
    "<": np.less,
    "<=": np.less_equal,
}
TOKEN = re.compile(
    r"\s*(?:(?P<sign>>=|<=|>|<|≥|≤)"
    r"|(?P<number>[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)"
    r"|(?P<word>[^\s<>≥≤]+))"
)
NAME = re.compile(r"[A-Za-z_]\w*$")
EXAMPLE = 'write it as "rain >= 20 mm" or "tmax > p90 and tmin > p90 for 3 days"'


@dataclass(frozen=True)
class Fixed:
    """A value with its unit; without one for variables without unit."""

    value: float
    unit: str

    def __str__(self) -> str:
        return f"{plain_number(self.value)} {self.unit}".strip()


@dataclass(frozen=True)
class Percentile:
    """A percentile of the base.

    Parameters
    ----------
    of
        BY_DAY: of the values around each calendar day; WET_DAYS; ALL_DAYS; None for what suits
        the variable.
    """

    percent: float
    of: str | None

    def __str__(self) -> str:
        words = {None: "", BY_DAY: f" by {BY_DAY}"}.get(self.of, f" of {self.of}")
        return f"p{plain_number(self.percent)}{words}"


@dataclass(frozen=True)
class Named:
    """Another grid, or a table of a value for each region."""

    name: str

    def __str__(self) -> str:
        return self.name


Threshold = Fixed | Percentile | Named


@dataclass(frozen=True)
class Test:
    """One comparison.

    Parameters
    ----------
    variable
        The grid that is tested; None where there is only one.
    operator
        One of OPERATORS.
    """

    variable: str | None
    operator: str
    threshold: Threshold

    __test__ = False  # no test of pytest's

    def __str__(self) -> str:
        return " ".join(filter(None, (self.variable, self.operator, str(self.threshold))))

    @property
    def above(self) -> bool:
        """Whether large values meet it."""
        return self.operator in (">", ">=")


@dataclass(frozen=True)
class Condition:
    """Tests that must hold together, perhaps for some steps on end.

    Parameters
    ----------
    least
        Steps in a row from which a run counts as a spell.
    unit
        What these steps were called: days or steps.
    """

    tests: tuple[Test, ...]
    least: int = 1
    unit: str = "days"

    def __str__(self) -> str:
        text = " and ".join(map(str, self.tests))
        return f"{text} for {self.least} {self.unit}" if self.least > 1 else text

    @property
    def has_percentiles(self) -> bool:
        """Whether the base is needed."""
        return any(isinstance(test.threshold, Percentile) for test in self.tests)


def parse_condition(text: str) -> Condition:
    """Read a condition.

    Examples
    --------
    >>> str(parse_condition("tmax>p90 and tmin > p90 for 3 days"))
    'tmax > p90 and tmin > p90 for 3 days'
    >>> parse_condition(">= 20 mm").tests[0].threshold
    Fixed(value=20.0, unit='mm')
    """
    return _Reader(text).condition()


class _Reader(Tokens):
    """A recursive-descent reader."""

    def __init__(self, text: str) -> None:
        super().__init__(text, TOKEN, FIELD, EXAMPLE)

    def word(self, *wanted: str) -> bool:
        return self.take("word", *wanted) is not None

    def condition(self) -> Condition:
        if not any(kind == "sign" for kind, _, _ in self.words):
            raise RequestError(
                FIELD,
                f"'{self.text}' has no > or <",
                "put the condition in quotes, since the shell takes > for itself: "
                "‹when rain > 20 mm›",
            )
        tests = [self.test()]
        while self.word("and"):
            tests.append(self.test())
        least, unit = 1, "days"
        if self.word("for"):
            number = self.take("number")
            if number is None or not number.isdigit() or int(number) < 1:
                self.next -= number is not None
                raise self.error("should be a number of days")
            least = int(number)
            if self.word("day", "days"):
                unit = "days"
            elif self.word("step", "steps"):
                unit = "steps"
            else:
                raise self.error("should be days or steps")
        if self.peek()[0]:
            raise self.error("was not expected")
        return Condition(tuple(tests), least, unit)

    def test(self) -> Test:
        variable = None
        if self.peek()[0] == "word":
            variable = self.peek()[1]
            if not NAME.match(variable):
                raise self.error("is no name of a grid")
            self.next += 1
        operator = self.take("sign")
        if operator is None:
            raise self.error("should be one of > >= < <=")
        operator = {"≥": ">=", "≤": "<="}.get(operator, operator)
        return Test(variable, operator, self.threshold())

    def threshold(self) -> Threshold:
        number = self.take("number")
        if number is not None:
            unit = []
            while self.peek()[0] in ("word", "number") and not self._ends():
                unit.append(self.peek()[1])
                self.next += 1
            return Fixed(float(number), _joined(unit))
        word = self.take("word")
        percent = None if word is None else percent_in(word.lower(), "when")
        if word is None or not (percent is not None or NAME.match(word)):
            self.next -= word is not None
            raise self.error("should be a value with its unit, a percentile or a grid")
        if percent is None:
            return Named(word)
        of = None
        if self.word("of"):
            of = self.pair(WET_DAYS, ALL_DAYS)
        elif self.word("by"):
            of = self.pair(BY_DAY)
        return Percentile(percent, of)

    def _ends(self) -> bool:
        return self.peek()[1].lower() in ("and", "for")

    def pair(self, *wanted: str) -> str:
        first, second = self.take("word") or "", self.take("word") or ""
        found = f"{first} {second}".lower()
        if found not in wanted:
            raise self.error(f"does not follow 'wet days', 'all days' or '{BY_DAY}'")
        return found


def _joined(parts: Sequence[str]) -> str:
    """A unit that may have been cut at its exponents: `mm day -1` was `mm day-1`."""
    text = ""
    for part in parts:
        text += part if re.match(r"[+-]?\d", part) and text else f" {part}"
    return text.strip()
