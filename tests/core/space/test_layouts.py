"""Cells of grids: areas against closed forms, points, zones, other cells, other systems."""

import numpy as np
import pyproj
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from bavlo.core.space.layout import (
    AUTHALIC_RADIUS_KM,
    CurvilinearLayout,
    GridLayout,
    edges_from_centres,
    zone_area,
)
from bavlo.core.space.overlay import ellipsoid_areas
from bavlo.core.space.points import point_overlay
from bavlo.core.space.projection import edges_on_grid, overlay_on_grid, same_system
from bavlo.core.space.regions import LONLAT, Regions, region_edges
from bavlo.core.space.regrid import AREA, regrid
from bavlo.core.space.zones import NO_ZONE, Zones, axis_shares, brought_onto, zone_overlay
from bavlo.errors import InputError

EARTH = 510_065_621.724  # km² of the WGS 84 ellipsoid
UTM = pyproj.CRS.from_epsg(32744).to_wkt()


def degrees(west, east, south, north, step):
    return GridLayout(
        np.arange(west, east + step / 2, step), np.arange(south, north + step / 2, step)
    )


def regions_of(*shapes, crs=LONLAT):
    names = tuple(f"r{n}" for n in range(len(shapes)))
    return Regions(names, np.array(shapes, object), crs)


def test_the_cells_of_the_globe_have_the_area_of_the_ellipsoid_and_of_the_sphere():
    globe = degrees(-180, 180, -90, 90, 5)
    assert globe.ellipsoid_areas(np.arange(36 * 72)).sum() == pytest.approx(EARTH, rel=1e-10)
    rows, columns = globe.sphere_areas()
    sphere = 4 * np.pi * AUTHALIC_RADIUS_KM**2
    assert rows.sum() * columns.sum() == pytest.approx(sphere, rel=1e-12)
    # The sphere has the ellipsoid's whole area, but not that of each latitude.
    assert sphere == pytest.approx(EARTH, rel=1e-9)
    north = zone_area(np.array([45.0, 90.0]))
    assert abs(north[1] - north[0]) > 0


@given(st.floats(-85, 84), st.floats(0.1, 4), st.floats(-170, 160), st.floats(0.1, 9))
def test_a_cell_has_the_area_that_the_geodesic_library_gives(south, height, west, width):
    layout = GridLayout(np.array([west, west + width]), np.array([south, south + height]))
    # Parallels are no geodesics, so the outline is walked in small steps.
    x = np.linspace(west, west + width, 400)
    outline = np.concatenate([x, x[::-1]])
    heights = np.concatenate([np.full(400, south), np.full(400, south + height)])
    area, _ = pyproj.Geod(ellps="WGS84").polygon_area_perimeter(outline, heights)
    assert layout.ellipsoid_areas(np.array([0]))[0] == pytest.approx(area / 1e6, rel=2e-5)


def test_cells_of_a_projected_grid_have_their_true_area():
    layout = GridLayout(np.arange(4e5, 5.01e5, 2e4), np.arange(6.2e6, 6.301e6, 2e4), UTM)
    found = layout.ellipsoid_areas(np.arange(25)).reshape(5, 5)
    to_degrees = pyproj.Transformer.from_crs(UTM, "OGC:CRS84", always_xy=True)
    side = np.linspace(0, 2e4, 50)
    zero = np.zeros(50)
    x = np.concatenate([side, zero + 2e4, side[::-1], zero]) + 4e5
    y = np.concatenate([zero, side, zero + 2e4, side[::-1]]) + 6.2e6
    lon, lat = to_degrees.transform(x, y)
    area, _ = pyproj.Geod(ellps="WGS84").polygon_area_perimeter(lon, lat)
    assert found[0, 0] == pytest.approx(abs(area) / 1e6, rel=1e-6)
    # At the central meridian the map is 0.9996 of the ellipsoid.
    assert found[0, -1] == pytest.approx(400 / 0.9996**2, rel=1e-4)


def test_edges_lie_between_centres_and_never_beyond_a_pole():
    assert edges_from_centres(np.array([1.0, 2, 4])).tolist() == [0.5, 1.5, 3, 5]
    assert edges_from_centres(np.array([80.0, 86, 89]), 90)[-1] == 90


@pytest.mark.parametrize("edges", [[0.0], [0, 1, 1], [0, 2, 1], [0, np.nan]])
def test_edges_that_do_not_rise_or_fall_are_refused(edges):
    with pytest.raises(ValueError, match="x_edges"):
        GridLayout(np.array(edges), np.array([0.0, 1]))


