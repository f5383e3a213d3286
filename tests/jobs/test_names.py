"""A name given is the name of the variable everywhere; options that change nothing are refused."""

import csv
import json

import netCDF4
import numpy as np
import pandas as pd
import pyogrio
import pytest

from bavlo.request.filling import asked, make_request
from bavlo.request.option import named
from bavlo.request.options import OPTIONS, options_of
from bavlo.request.recorded import OF_FILES, request_of
from support import box, run, write_grid, write_regions

DAYS = 59
NAMES = ("a", "b", "c")


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    """Three files that each hold a variable `pre`, with values 1, 2 and 3 mm a day."""
    folder = tmp_path_factory.mktemp("names")
    for n, name in enumerate(NAMES):
        write_grid(folder / f"{name}.nc", np.full((DAYS, 2, 3), n + 1.0), name="pre")
    write_regions(folder / "r.geojson", {"north": box(0, 1, 3, 2), "south": box(0, 0, 3, 1)})
    (folder / "points.csv").write_text("name,lon,lat\np,0.5,0.5\n")
    return folder


def three(world, *options, command="series"):
    grids = [f"{name}={name}.nc" for name in NAMES]
    return run(command, *grids, "--regions", "r.geojson", *options, "--replace", cwd=world)


EXPECTED = {"a": 31.0, "b": 62.0, "c": 93.0}


def by_name(frame):
    january = frame[(frame.region == "north") & (frame.period == "2001-01")]
    return dict(zip(january.variable, january.value.astype(float), strict=True))


@pytest.mark.parametrize("ending", [".csv", ".xlsx", ".parquet", ".json"])
def test_grids_of_one_variable_are_told_apart_by_their_names(world, ending):
    out = world / f"all{ending}"
    three(world, "--every", "month", "--out", out)
    if ending == ".json":
        frame = pd.DataFrame(json.loads(out.read_text())["rows"])
    elif ending == ".xlsx":
        frame = pd.read_excel(out, dtype={"period": str})
    else:
        read = {".csv": pd.read_csv, ".parquet": pd.read_parquet}[ending]
        frame = read(out)
    assert by_name(frame) == EXPECTED


def test_no_layout_writes_two_values_to_one_place(world):
    out = world / "wide.csv"
    for layout in ("by-time", "by-region"):
        three(world, "--every", "month", "--layout", layout, "--out", out)
        cells = [float(c) for row in csv.reader(out.open()) for c in row if c in ("31", "62", "93")]
        assert sorted(cells) == [31, 31, 62, 62, 93, 93]
    three(world, "--every", "month", "--out", world / "all.gpkg", "--out", world / "all.nc")
    *_, fields = pyogrio.raw.read(world / "all.gpkg", read_geometry=False)
    assert sorted(v[0] for v in fields if v[0] in EXPECTED.values()) == [31, 62, 93]
    with netCDF4.Dataset(world / "all.nc") as data:
        held = {name: data[f"{name}_mean"][0, 0] for name in NAMES}
    assert held == EXPECTED


def test_a_name_stands_in_grids_figures_records_and_traces(world):
    three(world, "--out", world / "g.nc", "--every", "month", command="grid")
    with netCDF4.Dataset(world / "g.nc") as data:
        assert {name: float(data[name][0, 0, 0]) for name in NAMES} == EXPECTED
    run("series", "a=a.nc", "--regions", "r.geojson", "--out", "one.csv", "--replace", cwd=world)
    about = json.loads((world / "one.csv.about.json").read_text())
    assert about["grid"]["variable"] == "a"
    traced = run("trace", "one.csv", "--region", "north", "--period", "2001-01", cwd=world)
    assert "to the last digit" in traced.stdout
    three(world, "--out", world / "all.csv")
    traced = run(
        "trace", "all.csv", "--region", "north", "--period", "2001-02", "--variable", "c", cwd=world
    )
    assert "84" in traced.stdout.splitlines()[0]
    assert "to the last digit" in traced.stdout


def test_a_name_does_not_change_what_a_grid_is_taken_for(world):
    write_grid(world / "soil.nc", np.ones((DAYS, 2, 3)), name="depth")
    said = run("series", "rain=soil.nc", "--regions", "r.geojson", check=False, cwd=world).stderr
    assert "nothing tells whether rain in mm is an amount" in said


def test_all_that_is_made_is_reported(world):
    made = ("--make", "sum = a + b", "--make", "share = a / sum", "--kind", "sum=amount")
    out = world / "made.csv"
    for stage in ("step", "cell", "region"):
        kinds = made if stage == "step" else made[:4]
        three(world, *kinds, "--make-on", stage, "--every", "month", "--out", out)
        frame = pd.read_csv(out)
        found = by_name(frame)
        assert list(dict.fromkeys(frame.variable)) == ["sum", "share"]
        assert found == pytest.approx({"sum": 93.0, "share": 1 / 3})
    three(world, *made, "--every", "month", "--out", world / "made.nc", command="grid")
    with netCDF4.Dataset(world / "made.nc") as data:
        assert {"sum", "share"} <= set(data.variables)


