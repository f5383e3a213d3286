"""`bavlo grid` on other cells, trends by cell, places of extremes, points without a file."""

import csv
import io

import netCDF4
import numpy as np
import pytest
import rasterio

from bavlo.core.stats.trends import trends
from bavlo.figures.map_content import marked_place
from bavlo.jobs.map import map_content
from bavlo.request.filling import make_request
from bavlo.request.reporter import SilentReporter
from support import box, run, write_grid, write_regions


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    """Monthly temperature of twenty years, people and classes, on 6 × 8 cells."""
    folder = tmp_path_factory.mktemp("cells")
    rng = np.random.default_rng(17)
    tmax = rng.normal(15, 2, (20, 6, 8)) + 0.1 * np.arange(20)[:, None, None]
    tmax[:12, 0, 0] = np.nan
    edges = np.array([f"{2001 + n}-01-01" for n in range(21)], "M8[D]")
    edges = (edges - edges[0]).astype(int)
    stamps = {"stamps": edges[:-1] + 180, "bounds": np.stack([edges[:-1], edges[1:]], axis=1)}
    write_grid(folder / "tmax.nc", tmax, name="tmax", unit="degC", **stamps)
    people = rng.integers(0, 90, (6, 8)).astype("f8")
    write_grid(folder / "people.nc", people, name="people", unit="people", time=False)
    write_regions(folder / "r.geojson", {"west": box(0.4, 0.4, 4, 6), "east": box(4, 0, 8, 6)})
    codes = np.array([[1, 1, 2, 2], [1, 2, 2, 3]] * 2, "u1")
    with rasterio.open(
        folder / "cover.tif",
        "w",
        driver="GTiff",
        width=4,
        height=4,
        count=1,
        dtype="uint8",
        nodata=0,
        crs="EPSG:4326",
        transform=rasterio.transform.from_origin(0, 4, 1, 1),
    ) as data:
        data.write(codes, 1)
        data.write_colormap(1, {1: (0, 90, 0), 2: (200, 200, 0), 3: (120, 120, 120)})
        data.update_tags(flag_values="1 2 3", flag_meanings="old_forest pasture town")
    return folder, tmax, people, codes


def held(path, name):
    with netCDF4.Dataset(path) as data:
        return np.ma.filled(data[name][:].astype("f8"), np.nan)


def test_counts_per_cell_keep_their_total_in_another_reference_system(world, tmp_path):
    folder, _, people, _ = world
    out = tmp_path / "p.nc"
    done = run("grid", folder / "people.nc", "--crs", "EPSG:32631", "--cell", "50000", "--out", out)
    assert "shared out by covered fraction, which keeps the total" in done.stdout
    # Single precision in the file.
    assert np.nansum(held(out, "people")) == pytest.approx(people.sum(), rel=1e-5)
    refused = run(
        *("grid", folder / "people.nc", "--cell", "2", "--resample", "linear", "--out", out),
        "--replace",
        check=False,
    )
    assert "loses its total" in refused.stderr


def test_the_box_grows_to_whole_cells_and_states_go_by_area_or_linear(world, tmp_path):
    folder, tmax, *_ = world
    words = ("--during", "2001", "--box", "1.1,0.2,5.9,3.8")
    done = run("grid", folder / "tmax.nc", *words, "--cell", "2", "--out", tmp_path / "a.nc")
    assert "area: means over shared areas" in done.stdout
    found = held(tmp_path / "a.nc", "tmax")
    assert found.shape == (1, 2, 3)
    with netCDF4.Dataset(tmp_path / "a.nc") as data:
        assert data["lon_bounds"][:].ravel().tolist() == [0, 2, 2, 4, 4, 6]
        assert data["lat_bounds"][:].ravel().tolist() == [4, 2, 2, 0]
    weights = np.diff(np.sin(np.radians([0, 1, 2])))[:, None] * [1, 1]
    wanted = (tmax[0, :2, 2:4] * weights).sum() / weights.sum()
    assert found[0, 1, 1] == pytest.approx(wanted, rel=1e-6)
    done = run("grid", folder / "tmax.nc", *words, "--cell", "0.5", "--out", tmp_path / "l.nc")
    assert "linear: between the four centres" in done.stdout
    again = run("grid", folder / "tmax.nc", "--crs", "EPSG:4326", "--out", tmp_path / "x.nc",
                check=False)  # fmt: skip
    assert "--cell: is needed" in again.stderr


def test_classes_go_by_majority_and_keep_their_names_and_colours(world, tmp_path):
    folder, *_ = world
    outs = [tmp_path / "c.tif", tmp_path / "c.nc"]
    run("grid", folder / "cover.tif", "--cell", "2", *(w for o in outs for w in ("--out", o)))
    with rasterio.open(outs[0]) as data:
        assert data.dtypes == ("uint8",)
        assert data.nodata == 255
        assert data.read(1).tolist() == [[1, 2], [1, 2]]
        assert data.colormap(1)[2][:3] == (200, 200, 0)
    with netCDF4.Dataset(outs[1]) as data:
        assert data["cover"].flag_meanings == "old_forest pasture town"
        assert data["cover"].flag_values.tolist() == [1, 2, 3]
    for out in outs:
        said = " ".join(run("describe", out).stdout.split())
        assert "1 old forest, 2 pasture, 3 town" in said
    refused = run("grid", folder / "cover.tif", "--cell", "2", "--resample", "cubic", "--out",
                  tmp_path / "d.tif", check=False)  # fmt: skip
    assert "class codes have no cubic" in refused.stderr


