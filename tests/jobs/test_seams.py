"""Grids all around the globe and regions across their seam: cut and drawn as they are measured."""

import netCDF4
import numpy as np
import pytest
import shapely

from bavlo.core.space.seam import side_by_side
from bavlo.figures.maps import draw_map
from bavlo.jobs.map import map_content
from bavlo.request.filling import make_request
from bavlo.request.reporter import SilentReporter
from support import box, rows, run, write_grid, write_regions

LAT = np.arange(-10, 10) + 0.5
REGIONS = {
    "zero": {"west": box(-9.5, -5, 0, 5), "east": box(0, -5, 12, 5)},
    "dateline": {
        "both": shapely.MultiPolygon([box(176, -5, 180, 5), box(-180, -5, -174, 5)]),
        "west": box(170, -5, 176, 5),
    },
    "inland": {"a": box(20, -5, 30, 5), "b": box(40, -5, 50, 5)},
}


def place(lon):
    """A value that tells the longitude, -180 to 180."""
    return (lon + 180) % 360 - 180


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    folder = tmp_path_factory.mktemp("seams")
    for name, lon in (
        ("east.nc", np.arange(0.5, 360)),
        ("west.nc", np.arange(-179.5, 180)),
        ("down.nc", np.arange(359.5, 0, -1)),
    ):
        values = place(lon)[None, None] * np.ones((31, 20, 1))
        write_grid(folder / name, values, name="warm", unit="degC", lon=lon, lat=LAT)
    for name, shapes in REGIONS.items():
        write_regions(folder / f"{name}.geojson", shapes)
    return folder


GRIDS = ["east.nc", "west.nc", "down.nc"]


@pytest.mark.parametrize("grid", GRIDS)
@pytest.mark.parametrize(("regions", "columns"), [("zero", 22), ("dateline", 16), ("inland", 30)])
@pytest.mark.parametrize("onto", [False, True])
def test_a_grid_is_cut_across_its_seam(world, tmp_path, grid, regions, columns, onto):
    out = tmp_path / "cut.nc"
    more = ["--onto", world / "west.nc"] if onto else []
    run("grid", world / grid, "--regions", world / f"{regions}.geojson", "--every", "month",
        *more, "--out", out)  # fmt: skip
    with netCDF4.Dataset(out) as data:
        lon, values = data["lon"][:], np.ma.filled(data["warm"][0, 0], np.nan)
    assert lon.size == columns
    assert set(np.abs(np.diff(lon)).tolist()) == {1.0}
    inside = np.isfinite(values)
    np.testing.assert_allclose(values[inside], place(lon)[inside], atol=1e-5)
    assert inside.sum() == {"zero": 22, "dateline": 16, "inland": 20}[regions]


@pytest.mark.parametrize("grid", GRIDS)
@pytest.mark.parametrize("regions", ["zero", "dateline", "inland"])
def test_a_map_has_cells_beneath_all_of_its_regions(world, grid, regions):
    given = {"grids": [str(world / grid)], "regions": str(world / f"{regions}.geojson")}
    content = map_content(make_request("map", given), SilentReporter())
    west, _, east, _ = shapely.total_bounds(content.shapes)
    assert east - west < 31
    edges = content.grid.x_edges
    assert edges.min() <= west
    assert edges.max() >= east
    centres = (edges[1:] + edges[:-1]) / 2
    np.testing.assert_allclose(content.grid.values[0, 0], place(centres))
    figure = draw_map(content)
    low, high = figure.axes[0].get_xlim()
    assert high - low < 35


def test_regions_on_both_sides_of_180_are_drawn_side_by_side(world):
    shapes = np.array(list(REGIONS["dateline"].values()))
    moved = side_by_side(shapes)
    assert shapely.total_bounds(moved).tolist() == [170, -5, 186, 5]
    np.testing.assert_allclose(shapely.area(moved), shapely.area(shapes))
    inland = np.array(list(REGIONS["inland"].values()))
    assert side_by_side(inland) is inland
    table = world / "s.csv"
    run("series", world / "east.nc", "--regions", world / "dateline.geojson", "--every", "month",
        "--out", table, "--replace")  # fmt: skip
    given = {"grids": [str(table)], "regions": str(world / "dateline.geojson")}
    content = map_content(make_request("map", given), SilentReporter())
    assert shapely.total_bounds(content.shapes).tolist() == [170, -5, 186, 5]


def test_measuring_and_cutting_see_the_same_cells(world, tmp_path):
    regions = world / "zero.geojson"
    found = rows("series", world / "east.nc", regions, every=["month"])
    run("grid", world / "east.nc", "--regions", regions, "--every", "month", "--out",
        tmp_path / "cut.nc")  # fmt: skip
    again = rows("series", tmp_path / "cut.nc", regions, every=["month"])
    assert [float(row["value"]) for row in again] == pytest.approx(
        [float(row["value"]) for row in found], abs=1e-5
    )