def test_one_formula_may_have_its_own_unit_and_combine(world):
    made = ("--make", "s = a + b", "--make", "t = b + c", "--unit", "s=cm", "--combine", "t=mean")
    out = world / "made.csv"
    three(world, *made, "--make-on", "cell", "--combine", "s=mean", "--every", "all", "--out", out,
          "--combine", "a=total", "--combine", "b=total", "--combine", "c=total")  # fmt: skip
    found = pd.read_csv(out).groupby("variable").first()
    assert found.unit.to_dict() == {"s": "cm", "t": "mm"}
    assert found.value.to_dict() == pytest.approx({"s": 17.7, "t": 295.0})


@pytest.mark.parametrize(
    ("given", "why"),
    [
        (("--dates", "%Y%Y"), "has a time axis of its own"),
        (("--dates", "a=rain_%Y"), "has a time axis of its own"),
        (("--level", "3"), "no further dimension"),
        (("--input-crs", "EPSG:32744"), "is no raster"),
        (("--measure", "bilinear"), "no region is one"),
        (("--kind", "weight=count"), "without --weight"),
    ],
)
@pytest.mark.parametrize("command", ["series", "anomalies"])
def test_an_option_that_changes_nothing_is_refused_and_says_why(world, command, given, why):
    done = run(command, "a=a.nc", "--regions", "r.geojson", *given, check=False, cwd=world)
    assert done.returncode == 2
    assert given[0] in done.stderr
    assert why in done.stderr


# A text for each way to read an option, where its default will not do.
TEXTS = {
    "": "x",
    "bavlo.core.values.formula:parse_formula": ["m = a * 2"],
}


def test_what_is_asked_of_every_option_can_be_recorded_and_read_back(world, monkeypatch):
    monkeypatch.chdir(world)
    samples = {
        "during": "2001..2003-04", "every": "month,JFM", "base": "1991..2020", "window": "3",
        "combine": ["a=max", "b=mean", "c=degree-days above 10 degC"],
        "kind": ["a=amount", "state"],
        "missing": ["a=-1,-2", "c=none", "-3"], "scale": ["a=0.1", "2,1"],
        "unit": ["a=cm", "mm"], "input-unit": ["a=cm", "mm"], "dates": ["a=x_%Y", "y_%Y"],
        "measure": ["a=mean,p90", "max"], "variable": ["a=pre", "b=pre"],
        "stamp": ["a=end", "start"],
        "day-start": ["a=6", "3"], "utc-offset": ["a=05:30", "-03:00"], "level": "DIM=3",
        "make": ["m = a * 2", "n = m + 1 mm"], "when": ["rain >= 20 mm", "tmax > p90 for 3 days"],
        "index": "SU,Rx5day", "statistic": "mean,p10", "return-levels": "2,10", "box": "0,1,2,3",
        "at": "1,2",
        "input-crs": ["a=EPSG:4326", "regions=EPSG:32634"], "min-steps": "wmo",
        "pick": ["unit=mm"], "columns": ["date=day"], "sort": "-value",
        "mark": "max", "area-share": "0.4", "size": "800x600",
        "smooth": "15", "year-start": "4", "cell": "0.5",
    }  # fmt: skip
    tried = set()
    for command in sorted({c for option in OPTIONS for c in option.commands.split()}):
        for option in options_of(command):
            group = option.field.partition(".")[0]
            if group in ("", "run", "output"):  # where and how, never what
                continue
            text = samples.get(option.name)
            if text is None and not option.value:
                text = True
            if text is None and option.parse in OF_FILES:
                text = "r.geojson"
            if text is None and "|" in option.parse:
                words = option.parse.split("|")
                text = words[-1] if words[0] else next(iter(named(words[1])))
            text = text or (option.default if isinstance(option.default, str) else "1")
            if isinstance(text, list) and not option.repeat:
                text = text[0]
            given = {"grids": [f"{name}={name}.nc" for name in NAMES], option.name: text}
            try:
                request = make_request(command, given)
            except Exception as error:
                pytest.fail(f"{command} --{option.name} {text!r}: {error}")
            told = json.loads(json.dumps(asked(request)))
            again = request_of(told)
            assert asked(again) == asked(request), (command, option.name)
            tried.add(option.name)
    assert len(tried) > 70


@pytest.mark.parametrize("ending", [".csv", ".nc", ".xlsx", ".parquet", ".json", ".gpkg", ".png"])
def test_what_is_said_of_one_grid_is_recorded_in_every_format(world, ending):
    run(
        "series", "a=a.nc", "--regions", "r.geojson", "--combine", "a=max", "--measure", "a=mean",
        "--missing", "a=-7", "--out", f"one{ending}", "--replace", cwd=world,
    )  # fmt: skip
    three(world, "--combine", "a=max", "--make", "m = a + b", "--make-on", "cell", "--out", "m.csv")
    assert json.loads((world / "m.csv.about.json").read_text())["request"]["by_grid"] == [
        ["combine", "a", "max"]
    ]
