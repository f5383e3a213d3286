"""Kinds, rates and unit changes against what they mean."""

import numpy as np
import pytest

from bavlo.core.time.axis import HOUR, to_instant
from bavlo.core.time.steps import time_axis
from bavlo.core.values.kinds import (
    AMOUNT,
    CLASS,
    COUNT,
    NOT_TOLD,
    RATE,
    STATE,
    Variable,
    as_asked,
    check_told,
    quantity,
    step_amounts,
)
from bavlo.core.values.units import convert
from bavlo.errors import RequestError
from support import daily


@pytest.mark.parametrize(
    ("unit", "name", "standard_name", "cell_methods", "kind", "total_unit"),
    [
        ("mm", "rain", "", "", AMOUNT, "mm"),
        ("mm", "x", "", "time: sum", AMOUNT, "mm"),
        ("kg m-2", "pr", "", "", AMOUNT, "mm"),
        ("m", "total_precipitation", "", "", AMOUNT, "m"),
        ("kg m-2 s-1", "x", "precipitation_flux", "", RATE, "mm"),
        ("mm/day", "x", "", "", RATE, "mm"),
        ("mm month-1", "x", "", "", RATE, "mm"),
        ("m s-1", "wind", "wind_speed", "time: mean", STATE, ""),
        ("m s-1", "pr", "lwe_precipitation_rate", "", RATE, "mm"),
        ("m", "height", "surface_altitude", "", STATE, ""),
        ("K", "tmax", "air_temperature", "", STATE, ""),
        ("1", "share", "", "", STATE, ""),
        ("", "anything", "", "", STATE, ""),
    ],
)
def test_kinds_are_told_by_unit_and_name(unit, name, standard_name, cell_methods, kind, total_unit):
    what = quantity(Variable(name, unit, standard_name, "", cell_methods), "file")
    assert (what.kind, what.total_unit) == (kind, total_unit)


@pytest.mark.parametrize(
    "name", "pre pcp rf pet aet et tp1 RainTotal rain_mm monthly_runoff".split()
)
def test_a_depth_with_a_whole_word_for_water_that_falls_or_leaves_is_an_amount(name):
    what = quantity(Variable(name, "mm"), "file")
    assert (what.kind, what.total_unit) == (AMOUNT, "mm")
    assert name in what.why


@pytest.mark.parametrize(
    ("name", "standard_name", "long_name", "cell_methods", "why"),
    [
        ("def", "", "", "", "only unit"),
        ("terrain", "", "", "", "only unit"),
        ("x", "", "pre-industrial reference", "", "only unit"),
        ("tws", "", "Water storage anomaly", "", "only unit"),
        ("x", "", "Rain on snow", "", "Rain on snow"),
        ("rain", "", "", "time: mean", "time: mean"),
        ("rx1day", "", "Highest daily rain", "time: maximum", "time: maximum"),
        ("x", "", "", "time: sum within days time: mean over days", "time: mean"),
        ("x", "snowfall_amount", "", "time: point", "time: point"),
        ("swe", "lwe_thickness_of_surface_snow_amount", "", "time: sum", "but cell_methods"),
    ],
)
def test_a_depth_without_evidence_or_with_two_kinds_of_it_is_not_told_and_asked_for(
    name, standard_name, long_name, cell_methods, why
):
    variable = Variable(name, "mm", standard_name, long_name, cell_methods)
    what = quantity(variable, "file")
    assert what.kind == NOT_TOLD
    assert why in what.why
    with pytest.raises(RequestError, match="say kind='amount' to add steps up"):
        check_told(what, variable, "file")
    assert as_asked(what, None).kind == NOT_TOLD
    assert as_asked(what, "total").kind == AMOUNT
    assert as_asked(what, "max").kind == STATE


@pytest.mark.parametrize(
    ("standard_name", "unit"),
    [
        ("lwe_thickness_of_surface_snow_amount", "m"),
        ("surface_snow_amount", "kg m-2"),
        ("mass_content_of_water_in_soil_layer", "kg m-2"),
        ("atmosphere_mass_content_of_water_vapor", "kg m-2"),
        ("surface_snow_thickness", "m"),
    ],
)
def test_water_that_is_there_by_its_standard_name_is_a_state_and_has_no_total(standard_name, unit):
    what = quantity(Variable("rain", unit, standard_name), "file")
    assert what.kind == STATE
    assert as_asked(what, "total") == what


