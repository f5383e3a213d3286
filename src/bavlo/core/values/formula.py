"""Plain arithmetic on named grids, units carried along: `tmean = (tmax + tmin) / 2`.

The text is read by a small parser of its own and never evaluated as code.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

import numpy as np

from bavlo.core.values.kinds import AMOUNT, MADE_OF, NOT_TOLD, RATE, STATE, Variable, quantity
from bavlo.core.values.percents import percent_in
from bavlo.core.values.tokens import Tokens
from bavlo.core.values.units import (
    by_depth,
    convert,
    depth_factor,
    is_temperature,
    read_unit,
    suits,
)
from bavlo.errors import RequestError

OPTION = "make"
NUMBER = r"\d+\.?\d*(?:[eE][+-]?\d+)?|\.\d+"
# A unit right after a number: words with powers, and what it is per without spaces around the /.
UNIT = r"[A-Za-z%][A-Za-z_%]*(?:\^?-?\d+)?(?:/[A-Za-z]+\d?|(?:[ *.][A-Za-z]+\^?-\d+))*"
TOKEN = re.compile(
    rf"\s*(?:(?P<constant>(?:{NUMBER})\s*(?:{UNIT}))|(?P<number>{NUMBER})"
    r"|(?P<name>p\d+\.\d+(?=\s*\()|[A-Za-z_]\w*)|(?P<sign>[-+*/()=]))"
)
MOST_DEPTH = 100
MOST_PARTS = 200  # numbers, grids and functions
REMEDY = "write it as NAME = EXPRESSION with + - * / ( ), such as tmean = (tmax + tmin) / 2"
FUNCTIONS = ("mean", "min", "max", "std", "median")


@dataclass(frozen=True)
class Term:
    """A part of a formula.

    Parameters
    ----------
    sign
        One of + - * /, "neg", "number", "name" or "call".
    parts
        The terms that it joins.
    value
        The number, or the name of the grid or function.
    unit
        Of a number.
    """

    sign: str
    parts: tuple[Term, ...] = ()
    value: float | str = 0.0
    unit: str = ""

    def leaves(self) -> list[Term]:
        """The numbers and names in it, in the order of the text."""
        if self.sign in ("name", "number"):
            return [self]
        return [leaf for part in self.parts for leaf in part.leaves()]

    def names(self) -> set[str]:
        """The grids that it needs."""
        return {str(leaf.value) for leaf in self.leaves() if leaf.sign == "name"}

    def calls(self) -> list[tuple[str, Term]]:
        """The functions in it, each with the term that it is of."""
        own = [(str(self.value), self.parts[0])] if self.sign == "call" else []
        return own + [call for part in self.parts for call in part.calls()]

    def with_terms(self, terms: Mapping[str, Term]) -> Term:
        """The same with some names written out."""
        if self.sign == "name":
            return terms.get(str(self.value), self)
        return replace(self, parts=tuple(part.with_terms(terms) for part in self.parts))


@dataclass(frozen=True)
class Formula:
    """A new grid from others.

    Parameters
    ----------
    name
        What it is called.
    term
        How it is made.
    text
        As the user wrote it.
    """

    name: str
    term: Term
    text: str

    def __str__(self) -> str:
        return self.text


@dataclass(frozen=True)
class Kind:
    """What a term's numbers are.

    Parameters
    ----------
    unit
        Empty for plain numbers.
    kind
        AMOUNT, RATE, STATE or NOT_TOLD.
    zeros
        How often the zero of a temperature scale goes into it: 1 for a temperature and for means of
        temperatures, 0 for differences and all else; NaN where it goes in otherwise than by sums.
    """

    unit: str
    kind: str = STATE
    zeros: float = 0.0

    @property
    def difference(self) -> bool:
        """Whether it is a difference of temperatures, which takes no offset."""
        return self.zeros == 0 and is_temperature(self.unit)


def parse_formula(text: str) -> Formula:
    """Read `NAME = EXPRESSION`.

    Examples
    --------
    >>> sorted(parse_formula("tmean = (tmax + tmin) / 2").term.names())
    ['tmax', 'tmin']
    """
    return _Reader(text).formula()


class _Reader(Tokens):
    """A recursive-descent reader."""

    def __init__(self, text: str) -> None:
        super().__init__(text, TOKEN, OPTION, REMEDY)
        self.depth = self.parts = 0

    def formula(self) -> Formula:
        name = self.take("name")
        if name is None:
            raise self.error("is no name for the new grid")
        if self.take("sign", "=") is None:
            raise self.error("should be =")
        term = self.sum()
        if self.peek()[0]:
            raise self.error("was not expected")
        return Formula(name, term, self.text.strip())

    def sum(self) -> Term:
        term = self.product()
        while (sign := self.take("sign", "+", "-")) is not None:
            term = Term(sign, (term, self.product()))
        return term

    def product(self) -> Term:
        term = self.factor()
        while (sign := self.take("sign", "*", "/")) is not None:
            term = Term(sign, (term, self.factor()))
        return term

    def factor(self) -> Term:
        self.depth += 1
        self.parts += 1
        if self.depth > MOST_DEPTH:
            raise self.error("lies too deep in brackets")
        if self.parts > MOST_PARTS:
            raise self.error(f"is one part more than the {MOST_PARTS} that a formula may have")
        try:
            if self.take("sign", "-"):
                return Term("neg", (self.factor(),))
            if self.take("sign", "+"):
                return self.factor()
            if self.take("sign", "("):
                term = self.sum()
                if self.take("sign", ")") is None:
                    raise self.error("should be )")
                return term
            number = self.take("number")
            if number is not None:
                return Term("number", (), float(number))
            constant = self.take("constant")
            if constant is not None:
                return self.constant(constant)
            name = self.take("name")
            if name is None:
                raise self.error("should be a number, a grid or (")
            return self.call(name) if self.peek()[1] == "(" else Term("name", (), name)
        finally:
            self.depth -= 1

    def constant(self, text: str) -> Term:
        """A number with its unit."""
        number = re.match(NUMBER, text)
        assert number is not None
        unit = text[number.end() :].strip()
        try:
            read_unit(unit, OPTION)
        except RequestError:
            raise RequestError(
                OPTION,
                f"'{self.text}': '{unit}' is no unit that UDUNITS knows",
                "write it as 10 mm",
            ) from None
        return Term("number", (), float(number.group()), unit)

    def call(self, name: str) -> Term:
        """A function of the cells of each region."""
        if name not in FUNCTIONS and percent_in(name, OPTION) is None:
            self.next -= 1
            raise self.error(f"is no function; use one of: {' '.join(FUNCTIONS)} pNN")
        self.take("sign", "(")
        term = self.sum()
        if self.take("sign", ")") is None:
            raise self.error("should be )")
        if not term.names():
            raise self.error(f"closes {name}() of no grid")
        return Term("call", (term,), name)


def kind_of(term: Term, variables: Mapping[str, Variable], text: str) -> Kind:
    """Unit and kind of a term, or an error where its parts do not go together.

    Parameters
    ----------
    variables
        The named grids, temperatures in one unit.
    """
    if term.sign == "number":
        return Kind(term.unit, zeros=float(is_temperature(term.unit)))
    if term.sign == "name":
        variable = _named(term, variables, text)
        what = quantity(variable, variable.name)
        zeros = float(is_temperature(what.unit) and not variable.difference)
        return Kind(what.unit, what.kind if what.kind in (AMOUNT, RATE, NOT_TOLD) else STATE, zeros)
    kinds = [kind_of(part, variables, text) for part in term.parts]
    if term.sign == "neg":
        return replace(kinds[0], zeros=-kinds[0].zeros)
    if term.sign == "call":
        return replace(kinds[0], zeros=0.0 * kinds[0].zeros) if term.value == "std" else kinds[0]
    if term.sign in "+-":
        return _sum_kind(term, kinds[0], kinds[1], text)
    kind = _product_kind(term.sign, kinds[0], kinds[1], text)
    return replace(kind, zeros=_zeros_of_product(term, kinds[0], kinds[1]))


def _named(term: Term, variables: Mapping[str, Variable], text: str) -> Variable:
    name = str(term.value)
    if name not in variables:
        raise RequestError(
            OPTION,
            f"'{text}': there is no grid {name}",
            f"there is: {', '.join(variables) or 'none'}; name one as {name}=PATH",
        )
    return variables[name]


def one_temperature(
    term: Term, variables: Mapping[str, Variable], text: str
) -> dict[str, Variable]:
    """The grids of a formula, all temperatures in the unit of the first.

    Raises
    ------
    RequestError
        Where temperatures in several units are put together so that the result depends on which
        unit that is, as 2 * tmax or tmax / tmin do.
    """
    leaves = term.leaves()
    held = {
        str(leaf.value): _named(leaf, variables, text) for leaf in leaves if leaf.sign == "name"
    }
    units = {name: each.unit for name, each in held.items() if is_temperature(each.unit)}
    if not units:
        return held
    common = next(iter(units.values()))
    for leaf in leaves:
        if leaf.sign == "number" and leaf.unit != common and is_temperature(leaf.unit):
            raise RequestError(
                OPTION,
                f"'{text}': nothing tells whether {leaf.value:g} {leaf.unit} is a temperature or a "
                "difference",
                f"write it in {common}",
            )
    if set(units.values()) == {common}:
        return held
    held |= {name: replace(held[name], unit=common) for name in units}
    zeros = kind_of(term, held, text).zeros
    if not np.isclose(zeros, [0.0, 1.0], rtol=0, atol=1e-9).any():
        listed = ", ".join(f"{name} in {unit}" for name, unit in units.items())
        raise RequestError(
            OPTION,
            f"'{text}' has another value in each unit of temperature, and there are {listed}",
            "bring them to one unit first, with `grid ‹unit UNIT›`, or take their difference or a "
            "mean with weights that add up to 1",
        )
    return held


def _sum_kind(term: Term, one: Kind, two: Kind, text: str) -> Kind:
    sign, plain = term.sign, {"", "1"}
    if {one.unit, two.unit} & plain and one.unit not in plain | {two.unit}:
        raise RequestError(
            OPTION, f"'{text}': {one.unit} {sign} a number without unit means nothing"
        )
    if {one.unit, two.unit} & plain and two.unit not in plain | {one.unit}:
        raise RequestError(
            OPTION, f"'{text}': a number without unit {sign} {two.unit} means nothing"
        )
    if one.unit and two.unit and one.unit != two.unit:
        convert(np.zeros(1), two.unit, one.unit, difference=two.difference)
    kind = one.kind if one.kind == two.kind else STATE
    if NOT_TOLD in (one.kind, two.kind):
        kind = NOT_TOLD
    if not is_temperature(one.unit):
        return Kind(one.unit or two.unit, kind, one.zeros + two.zeros)
    first, second = one.zeros, two.zeros
    numbers = [not part.names() for part in term.parts]
    # A number is a temperature where another is taken from it or it from another, else degrees.
    if numbers[0] and not (sign == "-" and second):
        first = 0.0
    if numbers[1] and not (sign == "-" and first):
        second = 0.0
    return Kind(one.unit, kind, first + second if sign == "+" else first - second)


def _product_kind(sign: str, one: Kind, two: Kind, text: str) -> Kind:
    if two.unit in ("", "1"):
        return one if one.unit else Kind(two.unit)
    if one.unit in ("", "1") and sign == "*":
        return two
    if sign == "/" and one.unit and suits(two.unit, one.unit):
        return Kind("1")
    if one.kind != STATE and sign == "*" and two.kind != STATE:
        raise RequestError(OPTION, f"'{text}': {one.unit} * {two.unit} means nothing here")
    first, second = (read_unit(unit, OPTION) for unit in by_depth(one.unit or "1", two.unit))
    joined = first * second if sign == "*" else first / second
    is_depth = depth_factor(str(joined)) is not None  # as of a rate times days
    return Kind(str(joined), NOT_TOLD if is_depth else STATE)


def _zeros_of_product(term: Term, one: Kind, two: Kind) -> float:
    """`Kind.zeros` of a product or ratio, which only plain numbers multiply."""
    if not one.zeros and not two.zeros:
        return 0.0
    numbers = [_plain_number(part) for part in term.parts]
    if numbers[1] is not None:
        return one.zeros * numbers[1] if term.sign == "*" else one.zeros / (numbers[1] or np.nan)
    if numbers[0] is not None and term.sign == "*":
        return numbers[0] * two.zeros
    return np.nan


def _plain_number(term: Term) -> float | None:
    """The value of a term of numbers without unit; None for any other."""
    if any(leaf.sign == "name" or leaf.unit for leaf in term.leaves()):
        return None
    return float(evaluate(term, {}, {}))


OfRegions = Callable[[str, np.ndarray], np.ndarray]


def evaluate(
    term: Term,
    variables: Mapping[str, Variable],
    blocks: Mapping[str, np.ndarray],
    of_regions: OfRegions | None = None,
) -> np.ndarray:
    """Values of a term.

    Parameters
    ----------
    blocks
        (T, C) float64 of each named grid, NaN where there is no data.
    of_regions
        From the name of a function and (T, C) values to its (T, C) values, each that of the region
        that a cell is in; None where there are no regions.

    Returns
    -------
    values : (T, C) float64
        In the unit that `kind_of` tells; NaN where a part is missing or a divisor is 0.
    """
    variables = {name: variables[name] for name in term.names()}
    held = one_temperature(term, variables, "")
    blocks = {
        name: convert(
            blocks[name], variables[name].unit, each.unit, difference=variables[name].difference
        )
        for name, each in held.items()
    }
    with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
        return _values(term, held, blocks, of_regions)[0]


def _values(
    term: Term,
    variables: Mapping[str, Variable],
    blocks: Mapping[str, np.ndarray],
    of_regions: OfRegions | None,
) -> tuple[np.ndarray, Kind]:
    kind = kind_of(term, variables, "")
    if term.sign == "number":
        return np.asarray(float(term.value)), kind
    if term.sign == "name":
        return blocks[str(term.value)], kind
    parts = [_values(part, variables, blocks, of_regions) for part in term.parts]
    if term.sign == "neg":
        return -parts[0][0], kind
    if term.sign == "call":
        if of_regions is None:
            raise RequestError(
                OPTION,
                f"{term.value}() is of the cells of regions, and there are none here",
                "use it in `series`, `normals`, `anomalies` or `grid`",
            )
        return of_regions(str(term.value), parts[0][0]), kind
    (one, first), (two, second) = parts
    if first.unit and second.unit and first.unit != second.unit:
        if term.sign in "+-" or (term.sign == "/" and kind.unit == "1"):
            two = convert(two, second.unit, first.unit, difference=second.difference)
        else:
            goals = by_depth(first.unit, second.unit)
            one = convert(one, first.unit, goals[0], difference=first.difference)
            two = convert(two, second.unit, goals[1], difference=second.difference)
    if term.sign == "/":
        return np.where(two != 0, one / two, np.nan), kind
    operation = {"+": np.add, "-": np.subtract, "*": np.multiply}[term.sign]
    return operation(one, two), kind


def derived_variable(
    formula: Formula, variables: Mapping[str, Variable], *, is_combined: bool = False
) -> Variable:
    """The new grid as a variable: its unit, and what tells its kind.

    Parameters
    ----------
    is_combined
        Its steps are periods already. Else a depth is of a kind that is not told, since nothing
        says whether it adds up: rain minus evaporation does, rain divided by its days does not.
    """
    names = sorted(formula.term.names())
    if not names:
        raise RequestError(OPTION, f"'{formula.text}' uses no grid", "name one in it")
    kind = kind_of(
        formula.term, one_temperature(formula.term, variables, formula.text), formula.text
    )
    is_depth = bool(kind.unit) and depth_factor(kind.unit) is not None
    if is_depth:
        told = kind.kind if kind.kind == AMOUNT else STATE
        kind = replace(kind, kind=told if is_combined else NOT_TOLD)
    water = next((variables[n].standard_name or variables[n].name for n in names), "")
    return Variable(
        formula.name,
        kind.unit,
        standard_name=water if kind.kind in (AMOUNT, RATE) else "",
        long_name=formula.text,
        cell_methods="time: sum" if kind.kind == AMOUNT else "",
        difference=kind.difference,
        kind=kind.kind if is_depth or kind.kind == AMOUNT else "",
        kind_evidence=f"{MADE_OF} {' and '.join(names)}",
    )
