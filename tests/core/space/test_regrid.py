"""Grids on other cells: conservation, closed forms, and brute force with Shapely."""

import numpy as np
import pyproj
import pytest
import shapely
from scipy.interpolate import RegularGridInterpolator

from bavlo.core.space.interpolation import CUBIC, LINEAR
from bavlo.core.space.layout import CurvilinearLayout, GridLayout
from bavlo.core.space.regrid import AREA, MAJORITY, NEAREST, regrid

UTM = pyproj.CRS("EPSG:32744").to_wkt()
POLAR = pyproj.CRS("EPSG:3995").to_wkt()
RNG = np.random.default_rng(31)


def lonlat(west, east, south, north, dx, dy=None):
    x = np.arange(west, east + dx / 2, dx)
    y = np.arange(north, south - (dy or dx) / 2, -(dy or dx))
    return GridLayout(x, y)


def areas(layout):
    rows, columns = layout.sphere_areas()
    return rows[:, None] * columns


def test_area_means_conserve_the_integral_on_longitude_and_latitude():
    fine, coarse = lonlat(70, 90, -40, -20, 0.5), lonlat(70, 90, -40, -20, 2.5, 2.0)
    values = RNG.gamma(2, 5, fine.shape)
    found = regrid(fine, coarse, AREA).apply(values, 0.5)
    before, after = (values * areas(fine)).sum(), (found * areas(coarse)).sum()
    assert after == pytest.approx(before, rel=1e-13)
    back = regrid(coarse, fine, AREA).apply(found, 0.5)
    assert (back * areas(fine)).sum() == pytest.approx(before, rel=1e-13)


def test_counts_per_cell_keep_their_total_onto_finer_coarser_and_shifted_cells():
    source = lonlat(70, 80, -40, -30, 0.5)
    people = RNG.integers(0, 900, source.shape).astype(float)
    for target in (
        lonlat(70, 80, -40, -30, 2),
        lonlat(70, 80, -40, -30, 0.1),
        lonlat(69.3, 81.3, -41.1, -29.1, 0.75),
    ):
        found = regrid(source, target, AREA, counts=True).apply(people, 0.0)
        assert np.nansum(found) == pytest.approx(people.sum(), rel=1e-12)


def test_area_means_between_two_systems_conserve_the_integral_over_what_is_covered():
    source = lonlat(77, 86, -39, -31, 0.25)
    x = np.arange(300_000, 700_001, 20_000.0)
    y = np.arange(6_400_000, 6_000_000 - 1, -20_000.0)
    target = GridLayout(x, y, UTM)
    values = RNG.gamma(2, 5, source.shape)
    how = regrid(source, target, AREA)
    found = how.apply(values, 0.5)
    assert np.isfinite(found).all()
    km2 = target.ellipsoid_areas(np.arange(found.size))
    # The covered area of each old cell by Shapely, in the target's system with dense edges.
    to_utm = pyproj.Transformer.from_crs("OGC:CRS84", UTM, always_xy=True)
    outline = shapely.box(x[0], y[-1], x[-1], y[0])
    total = 0.0
    for (r, c), value in np.ndenumerate(values):
        cell = shapely.box(
            source.x_edges[c], source.y_edges[r + 1], source.x_edges[c + 1], source.y_edges[r]
        )
        moved = shapely.transform(
            shapely.segmentize(cell, 0.01), lambda p: np.column_stack(to_utm.transform(*p.T))
        )
        share = shapely.area(shapely.intersection(moved, outline)) / shapely.area(moved)
        if share:
            total += value * share * source.ellipsoid_areas(np.array([r * source.shape[1] + c]))[0]
    assert (found.ravel() * km2).sum() == pytest.approx(total, rel=2e-4)
    counts = regrid(source, target, AREA, counts=True).apply(np.ones(source.shape), 0.5)
    ones = how.apply(np.ones(source.shape), 0.5)
    np.testing.assert_allclose(ones, 1, rtol=1e-12)
    cell_km2 = source.ellipsoid_areas(np.arange(values.size)).mean()
    assert counts.sum() * cell_km2 == pytest.approx(km2.sum(), rel=0.05)


def test_a_projected_grid_on_longitude_and_latitude_keeps_a_constant_and_the_total():
    x = np.arange(300_000, 700_001, 10_000.0)
    source = GridLayout(x, np.arange(6_400_000, 6_000_000 - 1, -10_000.0), UTM)
    target = lonlat(78, 84, -37, -32, 0.25)
    people = RNG.integers(0, 50, source.shape).astype(float)
    found = regrid(source, target, AREA, counts=True).apply(people, 0.0)
    assert np.nansum(found) == pytest.approx(people.sum(), rel=1e-6)
    ones = regrid(source, target, AREA).apply(np.ones(source.shape), 0.5)
    known = np.isfinite(ones)
    assert 0.3 < known.mean() < 1
    np.testing.assert_allclose(ones[known], 1, rtol=1e-9)


