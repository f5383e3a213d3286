"""Values that accumulate and start again."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo.core.time.axis import DAY, HOUR, TimeAxis, to_instant
from bavlo.core.values.accumulation import (
    ResetRule,
    differences,
    falls_twice,
    find_accumulation,
)


def hourly(steps, hours=1, first=(2013, 1, 1)):
    start = to_instant("standard", *first) + hours * HOUR * np.arange(steps)
    return TimeAxis(start, start + hours * HOUR, "standard", hours * HOUR, "")


def rain(steps, cells=30, seed=1, wet=0.3):
    rng = np.random.default_rng(seed)
    return rng.gamma(0.5, 4, (steps, cells)) * (rng.random((steps, cells)) < wet)


def accumulated(amounts, anew):
    """Sums since the last step that begins anew."""
    out = amounts.copy()
    for n in range(1, len(out)):
        if not anew[n]:
            out[n] += out[n - 1]
    return out


@pytest.mark.parametrize(
    ("hours", "every", "rule"),
    [
        (1, 24, ResetRule("day", (0,))),
        (3, 8, ResetRule("day", (0,))),
        (12, 2, ResetRule("day", (0,))),
        (6, 2, ResetRule("day", (0, 12 * HOUR))),
        (24, 5, ResetRule("interval", (to_instant("standard", 2013, 1, 6), 5 * DAY))),
    ],
)
def test_accumulations_are_known_by_what_they_never_do(hours, every, rule):
    time = hourly(240, hours)
    amounts = rain(240)
    values = accumulated(amounts, np.arange(240) % every == 0)
    found = find_accumulation(values, time, 0.0)
    assert found.rule == rule
    assert found.resets >= 3
    assert not falls_twice(values, 0.0)


def evaporation(steps, cells=30, seed=2, dew=0.02):
    """Hourly, counted downward: strong by day, with some dew in the nights."""
    rng = np.random.default_rng(seed)
    sun = np.maximum(np.sin(2 * np.pi * (np.arange(steps) % 24 - 6) / 24), 0)[:, None]
    by_day = -0.5 * sun * rng.uniform(0.3, 1, (steps, cells))
    return by_day + dew * (sun == 0) * rng.uniform(0, 1, (steps, cells))


@pytest.mark.parametrize("dew", [0.0, 0.02])
@pytest.mark.parametrize("sign", [1, -1])
def test_accumulations_are_known_by_their_resets_whatever_their_sign(sign, dew):
    values = sign * accumulated(evaporation(240, dew=dew), np.arange(240) % 24 == 0)
    found = find_accumulation(values, hourly(240), 0.0)
    assert found.rule == ResetRule("day", (0,))
    assert found.downward == (sign == 1)
    assert not falls_twice(values, 0.0)
    rain_down = -accumulated(rain(240), np.arange(240) % 24 == 0)
    assert find_accumulation(rain_down, hourly(240), 0.0).rule == found.rule


@pytest.mark.parametrize("sign", [1, -1])
@pytest.mark.parametrize("seed", range(5))
def test_ordinary_evaporation_is_not_taken_for_accumulated(sign, seed):
    values = sign * evaporation(240, seed=seed)
    assert find_accumulation(values, hourly(240), 0.0) is None
    rng = np.random.default_rng(seed)
    balance = rng.normal(0, 3, (240, 30))  # rain minus evaporation
    assert find_accumulation(balance, hourly(240, 24), 0.0) is None


@pytest.mark.parametrize(("by", "rule"), [(5, ("month", (1, 0))), (7, ("year", (1, 1, 0)))])
def test_accumulations_may_begin_with_the_month_or_the_year(by, rule):
    time = hourly(1500, 24)
    days = np.datetime64("2013-01-01") + np.arange(1500)
    unit = days.astype(f"M8[{'M' if by == 5 else 'Y'}]")
    values = accumulated(rain(1500), np.append(True, unit[1:] != unit[:-1]))
    found = find_accumulation(values, time, 0.0)
    assert (found.rule.every, found.rule.marks) == rule


@given(st.integers(0, 10_000), st.sampled_from([1, 3, 6, 12, 24]), st.floats(0.05, 1))
def test_ordinary_rain_is_not_taken_for_accumulated(seed, hours, wet):
    values = rain(120, seed=seed, wet=wet)
    assert find_accumulation(values, hourly(120, hours), 0.0) is None


def test_rain_of_the_same_showers_everywhere_is_not_taken_for_accumulated():
    shower = rain(200, cells=1, seed=5, wet=0.5)
    assert find_accumulation(np.tile(shower, (1, 30)), hourly(200, 24), 0.0) is None
    alternate = np.tile([[5.0], [0.0]], (100, 30))
    assert find_accumulation(alternate, hourly(200, 24), 0.0) is None


def test_packed_accumulations_may_fall_by_one_step_of_their_packing():
    values = accumulated(rain(240), np.arange(240) % 24 == 0)
    rng = np.random.default_rng(3)
    noisy = np.round(values * 10) / 10 - 0.1 * (rng.random(values.shape) < 0.2) * (values > 1)
    assert find_accumulation(noisy, hourly(240), 0.0) is None
    assert find_accumulation(noisy, hourly(240), 0.1).rule == ResetRule("day", (0,))


def test_accumulations_that_begin_anew_at_any_time_have_no_rule():
    rng = np.random.default_rng(9)
    anew = np.zeros(300, bool)
    anew[np.cumsum(rng.integers(7, 25, 12))] = True
    found = find_accumulation(accumulated(rain(300), anew), hourly(300), 0.0)
    assert found.irregular
    assert found.rule is None


def test_what_only_grows_is_known_where_there_is_enough_of_it():
    values = accumulated(rain(48), np.zeros(48, bool))
    found = find_accumulation(values, hourly(48), 0.0)
    assert (found.resets, found.rule, found.irregular) == (0, None, False)
    assert find_accumulation(values[:6], hourly(6), 0.0) is None
    assert find_accumulation(values[:, :4], hourly(48), 0.0) is None


def test_differences_know_missing_steps_and_what_began_earlier():
    # Each day anew; the record begins at 02:00, lacks 05:00 of day 1, 23:00 to 01:00, and more.
    ends = np.array([2, 3, 4, 6, 22, 23, 26, 27, 49])
    start = to_instant("standard", 2013)
    time = TimeAxis(start + (ends - 1) * HOUR, start + ends * HOUR, "standard", HOUR, "")
    instants = ResetRule("day", (0,)).instants(int(time.start[0]), int(time.end[-1]), "standard")
    beginnings = instants[np.searchsorted(instants, time.end, side="left") - 1]
    steps = differences(time, beginnings, "")
    assert steps.left_out == 1
    assert steps.later.tolist() == [1, 2, 3, 4, 5, 6, 7, 8]
    assert steps.earlier.tolist() == [0, 1, 2, 3, 4, -1, 6, -1]
    hours = ((steps.time.start - start) // HOUR).tolist()
    assert hours == [2, 3, 4, 6, 22, 24, 26, 48]
    # What fell from 23:00 to midnight is in no difference: a gap.
    assert steps.time.gaps().tolist() == [5, 7]


def test_a_record_that_begins_with_an_accumulation_keeps_its_first_step():
    time = hourly(5)
    steps = differences(time, np.full(5, time.start[0]), "")
    assert steps.earlier.tolist() == [-1, 0, 1, 2, 3]
    assert steps.left_out == 0
