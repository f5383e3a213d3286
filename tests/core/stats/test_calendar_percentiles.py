"""Percentile thresholds and the bootstrap against taking each sample by hand."""

import functools
import subprocess
import sys

import numpy as np
import pytest

from bavlo import compiled
from bavlo.core.stats import bootstrap
from bavlo.core.stats.bootstrap import percentiles_and_exceedance
from bavlo.core.stats.calendar_percentiles import (
    at_steps,
    base_values,
    by_calendar_day,
    calendar_days,
    of_days,
)
from bavlo.core.stats.normals import Base
from bavlo.core.time.axis import DAY, to_dates, to_instant
from bavlo.core.time.steps import time_axis

BASE = Base(1991, 1998)


def record(calendar="standard", years=9, seed=3, gaps=0.0, digits=1):
    start = to_instant(calendar, 1991)
    steps = (to_instant(calendar, 1991 + years) - start) // DAY
    time = time_axis(start + DAY * np.arange(steps), None, calendar)
    rng = np.random.default_rng(seed)
    values = np.round(rng.normal(20, 4, (steps, 3)), digits)  # rounded, so that there are ties
    values[rng.random(values.shape) < gaps] = np.nan
    return time, values


def window_sample(time, values, month, day, years):
    """Values within two days of a calendar day of some years, day by day; no 29 February."""
    plain = [
        (m, d)
        for m, n in enumerate([31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31], 1)
        for d in range(1, n + 1)
    ]
    if time.calendar == "360_day":
        plain = [(m, d) for m in range(1, 13) for d in range(1, 31)]
    at = plain.index((month, day))
    wanted = {plain[(at + s) % len(plain)] for s in range(-2, 3)}
    steps = [n for y in years for n, date in dates_by_year(time)[y] if date in wanted]
    return values[steps]


@functools.cache
def dates_by_year(time):
    """Number, month and day of each step, by year."""
    out = {}
    for n, date in enumerate(to_dates(time.start, time.calendar)):
        out.setdefault(date.year, []).append((n, (date.month, date.day)))
    return out


@pytest.mark.parametrize("calendar", ["standard", "360_day", "noleap"])
@pytest.mark.parametrize("percent", [10.0, 50.0, 90.0, 99.0])
@pytest.mark.parametrize("gaps", [0.0, 0.02])
def test_thresholds_are_percentiles_of_five_days_around(calendar, percent, gaps):
    time, values = record(calendar, gaps=gaps)
    found = by_calendar_day(values, calendar_days(time), BASE, (percent,))[0]
    for month, day, at in ((1, 1, 0), (2, 28, 58 - (calendar == "360_day")), (7, 15, None)):
        if at is None:
            at = 194 if calendar == "360_day" else 195
        if calendar == "360_day":
            at = 30 * (month - 1) + day - 1
        sample = window_sample(time, values, month, day, range(1991, 1999))
        expected = [
            np.percentile(column[~np.isnan(column)], percent, method="median_unbiased")
            for column in sample.T
        ]
        np.testing.assert_allclose(found[at], expected, rtol=1e-12)


def test_the_limit_of_29_february_is_the_mean_of_its_neighbours():
    time, values = record()
    days = calendar_days(time)
    limits = by_calendar_day(values, days, BASE, (90.0,))[0]
    dates = to_dates(time.start, "standard")
    leap = next(n for n, d in enumerate(dates) if (d.month, d.day) == (2, 29))
    steps = at_steps(limits, days)
    np.testing.assert_allclose(steps[leap], (steps[leap - 1] + steps[leap + 1]) / 2)


