"""Sums of runs of cells are those of their cells one by one, with loops and without."""

import itertools
import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo import compiled
from bavlo.core.space.row_areas import BothAreas, CellAreas
from bavlo.core.stats.cell_sample import LEAST_COVER
from bavlo.core.stats.part_runs import PartRuns
from bavlo.core.stats.strips import PartSums
from bavlo.errors import RequestError

REGIONS = 4
AWAY = -9999.0


def a_part(seed, columns, share, dtype):
    """Numbers of three rows, some of them missing, and runs of cells in them."""
    rng = np.random.default_rng(seed)
    shape = 3, columns
    numbers = rng.normal(3, 100, shape).astype(dtype)
    gone = rng.random(shape) < share
    numbers[gone] = AWAY
    first, last, region = [], [], []
    for row in range(shape[0]):
        edges = np.unique(rng.integers(0, columns + 1, rng.integers(2, 9)))
        for a, b in itertools.pairwise(edges):
            for whose in rng.choice(REGIONS, rng.integers(0, 3), replace=False):
                first.append(row * columns + a)
                last.append(row * columns + b)
                region.append(whose)
    fraction = np.where(rng.random(len(first)) < 0.1, LEAST_COVER / 2, rng.random(len(first)))
    place = np.array([first, last], np.int64).reshape(2, -1)
    runs = PartRuns(REGIONS, np.array(region, np.int32), fraction, place)
    rows = rng.uniform(0.1, 9, shape[0])
    columns = rng.uniform(0.5, 2, (1 if seed % 2 else shape[0], columns))
    return numbers, gone, runs, CellAreas(rows, columns)


def sums_of(part, area):
    """All that a part may be asked for."""
    alike = CellAreas.of_one(len(area.rows), area.columns.shape[1])
    return [
        *part.areas(area), part.weighted(alike), part.weighted(area), part.squares(area, 2.5),
        *part.extremes(),
    ]  # fmt: skip


parts = given(
    seed=st.integers(0, 10**6),
    columns=st.sampled_from([1, 7, 8, 9, 300, 1100]),
    share=st.sampled_from([0.0, 0.2, 1.0]),
    dtype=st.sampled_from(["float32", "float64", "int16", "int32"]),
)


@parts
def test_sums_of_runs_are_those_of_their_cells_one_by_one(seed, columns, share, dtype):
    numbers, gone, runs, area = a_part(seed, columns, share, dtype)
    gone[0, 0] = True  # areas are only asked for where some are
    values = np.where(gone, np.nan, numbers.astype(np.float64))
    found = sums_of(PartSums(values, runs), area)
    value, gone, area = values.ravel(), gone.ravel(), area.each.ravel()
    terms = [[[] for _ in range(REGIONS)] for _ in found]
    for first, last, whose, share_of_cell in zip(
        *runs.place, runs.region, runs.fraction, strict=True
    ):
        for cell in range(first, last):
            own = 0.0 if gone[cell] else value[cell]
            away = 0.0 if gone[cell] else (value[cell] - 2.5) ** 2
            each = (
                area[cell] * (not gone[cell]), area[cell] * gone[cell], not gone[cell],
                own, own * area[cell], away * area[cell],
            )  # fmt: skip
            for n, term in enumerate(each):
                terms[n][whose].append(share_of_cell * term)
            if share_of_cell >= LEAST_COVER and not gone[cell]:
                terms[6][whose].append(value[cell])
                terms[7][whose].append(value[cell])
    for n, each in enumerate(found):
        for whose in range(REGIONS):
            known = terms[n][whose]
            if n < 6:
                largest = max(map(abs, known), default=0.0)
                close = 1e-12 * largest * max(1, len(known))
                assert each[whose] == pytest.approx(math.fsum(known), rel=1e-12, abs=close)
            elif known:
                assert each[whose] == (min, max)[n - 6](known)
            else:
                assert np.isnan(each[whose])


@parts
def test_areas_of_classes_are_those_of_their_cells(seed, columns, share, dtype):
    _, gone, runs, area = a_part(seed, columns, share, dtype)
    rng = np.random.default_rng(seed)
    codes = rng.choice([0, 3, 40, -7, 900], gone.shape).astype(dtype)
    codes[gone] = AWAY
    values = np.where(gone, np.nan, codes.astype(np.float64))
    square_km = CellAreas(area.rows[::-1].copy(), area.columns)
    both = BothAreas(np.stack([area.rows, square_km.rows]), area.columns)
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv(compiled.SWITCH, "0")
        decoded = PartSums(values, runs).classes(both)
    compiled.use()
    by_loops = PartSums(values, runs).classes(both)
    for name in ("codes", "weight", "square_km"):
        own = np.ascontiguousarray(getattr(by_loops, name))
        assert own.tobytes() == np.ascontiguousarray(getattr(decoded, name)).tobytes()
    each = zip(*runs.place, runs.region, runs.fraction, strict=True)
    wanted = np.zeros((2, REGIONS, decoded.codes.size))
    for first, last, whose, share_of_cell in each:
        for cell in np.flatnonzero(~np.isnan(values.ravel()[first:last])) + first:
            code = np.searchsorted(decoded.codes, values.ravel()[cell])
            for n, own in enumerate((area, square_km)):
                wanted[n, whose, code] += share_of_cell * own.each.ravel()[cell]
    np.testing.assert_allclose([decoded.weight, decoded.square_km], wanted, rtol=1e-12)


@pytest.mark.parametrize("codes", [[9, 4, 4, 7], [9, 255, 255, 7], [9, 255, 255, 255]])
@pytest.mark.parametrize("switch", "01")
def test_codes_outside_all_runs_and_gaps_are_left_out(codes, switch, monkeypatch):
    monkeypatch.setenv(compiled.SWITCH, switch)
    compiled.use()
    values = np.where(np.array([codes]) == 255, np.nan, [codes])
    runs = PartRuns(1, np.zeros(1, np.int32), np.ones(1), np.array([[1], [3]]))
    area = BothAreas(np.ones((2, 1)), np.ones((1, 4)))
    found = PartSums(values, runs).classes(area)
    assert found.codes.tolist() == [4] * (codes[1] == 4)
    assert found.weight.tolist() == [[2.0] * (codes[1] == 4)]


@pytest.mark.parametrize("switch", "01")
def test_numbers_that_are_no_codes_are_refused(switch, monkeypatch):
    monkeypatch.setenv(compiled.SWITCH, switch)
    compiled.use()
    values = np.array([[3.0, 0.5, np.nan, 3.0]])
    runs = PartRuns(1, np.zeros(1, np.int32), np.ones(1), np.array([[0], [4]]))
    area = BothAreas(np.ones((2, 1)), np.ones((1, 4)))
    with pytest.raises(RequestError):
        PartSums(values, runs).classes(area)


@pytest.mark.parametrize("switch", "01")
def test_numbers_outside_all_runs_are_of_no_account(switch, monkeypatch):
    monkeypatch.setenv(compiled.SWITCH, switch)
    compiled.use()
    values = np.array([[3.0, 0.5, 7.0, -2.5]])
    runs = PartRuns(1, np.zeros(1, np.int32), np.ones(1), np.array([[0], [1]]))
    area = BothAreas(np.ones((2, 1)), np.ones((1, 4)))
    assert PartSums(values, runs).classes(area).codes.tolist() == [3]
