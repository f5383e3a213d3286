"""Units that are known without the unit library are what it says of them."""

import cf_units
import pytest

from bavlo.core.values.units import WELL_KNOWN


@pytest.mark.parametrize("unit", WELL_KNOWN)
def test_a_well_known_unit_is_what_the_unit_library_says(unit):
    depth, rate, temperature = WELL_KNOWN[unit]
    told = cf_units.Unit(unit)
    assert (depth is not None) == told.is_convertible("m")
    assert (rate is not None) == told.is_convertible("m s-1")
    assert temperature == told.is_convertible("K")
    if depth is not None:
        assert depth == told.convert(1.0, "mm")
    if rate is not None:
        assert rate == (told.convert(1.0, "mm day-1"), "day")