@pytest.mark.slow
@pytest.mark.parametrize(
    ("percent", "above"), [(90.0, True), pytest.param(10.0, False, marks=pytest.mark.slow)]
)
@pytest.mark.parametrize("gaps", [0.0, 0.01])
def test_the_bootstrap_is_that_of_each_year_left_out_by_hand(percent, above, gaps):
    time, values = record(gaps=gaps, digits=0)
    days = calendar_days(time)
    found = percentiles_and_exceedance(values, days, BASE, (percent,))[1][0]
    dates = to_dates(time.start, "standard")
    rng = np.random.default_rng(1)
    years = range(1991, 1999)
    for step in rng.choice(np.flatnonzero((days.year <= 1998) & (days.day >= 0)), 25):
        date, own = dates[step], dates[step].year
        for column in range(3):
            value = values[step, column]
            if np.isnan(value):
                assert np.isnan(found[step, column])
                continue
            judged = []
            for other in years:
                if other == own:
                    continue
                chosen = [y for y in years if y != own] + [other]
                sample = window_sample(time, values[:, column], date.month, date.day, chosen)
                limit = np.percentile(sample[~np.isnan(sample)], percent, method="median_unbiased")
                judged.append(value > limit if above else value < limit)
            np.testing.assert_allclose(found[step, column], np.mean(judged), atol=1e-12)


@pytest.mark.parametrize("kind", [np.float32, np.float64])
@pytest.mark.parametrize("gaps", [0.0, 0.02, 0.4, 0.97])
@pytest.mark.parametrize("percent", [1.0, 10.0, 50.0, 90.0, 99.5])
def test_the_compiled_limits_of_stand_ins_are_the_others_to_the_last_bit(
    kind, gaps, percent, monkeypatch
):
    pytest.importorskip("numba")
    rng = np.random.default_rng(3)
    window = np.round(rng.gamma(1, 5, (40, 5, 30)), 1).astype(kind)  # with many equal values
    window[rng.random(window.shape) < gaps] = np.nan
    ordered = bootstrap._Ordered.of(window)
    column, year = rng.integers(0, 40, 400), rng.integers(0, 30, 400)
    compiled.use()
    assert compiled.in_use()
    found = ordered.limits(column, year, percent)
    monkeypatch.setenv(compiled.SWITCH, "0")
    plain = ordered.limits(column, year, percent)
    np.testing.assert_array_equal(found, plain)


@pytest.mark.parametrize(
    ("kind", "gaps", "digits"),
    [
        (np.float32, 0.0, 0),
        (np.float64, 0.01, 0),
        (np.float32, 0.15, 3),
        (np.float64, 0.15, 0),
        (np.float64, 0.97, 3),
    ],
)
def test_compiled_calendar_days_are_the_others_to_the_last_bit(kind, gaps, digits, monkeypatch):
    pytest.importorskip("numba")
    time, values = record(years=7, gaps=gaps, digits=digits)
    values = np.concatenate([values, values[::-1], values * 0, -values, np.abs(values)], axis=1)
    values[:900, 4] = np.nan  # a column that lacks years
    values = values.astype(kind)
    days, base = calendar_days(time), Base(1991, 1996)
    percents = (0.0, 10.0, 50.0, 90.0, 99.0)
    compiled.use()
    assert bootstrap._by_kernel(base_values(values, days, base), percents) is not None
    found = percentiles_and_exceedance(values, days, base, percents)
    limits = by_calendar_day(values, days, base, percents)
    monkeypatch.setenv(compiled.SWITCH, "0")
    assert bootstrap._by_kernel(base_values(values, days, base), percents) is None
    plain = percentiles_and_exceedance(values, days, base, percents)
    np.testing.assert_array_equal(limits, plain[0])
    for each, other in zip(found, plain, strict=True):
        np.testing.assert_array_equal(each, other)
    assert np.isnan(plain[1]).all() == (gaps > 0.9)


def test_a_small_job_does_not_load_the_compiler():
    code = (
        "import sys; import bavlo.jobs.extremes_plan, bavlo.jobs.extremes, bavlo.jobs.series;"
        "print('numba' in sys.modules)"
    )
    ran = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert ran.stdout.strip() == "False"


def test_percentiles_of_wet_days_leave_the_dry_ones_out():
    time, values = record()
    values = np.where(values < 20, 0.5, values)
    found = of_days(values, calendar_days(time), BASE, (95.0,), 1.0)[0]
    inside = np.array([d.year <= 1998 for d in to_dates(time.start, "standard")])
    for column in range(3):
        wet = values[inside, column]
        expected = np.percentile(wet[wet >= 1], 95, method="median_unbiased")
        np.testing.assert_allclose(found[column], expected)
