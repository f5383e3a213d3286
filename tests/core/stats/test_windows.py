"""Running values, the WMO rule for months, and periods cut to the same span."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from bavlo.core.reduce.period_state import PeriodSums, Rules, find_gaps
from bavlo.core.stats.windows import running
from bavlo.core.time.axis import DAY, iso_days, to_instant
from bavlo.core.time.periods import PeriodAxis, parse_every, periods_between, same_span
from bavlo.core.values.combine import MEAN


def days(count, first=(2001, 1, 1)):
    start = to_instant("standard", *first) + DAY * np.arange(count)
    names = tuple(iso_days(start, "standard"))
    return PeriodAxis(names, tuple(n[5:] for n in names), start, start + DAY, "standard")


def test_running_totals_start_anew_with_each_period_and_stop_at_a_gap():
    steps = days(90)
    values = np.arange(90.0)[:, None].copy()
    values[40] = np.nan
    months = periods_between(
        parse_every("month"), "standard", int(steps.start[0]), int(steps.end[-1])
    )
    found, first = running(values, steps, months, "total", 1.0)
    np.testing.assert_allclose(found[:31, 0], np.cumsum(np.arange(31.0)))
    np.testing.assert_allclose(found[31:40, 0], np.cumsum(np.arange(31.0, 40)))
    assert np.isnan(found[40:59]).all()
    np.testing.assert_allclose(found[59:, 0], np.cumsum(np.arange(59.0, 90)))
    assert iso_days(first[[30, 31]], "standard") == ["2001-01-01", "2001-02-01"]
    means, _ = running(values, steps, months, "mean", 0.5)
    assert means[45, 0] == np.nanmean(values[31:46])


@given(st.lists(st.booleans(), min_size=31, max_size=31), st.integers(1, 30))
def test_a_month_lacks_at_most_ten_days_and_no_five_in_a_row(missing, cut):
    missing = np.array(missing)[:, None]
    start = np.arange(31.0)
    rules = Rules(MEAN, most_missing=(10.0, 4.0))

    def part(first, last):
        lost = missing[first:last]
        period = np.zeros(last - first, int)
        gaps = find_gaps(lost, start[first:last], start[first:last] + 1, period, 1)
        there = (~lost).sum(axis=0, keepdims=True).astype(float)
        return PeriodSums(there * 2, there, there, gaps)

    joined = part(0, cut).joined(part(cut, 31), 1, MEAN)
    value = joined.combined(rules, np.array([0.0]), np.array([31.0]))
    text = "".join("x" if m else "." for m in missing[:, 0])
    complete = text.count("x") <= 10 and "xxxxx" not in text
    assert np.isnan(value[0, 0]) != complete


def test_like_periods_are_cut_to_the_days_that_the_last_one_has():
    first, last = to_instant("standard", 2017, 1, 1), to_instant("standard", 2020, 3, 1)
    years = periods_between(parse_every("year", 7), "standard", first, last)
    cut = same_span(years, last)
    assert iso_days(cut.end - 1, "standard") == [
        "2017-02-28",
        "2018-02-28",
        "2019-02-28",
        "2020-02-29",
    ]
    months = periods_between(parse_every("month"), "standard", first, last)
    assert same_span(months, last) is months  # all of them are whole
