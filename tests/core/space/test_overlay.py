"""The overlay against areas found another way: Shapely cell by cell, quadrature on the sphere."""

import itertools

import numpy as np
import pyproj
import pytest
import shapely
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from shapely import MultiPolygon, Polygon, box

from bavlo.core.batches import AT_ONCE
from bavlo.core.space.layout import AUTHALIC_RADIUS_KM, GridLayout, zone_area
from bavlo.core.space.overlay import Overlay, ellipsoid_areas, sphere_areas
from bavlo.core.space.pieces import count_pieces, row_spans
from bavlo.core.space.projection import overlay_on_grid
from bavlo.core.space.regions import RegionEdges, Regions, region_edges
from bavlo.core.space.shared_areas import overlay

NODES, NODE_WEIGHTS = np.polynomial.legendre.leggauss(24)

GRIDS = {
    "even": (np.linspace(0, 8, 9), np.linspace(0, 6, 7)),
    "descending": (np.linspace(0, 8, 17), np.linspace(6, 0, 7)),
    "westward": (np.linspace(8, 0, 9), np.linspace(0, 6, 13)),
    "uneven": (np.array([0, 0.1, 0.5, 2, 2.25, 6, 8.0]), np.array([0, 1, 1.5, 1.75, 5, 6.0])),
    "partial": (np.linspace(2, 5, 7), np.linspace(1.5, 4, 6)),
}


def sphere_area(polygon):
    """Area on the unit sphere by Gauss-Legendre quadrature along every edge, degrees × sin φ."""
    total = 0.0
    for part in shapely.get_parts(polygon):
        for ring in shapely.get_rings(part):
            points = shapely.get_coordinates(ring)
            origin = points[0, 0]
            area = 0.0
            for (x0, y0), (x1, y1) in itertools.pairwise(points):
                share = (NODES + 1) / 2
                lon = (x0 - origin) + share * (x1 - x0)
                lat = np.radians(y0 + share * (y1 - y0))
                area += np.sum(NODE_WEIGHTS * lon * np.cos(lat)) * np.radians(y1 - y0) / 2
            total += abs(area) * (1 if ring.equals(part.exterior) else -1)
    return total


def cell_by_cell(polygon, x_edges, y_edges, area):
    """Covered fraction of every cell by intersection with its box, (ny, nx)."""
    fractions = np.zeros((y_edges.size - 1, x_edges.size - 1))
    for j in range(fractions.shape[0]):
        for i in range(fractions.shape[1]):
            cell = box(
                min(x_edges[i : i + 2]),
                min(y_edges[j : j + 2]),
                max(x_edges[i : i + 2]),
                max(y_edges[j : j + 2]),
            )
            shared = polygons_only(shapely.intersection(polygon, cell))
            fractions[j, i] = area(shared) / area(MultiPolygon([cell]))
    return fractions


def polygons_only(shape):
    parts = shapely.get_parts(shapely.get_parts(shape))
    return MultiPolygon([p for p in parts if p.geom_type == "Polygon" and p.area > 0])


def dense(shared: Overlay, values=None):
    """An overlay's fractions as (R, ny, nx)."""
    out = np.zeros((shared.regions, shared.shape[0] * shared.shape[1]))
    owner = np.repeat(np.arange(shared.regions), shared.entries)
    out[owner, shared.cells[shared.index]] = shared.fraction if values is None else values
    return out.reshape(-1, *shared.shape)


# Coordinates that often lie on grid lines and corners, sometimes a hair beside them.
lattice = st.one_of(
    st.integers(-4, 40).map(lambda k: k / 4),
    st.integers(-1, 9).map(float),
    st.floats(-1, 9, allow_nan=False, width=32).map(float),
    st.tuples(st.integers(0, 8), st.sampled_from([1e-15, -1e-15, 1e-12, -1e-9])).map(sum),
)
ring = st.lists(st.tuples(lattice, lattice), min_size=3, max_size=9)


