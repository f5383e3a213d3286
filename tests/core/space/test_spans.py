"""Spans of cells are the same overlay as cells one by one; rows have the areas of their cells."""

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from shapely import Polygon, box

from bavlo.core.space.layout import GridLayout
from bavlo.core.space.regions import region_edges
from bavlo.core.space.row_areas import RowAreas, of_each_span
from bavlo.core.space.shared_areas import overlay, span_overlay

PARTS = ("cells", "fraction", "weight", "region_weight")


def layout_of(crs, north_up, eastward, ny=40, nx=50):
    """Cells of 0.2 degrees, or of 200 m."""
    unit, x0, y0 = (1.0, 78.0, -38.0) if crs == "lonlat" else (1e3, 3e5, 5.8e6)
    x, y = x0 + 0.2 * unit * np.arange(nx + 1), y0 + 0.2 * unit * np.arange(ny + 1)
    return GridLayout(x if eastward else x[::-1], y[::-1] if north_up else y, crs)


def star(rng, layout, points=40):
    """An irregular outline that may reach beyond the grid."""
    west, south, east, north = layout.extent
    angle = np.linspace(0, 2 * np.pi, points, endpoint=False)
    reach = rng.uniform(0.05, 0.5) * (east - west) * rng.uniform(0.5, 1.3, points)
    x, y = rng.uniform(west, east), rng.uniform(south, north)
    return Polygon(np.column_stack([x + reach * np.cos(angle), y + reach * np.sin(angle)]))


@pytest.mark.parametrize("crs", ["lonlat", "EPSG:32744"])
@pytest.mark.parametrize("north_up", [True, False])
@pytest.mark.parametrize("eastward", [True, False])
@settings(max_examples=12)
@given(seed=st.integers(0, 10**6))
def test_spans_are_the_cells_of_the_overlay(crs, north_up, eastward, seed):
    rng = np.random.default_rng(seed)
    layout = layout_of(crs, north_up, eastward)
    shapes = np.array([star(rng, layout) for _ in range(4)])
    shapes[3] = shapely.difference(shapes[0], shapes[1])
    edges = region_edges(shapes)
    wanted, found = overlay(edges, layout), span_overlay(edges, layout)
    areas = RowAreas(layout)
    assert (np.diff(found.start) >= 0).all()
    np.testing.assert_array_equal(found.entries, wanted.entries)
    np.testing.assert_allclose(found.region_weight, wanted.region_weight, rtol=1e-9)
    np.testing.assert_allclose(found.outside(), wanted.outside(), atol=1e-9)
    for region in range(4):
        own = slice(*wanted.indptr[region : region + 2])
        alone = found.of_region(region, areas)
        np.testing.assert_array_equal(alone.cells, wanted.cells[wanted.index[own]])
        np.testing.assert_array_equal(alone.fraction, wanted.fraction[own])
        np.testing.assert_allclose(alone.weight, wanted.weight[own], rtol=1e-9)
    for first, last in ((0, 40), (7, 23)):
        band = found.of_rows(first, last).cells(areas.weights(first, last))
        number = wanted.cells[wanted.index]
        inside = (number >= first * 50) & (number < last * 50)
        np.testing.assert_array_equal(band.index + first * 50, number[inside])
        np.testing.assert_array_equal(band.fraction, wanted.fraction[inside])
        np.testing.assert_allclose(band.weight, wanted.weight[inside], rtol=1e-9)
        owner = np.repeat(np.arange(4), wanted.entries)[inside]
        np.testing.assert_array_equal(band.entries, np.bincount(owner, minlength=4))


def test_a_region_beyond_the_grid_or_smaller_than_a_sliver_is_as_in_the_overlay():
    layout = layout_of("lonlat", True, True)
    tiny = Polygon([(80, -35), (80 + 1e-9, -35), (80, -35 + 1e-9)])
    edges = region_edges(np.array([box(10, 10, 12, 12), tiny, box(438, -37, 440, -36)]))
    wanted, found = overlay(edges, layout), span_overlay(edges, layout)
    np.testing.assert_array_equal(found.entries, wanted.entries)
    assert found.entries.tolist()[:2] == [0, 1]
    np.testing.assert_allclose(found.region_weight, wanted.region_weight, rtol=1e-12)
    np.testing.assert_allclose(found.outside(), wanted.outside(), atol=1e-12)


def test_a_large_region_is_kept_as_few_spans():
    layout = layout_of("lonlat", True, True, ny=600, nx=800)
    found = span_overlay(region_edges(np.array([box(80, -37, 230, 70)])), layout)
    assert found.entries[0] > 350_000
    assert found.start.size <= 3 * layout.shape[0]


@pytest.mark.parametrize("how", [np.add, np.fmin])
def test_sums_of_spans_are_those_of_their_values_also_where_spans_overlap(how):
    rng = np.random.default_rng(5)
    values = rng.normal(size=300)
    start = np.sort(rng.integers(0, 300, 60))
    length = np.minimum(rng.integers(1, 40, 60), 300 - start)
    wanted = [how.reduce(values[a : a + n]) for a, n in zip(start, length, strict=True)]
    found = of_each_span(how, values, start, length)
    np.testing.assert_allclose(found, wanted, rtol=1e-12, atol=1e-12)


@pytest.mark.parametrize(
    ("crs", "x", "y", "size"),
    [
        ("EPSG:32743", 2e5, 5.8e6, 1e3), ("EPSG:6931", -3e5, 4e5, 2e3),
        ("EPSG:3857", 1e6, 5e6, 2e3), ("lonlat", -180, 90, 0.45),
    ],
)  # fmt: skip
def test_areas_of_rows_are_those_of_their_cells(crs, x, y, size):
    layout = GridLayout(x + size * np.arange(601.0), y - size * np.arange(401.0), crs)
    areas = RowAreas(layout)
    assert areas.is_exact
    for first, last in ((0, 3), (197, 260), (398, 400)):
        cells = np.arange(first * 600, last * 600)
        wanted = layout.ellipsoid_areas(cells).reshape(-1, 600)
        # Beside a pole the outlines of single cells are off by that much themselves.
        np.testing.assert_allclose(areas.square_km(first, last), wanted, rtol=3e-9)
    if crs != "lonlat":
        np.testing.assert_array_equal(areas.weights(3, 9), areas.square_km(3, 9))
        return
    rows, columns = layout.sphere_areas()
    np.testing.assert_allclose(areas.weights(3, 9), rows[3:9, None] * columns, rtol=1e-14)


def test_cells_beyond_the_reach_of_a_projection_have_no_known_area():
    layout = GridLayout(-20e6 + 1e5 * np.arange(401.0), 9e6 - 1e5 * np.arange(181.0), "EPSG:6933")
    assert not RowAreas(layout).is_exact


def test_areas_that_change_too_much_between_nodes_are_not_taken_for_exact():
    layout = GridLayout(-1e7 + 2e4 * np.arange(1001.0), 1e7 - 2e4 * np.arange(1001.0), "EPSG:3857")
    assert not RowAreas(layout).is_exact
