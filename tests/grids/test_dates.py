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


YEAR = range(1, 13)


@pytest.mark.parametrize(
    "text", ["2013-{m:02d}.{d}", "rain_2013{m:02d}-{d}_v2", "r2013.{m:02d}.{d}"]
)
def test_numbers_one_to_three_after_the_month_are_dekads_where_all_names_have_them(text):
    names = [text.format(m=m, d=d) for m in YEAR for d in (1, 2, 3)]
    steps = find_dates(names, None, "folder")
    assert [iso_day(s.stamp, "standard") for s in steps[:4]] == [
        "2013-01-01",
        "2013-01-11",
        "2013-01-21",
        "2013-02-01",
    ]
    assert (steps[2].end - steps[2].stamp) // DAY == 11


@pytest.mark.parametrize("word", ["D", "dk", "d", "dek", ".dekad"])
def test_dekads_go_by_many_letters(word):
    (step,) = find_dates([f"rain2013-03{word}2"], None, "folder")
    assert iso_day(step.stamp, "standard") == "2013-03-11"


def test_one_number_after_the_month_could_be_a_version_and_is_asked():
    with pytest.raises(BavloError, match="a month, or one of its three dekads; say which with"):
        find_dates(["rain_2013-03.1", "rain_2013-04.1"], None, "folder")
    assert told(["rain_2013-03.1"], "rain_%Y-%m") == ["2013-03-01"]
    assert told(["rain_2013-03.2"], "rain_%Y-%m.{dekad}") == ["2013-03-11"]


def test_thirty_six_numbers_of_a_year_are_dekads_and_twelve_are_months():
    names = [f"rain_2013{n:02d}" for n in range(1, 37)]
    assert told(names)[3:5] == ["2013-02-01", "2013-02-11"]
    assert told(names[:12])[-1] == "2013-12-01"
    # 23 numbers are those of composites, half months or dekads: nothing tells.
    assert told(names[:23]) is None
    assert told(names[:23], "rain_%Y{composite16}")[1] == "2013-01-17"


def test_running_numbers_are_not_taken_for_years():
    names = [f"rain_{n}" for n in range(1801, 1837)]
    with pytest.raises(BavloError, match="may be years or running numbers"):
        find_dates(names, None, "folder")
    assert told(names, "rain_%y{dekad36}")[:2] == ["2018-01-01", "2018-01-11"]
    assert told(names, "rain_%Y")[0] == "1801-01-01"
    assert told([f"rain_{n}" for n in range(2001, 2021)])[-1] == "2020-01-01"


def test_a_month_may_stand_before_the_year_but_not_after_a_day():
    assert told(["rain_03_2013", "rain_04_2013"]) == ["2013-03-01", "2013-04-01"]
    assert told(["05_03_2013"]) == ["2013-01-01"]


@pytest.mark.parametrize(
    ("pattern", "name", "first", "days"),
    [
        ("%Y{pentad73}", "201312", "2013-02-25", 5),
        ("%Y{pentad73}", "201212", "2012-02-25", 6),
        ("%Y{pentad73}", "201213", "2012-03-02", 5),
        ("%Y{pentad72}", "201272", "2012-12-26", 6),
        ("%Y-%m-{pentad}", "2012-02-6", "2012-02-26", 4),
        ("%Y{dekad36}", "201206", "2012-02-21", 9),
        ("%Y{composite8}", "201246", "2012-12-26", 6),
        ("%Y{composite8}", "201346", "2013-12-27", 5),
        ("%Y{composite16}", "201304", "2013-02-18", 16),
    ],
)
def test_numbered_steps_are_read_by_pattern(pattern, name, first, days):
    (step,) = find_dates([name], pattern, "folder")
    assert (iso_day(step.stamp, "standard"), (step.end - step.stamp) // DAY) == (first, days)


def test_a_number_that_the_year_does_not_have_is_refused():
    with pytest.raises(BavloError, match="does not hold a date"):
        find_dates(["201347"], "%Y{composite8}", "folder")
    with pytest.raises(BavloError, match="%Y stands in it twice"):
        find_dates(["x_20132013.tif"], "%Y%Y", "folder")
    with pytest.raises(BavloError, match=r"\{week\} is not known"):
        find_dates(["201347"], "%Y{week}", "folder")