@st.composite
def shapes(draw):
    """Valid polygons with holes, islands, slivers and edges on grid lines."""
    shape = Polygon(draw(ring))
    shape = polygons_only(shapely.make_valid(shape))
    if draw(st.booleans()):
        hole = polygons_only(shapely.make_valid(Polygon(draw(ring))))
        shape = polygons_only(shapely.difference(shape, hole))
    if draw(st.booleans()):
        x, y = draw(lattice), draw(lattice)
        island = box(x, y, x + draw(st.sampled_from([1.0, 0.25, 1e-7])), y + 0.5)
        shape = polygons_only(shapely.union(shape, island))
    return shape


@pytest.mark.slow
@pytest.mark.parametrize("name", GRIDS)
@settings(max_examples=60)
@given(shape=shapes())
def test_fractions_on_the_plane_agree_with_intersection_cell_by_cell(name, shape):
    x_edges, y_edges = GRIDS[name]
    layout = GridLayout(x_edges, y_edges, crs="EPSG:32744")
    lines = np.sort(x_edges), np.sort(y_edges)
    found = np.zeros(layout.shape)
    _, row, column, fraction = row_spans(region_edges(np.array([shape])), *lines, False).cells()
    found[row, column] = fraction
    expected = cell_by_cell(shape, *lines, shapely.area)
    np.testing.assert_allclose(found, expected, rtol=0, atol=2e-9)


@pytest.mark.parametrize("name", GRIDS)
@settings(max_examples=25)
@given(shape=shapes(), turns=st.sampled_from([-360.0, 0.0, 360.0]), south=st.sampled_from([0, -66]))
def test_fractions_on_the_sphere_agree_with_quadrature(name, shape, turns, south):
    x_edges, y_edges = GRIDS[name]
    x_edges, y_edges = x_edges * 3, y_edges * 4 + south
    shape = shapely.transform(shape, lambda p: p * [3, 4] + [0, south])
    assume(shapely.is_valid(shape))  # which rounding may have undone
    shared = overlay(
        region_edges(shapely.transform(np.array([shape]), lambda p: p + [turns, 0])),
        GridLayout(x_edges, y_edges),
    )
    expected = cell_by_cell(shape, x_edges, y_edges, sphere_area)
    # A whole turn away the coordinates themselves are rounded to 6e-14 degrees.
    np.testing.assert_allclose(dense(shared)[0], expected, rtol=0, atol=2e-9)
    np.testing.assert_allclose(
        shared.region_weight[0],
        sphere_area(shape) * np.radians(1) * AUTHALIC_RADIUS_KM**2,
        rtol=1e-9,
        atol=1e-3,
    )


def noisy_outline(rng, x, y, radius, points):
    angle = np.linspace(0, 2 * np.pi, points, endpoint=False)
    reach = radius * (1 + 0.3 * np.sin(5 * angle + rng.uniform(0, 6)) + 0.1 * rng.random(points))
    return Polygon(np.column_stack([x + reach * np.cos(angle), y + reach * np.sin(angle)]))


def test_areas_of_a_regions_cells_sum_to_its_own_area():
    rng = np.random.default_rng(3)
    shapes = [
        noisy_outline(rng, rng.uniform(-150, 150), rng.uniform(-70, 70), 9, 400) for _ in range(40)
    ]
    layout = GridLayout(np.linspace(-180, 180, 1441), np.linspace(90, -90, 721))
    shared = overlay(region_edges(np.array(shapes)), layout)
    inside = np.add.reduceat(shared.weight, shared.indptr[:-1])
    np.testing.assert_allclose(inside, shared.region_weight, rtol=1e-10)
    assert (shared.outside() == 0).all()


def test_neighbours_share_every_cell_without_gap_or_overlap():
    rng = np.random.default_rng(5)
    seeds = shapely.multipoints(rng.uniform(0, 8, (60, 2)))
    whole = box(0.3, 0.2, 7.7, 5.9)
    cells = shapely.get_parts(shapely.voronoi_polygons(seeds, extend_to=whole))
    cells = np.array([polygons_only(c) for c in shapely.intersection(cells, whole)])
    layout = GridLayout(np.linspace(0, 8, 33), np.linspace(0, 6, 25))
    together = dense(overlay(region_edges(cells), layout)).sum(axis=0)
    alone = dense(overlay(region_edges(np.array([whole])), layout))[0]
    assert together.max() <= 1 + 1e-12
    np.testing.assert_allclose(together, alone, atol=1e-9)