def test_regions_keep_the_cells_that_they_cover_by_half_touch_or_a_share(world, tmp_path):
    folder, *_ = world
    words = ("--regions", folder / "r.geojson", "--only", "west", "--outside", "missing")
    kept = {}
    for name, more in (
        ("half", ()),
        ("touch", ("--min-share", "0")),
        ("most", ("--min-share", "0.9")),
    ):
        out = tmp_path / f"{name}.nc"
        run("grid", folder / "people.nc", *words, *more, "--out", out)
        kept[name] = np.isfinite(held(out, "people"))
    assert kept["touch"].sum() == 24
    assert kept["half"].sum() == 23  # of the corner only 0.36 is covered
    assert kept["most"].sum() == 15
    nothing = run("grid", folder / "people.nc", *words, "--min-share", "1", "--out",
                  tmp_path / "n.nc", "--replace")  # fmt: skip
    assert nothing.returncode == 0


def test_trends_by_cell_are_those_of_each_cell_with_p_beside_them(world, tmp_path):
    folder, tmax, *_ = world
    outs = [tmp_path / "t.nc", tmp_path / "t.tif"]
    run("grid", folder / "tmax.nc", "--as", "trend", "--every", "year",
        *(w for o in outs for w in ("--out", o)))  # fmt: skip
    wanted = trends(tmax.reshape(20, -1), np.arange(2001, 2021))
    slope, p_value = held(outs[0], "tmax_trend")[0], held(outs[0], "tmax_p_value")[0]
    np.testing.assert_allclose(slope.ravel(), wanted.slope, rtol=1e-6)
    np.testing.assert_allclose(p_value.ravel(), wanted.p_value, rtol=1e-6)
    assert np.isnan(slope[0, 0])  # eight values
    with netCDF4.Dataset(outs[0]) as data:
        assert data["tmax_trend"].units == "degC/(10 years)"
        assert data["tmax_trend"].ancillary_variables == "tmax_p_value"
    with rasterio.open(outs[1]) as data:
        assert data.descriptions == ("year", "tmax_p_value year")
        np.testing.assert_allclose(data.read(2)[::-1].ravel(), wanted.p_value, rtol=1e-6)
    small = tmp_path / "small.nc"
    run("grid", folder / "tmax.nc", "--as", "trend", "--every", "year", "--during", "2003..2020",
        "--method", "ols", "--out", small)  # fmt: skip
    ols = trends(tmax[2:].reshape(18, -1), np.arange(2003, 2021), "ols")
    np.testing.assert_allclose(held(small, "tmax_trend")[0].ravel(), ols.slope, rtol=1e-6)


def test_the_place_of_the_highest_value_is_in_the_table_and_on_the_map(world, tmp_path):
    folder, tmax, *_ = world
    out = tmp_path / "t.csv"
    run("series", folder / "tmax.nc", "--regions", folder / "r.geojson", "--every", "year",
        "--measure", "max,min", "--place", "--during", "2015..2016", "--out", out)  # fmt: skip
    for row in csv.DictReader(io.StringIO(out.read_text())):
        year, columns = int(row["period"]) - 2001, slice(0, 4)
        if row["region"] == "east":
            columns = slice(4, 8)
        block = tmax[year, :, columns]
        find = np.argmax if row["measure"] == "max" else np.argmin
        y, x = np.unravel_index(find(block), block.shape)
        assert float(row["value"]) == pytest.approx(block[y, x], rel=1e-14)
        assert (float(row["x"]), float(row["y"])) == (x + columns.start + 0.5, y + 0.5)
    for words, said in (
        (("--measure", "mean"), "is of min and max, not of mean"),
        (("--measure", "max", "--order", "region"), "use --order cell"),
    ):
        done = run("series", folder / "tmax.nc", "--regions", folder / "r.geojson", "--every",
                   "year", "--place", *words, check=False)  # fmt: skip
        assert said in done.stderr
    request = make_request("map", {"grids": [str(folder / "people.nc")], "mark": "max"})
    content = map_content(request, SilentReporter())
    people = world[2]
    y, x = np.unravel_index(np.argmax(people), people.shape)
    assert marked_place(content, 0) == (x + 0.5, y + 0.5, people.max())
    run("map", folder / "people.nc", "--mark", "max", "--out", tmp_path / "m.png")


def test_points_need_no_file(world):
    folder, tmax, *_ = world
    words = ("series", folder / "tmax.nc", "--regions", "2.5,3.5", "--regions")
    done = run(*words, "-0.5,2", "--every", "year", "--out", "-", "--quiet", check=False)
    found = list(csv.DictReader(io.StringIO(done.stdout)))
    own = [r for r in found if r["region"] == "2.5,3.5"]
    np.testing.assert_allclose([float(r["value"]) for r in own], tmax[:, 3, 2])
    assert {r["note"] for r in found if r["region"] == "'-0.5,2"} == {"outside the grid"}
    both = run(*words, folder / "r.geojson", check=False)
    assert "name one file, or only points" in both.stderr