def test_the_same_cells_are_told_to_a_thousandth():
    layout = degrees(0, 3, 0, 2, 1)
    assert layout.same_cells(GridLayout(layout.x_edges + 5e-4, layout.y_edges))
    assert not layout.same_cells(GridLayout(layout.x_edges + 5e-2, layout.y_edges))
    assert not layout.same_cells(GridLayout(layout.x_edges, layout.y_edges, UTM))
    assert layout.cell_size == (1, 1)
    assert layout.extent == (0, 0, 3, 2)


def test_a_point_takes_the_cell_it_is_in_or_the_four_around_it():
    layout = degrees(0, 4, 0, 3, 1)
    points = regions_of(shapely.Point(1.25, 1.75), shapely.Point(9, 9), shapely.Point(3.5, 0.5))
    alone = point_overlay(points, layout)
    assert alone.entries.tolist() == [1, 0, 1]
    assert alone.cells[alone.index].tolist() == [5, 3]
    around = point_overlay(points, layout, bilinear=True)
    values = np.add.outer(10 * layout.y_centres, layout.x_centres).ravel()  # a plane
    part = slice(*around.indptr[:2])
    weighted = around.weight[part] @ values[around.cells[around.index[part]]]
    assert weighted == pytest.approx(10 * 1.75 + 1.25)
    assert around.weight[part].sum() == pytest.approx(1)
    with pytest.raises(InputError, match="two-dimensional"):
        point_overlay(points, bent_grid())


def test_a_point_on_the_other_side_of_the_antimeridian_is_the_same_place():
    layout = degrees(0, 360, -1, 1, 1)
    found = point_overlay(regions_of(shapely.Point(-0.5, 0.5)), layout)
    assert found.cells.tolist() == [360 + 359]


@pytest.mark.parametrize(
    ("west", "east", "place", "near"),
    [
        (-180, 180, 179.9, 179.9),
        (-180, 180, -179.8, 180.2),
        (0, 360, -0.3, 359.7),
        (0, 360, 0.2, 360.2),
        (170, 190, -179.75, 180.25),
        (-190, -170, 179.6, -180.4),
    ],
)
def test_points_between_four_cells_are_interpolated_across_the_antimeridian(
    west, east, place, near
):
    layout = degrees(west, east, -2, 2, 1)
    found = point_overlay(regions_of(shapely.Point(place, 0.3)), layout, bilinear=True)
    # Longitudes on the side of the seam where the point is, so that they make a plane around it.
    x = near + (layout.x_centres - near + 180) % 360 - 180
    plane = np.add.outer(10 * layout.y_centres, x).ravel()
    assert found.weight @ plane[found.cells[found.index]] == pytest.approx(10 * 0.3 + near)
    assert found.weight.sum() == pytest.approx(1)
    assert found.entries.tolist() == [4]


def test_zones_share_cells_of_any_size_by_their_area():
    fine = degrees(0, 4, 0, 4, 0.5)
    codes = np.full((8, 8), NO_ZONE)
    codes[:, :3] = 0
    codes[2:5, 3:] = 1
    zones = Zones(("west", "middle"), codes, fine)
    coarse = degrees(0, 4, 0, 4, 1)
    shared = zone_overlay(zones, coarse)
    found = np.zeros((2, 16))
    for r in range(2):
        part = slice(*shared.indptr[r : r + 2])
        found[r, shared.cells[shared.index[part]]] = shared.fraction[part]
    np.testing.assert_allclose(found[0].reshape(4, 4)[:, :2], [[1, 0.5]] * 4, rtol=1e-12)
    # Half of a row of cells in degrees is not quite half of its area.
    middle = found[1].reshape(4, 4)
    assert middle[1, 2:].tolist() == [1, 1]
    assert middle[2, 2] == pytest.approx(0.5, abs=1e-3)
    assert middle[2, 2] > 0.5  # its lower half is nearer to the equator
    with pytest.raises(InputError, match="another reference system"):
        zone_overlay(zones, GridLayout(coarse.x_edges, coarse.y_edges, UTM))
    assert zones.take(np.array([1])).zone.max() == 0


