"""Grids of very many cells, read in strips, give what the same grids give cell by cell."""

import csv

import netCDF4
import numpy as np
import pytest
import rasterio
import shapely
from rasterio.transform import from_origin
from shapely import Polygon

from bavlo.commands import grid as grid_command
from bavlo.engine import choices
from bavlo.errors import RequestError
from bavlo.plan import strips
from bavlo.plan.gridding_strips import strip_field
from support import run, write_regions

ROWS, COLUMNS = 90, 70
SYSTEMS = {"lonlat": ("OGC:CRS84", 78, -32, 0.05), "plane": ("EPSG:32744", 2e5, 6.2e6, 900)}
COUNTS = ["--kind", "count", "--measure", "sum,mean,min,max,range,std,cv,count"]
DEPTHS = [
    "--kind", "amount", "--input-unit", "mm", "--combine", "total",
    "--measure", "mean,volume,cv,count",
]  # fmt: skip
STATES = ["--kind", "state", "--input-unit", "degC", "--measure", "mean,std,range,max"]


@pytest.fixture(scope="module", params=SYSTEMS)
def world(request, tmp_path_factory):
    """A raster with gaps, one of class codes, and regions of all sorts in one reference system."""
    folder = tmp_path_factory.mktemp(request.param)
    crs, west, north, size = SYSTEMS[request.param]
    rng = np.random.default_rng(8)
    people = np.round(rng.gamma(0.4, 9, (ROWS, COLUMNS)), 1).astype("f4") + 250
    people[rng.random(people.shape) < 0.1] = -9999
    people[:20, :15] = -9999
    cover = rng.choice([1, 2, 5, 40], (ROWS, COLUMNS), p=[0.4, 0.3, 0.2, 0.1]).astype("u1")
    cover[30:40, 20:50] = 0
    for name, values, nodata in (("people", people, -9999), ("cover", cover, 0)):
        with rasterio.open(
            folder / f"{name}.tif", "w", driver="GTiff", width=COLUMNS, height=ROWS, count=1,
            dtype=values.dtype, crs=crs, transform=from_origin(west, north, size, size),
            nodata=nodata, compress="deflate", tiled=True, blockxsize=16, blockysize=16,
        ) as file:  # fmt: skip
            file.write(values, 1)

    def at(x, y):
        return west + x * size, north - y * size

    angle = np.linspace(0, 2 * np.pi, 60, endpoint=False)
    star = np.column_stack([at(30, 0)[0] + 25 * size * np.cos(angle), np.zeros(60)])
    star[:, 1] = at(0, 45)[1] + 30 * size * np.sin(angle) * rng.uniform(0.5, 1.2, 60)
    shapes = {
        "star": Polygon(star),
        "hole": shapely.box(*at(5, 80), *at(60, 35)).difference(
            shapely.box(*at(12.3, 70.2), *at(44.4, 41.7))
        ),
        "over the edge": shapely.box(*at(50.5, 30), *at(90, 4.5)),
        "within a cell": shapely.box(*at(20.2, 25.9), *at(20.7, 25.1)),
        "without data": shapely.box(*at(1, 14), *at(9, 2)),
        "far away": shapely.box(*at(200, 30), *at(210, 20)),
    }
    write_regions(folder / "r.geojson", shapes, crs=crs)
    return folder


def table(path):
    """Rows of a CSV, numbers as such."""
    with path.open() as file:
        return list(csv.DictReader(file))


def assert_alike(found, wanted):
    """The same rows, but for what adding up in another order may change."""
    for one, other in zip(found, wanted, strict=True):
        for name in other:
            if name in ("value", "area_valid") and other[name]:
                assert float(one[name]) == pytest.approx(float(other[name]), rel=2e-9, abs=1e-9)
            else:
                assert one[name] == other[name], name


def both(world, monkeypatch, out, *words, rows=7):
    """The same table from strips of a few rows, and from all cells at once."""
    common = ["--regions", "r.geojson", "--label", "name", "--quiet", "--replace"]
    run("series", *words, *common, "--out", f"cells_{out}", cwd=world)
    monkeypatch.setattr(choices, "CELLS_IN_STRIPS", 1)
    monkeypatch.setattr(choices, "STRIP_ROWS", rows)
    run("series", *words, *common, "--out", f"strips_{out}", cwd=world)
    return table(world / f"strips_{out}"), table(world / f"cells_{out}")


@pytest.mark.parametrize("words", [COUNTS, DEPTHS, STATES], ids=["counts", "depths", "states"])
@pytest.mark.parametrize("least", [[], ["--min-area", "0.999"]], ids=["half", "whole"])
def test_measures_of_strips_are_those_of_cells(world, monkeypatch, words, least):
    found, wanted = both(world, monkeypatch, "m.csv", "people.tif", *words, *least)
    assert len(found) == len(wanted) == 6 * len(words[-1].split(","))
    assert any(row["value"] for row in wanted)
    assert_alike(found, wanted)


