"""Runs of units give the same whichever way they are cut, and merge as a tree."""

import itertools

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo.core import stretches
from bavlo.core.measures import OverlayIndex, parse_measure
from bavlo.core.partials import Rules
from bavlo.core.periods import Fold
from bavlo.core.reductions import CellFirst, RegionFirst
from bavlo.core.stretches import Across, Pairwise, Reducing, plan_stretches
from bavlo.engine.units import grouped, plan_units
from support import daily, folding_of, some_overlay


@given(st.integers(1, 200))
def test_neighbours_merge_pair_by_pair_and_stay_in_order(count):
    tree = Pairwise(lambda a, b: (*a[:-1], *b[:-1], max(a[-1], b[-1]) + 1))
    for n in range(count):
        tree.add((n, 0))
    *leaves, height = tree.close()
    assert leaves == list(range(count))
    assert height == (count - 1).bit_length()


@given(st.integers(1, 200), st.integers(0, 5))
def test_trees_that_grow_no_further_are_taken_one_after_the_other(count, highest):
    """What is held at once then goes with the height and not with the number of parts."""
    tree, held = Pairwise(lambda a, b: (*a, *b), highest), []
    for n in range(count):
        tree.add((n,))
        held.append(len(tree._waiting))
    assert max(held) <= highest + 1
    assert tree.close() == tuple(range(count))


@given(
    sizes=st.lists(st.integers(1, 400), min_size=1, max_size=8),
    values=st.integers(1, 60),
    more=st.integers(0, 300),
)
def test_units_that_are_read_as_one_do_not_depend_on_what_stands_before(sizes, values, more):
    """A period stays whole if a group can hold it; else its groups begin at its own first step."""

    def groups(sizes):
        step = np.arange(sum(sizes))
        period = np.repeat(np.arange(len(sizes)), sizes)
        fold = Fold(step, period, np.ones(step.size), np.array(sizes, float))
        units = plan_units(fold, 10, values * 10)
        together = grouped(fold, units, 10, (values + more) * 10)
        assert [part for each in together for part in each.each] == units
        assert all(each.last - each.first <= values + more for each in together)
        return [each.first for each in together]

    edges = np.array(groups(sizes))
    for begin, size in zip(np.cumsum([0, *sizes[:-1]]).tolist(), sizes, strict=True):
        inside = edges[(edges > begin) & (edges < begin + size)] - begin
        assert inside.tolist() == groups([size])[1:]


@pytest.mark.parametrize("every", ["day", "pentad", "month", "year", "all"])
@pytest.mark.parametrize("order", [RegionFirst, CellFirst])
@pytest.mark.parametrize("combine", ["total", "mean", "max"])
def test_stretches_give_what_one_unit_gives(every, order, combine, monkeypatch):
    monkeypatch.setattr(stretches, "LEAST_UNITS", 3)
    monkeypatch.setattr(stretches, "MOST_UNITS", 5)
    rng = np.random.default_rng(6)
    block = rng.integers(0, 64, (900, 10)) / 4  # sums are exact, so any order gives the same
    block[rng.random(block.shape) < 0.01] = np.nan
    shared = some_overlay(rng, 3, 10)
    shared.weight[:] = 1.0
    shared.region_weight[:] = np.diff(shared.indptr)
    folding = folding_of(daily(900), every)
    reduction = order(
        OverlayIndex(shared), folding, (parse_measure("mean"), parse_measure("p90")), Rules(combine)
    )
    whole = reduction.finish(reduction.update(stretches.Unit(0, 900), block))

    units = plan_units(folding.fold, 10, 70)
    planned = plan_stretches(folding.fold, units)
    assert [u for s in planned for u in s.units] == units
    assert [s.goes_on for s in planned[:-1]] == [s.begun for s in planned[1:]]
    long = every in ("year", "all")
    assert any(s.goes_on is not None for s in planned) == long
    assert max(len(s.units) for s in planned) <= 5

    across = Across(reduction.merge)
    results = []
    for stretch in planned:
        reducing = Reducing(reduction, stretch)
        for unit in stretch.units:
            reducing.add(reduction.update(unit, block[unit.first : unit.last]))
        made = reducing.close()
        over = [reduction.finish(p) for p in across.add(stretch, made.first, made.last)]
        results += [*over, *made.results]
    assert [r.first for r in results] == list(
        itertools.accumulate([len(r.value) for r in results[:-1]], initial=0)
    )
    for name in ("value", "area_valid", "steps"):
        np.testing.assert_allclose(
            np.concatenate([getattr(r, name) for r in results]),
            getattr(whole, name),
            rtol=1e-13,
            equal_nan=True,
        )