@pytest.mark.parametrize("rise", [0.0, 1e-15, 3e-15, 1e-12, 1e-9, 1e-6, 1e-3])
@pytest.mark.parametrize("rechunked", [False, True], ids=["nearly-flat", "nearly-upright"])
@pytest.mark.parametrize("latitude", [0.0, 0.5, 60.0])
def test_nearly_flat_and_nearly_upright_edges_keep_the_area(rise, rechunked, latitude):
    a, b = 0.25, 6.75
    if rechunked:
        shape = Polygon([(a, 0), (a + rise, 5), (b + rise, 5), (b, 0)])
    else:
        shape = Polygon([(a, 0.5), (b, 0.5 + rise), (b, 4 + rise), (a, 4)])
    shape = shapely.transform(shape, lambda p: p + [0, latitude])
    layout = GridLayout(np.linspace(0, 8, 9), np.linspace(latitude, latitude + 6, 7))
    shared = overlay(region_edges(np.array([shape])), layout)
    expected = cell_by_cell(MultiPolygon([shape]), layout.x_edges, layout.y_edges, sphere_area)
    np.testing.assert_allclose(dense(shared)[0], expected, rtol=0, atol=1.001e-9)


def test_region_across_the_antimeridian_keeps_its_area_in_either_convention():
    shape = noisy_outline(np.random.default_rng(1), 180, -20, 7, 200)
    halves = shapely.union_all(
        [
            shapely.intersection(shape, box(0, -90, 180, 90)),
            shapely.transform(
                shapely.intersection(shape, box(180, -90, 360, 90)), lambda p: p - [360, 0]
            ),
        ]
    )
    east = GridLayout(np.linspace(0, 360, 361), np.linspace(-90, 90, 181))
    west = GridLayout(np.linspace(-180, 180, 361), np.linspace(-90, 90, 181))
    for layout in (east, west):
        for outline in (shape, halves):
            shared = overlay(region_edges(np.array([outline])), layout)
            np.testing.assert_allclose(shared.weight.sum(), shared.region_weight[0], rtol=1e-10)
            rows = dense(shared, shared.weight)[0].sum(axis=1)
            reference = overlay(region_edges(np.array([shape])), east)
            np.testing.assert_allclose(rows, dense(reference, reference.weight)[0].sum(axis=1))


def test_region_around_the_pole_covers_the_whole_cap():
    layout = GridLayout(np.linspace(0, 360, 73), np.linspace(90, -90, 37))
    cap = box(-180, -90, 180, -62.5)
    shared = overlay(region_edges(np.array([cap])), layout)
    expected = 2 * np.pi * AUTHALIC_RADIUS_KM**2 * (1 - np.sin(np.radians(62.5)))
    np.testing.assert_allclose(shared.weight.sum(), expected, rtol=1e-12)
    assert dense(shared)[0][-1].tolist() == [1.0] * 72


def test_region_outside_the_grid_has_no_cells_but_keeps_its_area():
    layout = GridLayout(np.linspace(78, 86, 9), np.linspace(-38, -32, 7))
    shapes = np.array([box(10, 10, 11, 11), box(77, -33, 79, -32), Polygon()])
    shared = overlay(region_edges(shapes), layout)
    assert shared.entries.tolist() == [0, 1, 0]
    np.testing.assert_allclose(shared.outside(), [1, 0.5, 0], atol=1e-12)
    assert shared.region_weight[0] > 12000