@pytest.mark.parametrize("measure", ["shares", "majority"])
def test_classes_of_strips_are_those_of_cells(world, monkeypatch, measure):
    words = ["cover.tif", "--kind", "class", "--measure", measure]
    found, wanted = both(world, monkeypatch, f"{measure}.csv", *words)
    assert len(found) == len(wanted) >= 6
    assert_alike(found, wanted)


def test_strips_give_the_same_bytes_for_any_jobs_and_memory(world, monkeypatch):
    monkeypatch.setattr(choices, "CELLS_IN_STRIPS", 1)
    monkeypatch.setattr(choices, "STRIP_ROWS", 8)
    out = []
    for n, more in enumerate((["--jobs", "1"], ["--jobs", "3"], ["--memory", "3GB"])):
        run(
            "series", "people.tif", *COUNTS, "--regions", "r.geojson", "--label", "name", *more,
            "--out", f"j{n}.csv", "--replace", cwd=world,
        )  # fmt: skip
        out.append((world / f"j{n}.csv").read_bytes())
    assert out[0] == out[1] == out[2]


def test_trace_of_a_number_from_strips_gives_it_back(world, monkeypatch):
    _, _ = both(world, monkeypatch, "t.csv", "people.tif", *COUNTS)
    for measure in ("sum", "mean", "std"):
        told = run(
            "trace", "strips_t.csv", "--region", "star", "--period", "static", "--measure", measure,
            "--out", f"trace_{measure}.csv", "--replace", cwd=world,
        )  # fmt: skip
        assert "comes back" in told.stdout or "the same" in told.stdout, told.stdout
        lines = table(world / f"trace_{measure}.csv")
        numbers = {row["item"]: float(row["value"]) for row in lines if row["part"] == "number"}
        assert len(set(numbers)) > 1
        for value in numbers.values():
            assert value == pytest.approx(next(iter(numbers.values())), rel=1e-9)


def test_percentiles_and_weights_are_made_from_cells(world, monkeypatch):
    monkeypatch.setattr(choices, "CELLS_IN_STRIPS", 1)
    monkeypatch.setattr(strips, "run_overlay", lambda *_: pytest.fail("went by strips"))
    common = ["--regions", "r.geojson", "--label", "name", "--kind", "count"]
    run("series", "people.tif", *common, "--measure", "sum,median", cwd=world)
    weighted = ["--weight", "cover.tif", "--weight-kind", "density"]
    run("series", "people.tif", *common, "--measure", "mean", *weighted, cwd=world)


def written(path):
    """The values of the one grid in a file."""
    with netCDF4.Dataset(path) as data:
        name = next(n for n in ("people", "cover") if n in data.variables)
        return np.ma.filled(data[name][:].astype(float), np.nan).squeeze()


@pytest.mark.parametrize(
    "words",
    [
        ["people.tif", "--kind", "count"],
        ["people.tif", "--kind", "state", "--input-unit", "K", "--unit", "degC"],
        ["people.tif", "--kind", "state", "--input-unit", "1", "--min-area", "0.9"],
        ["cover.tif", "--kind", "class"],
        ["people.tif", "--kind", "count", "--regions", "r.geojson", "--label", "name"],
    ],
    ids=["counts", "temperature", "most", "classes", "regions"],
)
@pytest.mark.parametrize("cell", [7, 0.6])
def test_a_grid_that_is_brought_onto_others_in_strips_is_as_at_once(
    world, monkeypatch, words, cell
):
    crs, _, _, size = SYSTEMS["plane" if "plane" in world.name else "lonlat"]
    onto = ["--crs", crs, "--cell", f"{cell * size}", "--resample"]
    onto += ["majority" if "class" in words else "area"]
    words = ["grid", *words, *onto, "--quiet", "--replace"]
    run(*words, "--out", "whole.nc", cwd=world)
    monkeypatch.setattr(choices, "STRIP_ROWS", 8)
    monkeypatch.setattr(choices, "CELLS_IN_STRIPS", 1)
    monkeypatch.setattr(choices, "BLOCK_VALUES", 5 * COLUMNS)
    seen = []
    monkeypatch.setattr(
        grid_command, "strip_field", lambda *given: seen.append(1) or strip_field(*given)
    )
    run(*words, "--out", "strips.nc", cwd=world)
    assert len(seen) == (3 if cell > 1 and "--regions" not in words else len(seen))
    assert bool(seen) == (cell > 1)
    found, wanted = written(world / "strips.nc"), written(world / "whole.nc")
    assert np.isnan(wanted).any() or cell > 1
    np.testing.assert_allclose(found, wanted, rtol=2e-7)  # stored as float32


def test_numbers_that_are_no_codes_are_refused_in_strips_too(world, monkeypatch):
    from bavlo.core.stats.class_sums import _codes

    with pytest.raises(RequestError, match="not whole numbers"):
        _codes(np.array([1.0, 2.5, 3.0]))
    codes, place = _codes(np.array([3.0, -2.0, 3.0, 7.0]))
    np.testing.assert_array_equal(codes[place], [3, -2, 3, 7])
    far, place = _codes(np.array([1e9, 4.0, 1e9]))
    np.testing.assert_array_equal(far[place], [1e9, 4, 1e9])