def test_polar_cells_take_the_mean_of_all_around_the_pole():
    source = lonlat(-180, 180, 60, 90, 1.0)
    edges = np.arange(-2_500_000, 2_500_001, 1_000_000.0)
    target = GridLayout(edges, edges[::-1], POLAR)
    longitude = np.radians(source.x_centres)
    values = np.broadcast_to(5 + np.cos(longitude), source.shape)
    found = regrid(source, target, AREA).apply(np.array(values), 0.5)
    assert found[2, 2] == pytest.approx(5, abs=1e-6)  # the pole is in its middle
    ones = regrid(source, target, AREA).apply(np.ones(source.shape), 0.99)
    np.testing.assert_allclose(ones[1:4, 1:4], 1, rtol=1e-6)
    np.testing.assert_allclose(found + found[::-1, ::-1], 10, atol=1e-4)


def test_missing_cells_count_by_their_area():
    fine, coarse = lonlat(0, 4, 0, 4, 1), lonlat(0, 4, 0, 4, 4)
    values = np.ones(fine.shape)
    values[:, :2] = np.nan
    assert regrid(fine, coarse, AREA).apply(values, 0.5)[0, 0] == 1
    assert np.isnan(regrid(fine, coarse, AREA).apply(values, 0.51)[0, 0])
    utm = GridLayout(np.array([400_000.0, 450_000]), np.array([50_000.0, 0]), UTM)
    half = lonlat(70, 90, -10, 10, 0.5)
    gaps = np.where(half.x_centres[None, :] < 0, 1.0, np.nan) * np.ones(half.shape)
    assert np.isnan(regrid(half, utm, AREA).apply(gaps, 0.01)).all()


@pytest.mark.parametrize("west", [0.0, -180.0])
def test_cells_across_the_seam_of_longitudes_are_neighbours(west):
    source = lonlat(west, west + 360, -10, 10, 2)
    values = np.cos(np.radians(source.x_centres))[None, :] * np.ones((10, 1))
    target = lonlat(-3, 3, -4, 4, 0.5)
    for how in (LINEAR, CUBIC):
        found = regrid(source, target, how).apply(values, 0.5)
        np.testing.assert_allclose(
            found, np.cos(np.radians(target.x_centres))[None, :] * np.ones((16, 1)), atol=3e-4
        )
    means = regrid(source, target, AREA).apply(values, 0.5)
    assert np.isfinite(means).all()


def test_linear_is_that_of_scipy_inside_and_nothing_beyond_the_edges():
    source, target = lonlat(70, 80, -40, -30, 1), lonlat(69, 81, -41, -29, 0.3)
    values = RNG.normal(size=source.shape)
    found = regrid(source, target, LINEAR).apply(values, 0.5)
    plain = RegularGridInterpolator(
        (source.y_centres[::-1], source.x_centres), values[::-1], bounds_error=False
    )
    y, x = np.meshgrid(target.y_centres, target.x_centres, indexing="ij")
    wanted = plain((y, x))
    inside = np.isfinite(wanted)
    np.testing.assert_allclose(found[inside], wanted[inside], atol=1e-12)
    beyond = (x < 70) | (x > 80) | (y < -40) | (y > -30)
    assert np.isnan(found[beyond]).all()
    assert np.isfinite(found[~beyond]).all()  # up to the outermost edges


def test_cubic_gives_back_a_quadratic_and_stays_within_its_neighbours():
    source, target = lonlat(0, 20, 0, 20, 1), lonlat(5, 15, 5, 15, 0.25)

    def quadratic(layout):
        x, y = layout.x_centres[None, :], layout.y_centres[:, None]
        return x**2 + 3 * x - 0.5 * y**2 + x * y

    found = regrid(source, target, CUBIC).apply(quadratic(source), 0.5)
    np.testing.assert_allclose(found, quadratic(target), rtol=1e-10)
    spike = np.zeros(source.shape)
    spike[10, 10] = 1
    bounded = regrid(source, target, CUBIC).apply(spike, 0.5)
    assert bounded.min() >= 0
    assert bounded.max() <= 1


def test_neighbours_without_data_are_left_out_while_half_the_weight_is_there():
    source = GridLayout(np.array([0.0, 1, 2]), np.array([1.0, 0]))
    values = np.array([[4.0, np.nan]])
    target = GridLayout(np.array([0.6, 0.8, 1.0, 1.2, 1.4]), np.array([1.0, 0]))
    found = regrid(source, target, LINEAR).apply(values, 0.5)[0]
    assert found[:2].tolist() == [4, 4]
    assert np.isnan(found[2:]).all()


