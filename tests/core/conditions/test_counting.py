"""Counts and spells against plain loops over days."""

import functools
import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bavlo import compiled
from bavlo.core.conditions.conditions import parse_condition
from bavlo.core.conditions.counting import Counting, Occurrence, PeriodSteps
from bavlo.core.conditions.counts import COUNTS, NEVER
from bavlo.core.reduce.merging import MergeTree
from bavlo.errors import RequestError


def places_of(period, follows, cut):
    period = np.array(period)
    periods = range(period.max() + 1)
    begin = np.array([np.flatnonzero(period == p)[0] for p in periods])
    end = np.array([np.flatnonzero(period == p)[-1] + 1 for p in periods])
    return PeriodSteps(period, begin, end, np.array(follows), cut)


def plainly(met, values, period, follows, least, cut):
    """All counts of one column, day by day."""
    runs, run = [], []
    for t, one in enumerate(met):
        if run and (not one or not follows[t]):
            runs.append(run)
            run = []
        if one:
            run.append(t)
    runs += [run] if run else []
    out = {}
    for p in range(max(period) + 1):
        days, spells, lengths = [], [], []
        for run in runs:
            if len(run) < least:
                continue
            mine = [t for t in run if period[t] == p]
            days += mine
            if cut and mine:
                spells.append(len(mine))
            if not cut and period[run[-1]] == p:
                spells.append(len(run))
            if mine:  # those still running at the period's end count up to there
                lengths.append(len(mine) if cut else run.index(mine[-1]) + 1)
        out[p] = {
            "days": len(days),
            "spells": len(spells),
            "longest": max(lengths, default=0),
            "total": sum(values[t] for t in days),
            "first": min(days, default=NEVER),
            "last": max(days, default=-1),
        }
    return out


@st.composite
def records(draw):
    steps = draw(st.integers(4, 40))
    cut = draw(st.booleans())
    size = draw(st.integers(1, 9))
    period = np.arange(steps) // size
    if cut:  # periods that do not adjoin, as the summers of years
        period = np.where(np.arange(steps) % size < max(1, size - 1), period, -1)
        period = np.unique(period, return_inverse=True)[1] - (period.min() < 0)
    follows = np.array(draw(st.lists(st.integers(0, 9), min_size=steps, max_size=steps))) > 0
    seed = draw(st.integers(0, 999))
    share = draw(st.sampled_from([0.3, 0.7, 0.95, 1.0]))
    met = np.random.default_rng(seed).random((steps, 3)) < share
    cuts = draw(st.lists(st.integers(1, steps - 1), max_size=5))
    return period, follows, met, sorted({0, *cuts, steps}), cut


@settings(max_examples=150)
@given(records(), st.integers(1, 6), st.randoms(use_true_random=False))
def test_counts_are_those_of_a_plain_loop_however_the_record_is_cut(record, least, random):
    period, follows, met, cuts, cut = record
    values = np.arange(met.size, dtype=float).reshape(met.shape)
    counting = Counting(places_of(period, follows, cut), tuple(COUNTS), least)
    if not counting.mergeable:
        cuts = [cuts[0], cuts[-1]]
    parts = [
        counting.update(
            a,
            Occurrence(
                met[a:b], np.ones((1, 3), bool), {"total": values[a:b]} | {"excess": values[a:b]}
            ),
        )
        for a, b in itertools.pairwise(cuts)
    ]
    while len(parts) > 1:  # neighbours merge in any order
        n = random.randrange(len(parts) - 1)
        parts[n : n + 2] = [counting.merge(parts[n], parts[n + 1])]
    state = counting.close(parts[0])
    for column in range(3):
        expected = plainly(met[:, column], values[:, column], period, follows, least, cut)
        for p, counts in expected.items():
            row = state.row(p)
            found = {n: state.counts[n][row, ..., column] for n in counts}
            found["total"] = found["total"][0]
            assert found == counts


