"""Conditions bound to variables: units, thresholds, and on which steps they hold."""

import dataclasses

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo.core.conditions.conditions import parse_condition
from bavlo.core.conditions.counts import COUNTS, CountUnits, add_exactly, any_count, parse_counts
from bavlo.core.values.kinds import Variable, quantity
from bavlo.errors import BavloError, RequestError
from bavlo.jobs.conditions import (
    ConditionVariable,
    bind_condition,
    check_counts,
    evaluate_condition,
    gaps_in,
)
from bavlo.jobs.events import Daily, _is_open, _peak, _runs
from bavlo.jobs.thresholds import split_tables
from bavlo.request.filling import make_request
from support import daily, step_weights_of, write_grid


@dataclasses.dataclass
class Source:
    """As much of a grid as a condition looks at."""

    variable: Variable
    files: tuple = ()


def variable(name, unit, steps=10, amounts=None):
    of = Variable(name, unit, cell_methods="time: sum" if unit == "mm" else "")
    what = quantity(of, name)
    total = what.total_unit or what.unit
    return ConditionVariable(name, Source(of), what, total, amounts, np.ones(steps))


def evaluate(text, values, **more):
    variables = {name: variable(name, unit) for name, unit in more.pop("units").items()}
    bound = bind_condition(parse_condition(text), variables, more.get("limits", {}), {})
    return evaluate_condition(bound, 0, values, ("total", "excess"))


@given(
    st.lists(st.floats(-5, 40, width=32), min_size=1, max_size=20),
    st.sampled_from([">", ">=", "<", "<="]),
    st.integers(0, 30),
)
def test_a_test_holds_where_the_comparison_does(numbers, operator, limit):
    column = np.array(numbers)[:, None]
    found = evaluate(f"rain {operator} {limit} mm", {"rain": column}, units={"rain": "mm"})
    expected = {
        ">": column > limit,
        ">=": column >= limit,
        "<": column < limit,
        "<=": column <= limit,
    }[operator]
    np.testing.assert_array_equal(found.occurs, expected)
    away = column - limit if ">" in operator else limit - column
    np.testing.assert_array_equal(found.sums["excess"], away)
    np.testing.assert_array_equal(found.sums["total"], column)


def test_thresholds_are_taken_into_the_unit_of_what_they_are_compared_with():
    heat = {"tmax": np.array([[308.14], [308.15], [308.16]])}
    found = evaluate("tmax >= 35 degC", heat, units={"tmax": "K"})
    assert found.occurs.ravel().tolist() == [False, True, True]
    rain = {"rain": np.array([[25.3], [25.5]])}
    assert evaluate("rain > 1 inch", rain, units={"rain": "mm"}).occurs.tolist() == [
        [False],
        [True],
    ]


def test_tests_joined_by_and_hold_together_and_gaps_in_either_are_gaps():
    values = {
        "tmax": np.array([[30.0, 30], [31, np.nan], [20, 31]]),
        "tmin": np.array([[20.0, np.nan], [25, 25], [25, 25]]),
    }
    found = evaluate(
        "tmax > 29 degC and tmin > 22 degC", values, units={"tmax": "degC", "tmin": "degC"}
    )
    assert found.occurs.tolist() == [[False, False], [True, False], [False, True]]
    assert found.valid.tolist() == [[True, False], [True, False], [True, True]]


def test_gaps_that_are_alike_on_all_steps_are_kept_once():
    values = np.ones((5, 3))
    values[:, 1] = np.nan
    assert gaps_in({"a": values})["a"].shape == (1, 3)
    values[2, 0] = np.nan
    assert gaps_in({"a": values})["a"].shape == (5, 3)


def test_limits_of_their_own_for_each_column_are_compared_column_by_column():
    limits = {"limit": np.array([1.0, 5, np.nan])}
    values = {"rain": np.array([[3.0, 3, 3]])}
    found = evaluate("rain > limit", values, units={"rain": "mm"}, limits=limits)
    assert found.occurs.tolist() == [[True, False, False]]
    assert found.valid.tolist() == [[True, True, False]]


@pytest.mark.parametrize(
    ("text", "units", "said"),
    [
        ("> 5 mm", {"rain": "mm", "snow": "mm"}, "does not say which variable"),
        ("hail > 5 mm", {"rain": "mm"}, "there is no grid hail"),
        ("rain > 5", {"rain": "mm"}, "5 has no unit"),
        ("rain > 5 K", {"rain": "mm"}, "cannot be compared with"),
        ("rain > p90", {"rain": "mm"}, "of which days is p90 of rain"),
        ("tmax > p90 of wet days", {"tmax": "K"}, "tmax has no wet days"),
        ("rain > other", {"rain": "mm"}, "there is no grid or table other"),
    ],
)
def test_a_condition_that_cannot_be_bound_says_why(text, units, said):
    variables = {name: variable(name, unit) for name, unit in units.items()}
    with pytest.raises(RequestError, match=said):
        bind_condition(parse_condition(text), variables, {}, {})