@pytest.mark.parametrize("jobs", [1, 3])
@pytest.mark.parametrize("crs", ["", "EPSG:6931"])
def test_each_of_many_regions_with_millions_of_pieces_is_as_it_is_alone(jobs, crs):
    rng = np.random.default_rng(8)
    shapes = [noisy_outline(rng, *rng.uniform(1, 6, 2), 2, 180_000) for _ in range(9)]
    layout = GridLayout(*GRIDS["descending"])
    edges = region_edges(np.array(shapes))
    if crs:  # whose cells are so large that the scale of area varies within them
        layout = GridLayout(layout.x_edges * 1e5, layout.y_edges * 1e5, crs)
        edges = RegionEdges(
            *(getattr(edges, name) * 1e5 for name in ("x0", "y0", "x1", "y1")),
            edges.region,
            edges.count,
        )
    assert count_pieces(edges, layout.x_edges, layout.y_edges).sum() > 3 * AT_ONCE // jobs
    found = overlay(edges, layout, jobs)
    for region in (0, 4, 8):
        own = edges.region == region
        alone = overlay(
            RegionEdges(
                *(getattr(edges, name)[own] for name in ("x0", "y0", "x1", "y1")),
                np.zeros(own.sum(), edges.region.dtype),
                1,
            ),
            layout,
        )
        part = slice(found.indptr[region], found.indptr[region + 1])
        np.testing.assert_array_equal(found.cells[found.index[part]], alone.cells[alone.index])
        assert found.fraction[part].tobytes() == alone.fraction.tobytes()
        assert found.weight[part].tobytes() == alone.weight.tobytes()


def test_areas_on_the_ellipsoid_sum_to_that_of_the_earth():
    layout = GridLayout(np.linspace(-180, 180, 37), np.linspace(-90, 90, 19))
    total = layout.ellipsoid_areas(np.arange(36 * 18)).sum()
    assert total == pytest.approx(510_065_621.724, abs=0.01)  # km², WGS 84
    rows, columns = layout.sphere_areas()
    assert (rows[:, None] * columns).sum() == pytest.approx(total, rel=1e-9)


def test_area_of_a_region_on_the_ellipsoid_is_that_of_its_cells():
    rng = np.random.default_rng(2)
    shapes = [noisy_outline(rng, 20, y, 5, 300) for y in (-60, -20, 0, 45, 75)]
    edges = region_edges(np.array(shapes))
    layout = GridLayout(np.linspace(0, 40, 4001), np.linspace(-90, 90, 9001))
    shared = overlay(edges, layout)
    cells = shared.fraction * layout.ellipsoid_areas(shared.cells)[shared.index]
    summed = np.add.reduceat(cells, shared.indptr[:-1])
    np.testing.assert_allclose(summed, ellipsoid_areas(edges), rtol=1e-7)


def test_winding_of_rings_does_not_matter():
    outer, inner = box(0, 0, 8, 6).exterior.coords, box(2, 2, 4, 3).exterior.coords
    ways = [Polygon(outer[::a], [inner[::b]]) for a in (1, -1) for b in (1, -1)]
    layout = GridLayout(*GRIDS["even"])
    fractions = dense(overlay(region_edges(np.array(ways)), layout))
    assert (fractions == fractions[0]).all()
    assert fractions[0].sum() == 46


def test_edges_object_of_no_regions_is_fine():
    nothing = np.zeros(0)
    edges = RegionEdges(nothing, nothing, nothing, nothing, np.zeros(0, np.intp), 0)
    shared = overlay(edges, GridLayout(*GRIDS["even"]))
    assert shared.regions == 0
    assert sphere_areas(edges).size == 0


CAP = shapely.box(-180, 75, 180, 90)


