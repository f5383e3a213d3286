"""Plain arithmetic on named grids, units carried along: `tmean = (tmax + tmin) / 2`.

The text is read by a small parser of its own and never evaluated as code.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping

import numpy as np

from bavlo.core.values.kinds import AMOUNT, NOT_TOLD, RATE, STATE, Variable, quantity
from bavlo.core.values.tokens import Tokens
from bavlo.core.values.units import convert, depth_factor, read_unit
from bavlo.errors import RequestError
from bavlo.records import dataclass, replace

OPTION = "make"
NUMBER = r"\d+\.?\d*(?:[eE][+-]?\d+)?|\.\d+"
# A unit right after a number: words with powers, and what it is per without spaces around the /.
UNIT = r"[A-Za-z%][A-Za-z_%]*(?:\^?-?\d+)?(?:/[A-Za-z]+\d?|(?:[ *.][A-Za-z]+\^?-\d+))*"
TOKEN = re.compile(
    rf"\s*(?:(?P<constant>(?:{NUMBER})\s*(?:{UNIT}))|(?P<number>{NUMBER})"
    r"|(?P<name>[A-Za-z_]\w*)|(?P<sign>[-+*/()=]))"
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

    def names(self) -> set[str]:
        """The grids that it needs."""
        if self.sign == "name":
            return {str(self.value)}
        return set().union(*(part.names() for part in self.parts))

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
    difference
        A temperature difference, which takes no offset.
    """

    unit: str
    kind: str = STATE
    difference: bool = False


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
        if name not in FUNCTIONS and not re.fullmatch(r"p\d{1,2}(\.\d+)?|p100", name):
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
        The named grids.
    """
    if term.sign == "number":
        return Kind(term.unit)
    if term.sign == "name":
        name = str(term.value)
        if name not in variables:
            raise RequestError(
                OPTION,
                f"'{text}': there is no grid {name}",
                f"there is: {', '.join(variables) or 'none'}; name one as {name}=PATH",
            )
        what = quantity(variables[name], name)
        return Kind(what.unit, what.kind if what.kind in (AMOUNT, RATE, NOT_TOLD) else STATE)
    kinds = [kind_of(part, variables, text) for part in term.parts]
    if term.sign == "neg":
        return kinds[0]
    if term.sign == "call":
        return replace(kinds[0], difference=True) if term.value == "std" else kinds[0]
    one, two = kinds
    if term.sign in "+-":
        return _sum_kind(term.sign, one, two, text, term.parts)
    return _product_kind(term.sign, one, two, text)


def _sum_kind(sign: str, one: Kind, two: Kind, text: str, parts: tuple[Term, ...]) -> Kind:
    plain = {"", "1"}
    if _is_temperature(one.unit) and _is_temperature(two.unit) and one.unit != two.unit:
        constants = [part for part in parts if part.sign == "number"]
        if constants:
            raise RequestError(
                OPTION,
                f"'{text}': nothing tells whether {constants[0].value:g} {constants[0].unit} is a "
                "temperature or a difference",
                f"write it in {one.unit if parts[1].sign == 'number' else two.unit}",
            )
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
    if not _is_temperature(one.unit):
        return Kind(one.unit or two.unit, kind)
    both_absolute = not one.difference and not two.difference
    return Kind(
        one.unit, kind, (sign == "-" and both_absolute) or (one.difference and two.difference)
    )


def _product_kind(sign: str, one: Kind, two: Kind, text: str) -> Kind:
    if two.unit in ("", "1"):
        return one if one.unit else Kind(two.unit)
    if one.unit in ("", "1") and sign == "*":
        return two
    if sign == "/" and one.unit and _same_dimension(one.unit, two.unit):
        return Kind("1")
    if one.kind != STATE and sign == "*" and two.kind != STATE:
        raise RequestError(OPTION, f"'{text}': {one.unit} * {two.unit} means nothing here")
    first = read_unit(one.unit or "1", OPTION)
    second = read_unit(two.unit, OPTION)
    joined = first * second if sign == "*" else first / second
    is_depth = depth_factor(str(joined)) is not None  # as of a rate times days
    return Kind(str(joined), NOT_TOLD if is_depth else STATE)


def _same_dimension(one: str, two: str) -> bool:
    return one == two or bool(read_unit(one, OPTION).is_convertible(read_unit(two, OPTION)))


def _is_temperature(unit: str) -> bool:
    return bool(unit) and bool(read_unit(unit, OPTION).is_convertible("K"))


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
    with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
        return _values(term, variables, blocks, of_regions)[0]


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
    matched = term.sign in "+-" or (term.sign == "/" and first.unit and kind.unit == "1")
    if matched and first.unit and second.unit and first.unit != second.unit:
        two = convert(two, second.unit, first.unit, difference=second.difference)
    if term.sign == "/":
        return np.where(two != 0, one / two, np.nan), kind
    operation = {"+": np.add, "-": np.subtract, "*": np.multiply}[term.sign]
    return operation(one, two), kind


def _adds_constant(term: Term) -> bool:
    """Whether a number is added to or subtracted from a term somewhere."""
    own = term.sign in ("+", "-") and any(part.sign == "number" for part in term.parts)
    return own or any(_adds_constant(part) for part in term.parts)


def derived_variable(formula: Formula, variables: Mapping[str, Variable]) -> Variable:
    """The new grid as a variable: its unit, and what tells its kind."""
    kind = kind_of(formula.term, variables, formula.text)
    names = sorted(formula.term.names())
    if not names:
        raise RequestError(OPTION, f"'{formula.text}' uses no grid", "name one in it")
    is_depth = bool(kind.unit) and depth_factor(kind.unit) is not None
    if is_depth and kind.kind == STATE and _adds_constant(formula.term):
        kind = replace(kind, kind=NOT_TOLD)
    water = next((variables[n].standard_name or variables[n].name for n in names), "")
    return Variable(
        formula.name,
        kind.unit,
        standard_name=water if kind.kind in (AMOUNT, RATE) else "",
        long_name=formula.text,
        cell_methods="time: sum" if kind.kind == AMOUNT else "",
        difference=kind.difference,
        kind=kind.kind if is_depth or kind.kind == AMOUNT else "",
        kind_evidence=f"made of {', '.join(names)}"
        + (", which nothing tells of" if kind.kind == NOT_TOLD else ""),
    )