@given(
    st.lists(st.floats(0.1, 2), min_size=1, max_size=6),
    st.lists(st.floats(0.1, 2), min_size=1, max_size=6),
    st.booleans(),
)
def test_shares_of_axes_cover_what_both_have(source, target, turn):
    a, b = np.cumsum([0.0, *source]), np.cumsum([0.5, *target])
    cell, other, share = axis_shares(a[::-1] if turn else a, b, latitude=False)
    both = max(min(a[-1], b[-1]) - max(a[0], b[0]), 0)
    assert (share * np.diff(b)[cell]).sum() == pytest.approx(both)
    assert share.max(initial=0) <= 1 + 1e-12
    assert cell.size == other.size


def rows_of(values):
    return lambda first, last: values[first:last].copy()


@pytest.mark.parametrize("strip", [1, 2, 5])
def test_a_grid_that_is_read_in_strips_comes_onto_cells_as_in_one(strip):
    rng = np.random.default_rng(8)
    fine = GridLayout(np.linspace(80, 84, 33), np.linspace(-33, -37, 29))
    coarse = GridLayout(np.linspace(80.3, 83.6, 7), np.linspace(-34, -36.5, 6))
    people = rng.gamma(1, 50, fine.shape)
    wanted = brought_onto(rows_of(people), fine, coarse, [(0, 28)], total=True)
    strips = [(first, min(first + strip, 28)) for first in range(0, 28, strip)]
    asked = []

    def read(first, last):
        asked.append((first, last))
        return people[first:last].copy()

    found = brought_onto(read, fine, coarse, strips, total=True)
    np.testing.assert_allclose(found, wanted, rtol=1e-13)
    assert len(asked) > 3
    assert all(last - first <= strip for first, last in asked)
    assert asked[0][0] > 0  # rows beside the target are not read


def test_bringing_people_onto_other_cells_keeps_their_number_and_densities_their_mean():
    rng = np.random.default_rng(2)
    fine, coarse = degrees(0, 6, 30, 36, 0.5), degrees(0, 6, 30, 36, 1.5)
    people = rng.uniform(0, 100, fine.shape)
    whole = [(0, fine.shape[0])]
    there = brought_onto(rows_of(people), fine, coarse, whole, total=True)
    assert there.sum() == pytest.approx(people.sum(), rel=1e-12)
    ones = brought_onto(rows_of(np.ones(fine.shape)), fine, coarse, whole, total=False)
    np.testing.assert_allclose(ones, 1, rtol=1e-12)
    back = brought_onto(rows_of(there), coarse, fine, [(0, coarse.shape[0])], total=True)
    assert back.sum() == pytest.approx(people.sum(), rel=1e-12)


def test_regridding_takes_means_over_area_and_leaves_out_what_lacks_too_much():
    fine, coarse = degrees(0, 4, 0, 4, 1), degrees(0, 4, 0, 4, 2)
    values = np.arange(16.0).reshape(4, 4)
    values[0, 0] = np.nan
    onto = regrid(fine, coarse, AREA)
    rows = np.sin(np.radians([0, 1, 2, 3, 4]))
    weights = np.diff(rows)[:, None] * np.ones(4)
    found = onto.apply(values, 0.5)
    for y in range(2):
        for x in range(2):
            block = np.s_[2 * y : 2 * y + 2, 2 * x : 2 * x + 2]
            known = ~np.isnan(values[block])
            expected = np.average(values[block][known], weights=weights[block][known])
            assert found[y, x] == pytest.approx(expected)
    assert np.isnan(onto.apply(values, 0.9)[0, 0])
    assert not np.isnan(onto.apply(values, 0.9)[1, 1])


def bent_grid(turn=0.3):
    """A grid of 4 × 5 cells whose rows and columns are turned against the axes."""
    y, x = np.meshgrid(np.arange(4.0), np.arange(5.0), indexing="ij")
    return CurvilinearLayout.from_centres_or_corners(
        10 + x * np.cos(turn) - y * np.sin(turn), 20 + x * np.sin(turn) + y * np.cos(turn)
    )


def test_cells_with_corners_of_their_own_share_what_they_cover():
    layout = bent_grid()
    corners = np.stack([layout.lon.reshape(-1, 4), layout.lat.reshape(-1, 4)], axis=-1)
    shapes = shapely.polygons(corners)
    region = shapely.box(10, 20, 12.5, 22.2)
    found = overlay_on_grid(regions_of(region, shapely.box(80, 0, 81, 1)), layout)
    assert found.entries[1] == 0
    for cell, fraction in zip(found.cells[found.index], found.fraction, strict=True):
        shared = shapely.intersection(shapes[cell], region).area / shapes[cell].area
        assert fraction == pytest.approx(shared, abs=0.02)  # planar against sphere
    inside = shapely.contains(region, shapes)
    assert set(np.flatnonzero(inside)) <= set(found.cells[found.index][found.fraction > 1 - 1e-9])