def test_a_state_has_no_total():
    bound = bind_condition(
        parse_condition("tmax > 20 degC"), {"tmax": variable("tmax", "degC")}, {}, {}
    )
    assert check_counts([bound], ("days", "excess")) == []
    with pytest.raises(RequestError, match="is a state and has no total"):
        check_counts([bound], ("days", "total"))


def test_counts_carry_their_units_and_rules():
    rain = CountUnits("days", "mm", is_state=False, daily=True)
    heat = CountUnits("days", "degC", is_state=True, daily=True)
    hours = CountUnits("steps", "degC", is_state=True, daily=False)
    units = {name: [count.unit(w) for w in (rain, heat, hours)] for name, count in COUNTS.items()}
    assert units["days"] == ["days", "days", "steps"]
    assert units["total"] == ["mm", "degC", "degC"]
    assert units["excess"] == ["mm", "degC day", "degC"]
    assert units["first"] == ["day", "day", "step"]
    assert units["share"] == ["1"] * 3
    assert CountUnits("days", "", is_state=False, daily=True).excess == "1"
    assert any_count(("days", "longest"), lambda count: count.follows_spells)
    assert not any_count(("days", "index"), lambda count: count.follows_spells)
    assert parse_counts(["steps", "days", "first"]) == ("days", "first")


@given(st.lists(st.floats(-1e12, 1e12), min_size=3, max_size=12))
def test_sums_with_what_rounding_lost_are_the_same_in_any_order(numbers):
    def total(values):
        out = np.zeros((2, 1))
        for value in values:
            out = add_exactly(out, np.array([[value], [0.0]]))
        return out

    forward, backward = total(numbers), total(numbers[::-1])
    assert forward[0, 0] == backward[0, 0]


def test_runs_end_at_gaps_in_time_and_open_where_the_record_has_no_data():
    share = np.array([np.nan, 1, 1, 0, 1, 1, 1, 0])
    follows = np.array([True, True, True, True, True, True, False, True])
    runs = _runs(share == 1, follows)
    assert runs == [(1, 3), (4, 6), (6, 7)]
    assert [_is_open(share, follows, a, b) for a, b in runs] == [True, True, True]
    assert not _is_open(np.array([0.0, 1, 0]), np.ones(3, bool), 1, 2)
    assert _peak(np.array([1.0, 9, np.nan]), above=True) == 1
    assert _peak(np.array([1.0, 9, np.nan]), above=False) == 0
    assert _peak(np.array([np.nan]), above=True) == 0


def test_sums_over_bricks_become_shares_and_means():
    day = Daily(2, 2)
    # Of each step and region: weights that meet it and have data, sums of values, their weights.
    day.add(np.array([0]), np.array([[[2.0], [0]], [[4.0], [4]], [[40.0], [8]], [[4.0], [4]]]))
    both = np.array([[1.0, 3], [2, 3], [8, 9], [2, 3]])
    day.add(np.array([0, 1]), np.repeat(both[:, None], 2, axis=1))
    day.divide(np.array([6.0, 30]), 0.5)
    np.testing.assert_allclose(day.share[:, 0], [0.5, 1 / 6])
    assert np.isnan(day.share[:, 1]).all()  # a tenth of the region has data
    np.testing.assert_allclose(day.mean[0], [8, 3])


def test_a_table_of_thresholds_is_told_from_a_grid(tmp_path):
    grid = write_grid(tmp_path / "rain.nc", np.ones((3, 2, 2)))
    good = tmp_path / "limits.csv"
    good.write_text("region,value,unit\nnorth,20,mm\nsouth,35.5,mm\n")
    given = {"grids": [f"rain={grid}", f"limit={good}"], "when": ["rain > limit"]}
    request, tables = split_tables(make_request("extremes", given))
    assert [argument.name for argument in request.grids.arguments] == ["rain"]
    assert tables["limit"].values == {"north": 20.0, "south": 35.5}
    assert tables["limit"].unit == "mm"
    for text, said in (
        ("name,value\na,1\n", "is no table of thresholds"),
        ("region,value,unit\na,1,mm\nb,2,inch\n", "has several units: inch, mm"),
        ("region,value\na,much\n", "column value"),
        ("region,value\na,1\na,2\n", "names a region twice"),
    ):
        good.write_text(text)
        with pytest.raises(BavloError, match=said):
            split_tables(make_request("extremes", given))


def test_step_weights_of_days_are_one():
    weights = step_weights_of(daily(31), "month")
    assert weights.assignment.step_ranges[0].tolist() == [0]
    assert weights.assignment.step_ranges[1].tolist() == [31]
    assert weights.period_length.tolist() == [31]
