"""Dates in names."""

import pytest

from bavlo.core.time.axis import DAY, iso_day
from bavlo.errors import BavloError
from bavlo.grids.dates import find_dates


def told(names, pattern=None):
    steps = find_dates(names, pattern, "folder")
    return None if steps is None else [iso_day(step.stamp, "standard") for step in steps]


@pytest.mark.parametrize(
    ("name", "day", "days"),
    [
        ("rain_2013-03-05", "2013-03-05", None),
        ("r.20130305", "2013-03-05", None),
        ("rain2013_03_05_final", "2013-03-05", None),
        ("x_20130305T0600", "2013-03-05", None),
        ("2013.03.d2", "2013-03-11", 10),
        ("rain-2013-02.d3", "2013-02-21", 8),
        ("2013.03.p6", "2013-03-26", 6),
        ("2013065", "2013-03-06", None),
        ("MOD.2012366.v6", "2012-12-31", None),
        ("rain_2013-03", "2013-03-01", 31),
        ("rain.201302.v1", "2013-02-01", 28),
        ("2019", "2019-01-01", 365),
        ("cover_2020_100m", "2020-01-01", 366),
    ],
)
def test_a_date_is_found_in_a_name(name, day, days):
    assert told([name]) == [day]
    (step,) = find_dates([name], None, "folder")
    assert (step.end is None) == (days is None)
    if days is not None:
        assert (step.end - step.stamp) // DAY == days


@pytest.mark.parametrize("name", ["rain", "rain_v2", "tile_9999_0001", "r_20131305", "2013366"])
def test_what_is_no_date_is_not_taken_for_one(name):
    found = told([name])
    assert found is None or found == ["2013-01-01"]


def test_the_date_of_the_product_is_told_from_that_of_the_step():
    names = ["rain_20130305_v20200101", "rain_20130306_v20200101"]
    assert told(names) == ["2013-03-05", "2013-03-06"]
    with pytest.raises(BavloError, match="more than one date; say where the date stands"):
        told(names[:1])
    assert told(names[:1], "rain_%Y%m%d") == ["2013-03-05"]
    assert told(["a05mar13"], "a%d%b%y") == ["2013-03-05"]
    with pytest.raises(BavloError, match="does not hold a date as dates="):
        told(["rain"], "rain_%Y")
