"""From time stamps to steps."""

import numpy as np
import pytest

from bavlo.core.time.assignment import expected_steps
from bavlo.core.time.axis import DAY, HOUR, iso_day, to_instant
from bavlo.core.time.periods import PeriodRule, periods_between, step_periods
from bavlo.core.time.steps import is_cycle_without_year, overlapping, time_axis


def days_of_the_year(years, days):
    return np.concatenate(
        [
            to_instant("standard", year) + DAY * np.arange(0, 366 if year % 4 == 0 else 365, days)
            for year in years
        ]
    )


def periods_of(kind, first, last):
    """The periods of a kind in whole years, the last excluded."""
    return periods_between(
        PeriodRule(kind), "standard", to_instant("standard", first), to_instant("standard", last)
    )


@pytest.mark.parametrize(("days", "number"), [(8, 46), (16, 23)])
@pytest.mark.parametrize("marks", ["first day", "last day", "bounds"])
def test_composites_that_begin_anew_each_year_end_with_it(days, number, marks):
    starts = days_of_the_year((2011, 2012, 2013), days)
    ends = np.append(starts[1:], to_instant("standard", 2014))
    stamps = ends - DAY if marks == "last day" else starts
    bounds = np.column_stack([starts, ends]) if marks == "bounds" else None
    time = time_axis(stamps, bounds, "standard")
    assert time.length == f"composite{days}"
    assert (time.start == starts).all()
    assert (time.end == ends).all()
    assert expected_steps(time, periods_of("year", 2012, 2013)).tolist() == [number]
    periods = step_periods(time)
    assert periods.labels[0] == f"2011-s{days:02d}-01"
    assert periods.cycle[number] == f"s{days:02d}-01"
    assert periods.labels[-1] == f"2013-s{days:02d}-{number}"


def test_part_of_a_year_of_composites_is_known_by_its_first_days():
    starts = days_of_the_year((2012,), 8)[5:20]
    assert time_axis(starts, None, "standard").length == "composite8"
    whole = time_axis(days_of_the_year((2013,), 8), None, "standard")
    assert iso_day(int(whole.end[-1]), "standard") == "2014-01-01"


def test_eight_days_that_run_on_over_new_year_are_no_composites():
    stamps = to_instant("standard", 2013) + 8 * DAY * np.arange(100)
    time = time_axis(stamps, None, "standard")
    assert time.length == 8 * DAY
    assert (time.duration == 8 * DAY).all()


def test_inferred_steps_never_overlap():
    stamps = to_instant("standard", 2013) + DAY * np.array([2, 7, 12, 17, 20, 25, 30, 35])
    time = time_axis(stamps, None, "standard")
    assert overlapping(time) is None
    assert time.duration.tolist()[3] == 3 * DAY


def test_seventy_three_pentads_keep_their_dates_in_leap_years():
    made = periods_between(
        PeriodRule("pentad73"),
        "standard",
        to_instant("standard", 2011),
        to_instant("standard", 2013),
    )
    assert len(made) == 146
    assert made.end[-1] == to_instant("standard", 2013)
    assert (made.end - made.start).max() == 6 * DAY
    assert made.labels[np.argmax(made.end - made.start)] == "2012-s05-12"
    assert made.start[73 + 12] == to_instant("standard", 2012, 3, 2)
    time = time_axis(made.start, None, "standard")
    assert time.length == "pentad73"
    assert (time.end == made.end).all()


@pytest.mark.parametrize("kind", ["dekad", "pentad"])
def test_dekads_and_pentads_may_be_stamped_at_their_last_day(kind):
    made = periods_of(kind, 2012, 2013)
    time = time_axis(made.end - DAY, None, "standard")
    assert time.length == kind
    assert (time.start == made.start).all()


@pytest.mark.parametrize("kind", ["dekad", "pentad"])
def test_october_1582_has_the_parts_that_its_days_leave(kind):
    first, last = to_instant("standard", 1582, 9), to_instant("standard", 1582, 12)
    made = periods_between(PeriodRule(kind), "standard", first, last)
    assert (made.start[1:] == made.end[:-1]).all()
    assert (made.start[0], made.end[-1]) == (first, last)
    october = [label for label in made.labels if "-10-" in label]
    assert len(october) == {"dekad": 3, "pentad": 5}[kind]


def test_hours_accumulated_to_their_stamp_end_there():
    stamps = to_instant("standard", 2013) + HOUR * np.arange(1, 25)
    time = time_axis(stamps, None, "standard", accumulated=True)
    assert (time.start[0], time.end[-1]) == (
        to_instant("standard", 2013),
        to_instant("standard", 2013, 1, 2),
    )
    assert "end of its step" in time.how
    daily = time_axis(
        to_instant("standard", 2013) + DAY * np.arange(9), None, "standard", accumulated=True
    )
    assert daily.start[0] == to_instant("standard", 2013)


@pytest.mark.parametrize(
    ("calendar", "year", "number", "expected"),
    [
        ("standard", 1, 12, True),
        ("proleptic_gregorian", 0, 12, True),
        ("noleap", 1, 12, True),
        ("standard", 1500, 12, True),
        ("noleap", 1500, 12, False),
        ("standard", 2001, 12, False),
        ("standard", 1, 24, False),
    ],
)
def test_the_cycle_of_a_year_that_is_none_is_a_climatology(calendar, year, number, expected):
    stamps = np.array([to_instant(calendar, year + n // 12, n % 12 + 1) for n in range(number)])
    assert is_cycle_without_year(stamps, calendar) is expected