@settings(max_examples=150)
@given(records(), st.integers(1, 6), st.sampled_from([0, 1, 9]))
def test_periods_given_out_early_are_final_and_the_same_in_trees_of_any_shape(
    record, least, highest
):
    """Sums of numbers that no float64 can add up in two orders are the same to the last bit."""
    period, follows, met, cuts, _ = record
    counting = Counting(places_of(period, follows, False), tuple(COUNTS), least)
    values = np.random.default_rng(met.size).lognormal(0, 8, met.shape)
    given_out = {}

    def settled(state):
        periods, counts, rest = counting.settled(state)
        take(periods, counts)
        return rest

    def take(periods, counts):
        for row, p in enumerate(periods.tolist()):
            assert p not in given_out
            given_out[p] = {name: array[row] for name, array in counts.items()}

    tree = MergeTree(lambda a, b: settled(counting.merge(a, b)), highest)
    parts = []
    for a, b in itertools.pairwise(cuts):
        sums = dict.fromkeys(("total", "excess"), values[a:b])
        parts.append(counting.update(a, Occurrence(met[a:b], np.ones((1, 3), bool), sums)))
        tree.add(settled(parts[-1]))
    last = counting.close(tree.close())
    take(last.periods, last.counts)
    whole = counting.close(functools.reduce(counting.merge, parts))
    for row, p in enumerate(whole.periods.tolist()):
        for name, counts in whole.counts.items():
            assert (given_out[p][name] == counts[row]).all(), name
    assert len(given_out) == len(whole.periods)


@pytest.mark.parametrize("least", [1, 2, 6])
@pytest.mark.parametrize("share", [0.1, 0.6, 0.95, 1.0])
@pytest.mark.parametrize("begin", [0, 40])
def test_compiled_runs_are_the_others(least, share, begin, monkeypatch):
    pytest.importorskip("numba")
    rng = np.random.default_rng(int(10 * share) + least)
    steps, columns = 150, 70
    period = np.repeat([0, 0, 1, -1, 2, 3, 3, -1, 4, 5], 20)[: begin + steps]
    follows = rng.random(period.size) > 0.03
    edges = np.zeros(6, np.int64)
    where = PeriodSteps(period, edges, edges, follows, cut=False)
    occurs = rng.random((steps, columns)) < share
    occurs[:, :5] = True
    given = Occurrence(occurs, np.ones((1, columns), bool), {"total": rng.random(occurs.shape)})
    compiled.use()
    found = []
    for wanted in "10":
        monkeypatch.setenv(compiled.SWITCH, wanted)
        assert compiled.in_use() == (wanted == "1")
        counts = ("days", "spells", "longest", "total", "first", "last")
        found.append(Counting(where, counts, least).update(begin, given))
    one, other = found
    assert one.counts.keys() == other.counts.keys()
    for name, array in one.counts.items():
        np.testing.assert_array_equal(array, other.counts[name], name)
        assert array.dtype == other.counts[name].dtype
    for name in ("head", "tail"):
        np.testing.assert_array_equal(getattr(one, name), getattr(other, name), name)
    for name in ("head_sums", "tail_sums"):
        assert getattr(one, name).keys() == getattr(other, name).keys()


@pytest.mark.parametrize(
    ("text", "place"),
    [
        ("rain 20 mm", "quotes"),
        ("rain >", "character 7"),
        ("rain > 20 mm for days", "character 18"),
        ("rain > p95 of dry days", "dry days"),
        ("rain > 20 mm and", "character 17"),
        ("> 5 mm for 3 weeks", "character 14"),
    ],
)
def test_an_error_in_a_condition_points_at_its_place(text, place):
    with pytest.raises(RequestError) as error:
        parse_condition(text)
    assert place in str(error.value)


@pytest.mark.parametrize(
    "text",
    [
        "rain >= 20 mm",
        "> 0.5 mm day-1",
        "pr > 3e-05 kg m-2 s-1",
        "tmin < -2.5 degC",
        "tmax > p90 and tmin > p90 for 3 days",
        "rain > p95 of wet days",
        "rain <= p10 of all days for 5 steps",
        "tmax > limit",
        "tmax > p99.5 by calendar day",
    ],
)
def test_a_condition_is_told_as_it_was_given(text):
    assert str(parse_condition(text)) == text
    assert str(parse_condition(str(parse_condition(text)))) == text


def test_a_year_without_a_wet_day_is_not_one_without_a_dry_spell():
    period = np.repeat([0, 1, 2], 365)
    dry = np.ones((3 * 365, 1), bool)
    dry[[300, 800]] = False
    counting = Counting(places_of(period, dry[:, 0] | True, False), ("longest", "spells"), 1)
    state = counting.close(counting.update(0, Occurrence(dry, np.ones((1, 1), bool))))
    # From day 301 on; up to the end of the second year; up to day 800; and from there to the end.
    assert state.counts["longest"][:, 0].tolist() == [300, 429, 499]
    assert state.counts["spells"][:, 0].tolist() == [1, 0, 2]