def test_outlines_are_taken_into_the_system_of_the_grid_bend_by_bend():
    layout = GridLayout(np.arange(3e5, 7.01e5, 5e3), np.arange(6.1e6, 6.501e6, 5e3), UTM)
    # A long parallel is a curve on the map.
    region = shapely.box(79.5, -35, 82.5, -33.5)
    edges = edges_on_grid(regions_of(region), layout)
    assert edges.x0.size > 20
    middle = pyproj.Transformer.from_crs("OGC:CRS84", UTM, always_xy=True).transform(81, -35)
    away = np.hypot(edges.x0 - middle[0], edges.y0 - middle[1]).min()
    nearest = np.abs(edges.y0 - middle[1])[np.abs(edges.x0 - middle[0]) < 2e4]
    assert nearest.min() < 50
    assert away < 2e4
    shared = overlay_on_grid(regions_of(region), layout)
    inside = (shared.fraction * layout.ellipsoid_areas(shared.cells)[shared.index]).sum()
    assert inside == pytest.approx(ellipsoid_areas(region_edges(np.array([region])))[0], rel=1e-5)


def test_systems_are_the_same_by_what_they_are():
    assert same_system(LONLAT, "EPSG:4326")
    assert same_system("EPSG:32744", UTM)
    assert not same_system("EPSG:32743", UTM)


def test_regions_need_a_label_each_and_different_ones():
    with pytest.raises(ValueError, match="one label"):
        Regions(("a",), np.array([shapely.box(0, 0, 1, 1)] * 2, object))
    with pytest.raises(ValueError, match="differ"):
        Regions(("a", "a"), np.array([shapely.box(0, 0, 1, 1)] * 2, object))


def test_edges_of_rings_run_one_way_however_they_were_drawn():
    hole = shapely.Polygon([(0, 0), (4, 0), (4, 4), (0, 4)], [[(1, 1), (2, 1), (2, 2), (1, 2)]])
    for shape in (hole, shapely.reverse(hole), shapely.MultiPolygon([hole])):
        edges = region_edges(np.array([shape], object))
        area = ((edges.x0 * edges.y1 - edges.x1 * edges.y0) / 2).sum()
        assert area == pytest.approx(15)


def test_axes_whose_ends_only_rounding_parts_share_no_cell_beyond_them():
    edge = 90.0
    a = np.array([89.0, 89.5, np.nextafter(edge, 100)])
    b = np.array([89.0, edge])
    for source, target in ((a, b), (b, a)):
        cell, other, share = axis_shares(source, target, latitude=False)
        assert cell.max() <= target.size - 2
        assert other.max() <= source.size - 2
        np.testing.assert_allclose(np.bincount(cell, share), 1, rtol=1e-12)


def test_corners_from_centres_go_the_short_way_around_and_over_a_pole():
    lon, lat = np.meshgrid(np.arange(100.0, 460, 2), np.arange(40.0, 50))
    for turned in (lon, (lon + 180) % 360 - 180):
        ring = CurvilinearLayout.from_centres_or_corners(turned, lat)
        assert np.allclose(np.ptp(ring.lon, axis=-1), 2)
        plain = GridLayout(np.arange(99.0, 460, 2), np.arange(39.5, 50))
        cells = np.arange(lon.size)
        assert np.allclose(ring.ellipsoid_areas(cells), plain.ellipsoid_areas(cells), rtol=1e-5)
    # A square of cells around the north pole: the corner that all four share is the pole.
    x, y = np.meshgrid([-1.0, 1], [-1.0, 1])
    around = CurvilinearLayout.from_centres_or_corners(
        np.degrees(np.arctan2(y, x)), 90 - np.hypot(x, y)
    )
    assert around.lat.max() == pytest.approx(90)


def test_longitudes_that_cannot_be_are_refused():
    GridLayout(np.array([3500.0, 3600.0]), np.array([0.0, 1.0]))
    with pytest.raises(ValueError, match="longitudes of 6e\\+30 cannot be"):
        GridLayout(np.array([0.0, 6e30]), np.array([0.0, 1.0]))
    GridLayout(np.array([0.0, 6e6]), np.array([0.0, 1.0]), "EPSG:3857")
