"""Kinds, rates and unit changes against what they mean."""

import numpy as np
import pytest

from bavlo.core.time.axis import HOUR, to_instant
from bavlo.core.time.steps import time_axis
from bavlo.core.values.kinds import AMOUNT, RATE, STATE, Variable, quantity, step_amounts
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
