"""Grids without time, read in bands of rows, give what the same grids give step by step."""

import csv

import netCDF4
import numpy as np
import pytest
import rasterio
import shapely
from rasterio.transform import from_origin
from shapely import Polygon

from bavlo.engine import choices
from bavlo.jobs import grid as grid_command
from bavlo.jobs.grid_bands import band_field
from support import run, write_regions

ROWS, COLUMNS = 540, 420
UNIT = 6  # cells of the lengths below
SYSTEMS = {"lonlat": ("OGC:CRS84", 78, -32, 0.05), "plane": ("EPSG:32744", 2e5, 6.2e6, 900)}
COUNTS = ["--kind", "count", "--measure", "sum,mean,min,max,range,std,cv,count"]
DEPTHS = [
    "--kind", "amount", "--input-unit", "mm", "--combine", "total",
    "--measure", "mean,volume,cv,count,p90",
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
    people[:120, :90] = -9999
    cover = rng.choice([1, 2, 5, 40], (ROWS, COLUMNS), p=[0.4, 0.3, 0.2, 0.1]).astype("u1")
    cover[180:240, 120:300] = 0
    for name, values, nodata in (
        ("people", people, -9999), ("people_20010101", people, -9999),
        ("cover", cover, 0), ("cover_20010101", cover, 0),
    ):  # fmt: skip
        with rasterio.open(
            folder / f"{name}.tif", "w", driver="GTiff", width=COLUMNS, height=ROWS, count=1,
            dtype=values.dtype, crs=crs, transform=from_origin(west, north, size, size),
            nodata=nodata, compress="deflate", tiled=True, blockxsize=64, blockysize=64,
        ) as file:  # fmt: skip
            file.write(values, 1)

    def at(x, y):
        return west + x * UNIT * size, north - y * UNIT * size

    angle = np.linspace(0, 2 * np.pi, 60, endpoint=False)
    star = np.column_stack([at(30, 0)[0] + 25 * UNIT * size * np.cos(angle), np.zeros(60)])
    star[:, 1] = at(0, 45)[1] + 30 * UNIT * size * np.sin(angle) * rng.uniform(0.5, 1.2, 60)
    shapes = {
        "star": Polygon(star),
        "hole": shapely.box(*at(5, 80), *at(60, 35)).difference(
            shapely.box(*at(12.3, 70.2), *at(44.4, 41.7))
        ),
        "over the edge": shapely.box(*at(50.5, 30), *at(90, 4.5)),
        "within a cell": shapely.box(*at(20.02, 25.98), *at(20.07, 25.91)),
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
    """The same rows, but for the period and what adding up in another order may change."""
    for one, other in zip(found, wanted, strict=True):
        for name in ("region", "measure", "value", "unit", "area_valid", "steps"):
            if name in ("value", "area_valid") and other[name]:
                assert float(one[name]) == pytest.approx(float(other[name]), rel=2e-9, abs=1e-9)
            else:
                assert one[name] == other[name], name


def both(world, out, name, *words):
    """The same table from a grid without time, and from one whose name has a date."""
    common = ["--regions", "r.geojson", "--label", "name", "--quiet", "--replace", *words]
    run("series", f"{name}.tif", *common, "--out", f"bands_{out}", cwd=world)
    run("series", f"{name}_20010101.tif", "--every", "step", *common, "--out", f"steps_{out}",
        cwd=world)  # fmt: skip
    return table(world / f"bands_{out}"), table(world / f"steps_{out}")


@pytest.mark.parametrize("words", [COUNTS, DEPTHS, STATES], ids=["counts", "depths", "states"])
@pytest.mark.parametrize("least", [[], ["--min-area", "0.999"]], ids=["half", "whole"])
def test_measures_of_bands_are_those_of_steps(world, words, least):
    found, wanted = both(world, "m.csv", "people", *words, *least)
    assert len(found) == len(wanted) == 6 * len(words[-1].split(","))
    assert any(row["value"] for row in wanted)
    assert_alike(found, wanted)


@pytest.mark.parametrize("measure", ["shares", "majority"])
def test_classes_of_bands_are_those_of_steps(world, measure):
    found, wanted = both(world, f"{measure}.csv", "cover", "--kind", "class", "--measure", measure)
    assert len(found) == len(wanted) >= 6
    assert_alike(found, wanted)


def test_bands_give_the_same_bytes_for_any_jobs_and_memory(world):
    out = []
    for n, more in enumerate((["--jobs", "1"], ["--jobs", "3"], ["--memory", "3GB"])):
        run(
            "series", "people.tif", *COUNTS, "--regions", "r.geojson", "--label", "name", *more,
            "--out", f"j{n}.csv", "--replace", cwd=world,
        )  # fmt: skip
        out.append((world / f"j{n}.csv").read_bytes())
    assert out[0] == out[1] == out[2]


def test_trace_of_a_number_from_bands_gives_it_back(world):
    both(world, "t.csv", "people", *COUNTS)
    for measure in ("sum", "mean", "std"):
        told = run(
            "trace", "bands_t.csv", "--region", "within a cell", "--period", "static",
            "--measure", measure, "--out", f"trace_{measure}.csv", "--replace", cwd=world,
        )  # fmt: skip
        assert "comes back" in told.stdout or "the same" in told.stdout, told.stdout
        lines = table(world / f"trace_{measure}.csv")
        numbers = {row["item"]: float(row["value"]) for row in lines if row["part"] == "number"}
        assert len(set(numbers)) > 1
        for value in numbers.values():
            assert value == pytest.approx(next(iter(numbers.values())), rel=1e-9)


RANKS = "p0,p1,p10,p50,median,p77.7,p99.9,p100,sum,std"


@pytest.mark.parametrize("name", ["people", "cover"])  # few and many cells of one value
def test_percentiles_of_bands_are_those_of_all_cells_at_once(world, name):
    found, wanted = both(world, "p.csv", name, "--kind", "count", "--measure", RANKS)
    assert len({row["value"] for row in wanted}) > 9
    assert_alike(found, wanted)


def test_grids_with_a_weight_are_taken_step_by_step(world):
    weighted = ["--weight", "cover.tif", "--kind", "weight=state"]
    assert_alike(*both(world, "w.csv", "people", "--kind", "count", "--measure", "mean", *weighted))


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
def test_a_grid_that_is_brought_onto_others_in_bands_is_as_at_once(world, monkeypatch, words):
    crs, _, _, size = SYSTEMS["plane" if "plane" in world.name else "lonlat"]
    onto = ["--crs", crs, "--cell", f"{50 * size}", "--resample"]
    onto += ["majority" if "class" in words else "area"]
    words = ["grid", *words, *onto, "--quiet", "--replace"]
    run(*words, "--out", "whole.nc", cwd=world)
    monkeypatch.setattr(choices, "CELLS_OF_STEP", 1)
    monkeypatch.setattr(choices, "BLOCK_VALUES", 5 * COLUMNS)
    seen = []
    monkeypatch.setattr(
        grid_command, "band_field", lambda *given: seen.append(1) or band_field(*given)
    )
    run(*words, "--out", "bands.nc", cwd=world)
    assert seen
    found, wanted = written(world / "bands.nc"), written(world / "whole.nc")
    np.testing.assert_allclose(found, wanted, rtol=2e-7)  # stored as float32
