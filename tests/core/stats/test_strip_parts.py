"""Sums of runs of cells: one way as the other to the last bit, and both what they should be."""

import itertools
import math
from unittest import mock

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo.compiled import allow, compiled
from bavlo.core.reduce.totals import DecodedStep
from bavlo.core.space.row_areas import BothAreas, CellAreas
from bavlo.core.stats import class_sums
from bavlo.core.stats.cell_sample import LEAST_COVER
from bavlo.core.stats.part_runs import PartRuns
from bavlo.core.stats.strip_kernels import LONGEST, add_weighted
from bavlo.core.stats.strip_parts import DecodedPart, StoredPart, part_sums
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
    columns=st.sampled_from([1, 7, 8, 9, LONGEST - 1, LONGEST, LONGEST + 1, 300, 1100]),
    share=st.sampled_from([0.0, 0.2, 1.0]),
    dtype=st.sampled_from(["float32", "float64", "int16", "int32"]),
)


@parts
def test_sums_of_numbers_as_they_are_stored_are_those_of_decoded_ones_to_the_last_bit(
    seed, columns, share, dtype
):
    pytest.importorskip("numba")
    allow()
    if compiled(add_weighted) is None:
        pytest.skip("compiled loops are switched off")
    numbers, gone, runs, area = a_part(seed, columns, share, dtype)
    values = np.where(gone, np.nan, numbers.astype(np.float64))
    seen = DecodedStep(values.ravel()).seen
    stored = sums_of(StoredPart(numbers.ravel(), seen, runs), area)
    for one, other in zip(stored, sums_of(DecodedPart(values, runs), area), strict=True):
        assert one.tobytes() == other.tobytes()


@parts
def test_sums_of_runs_are_those_of_their_cells_one_by_one(seed, columns, share, dtype):
    numbers, gone, runs, area = a_part(seed, columns, share, dtype)
    values = np.where(gone, np.nan, numbers.astype(np.float64))
    found = sums_of(DecodedPart(values, runs), area)
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
    decoded = DecodedPart(values, runs).classes(both)
    with mock.patch.object(class_sums, "MOST_ENTRIES", 0):
        sorted_out = DecodedPart(values, runs).classes(both)
    allow()
    seen = DecodedStep(values.ravel()).seen
    stored = StoredPart(codes.ravel(), seen, runs).classes(both)
    for name in ("codes", "weight", "square_km"):
        assert getattr(stored, name).tobytes() == getattr(decoded, name).tobytes()
        assert getattr(sorted_out, name).tobytes() == getattr(decoded, name).tobytes()
    each = zip(*runs.place, runs.region, runs.fraction, strict=True)
    wanted = np.zeros((2, REGIONS, decoded.codes.size))
    for first, last, whose, share_of_cell in each:
        for cell in np.flatnonzero(~np.isnan(values.ravel()[first:last])) + first:
            code = np.searchsorted(decoded.codes, values.ravel()[cell])
            for n, own in enumerate((area, square_km)):
                wanted[n, whose, code] += share_of_cell * own.each.ravel()[cell]
    np.testing.assert_allclose([decoded.weight, decoded.square_km], wanted, rtol=1e-12)


@pytest.mark.parametrize("codes", [[9, 4, 4, 7], [9, 255, 255, 7], [9, 255, 255, 255]])
def test_the_lowest_code_may_lie_outside_all_runs_and_gaps_inside(codes):
    allow()
    values = np.where(np.array([codes]) == 255, np.nan, [codes])
    runs = PartRuns(1, np.zeros(1, np.int32), np.ones(1), np.array([[1], [3]]))
    area, seen = BothAreas(np.ones((2, 1)), np.ones((1, 4))), DecodedStep(values.ravel()).seen
    stored = StoredPart(np.array(codes, np.uint8), seen, runs).classes(area)
    plainly = DecodedPart(values, runs).classes(area)
    assert stored.codes.tolist() == plainly.codes.tolist() == [4] * (codes[1] == 4)
    assert stored.weight.tolist() == plainly.weight.tolist()


@pytest.mark.parametrize("odd", [0.5, np.inf])
def test_codes_that_are_none_are_the_same_by_either_way(odd):
    allow()
    values = np.array([[3.0, odd, np.nan, 3.0]])
    runs = PartRuns(1, np.zeros(1, np.int32), np.ones(1), np.array([[0], [4]]))
    area, seen = BothAreas(np.ones((2, 1)), np.ones((1, 4))), DecodedStep(values.ravel()).seen
    found = []
    for part in (DecodedPart(values, runs), StoredPart(values.ravel(), seen, runs)):
        try:
            found.append(part.classes(area).codes.tolist())
        except RequestError as error:
            found.append(str(error))
    assert found[0] == found[1]


def test_rows_that_are_not_plain_are_decoded(monkeypatch):
    class Packed:
        def __len__(self):
            return 1

        def __getitem__(self, rows):
            return np.full((1, 4), 7.0)

        def plain(self, rows):
            return None

    runs = PartRuns(1, np.zeros(1, np.int32), np.ones(1), np.array([[0], [4]]))
    for wanted in (True, False):
        monkeypatch.setattr("bavlo.compiled.loops.wanted", wanted)
        part = part_sums(Packed(), slice(0, 1), runs)
        assert isinstance(part, DecodedPart) or wanted
        assert part.weighted(CellAreas.of_one(1, 4)).tolist() == [28.0]
        assert (part.seen.low, part.seen.high, part.seen.missing) == (7.0, 7.0, None)
