"""The demo and `describe` as installed."""

import json
import shlex
import zipfile
from importlib import import_module

import numpy as np
import pytest
import shapely

from bavlo.cli.commands import COMMANDS
from bavlo.core.space.layout import GridLayout
from bavlo.core.space.regions import region_edges
from bavlo.core.space.shared_areas import overlay
from bavlo.demo.world import make_world
from support import run


def test_the_demo_makes_its_files_and_says_what_to_look_at(demo):
    said = (demo / "said.txt").read_text()
    assert "Look first at" in said
    for name in (
        "rain_1991-2000.nc",
        "tmin_2011-2020.nc",
        "monthly_rain.nc",
        "districts.zip",
        "watersheds.geojson",
        "rain_years.png",
        "heat.csv",
    ):
        assert (demo / name).stat().st_size > 1000, name
    assert any(n.endswith(".prj") for n in zipfile.ZipFile(demo / "districts.zip").namelist())


def test_the_demo_does_not_write_into_a_folder_that_is_in_use(demo):
    done = run("demo", demo, check=False)
    assert done.returncode == 1
    assert "holds a demo" in done.stderr


def test_watersheds_share_borders_and_have_a_hole_an_island_and_two_tiny_ones(demo):
    collection = json.loads((demo / "watersheds.geojson").read_text())
    shapes = {
        f["properties"]["name"]: shapely.geometry.shape(f["geometry"])
        for f in collection["features"]
    }
    assert all(shape.is_valid for shape in shapes.values())
    total = sum(shape.area for shape in shapes.values())
    assert shapely.union_all(list(shapes.values())).area / total > 1 - 1e-6
    assert any(part.interiors for part in shapes["Sarrow"].geoms)
    assert len(shapes["Pell Sound"].geoms) == 2
    assert sum(shape.area < 0.125**2 for shape in shapes.values()) == 2


def test_the_world_is_the_same_every_time():
    one, other = make_world(), make_world()
    assert all(one.watersheds[n].equals_exact(other.watersheds[n], 0) for n in one.watersheds)


def test_districts_and_watersheds_cover_the_same_land(demo):
    world = make_world()
    layout = GridLayout(np.linspace(78, 86, 65), np.linspace(-38, -32, 49))
    areas = [
        overlay(region_edges(np.array(list(shapes.values()))), layout).weight.sum()
        for shapes in (world.watersheds, world.districts)
    ]
    assert abs(areas[0] / areas[1] - 1) < 1e-9


def test_describe_tells_grid_and_regions_in_sentences(demo):
    said = run("describe", "rain_*.nc", "watersheds.geojson", "districts.zip", cwd=demo).stdout
    for expected in (
        "rain in mm",
        "amount (told by cell_methods time: sum)",
        "48 rows × 64 columns",
        "10958 of one day, 1991-01-01..2020-12-31, no gaps",
        "never have a value",
        "17 (GeoJSON",
        "name names the regions",
        "EPSG:32744",
        "choose one",
        "all valid",
    ):
        assert expected in " ".join(said.split()), expected


def test_the_extras_are_what_they_say(demo):
    """People, classes, stations, layers, zones and a folder of rasters, each in one line."""
    people = run(
        "series",
        "people.tif",
        "--regions",
        "districts.zip",
        "--label",
        "name",
        "--measure",
        "sum",
        "--out",
        "-",
        cwd=demo,
    ).stdout
    total = sum(float(row.split(",")[6]) for row in people.splitlines()[1:])
    assert 3e5 < total < 1e6
    cover = run(
        "series",
        "landcover.nc",
        "--regions",
        "regions.gpkg",
        "--layer",
        "watersheds",
        "--measure",
        "shares",
        "--out",
        "-",
        cwd=demo,
    ).stdout
    shares = [float(r.split(",")[6]) for r in cover.splitlines()[1:] if ",share," in r]
    assert sum(shares) == pytest.approx(17)
    months = run(
        "series",
        "rain_tif",
        "--regions",
        "zones.tif",
        "--label",
        "zones.csv",
        "--out",
        "-",
        cwd=demo,
    ).stdout.splitlines()
    assert months[1].startswith("Upper Corran,2018-07,2018-07-01,2018-07-31,rain,mean,")
    at = run(
        "series",
        "rain_2011-2020.nc",
        "--regions",
        "stations.csv",
        "--during",
        "2018-07",
        "--measure",
        "bilinear",
        "--out",
        "-",
        cwd=demo,
    ).stdout.splitlines()
    assert len(at) == 7
    coarse = run(
        "series",
        "satellite_rain.nc",
        "--regions",
        "watersheds.geojson",
        "--weight",
        "people.tif",
        "--every",
        "year",
        "--during",
        "2018",
        "--out",
        "-",
        cwd=demo,
    )
    assert len(coarse.stdout.splitlines()) == 18


def test_describe_speaks_to_programs_and_tells_values_at_a_place(demo):
    told = json.loads(
        run(
            "describe",
            "rain_tif",
            "watersheds.geojson",
            "stations.csv",
            "rain_years.csv",
            "--at",
            "82.1,-34.8",
            "--format",
            "json",
            cwd=demo,
        ).stdout
    )
    assert "0 of 31 steps missing" in told[0]["there"]
    assert told[1]["regions"] == "17 (GeoJSON, MultiPolygon)"
    assert told[3]["regions"].startswith("17: Upper Corran")
    on_cells = next(t for t in told if t["what"].startswith("watersheds.geojson on"))
    assert on_cells["small"] == "smaller than a cell: Fenny Beck, Otterslade"
    assert any("over cells without data" in text for text in on_cells["look_at"])


def test_describe_tells_kelvin_as_a_state(demo):
    said = run("describe", demo / "tmin_1991-2000.nc").stdout
    assert "tmin in K" in said
    assert "steps are averaged" in said


EXAMPLES = [
    command
    for name in ("describe", "series", "normals", "anomalies", "extremes", "grid", "chart", "map")
    for command in import_module(COMMANDS[name][0])
    .parser(name)
    .epilog.replace("\\\n", " ")
    .split("\n")
    if command.strip().startswith("bavlo ")
]


@pytest.mark.parametrize("example", EXAMPLES, ids=lambda text: " ".join(text.split()[:4]))
def test_every_example_of_the_help_runs_on_the_demo_data(example, demo, tmp_path):
    (tmp_path / "sorrel").symlink_to(demo)
    run(*shlex.split(example)[1:], cwd=tmp_path)