@pytest.mark.parametrize("crs", ["EPSG:3413", "EPSG:6931", "EPSG:3995"])
@pytest.mark.parametrize("size", [25e3, 200e3])
def test_a_polar_cap_on_projected_cells_has_the_area_of_the_closed_form(crs, size):
    lines = np.arange(-int(2.4e6 // size), int(2.4e6 // size) + 1) * size
    layout = GridLayout(lines, lines[::-1], crs)
    shared = overlay_on_grid(Regions(("cap",), np.array([CAP], object)), layout)
    pole, parallel = zone_area(np.array([90.0, 75.0]))
    true = 2 * np.pi * (pole - parallel)
    assert shared.weight.sum() == pytest.approx(true, rel=1e-5)
    assert shared.region_weight[0] == pytest.approx(true, rel=1e-5)


def test_cells_around_the_south_pole_have_their_true_areas_too():
    lines = np.arange(-4, 5) * 200e3 - 70e3  # the pole lies within a cell
    layout = GridLayout(lines, lines, "EPSG:3031")
    cap = shapely.box(-180, -90, 180, -84)
    shared = overlay_on_grid(Regions(("cap",), np.array([cap], object)), layout)
    pole, parallel = zone_area(np.array([90.0, 84.0]))
    assert shared.weight.sum() == pytest.approx(2 * np.pi * (pole - parallel), rel=2e-5)


def test_parts_of_a_cell_whose_scale_varies_add_up_to_it_and_are_those_of_an_equal_area_plane():
    """Pieces by Shapely in an equal-area projection, edges and cells densified."""
    size = 200e3
    lines = np.arange(-6, 7) * size
    layout = GridLayout(lines, lines[::-1], "EPSG:3413")
    whole = shapely.box(-180, 70, 180, 90)
    parts = [shapely.box(-180 + 45 * n, 70, -135 + 45 * n, 90) for n in range(8)]
    shared = overlay_on_grid(Regions(tuple("abcdefgh"), np.array(parts, object)), layout)
    together = overlay_on_grid(Regions(("all",), np.array([whole], object)), layout)
    matrix = shared.matrix().by_scipy.sum(axis=0)
    found = dict(zip(shared.cells.tolist(), matrix.tolist(), strict=True))
    for cell, weight in zip(together.cells.tolist(), together.weight.tolist(), strict=True):
        assert found[cell] == pytest.approx(weight, rel=3e-4, abs=5)
    from_lonlat = pyproj.Transformer.from_crs("OGC:CRS84", "EPSG:6931", always_xy=True).transform
    from_grid = pyproj.Transformer.from_crs("EPSG:3413", "EPSG:6931", always_xy=True).transform

    def placed(shape, transform, length):
        return shapely.transform(
            shapely.segmentize(shape, length), lambda p: np.column_stack(transform(*p.T))
        )

    region = placed(shapely.box(45, 70, 90, 89.9), from_lonlat, 0.05)
    part = overlay_on_grid(
        Regions(("part",), np.array([shapely.box(45, 70, 90, 89.9)], object)), layout
    )
    for cell, weight in zip(part.cells.tolist(), part.weight.tolist(), strict=True):
        row, column = divmod(cell, 12)
        box = shapely.box(lines[column], lines[::-1][row + 1], lines[column + 1], lines[::-1][row])
        true = placed(box, from_grid, size / 200).intersection(region).area / 1e6
        assert weight == pytest.approx(true, rel=2e-5, abs=2)


@pytest.mark.parametrize("size", [1e-9, 1e-7, 1e-6, 1e-4])
@pytest.mark.parametrize("turn", [0.0, 360.0, -360.0])
@pytest.mark.parametrize("north_up", [True, False])
def test_regions_however_small_are_on_the_grid(size, turn, north_up):
    lines = np.arange(-38, -31.9, 0.125)
    layout = GridLayout(np.arange(78, 86.1, 0.125), lines[::-1] if north_up else lines, "lonlat")
    x, y = 83.0021 + turn, -34.3013
    shapes = [box(79, -37, 80, -36), box(x, y, x + size, y + size),
              box(60, -20, 60 + size, -20 + size), box(80, -35, 82, -34)]  # fmt: skip
    found = overlay(region_edges(np.array(shapes)), layout)
    row = int((-32 - y) / 0.125) if north_up else int((y + 38) / 0.125)
    assert found.entries[1] == 1
    assert found.cells[found.index[found.indptr[1]]] == row * 64 + int((x - turn - 78) / 0.125)
    exact = np.radians(size) * np.radians(size) * np.cos(np.radians(y)) * AUTHALIC_RADIUS_KM**2
    weight = found.weight[found.indptr[1]]
    # As the coordinates hold it: to some 1e-14 of a degree.
    assert weight == pytest.approx(exact, rel=max(1e-3, 1e-13 / size))
    assert found.outside()[1] == pytest.approx(0, abs=1e-4)
    assert found.entries[2] == 0
    alone = overlay(region_edges(np.array(shapes)[[0, 3]]), layout)
    np.testing.assert_array_equal(found.weight[found.weight > 1e-4 * 100], alone.weight)