@pytest.mark.parametrize(
    "standard_name",
    [
        "precipitation_amount",
        "lwe_thickness_of_precipitation_amount",
        "lwe_thickness_of_snowfall_amount",
        "surface_runoff_amount",
        "lwe_thickness_of_water_evaporation_amount",
        "surface_snow_melt_amount",
    ],
)
def test_water_that_falls_or_leaves_by_its_standard_name_is_an_amount(standard_name):
    assert quantity(Variable("x", "kg m-2", standard_name), "file").kind == AMOUNT
    normal = Variable("x", "mm", standard_name, "", "time: sum within years time: mean over years")
    assert quantity(normal, "file").kind == AMOUNT


def test_what_is_said_of_a_kind_counts_and_must_suit_the_unit():
    for kind in (AMOUNT, STATE, COUNT, CLASS):
        assert quantity(Variable("rain", "mm", kind=kind), "file").kind == kind
    assert quantity(Variable("x", "mm day-1", kind=RATE), "file").total_unit == "mm"
    assert quantity(Variable("x", "kg m-2", kind=AMOUNT), "file").total_unit == "mm"
    with pytest.raises(RequestError, match="is no rate"):
        quantity(Variable("rain", "mm", kind=RATE), "file")
    with pytest.raises(RequestError, match="has no unit per time"):
        quantity(Variable("rain", "mm day-1", kind=AMOUNT), "file")


@pytest.mark.parametrize(
    ("unit", "plain"),
    [
        ("[mm]", "mm"),
        ("m of water equivalent", "m"),
        ("mm w.e.", "mm"),
        ("Kg/m^2/s", "kg m-2 s-1"),
        ("kg m**-2 s**-1", "kg m-2 s-1"),
        ("mm/24h", "mm day-1"),
        ("mm/3h", "mm h-1"),
        ("mm/6hr", "mm h-1"),
    ],
)
def test_spellings_of_units_are_those_that_they_mean(unit, plain):
    hours = {"mm/3h": 3, "mm/6hr": 6}.get(unit, 1)
    got = convert(np.array([6.0]), unit, plain, difference=False)
    assert got == pytest.approx(6.0 / hours, rel=1e-12)


def test_a_rate_becomes_an_amount_by_the_length_of_its_step():
    time = daily(31)
    for unit, factor in (("kg m-2 s-1", 86400), ("mm day-1", 1), ("mm/hour", 24)):
        what = quantity(Variable("pr", unit), "file")
        np.testing.assert_allclose(step_amounts(what, time), factor, rtol=1e-14)
    hours = to_instant("standard", 2001) + 3 * HOUR * np.arange(8)
    what = quantity(Variable("pr", "mm day-1"), "file")
    np.testing.assert_allclose(step_amounts(what, time_axis(hours, None, "standard")), 1 / 8)


def test_rates_by_month_and_year_mean_calendar_months_and_years():
    starts = np.array([to_instant("standard", 2004, m) for m in range(1, 13)])
    months = time_axis(starts, None, "standard")
    by_month = step_amounts(quantity(Variable("pr", "mm/month"), "file"), months)
    np.testing.assert_allclose(by_month, 1.0, rtol=1e-14)
    by_year = step_amounts(quantity(Variable("pr", "mm year-1"), "file"), months)
    assert by_year.sum() == pytest.approx(1.0, rel=1e-14)
    assert by_year[1] == pytest.approx(29 / 366, rel=1e-12)


def test_temperatures_convert_with_the_offset_and_their_differences_without():
    kelvin = np.array([0.0, 273.15, 300.0])
    np.testing.assert_allclose(
        convert(kelvin, "K", "degC", difference=False), [-273.15, 0, 26.85], atol=1e-12
    )
    np.testing.assert_allclose(convert(kelvin, "K", "degF", difference=True), kelvin * 1.8)
    np.testing.assert_allclose(convert(np.array([25.4]), "kg m-2", "inch", difference=False), 1)
    with pytest.raises(RequestError, match="cannot be converted"):
        convert(kelvin, "K", "mm", difference=False)
