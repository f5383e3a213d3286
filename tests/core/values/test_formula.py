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
    "kg": Variable("kg", "kg m-2", cell_methods="time: sum"),
    "cm": Variable("cm", "cm", cell_methods="time: sum"),
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
        ("m = rain / 2", "mm", "not told", False),
        ("m = rain - rain", "mm", "not told", False),
        ("m = 0.5 * tmax + 0.5 * tmin", "degC", "state", False),
        ("m = tmax / 2 - tmin / 2", "degC", "state", True),
        ("m = tmax - 10 degC", "degC", "state", True),
        ("m = tmax - tmin + 5 degC", "degC", "state", True),
        ("m = rain / pr", "s", "state", False),
        ("m = rain / kg", "1", "state", False),
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


MEANS = [
    "(tmax + tmin) / 2",
    "0.5 * tmax + 0.5 * tmin",
    "tmax / 2 + tmin / 2",
    "tmax - 0.5 * (tmax - tmin)",
    "-(-0.25 * tmax - tmin * 3 / 4) + 0.25 * tmax - 0.25 * tmin",
]


@pytest.mark.parametrize("text", MEANS)
def test_temperatures_of_several_units_are_averaged_in_the_first(text):
    blocks = {"tmax": np.array([[20.0]]), "tmin": np.array([[283.15]])}
    formula = parse_formula(f"m = {text}")
    np.testing.assert_allclose(evaluate(formula.term, GRIDS, blocks), [[15.0]])
    assert derived_variable(formula, GRIDS).difference is False


@given(st.floats(-2, 2), st.floats(-40, 40), st.floats(-40, 40))
def test_weights_that_add_up_to_one_make_a_temperature_in_any_mixture(weight, high, low):
    text = f"m = ({weight:.6f}) * tmax + (1 - ({weight:.6f})) * tmin"
    blocks = {"tmax": np.array([[high]]), "tmin": np.array([[low + 273.15]])}
    found = evaluate(parse_formula(text).term, GRIDS, blocks)
    weight = round(weight, 6)
    np.testing.assert_allclose(found, [[weight * high + (1 - weight) * low]], atol=1e-9)


@pytest.mark.parametrize(
    "text", ["tmax + tmin", "0.5 * tmin + tmax", "tmax / tmin", "a * tmax + tmin"]
)
def test_what_depends_on_the_zero_of_a_temperature_is_refused_in_two_units(text):
    with pytest.raises(RequestError, match="another value in each unit of temperature"):
        derived_variable(parse_formula(f"m = {text}"), GRIDS)


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("rain / pr", 12 / 2e-4),  # 1 kg m-2 is 1 mm
        ("rain / kg", 3.0),
        ("cm / kg", 5.0),
        ("kg / cm", 0.2),
        ("cm + kg", 2.4),  # in cm
        ("rain / (pr * 1 day)", 12 / (2e-4 * 86400)),
    ],
)
def test_water_by_mass_is_water_by_depth(text, expected):
    blocks = {"rain": 12.0, "pr": 2e-4, "kg": 4.0, "cm": 2.0}
    blocks = {name: np.array([[value]]) for name, value in blocks.items()}
    found = evaluate(parse_formula(f"m = {text}").term, GRIDS, blocks)
    np.testing.assert_allclose(found, [[expected]], rtol=1e-12)


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


def test_percentiles_in_formulas_may_have_decimals():
    ((name, _),) = parse_formula("x = rain / p99.5(rain)").term.calls()
    assert name == "p99.5"


def test_formulas_without_end_are_refused_as_too_long():
    parse_formula("x = " + "+".join(["a"] * MOST_PARTS))
    with pytest.raises(RequestError, match="one part more than the 200"):
        parse_formula("x = " + "+".join(["a"] * 20_000))
    with pytest.raises(RequestError, match="too deep"):
        parse_formula("x = " + "(" * 20_000 + "a")
