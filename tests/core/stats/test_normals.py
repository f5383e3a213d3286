"""Normals, ranks, windows and the standardised precipitation index."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from bavlo.core.stats.anomalies import gamma_fit, ranks, spi
from bavlo.core.stats.normals import (
    Base,
    YearlyPeriods,
    default_base,
    normals,
    of_whole_years,
    parse_base,
    percentile_8,
)
from bavlo.core.stats.windows import windowed
from bavlo.core.time.axis import to_dates, to_instant
from bavlo.core.time.periods import PeriodRule, periods_between
from bavlo.errors import RequestError

BASE = Base(1991, 2020)


def years_of(first, last, calendar="standard", kind="month"):
    axis = periods_between(
        PeriodRule(kind), calendar, to_instant(calendar, first), to_instant(calendar, last + 1)
    )
    return axis, np.array([d.year for d in to_dates(axis.end - 1, calendar)])


@pytest.mark.parametrize(("missing", "there"), [(0, True), (6, True), (7, False)])
def test_a_normal_needs_four_fifths_of_the_base_years(missing, there):
    axis, year = years_of(1985, 2022)
    values = np.arange(len(axis), dtype=float)[:, None]
    july = np.array(axis.cycle) == "07"
    gone = july & (year >= 1991) & (year < 1991 + missing)
    values[gone] = np.nan
    found = normals(values, YearlyPeriods.of(axis), BASE, ("mean", "std", "min", "max"))
    place = found.cycle.index("07")
    kept = values[july & (year >= 1991) & (year <= 2020) & ~gone, 0]
    assert found.years[place, 0] == 30 - missing
    if there:
        assert found.values["mean"][place, 0] == pytest.approx(kept.mean())
        assert found.values["std"][place, 0] == pytest.approx(kept.std(ddof=1))
        assert found.values["max"][place, 0] == kept.max()
    else:
        assert np.isnan(found.values["mean"][place, 0])
    assert not np.isnan(found.values["mean"][found.cycle.index("08"), 0])


def test_years_that_the_data_do_not_reach_count_as_missing():
    axis, year = years_of(2000, 2020)
    found = normals(np.ones((len(axis), 1)), YearlyPeriods.of(axis), BASE, ("mean",))
    assert np.isnan(found.values["mean"]).all()
    with pytest.raises(RequestError, match=r"of 1991\.\.2020 only 21 years"):
        default_base(year)
    assert default_base(years_of(1997, 2022)[1]) == BASE
    assert str(parse_base("2001..2010")) == "2001..2010"
    for text in ("2010..2001", "2001", "01..10"):
        with pytest.raises(RequestError):
            parse_base(text)


def test_the_normal_of_29_february_is_the_mean_of_its_neighbours_unless_smoothed():
    axis, _ = years_of(1991, 2020, kind="day")
    rng = np.random.default_rng(1)
    values = rng.random((len(axis), 2))
    found = normals(values, YearlyPeriods.of(axis), BASE, ("mean",))
    leap = found.cycle.index("02-29")
    assert len(found.cycle) == 366
    mean = found.values["mean"]
    np.testing.assert_allclose(mean[leap], (mean[leap - 1] + mean[leap + 1]) / 2)
    plain = values[np.array(axis.cycle) == "07-09"].mean(axis=0)
    np.testing.assert_allclose(mean[found.cycle.index("07-09")], plain)
    smooth = normals(values, YearlyPeriods.of(axis), BASE, ("mean",), smooth=31)
    first = smooth.values["mean"][0]
    days = list(range(-15, 16))
    np.testing.assert_allclose(first, mean[days].mean(axis=0))
    no_leap, _ = years_of(1991, 2020, "noleap", "day")
    found = normals(np.ones((len(no_leap), 1)), YearlyPeriods.of(no_leap), BASE, ("mean",))
    assert len(found.cycle) == 365


def test_a_season_over_the_years_end_belongs_to_the_year_of_its_last_step():
    axis, year = years_of(1990, 2021, kind="season")
    winter = np.array(axis.cycle) == "DJF"
    values = np.where(winter, year, 0.0)[:, None]
    found = normals(values, YearlyPeriods.of(axis), Base(1991, 2020), ("min", "max"))
    place = found.cycle.index("DJF")
    assert (found.values["min"][place, 0], found.values["max"][place, 0]) == (1991, 2020)
    assert axis.labels[np.flatnonzero(winter & (year == 1991))[0]] == "1990/91-DJF"


@given(
    st.lists(st.floats(-100, 100), min_size=2, max_size=40),
    st.sampled_from([1, 5, 10, 50, 90, 95, 99]),
)
def test_percentiles_in_time_are_of_type_8(values, percent):
    found = percentile_8(np.array(values + [np.nan])[:, None], percent)[0]
    expected = np.percentile(values, percent, method="median_unbiased")
    assert found == pytest.approx(expected, abs=1e-9)


@given(st.lists(st.sampled_from([0.0, 1.0, 2.0, np.nan, 5.0]), min_size=1, max_size=12))
def test_rank_1_is_the_lowest_and_ties_share_the_lower_rank(values):
    found = ranks(np.array(values)[:, None])
    rank, of = found.rank, found.of
    there = [v for v in values if v == v]
    assert of[0] == len(there)
    for value, found in zip(values, rank[:, 0], strict=True):
        assert (found == 1 + sum(v < value for v in there)) if value == value else found != found


def test_windows_hold_only_periods_that_adjoin_and_are_whole():
    start = np.array([0, 31, 59, 90, 151, 181]) * 1
    end = np.array([31, 59, 90, 120, 181, 212])
    values = np.array([1.0, 2, np.nan, 4, 5, 6])[:, None]
    total, first = windowed(values, start, end, 2, "total")
    np.testing.assert_array_equal(total[:, 0], [np.nan, 3, np.nan, np.nan, np.nan, 11])
    assert first.tolist() == [-1, 0, 1, 2, -1, 4]
    mean, _ = windowed(values, start, end, 2, "mean")
    assert mean[1, 0] == pytest.approx((1 * 31 + 2 * 28) / 59)
    assert windowed(values, start, end, 2, "max")[0][1, 0] == 2


@pytest.mark.parametrize("shape", [0.3, 1.0, 4.0, 60.0])
def test_gamma_fits_are_those_of_maximum_likelihood(shape):
    values = stats.gamma.rvs(shape, scale=12, size=(40, 3), random_state=5)
    found, scale = gamma_fit(values)
    for k in range(3):
        expected, _, expected_scale = stats.gamma.fit(values[:, k], floc=0)
        assert found[k] == pytest.approx(expected, rel=1e-5)
        assert scale[k] == pytest.approx(expected_scale, rel=1e-5)


def test_spi_agrees_with_an_independent_fit_and_is_standard_over_its_base():
    rng = np.random.default_rng(3)
    values = rng.gamma(2.5, 30, (60, 4))
    base = np.arange(60) < 40
    found = spi(values, values[base])
    for k in range(4):
        fitted = stats.gamma(*stats.gamma.fit(values[base, k], floc=0))
        expected = np.clip(stats.norm.ppf(fitted.cdf(values[:, k])), -3, 3)
        np.testing.assert_allclose(found[:, k], expected, atol=1e-4)
    assert np.abs(found[base].mean(axis=0)).max() < 0.05
    assert ((found[base].std(axis=0) > 0.95) & (found[base].std(axis=0) < 1.05)).all()


def test_spi_mixes_in_the_chance_of_no_rain_and_needs_ten_values():
    rng = np.random.default_rng(4)
    values = rng.gamma(1.5, 20, (40, 1))
    values[:10] = 0
    found = spi(values, values)
    assert found[0, 0] == pytest.approx(stats.norm.ppf(0.25))
    shape, _, scale = stats.gamma.fit(values[10:, 0], floc=0)
    chance = 0.25 + 0.75 * stats.gamma.cdf(values[20, 0], shape, scale=scale)
    assert found[20, 0] == pytest.approx(stats.norm.ppf(chance), abs=1e-4)
    values[:31] = 0
    assert np.isnan(spi(values, values)).all()
    values[30] = 1.0
    assert not np.isnan(spi(values, values)).any()


@given(st.floats(-1e6, 1e6), st.integers(2, 60), st.floats(0, 100))
def test_a_percentile_of_equal_values_is_exactly_that_value(value, count, percent):
    """A day equal to its percentile is not beyond it."""
    assert percentile_8(np.full((count, 1), value), percent)[0] == value


@given(st.lists(st.sampled_from([0.0, 0.1 + 0.2, 0.3, 5.0, 7.5, np.nan]), min_size=1, max_size=30))
def test_ranks_share_the_lower_place_among_values_that_are_equal_but_for_rounding(values):
    column = np.array(values)[:, None]
    found = ranks(column)
    known = [v for v in values if v == v]
    for n, value in enumerate(values):
        if value != value:
            assert np.isnan(found.rank[n, 0])
            continue
        scale = max(abs(v) for v in known) or 1
        below = sum(v < value - 1e-12 * scale for v in known)
        equal = sum(abs(v - value) <= 1e-12 * scale for v in known)
        assert found.rank[n, 0] == below + 1
        assert found.tied[n, 0] == equal - 1
    assert found.of[0] == len(known)


def test_whole_years_leave_out_years_of_which_a_period_is_not_complete():
    periods = YearlyPeriods.of(years_of(2001, 2010)[0])
    values = np.arange(120.0)[:, None] * [1, 1]
    values[17, 0] = np.nan  # June 2002
    whole = of_whole_years(values, periods)
    year = np.repeat(np.arange(2001, 2011), 12)
    assert np.isnan(whole[year == 2002, 0]).all()
    assert not np.isnan(whole[year != 2002, 0]).any()
    assert (whole[:, 1] == values[:, 1]).all()
    found = normals(whole, periods, Base(2001, 2010), ("mean",))
    assert found.years[0].tolist() == [9, 10]
    assert found.values["mean"][0, 0] == np.delete(values[::12, 0], 1).mean()


def test_a_year_without_29_february_is_whole():
    start = to_instant("standard", 2003)
    days = periods_between(PeriodRule("day"), "standard", start, to_instant("standard", 2005))
    values = np.ones((len(days), 1))
    assert not np.isnan(of_whole_years(values, YearlyPeriods.of(days))).any()
    values[40] = np.nan
    assert np.isnan(of_whole_years(values, YearlyPeriods.of(days))[:365]).all()