def test_nearest_takes_the_cell_that_holds_the_centre():
    source = GridLayout(np.array([0.0, 1, 4, 5]), np.array([0.0, 2, 3]))
    values = np.arange(6.0).reshape(2, 3)
    target = lonlat(0, 5, 0, 3, 0.5)
    found = regrid(source, target, NEAREST).apply(values, 0.5)
    for (r, c), value in np.ndenumerate(found):
        x, y = target.x_centres[c], target.y_centres[r]
        column = int(np.searchsorted([1, 4], x))
        assert value == values[int(y > 2), column]
    outside = regrid(source, lonlat(5, 7, 0, 2, 1), NEAREST).apply(values, 0.5)
    assert np.isnan(outside).all()


def test_the_majority_is_that_of_the_area_and_of_equal_shares_the_lowest_code():
    source, target = lonlat(0, 4, 0, 4, 1), lonlat(0, 4, 0, 4, 2)
    codes = np.array([[1, 1, 7, 3], [2, 1, 3, 3], [5, 6, 9, 9], [6, 5, np.nan, np.nan]])
    found = regrid(source, target, MAJORITY).apply(codes, 0.4)
    # Rows nearer to the equator are wider, so that none of 5 and 6 has less than the other.
    assert found.tolist() == [[1, 3], [5, 9]]
    assert np.isnan(regrid(source, target, MAJORITY).apply(codes, 0.9)[1, 1])


def test_cells_with_corners_of_their_own_give_what_rows_and_columns_give():
    lon, lat = np.meshgrid(np.arange(70.5, 80), np.arange(-39.5, -30))
    source = CurvilinearLayout.from_centres_or_corners(lon, lat)
    plain = GridLayout(np.arange(70.0, 81), np.arange(-40.0, -29))
    values = RNG.normal(size=plain.shape)
    values[3, 4] = np.nan
    for target in (lonlat(71.2, 79.2, -38.8, -30.8, 2), lonlat(70.2, 79.8, -39.8, -30.2, 0.2)):
        for how in (AREA, NEAREST, LINEAR, CUBIC):
            found = regrid(source, target, how).apply(values, 0.5)
            wanted = regrid(plain, target, how).apply(values, 0.5)
            np.testing.assert_allclose(found, wanted, rtol=1e-9, atol=1e-12)


@pytest.mark.parametrize("how", [LINEAR, CUBIC])
def test_slanted_cells_give_back_what_is_linear_along_their_rows_and_columns(how):
    # Sheared so much that the nearest centre is often none of the four around.
    column, row = np.meshgrid(np.arange(20.0), np.arange(12.0))
    source = CurvilinearLayout.from_centres_or_corners(
        10 + column + 0.9 * row, 5 + 0.4 * row + 0.1 * column
    )
    values = 3 * column - 2 * row
    target = lonlat(16, 22, 6.5, 8.5, 0.05)
    x, y = np.meshgrid(target.x_centres - 10, target.y_centres - 5)
    r = (y - 0.1 * x) / (0.4 - 0.09)
    c = x - 0.9 * r
    found = regrid(source, target, how).apply(values, 0.5)
    inside = (r >= 1) & (r <= 10) & (c >= 1) & (c <= 18)
    assert inside.mean() > 0.5
    np.testing.assert_allclose(found[inside], (3 * c - 2 * r)[inside], atol=1e-9)


@pytest.mark.parametrize("how", [LINEAR, CUBIC])
def test_a_ring_of_cells_with_corners_of_their_own_is_whole_across_its_seam_and_near_a_pole(how):
    lon, lat = np.meshgrid(np.arange(100.0, 460, 2), np.arange(60.0, 89.6, 1))
    source = CurvilinearLayout.from_centres_or_corners(lon, lat)
    target = lonlat(-180, 180, 62, 88, 1.3)

    def field(longitude, latitude):
        a, b = np.radians(longitude), np.radians(latitude)
        return np.cos(b) * np.cos(a) + 2 * np.cos(b) * np.sin(a) + np.sin(b)

    found = regrid(source, target, how).apply(field(lon, lat), 0.5)
    wanted = field(*np.meshgrid(target.x_centres, target.y_centres))
    assert not np.isnan(found).any()
    np.testing.assert_allclose(found, wanted, atol=4e-4)


def test_each_of_very_many_cells_gets_what_it_gets_alone():
    source = lonlat(77, 86, -39, -31, 0.5)
    x, y = np.arange(300_000, 500_001, 500.0), np.arange(6_300_000, 6_099_999, -500.0)
    values = RNG.normal(size=source.shape)
    found = regrid(source, GridLayout(x, y, UTM), AREA).apply(values, 0.5)
    for row in (0, 261, 262, 399):
        one = GridLayout(x, y[row : row + 2], UTM)
        alone = regrid(source, one, AREA).apply(values, 0.5)
        np.testing.assert_allclose(found[row], alone[0], rtol=1e-12)
