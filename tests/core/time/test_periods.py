"""Periods, steps and calendars against dates counted one by one."""

from datetime import date, timedelta

import cftime
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo.core.time.assignment import assign_steps, expected_steps
from bavlo.core.time.axis import DAY, HOUR, to_dates, to_instant
from bavlo.core.time.date_range import parse_range
from bavlo.core.time.periods import parse_every, periods_between, step_periods
from bavlo.core.time.steps import time_axis
from bavlo.errors import RequestError

CALENDARS = ["standard", "noleap", "all_leap", "360_day", "julian", "proleptic_gregorian"]


def axis(every, first=(2011, 6, 15), last=(2014, 3, 1), calendar="standard", **settings):
    return periods_between(
        parse_every(every, **settings),
        calendar,
        to_instant(calendar, *first),
        to_instant(calendar, *last),
    )


def days_from(first, count, calendar="standard", hour=0):
    start = to_instant(calendar, *first) + hour * HOUR
    return time_axis(start + DAY * np.arange(count), None, calendar)


@pytest.mark.parametrize(
    ("every", "first", "labels", "cycle"),
    [
        ("pentad", 0, ["2011-06-p3", "2011-06-p4"], "06-p3"),
        ("dekad", 0, ["2011-06-d2", "2011-06-d3"], "06-d2"),
        ("month", 0, ["2011-06", "2011-07"], "06"),
        ("season", 0, ["2011-JJA", "2011-SON", "2011/12-DJF"], "JJA"),
        ("year", 0, ["2011", "2012"], "year"),
        ("NDJFM", 0, ["2011/12-NDJFM", "2012/13-NDJFM"], "NDJFM"),
        ("06-15..09-30", 0, ["2011:06-15..09-30", "2012:06-15..09-30"], "06-15..09-30"),
        ("11-15..03-15", 0, ["2011/12:11-15..03-15"], "11-15..03-15"),
        ("all", 0, ["all"], "all"),
    ],
)
def test_periods_carry_the_promised_labels(every, first, labels, cycle):
    made = axis(every)
    assert list(made.labels[first : first + len(labels)]) == labels
    assert made.cycle[0] == cycle


def test_a_year_that_begins_in_july_is_named_for_both():
    made = axis("year", year_start=7)
    assert made.labels == ("2010/11", "2011/12", "2012/13", "2013/14")
    assert made.bounds_text()[0][1] == "2011-07-01"
    assert made.bounds_text()[1][1] == "2012-06-30"


@pytest.mark.parametrize("calendar", CALENDARS)
@pytest.mark.parametrize("every", ["day", "pentad", "dekad", "month", "season", "year"])
def test_periods_adjoin_and_hold_every_day_once(every, calendar):
    made = axis(every, calendar=calendar)
    assert (made.start[1:] == made.end[:-1]).all()
    time = days_from(
        (2011, 6, 15), (int(made.end[-1]) - to_instant(calendar, 2011, 6, 15)) // DAY, calendar
    )
    pairs = assign_steps(time, made, may_share=True)
    assert pairs.step.tolist() == list(range(len(time)))
    for step, period in zip(pairs.step[::97], pairs.period[::97], strict=True):
        day = to_dates(time.start[[step]], calendar)[0]
        if every in ("month", "day"):
            assert made.labels[period].startswith(f"{day.year:04d}-{day.month:02d}")


@pytest.mark.parametrize("calendar", CALENDARS)
def test_expected_days_are_those_of_the_calendar(calendar):
    made = axis("month", calendar=calendar)
    time = days_from((2011, 6, 15), 500, calendar)
    for label, expected in zip(made.labels, expected_steps(time, made), strict=True):
        year, month = map(int, label.split("-"))
        assert expected == cftime.datetime(year, month, 1, calendar=calendar).daysinmonth


def test_a_rain_day_from_six_to_six_belongs_to_the_day_that_holds_its_middle():
    start = to_instant("standard", 2011, 6, 29) + 6 * HOUR + DAY * np.arange(3)
    time = time_axis(start, np.column_stack([start, start + DAY]), "standard")
    made = axis("day", (2011, 6, 29), (2011, 7, 3))
    assert assign_steps(time, made, may_share=True).period.tolist() == [0, 1, 2]
    assert assign_steps(
        time, axis("month", (2011, 6, 1), (2011, 8, 1)), may_share=False
    ).period.tolist() == [0, 0, 1]


def test_a_long_step_that_straddles_two_months_is_shared_out_by_time():
    start = np.array([to_instant("standard", 2011, 6, 26)])
    time = time_axis(start, np.column_stack([start, start + 10 * DAY]), "standard")
    pairs = assign_steps(time, axis("month", (2011, 6, 26), (2011, 7, 6)), may_share=True)
    assert pairs.period.tolist() == [0, 1]
    np.testing.assert_allclose(pairs.share, [0.5, 0.5])
    with pytest.raises(RequestError, match="straddles"):
        assign_steps(time, axis("month", (2011, 6, 26), (2011, 7, 6)), may_share=False)


@pytest.mark.parametrize("calendar", CALENDARS)
def test_monthly_means_belong_to_their_month_wherever_they_are_stamped(calendar):
    starts = np.array([to_instant(calendar, 2011, m) for m in range(1, 13)])
    ends = np.append(starts[1:], to_instant(calendar, 2012))
    for stamps in (starts, (starts + ends) // 2, ends - DAY):
        time = time_axis(stamps, None, calendar)
        assert time.length == "month"
        assert (time.start == starts).all()
        assert (time.end == ends).all()
    told = time_axis(ends, None, calendar, stamp="end")
    assert (told.start == starts).all()
    bounded = time_axis(ends, np.column_stack([starts, ends]), calendar)
    assert (bounded.length, bounded.start[0]) == ("month", starts[0])


def test_dekads_and_pentads_are_recognised_by_their_days():
    for every, length in (("dekad", "dekad"), ("pentad", "pentad")):
        made = axis(every, (2011, 1, 1), (2012, 1, 1))
        time = time_axis(made.start, None, "standard")
        assert time.length == length
        assert (time.end == made.end).all()
        assert expected_steps(time, axis("year", (2011, 1, 1), (2012, 1, 1))).tolist() == [
            len(made)
        ]


@given(
    st.dates(date(1900, 1, 1), date(2100, 12, 31)), st.integers(0, 4000), st.sampled_from([0, 12])
)
def test_days_of_a_range_are_counted_with_both_ends(first, more, hour):
    last = first + timedelta(days=more)
    start, end = parse_range(f"{first}..{last}").instants("standard")
    assert (end - start) // DAY == more + 1
    time = days_from((first.year, first.month, first.day), more + 1, hour=hour)
    labels = step_periods(time).labels
    assert labels[0] == str(first)
    assert labels[-1] == str(last)
    assert len(labels) == more + 1


@pytest.mark.parametrize("text", ["2013..2012", "13", "2013-13", "2013-02-31", "a..b", "1..2..3"])
def test_a_range_that_makes_no_sense_is_refused(text):
    with pytest.raises(RequestError):
        parse_range(text)


def test_a_range_in_months_ends_with_the_last_day_of_the_month():
    start, end = parse_range("2012..2012-02").instants("standard")
    assert (end - start) // DAY == 31 + 29
    start, end = parse_range("2012-02-30..2012-02-30").instants("360_day")
    assert (end - start) // DAY == 1
    with pytest.raises(RequestError, match="does not have"):
        parse_range("2012-02-30").instants("standard")
