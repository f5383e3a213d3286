"""Formulas: their arithmetic, their units, and what makes no sense."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo.core.values.formula import MOST_PARTS, derived_variable, evaluate, parse_formula
from bavlo.core.values.kinds import Variable, quantity
from bavlo.errors import RequestError

GRIDS = {
    "rain": Variable("rain", "mm", cell_methods="time: sum"),
    "pr": Variable("pr", "kg m-2 s-1", "precipitation_flux"),
    "tmax": Variable("tmax", "degC"),
    "tmin": Variable("tmin", "K"),
    "a": Variable("a", "1"),
    "b": Variable("b", "1"),
}


def expressions():
    leaves = st.sampled_from(["a", "b", "1", "2.5", "1e1"])
    return st.recursive(
        leaves,
        lambda inner: st.one_of(
            st.builds("({}{}{})".format, inner, st.sampled_from("+-*/"), inner),
            st.builds("{} {} {}".format, inner, st.sampled_from("+-*/"), inner),
            st.builds("-{}".format, inner),
        ),
        max_leaves=8,
    )


@given(expressions(), st.floats(-9, 9), st.floats(-9, 9))
def test_arithmetic_is_that_of_python(text, a, b):
    blocks = {"a": np.array([[a]]), "b": np.array([[b]])}
    try:
        expected = eval(text, {}, {"a": a, "b": b})
    except ZeroDivisionError:
        expected = np.nan
    found = float(np.ravel(evaluate(parse_formula(f"c = {text}").term, GRIDS, blocks))[0])
    np.testing.assert_allclose(found, expected, rtol=1e-12)


@pytest.mark.parametrize(
    ("text", "unit", "kind", "difference"),
    [
        ("m = (tmax + tmin) / 2", "degC", "state", False),
        ("m = tmax - tmin", "degC", "state", True),
        ("m = tmax - tmin + tmax", "degC", "state", False),
        ("m = rain / 2", "mm", "amount", False),
        ("m = pr * 2", "kg m-2 s-1", "rate", False),
        ("m = 1 - rain / rain", "1", "state", False),
    ],
)
def test_units_and_kinds_are_carried_along(text, unit, kind, difference):
    variable = derived_variable(parse_formula(text), GRIDS)
    assert (variable.unit, quantity(variable, "").kind) == (unit, kind)
    assert variable.difference == difference


def test_kelvin_joins_celsius_with_its_offset_once():
    blocks = {"tmax": np.array([[20.0, 30.0]]), "tmin": np.array([[283.15, np.nan]])}
    mean = evaluate(parse_formula("m = (tmax + tmin) / 2").term, GRIDS, blocks)
    np.testing.assert_allclose(mean, [[15.0, np.nan]])
    away = evaluate(parse_formula("m = tmax - tmin").term, GRIDS, blocks)
    np.testing.assert_allclose(away, [[10.0, np.nan]])


@pytest.mark.parametrize(
    ("text", "place"),
    [
        ("m = tmax +", "character 11"),
        ("m tmax", "character 3"),
        ("m = (tmax", "character 10"),
        ("m = tmax ** 2", "character 11"),
        ("m = __import__('os')", "character 16"),
        ("m = tmax; tmin", "character 9"),
    ],
)
def test_an_error_points_at_its_place(text, place):
    with pytest.raises(RequestError) as error:
        parse_formula(text)
    assert place in str(error.value)


@pytest.mark.parametrize("text", ["m = rain + 1", "m = rain + tmax", "m = rain * rain", "m = 2"])
def test_what_means_nothing_is_refused(text):
    with pytest.raises(RequestError):
        derived_variable(parse_formula(text), GRIDS)


def test_formulas_without_end_are_refused_as_too_long():
    parse_formula("x = " + "+".join(["a"] * MOST_PARTS))
    with pytest.raises(RequestError, match="one part more than the 200"):
        parse_formula("x = " + "+".join(["a"] * 20_000))
    with pytest.raises(RequestError, match="too deep"):
        parse_formula("x = " + "(" * 20_000 + "a")
