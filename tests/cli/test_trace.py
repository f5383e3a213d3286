"""`bavlo trace`: numbers come back to the last bit, and what went into them adds up to them."""

import csv
import json
import shutil

import netCDF4
import numpy as np
import pytest

from bavlo.remembered import OPEN_FILES
from support import box, run, write_grid, write_regions

RAIN = "rain_*.nc"
TABLES = {
    "months.csv": ["series", RAIN, "--every", "month", "--during", "2004..2007"],
    "heat.xlsx": ["series", "tmax_*.nc", "--every", "season", "--measure", "mean,p90,max",
                  "--unit", "degF"],
    "three.parquet": ["series", "tmax_*.nc", "--every", "year", "--window", "3"],
    "many.json": ["series", "rain=rain_*.nc", "tmax=tmax_*.nc", "--every", "month,year",
                  "--during", "2006..2007"],
    "sums.csv": ["series", RAIN, "--every", "year", "--measure", "volume"],
    "layer.gpkg": ["series", RAIN, "--every", "year", "--during", "2001..2003"],
    "shapes.shp.zip": ["series", RAIN, "--every", "year", "--during", "2001..2003"],
    "normals.csv": ["normals", RAIN, "--every", "month", "--statistic", "mean,p90"],
    "anomalies.csv": ["anomalies", RAIN, "--every", "season", "--during", "2007"],
    "heavy.csv": ["extremes", RAIN, "--when", "> 20 mm", "--count", "days,longest", "--every",
                  "year", "--events", "events.csv"],
    "region.csv": ["extremes", RAIN, "--when", "> 10 mm", "--test-on", "region", "--every", "year"],
    "levels.csv": ["extremes", RAIN, "--return-levels", "10,20"],
    "trends.csv": ["trends", "tmax_*.nc", "--every", "season", "--unit", "degC"],
    "agree.csv": ["compare", "a=rain_*.nc", "b=satellite_rain.nc", "--every", "season"],
    "spread.csv": ["compare", "a=rain_*.nc", "b=satellite_rain.nc", "--every", "year", "--spread"],
}  # fmt: skip
FROM_TABLES = {
    "window.csv": ["anomalies", "months.csv", "--base", "2004..2007"],
    "wet.csv": ["anomalies", "heavy.csv"],
    "counts.csv": ["trends", "heavy.csv"],
}
REGIONS = ["--regions", "watersheds.geojson", "--only", "Ombrel", "--only", "T*"]


@pytest.fixture(scope="module")
def folder(demo, tmp_path_factory):
    """Tables of every sort, made where the demo's files are."""
    folder = tmp_path_factory.mktemp("traced")
    for path in demo.iterdir():
        if path.suffix == ".nc" or path.name == "watersheds.geojson":
            (folder / path.name).symlink_to(path)
    for name, words in TABLES.items():
        run(*words, *REGIONS, "--out", name, cwd=folder)
    for name, words in FROM_TABLES.items():
        run(*words, "--out", name, cwd=folder)
    return folder


def rows_of(path):
    from bavlo.tables.formats import read_table
    from bavlo.tables.rows import as_texts, telling_columns

    table = read_table(path)
    names = telling_columns(table)
    columns = [as_texts(table.column(name)) for name in names]
    return [dict(zip(names, row, strict=True)) for row in zip(*columns, strict=True)]


def traced(table, row, *more, cwd, check=True):
    named = {name: row[name] for name in ("region", "period") if name in row}
    words = [w for name, value in named.items() for w in (f"--{name}", value)]
    others = {name: value for name, value in row.items() if name not in named and value}
    words += [w for name, value in others.items() for w in ("--pick", f"{name}={value}")]
    return run("trace", table, *words, *more, cwd=cwd, check=check)


@pytest.mark.slow
@pytest.mark.parametrize("table", [*TABLES, *FROM_TABLES, "events.csv"])
def test_any_number_comes_back_to_the_last_digit_of_its_format(folder, table):
    rows = rows_of(folder / table)
    rng = np.random.default_rng(sum(table.encode()))
    for n in rng.choice(len(rows), 3):
        done = traced(table, rows[n], cwd=folder)
        assert done.returncode == 0, (rows[n], done.stdout)
        assert "comes back" in done.stdout


def test_steps_and_cells_add_up_to_the_number(folder, tmp_path):
    out = tmp_path / "trace.csv"
    run("trace", "months.csv", "--region", "Ombrel", "--period", "2007-06", "--out", out,
        cwd=folder)  # fmt: skip
    with out.open(newline="") as file:
        lines = list(csv.DictReader(file))
    recorded = float(next(x for x in lines if x["item"] == "value as recorded")["value"])
    steps = [float(x["value"]) for x in lines if x["part"] == "step"]
    cells = [x for x in lines if x["part"] == "cell"]
    assert len(steps) == 30
    assert sum(steps) == pytest.approx(recorded, rel=1e-12)
    weights = np.array([float(x["weight"]) for x in cells])
    values = np.array([float(x["value"]) for x in cells])
    assert weights.sum() == pytest.approx(1, rel=1e-12)
    assert weights @ values == pytest.approx(recorded, rel=1e-9)
    files = [x["item"] for x in lines if x["part"] == "file"]
    assert files == [f"rain_{y}.nc" for y in ("1991-2000", "2001-2010", "2011-2020")] + [
        "watersheds.geojson"
    ]


def test_dates_of_a_count_add_up_to_it(folder, tmp_path):
    out = tmp_path / "days.json"
    run("trace", "heavy.csv", "--region", "Ombrel", "--period", "2007", "--pick", "count=days",
        "--out", out, cwd=folder)  # fmt: skip
    rows = json.loads(out.read_text())["rows"]
    share = sum(r["share"] for r in rows if r["part"] == "step")
    assert share == pytest.approx(rows[0]["value"], rel=1e-9)


def test_cells_of_a_class_add_up_to_its_share_and_area(folder, tmp_path):
    run("series", "landcover.nc", *REGIONS, "--measure", "shares", "--out", "cover.csv", cwd=folder)
    with (folder / "cover.csv").open(newline="") as file:
        rows = [row for row in csv.DictReader(file) if row["region"] == "Ombrel"]
    name = rows[0]["class"]
    out = tmp_path / "cells.csv"
    run("trace", "cover.csv", "--region", "Ombrel", "--pick", f"class={name}", "--pick",
        "measure=share", "--out", out, cwd=folder)  # fmt: skip
    with out.open(newline="") as file:
        cells = [row for row in csv.DictReader(file) if row["note"] == name]
    told = {row["measure"]: float(row["value"]) for row in rows if row["class"] == name}
    assert sum(float(cell["weight"]) for cell in cells) == pytest.approx(told["share"], rel=1e-6)
    assert sum(float(cell["area"]) for cell in cells) == pytest.approx(told["area"], rel=1e-9)


def test_a_row_must_be_told_apart_and_names_are_helped(folder):
    done = run("trace", "months.csv", "--region", "Ombrell", "--period", "2007-06", cwd=folder,
               check=False)  # fmt: skip
    assert (
        "no row has the region Ombrell; there is: Tassick, Ombrel, Tolwick; did you mean Ombrel?"
        in done.stderr
    )
    done = run("trace", "heavy.csv", "--region", "Ombrel", "--period", "2007", cwd=folder,
               check=False)  # fmt: skip
    assert "choose one with --pick count=days" in done.stderr
    assert done.returncode == 2


def test_changed_files_are_said_and_end_with_status_1(folder, demo, tmp_path):
    for name in ("rain_2001-2010.nc", "watersheds.geojson"):
        shutil.copy(demo / name, tmp_path / name)
    run("series", "rain_2001-2010.nc", "--regions", "watersheds.geojson", "--every", "year",
        "--out", "rain.csv", cwd=tmp_path)  # fmt: skip
    OPEN_FILES.clear()
    with netCDF4.Dataset(tmp_path / "rain_2001-2010.nc", "a") as data:
        data["rain"][100, 20:30, 40:50] = 300
    elsewhere = tmp_path / "tables"
    elsewhere.mkdir()
    for name in ("rain.csv", "rain.csv.about.json"):
        (tmp_path / name).rename(elsewhere / name)
    done = run("trace", "tables/rain.csv", "--region", "Ombrel", "--period", "2001", cwd=tmp_path,
               check=False)  # fmt: skip
    assert done.returncode == 1
    assert "changed since: another digest of its values" in done.stdout
    assert "The value does not come back: recorded" in done.stdout
    (elsewhere / "rain.csv.about.json").unlink()
    done = run("trace", "tables/rain.csv", "--region", "Ombrel", "--period", "2001", cwd=tmp_path,
               check=False)  # fmt: skip
    assert "keep rain.csv.about.json beside it" in done.stderr


def test_a_recorded_request_is_the_request_that_was_made(folder):
    from bavlo.request.filling import asked, make_request
    from bavlo.request.recorded import given_of

    given = {
        "grids": [str(folder / "rain_1991-2000.nc")],
        "regions": ["80.5,-34", "81,-35"], "every": ["month,year"], "measure": ["mean,p90"],
        "missing": ["-99,-88"], "utc-offset": ["-05:30"], "during": "2001..2003-05",
        "combine": ["degree-days above 10.25 degC"], "only": ["a", "b*"],
        "scale": ["0.1"], "min-area": "0.25", "level": ["member=3", "lead=24"], "order": "cell",
    }  # fmt: skip
    first = make_request("series", given)
    command, again = given_of(asked(first))
    assert asked(make_request(command, again)) == asked(first)
    grid = {
        "grids": given["grids"], "box": "78,-38,86,-32", "cell": "0.5", "make": ["a = rain * 2"],
        "base": "1991..2000", "as": "anomaly",
    }  # fmt: skip
    first = make_request("grid", grid)
    command, again = given_of(asked(first))
    assert asked(make_request(command, again)) == asked(first)


def test_the_picture_shows_the_cells_with_their_values(folder, tmp_path):
    from bavlo.figures import draw
    from bavlo.jobs.trace import trace
    from bavlo.request.filling import make_request
    from bavlo.request.reporter import SilentReporter

    given = {"grids": [str(folder / "months.csv")], "region": "Ombrel", "period": "2007-06"}
    found = trace(make_request("trace", given), SilentReporter())
    figure = draw([found.result.table], found.result.title, **found.result.drawing)
    written = [text.get_text() for text in figure.axes[0].texts]
    cells = [line for line in found.lines if line.part == "cell" and line.share >= 0.05]
    assert len(written) == len(cells) > 20
    with pytest.raises(Exception, match="no picture of this number"):
        draw([found.result.table], found.result.title)


def test_the_steps_of_a_count_add_up_to_it_where_days_have_gaps(tmp_path):
    rng = np.random.default_rng(3)
    rain = rng.gamma(0.6, 10, (365, 4, 6))
    rain[rng.random(rain.shape) < 0.03] = np.nan
    write_grid(tmp_path / "rain.nc", rain)
    write_regions(tmp_path / "r.geojson", {"a": box(0.2, 0.3, 5.1, 3.4)})
    run("extremes", "rain.nc", "--regions", "r.geojson", "--when", "rain >= 10 mm", "--every",
        "year", "--min-steps", "0.8", "--out", "days.csv", cwd=tmp_path)  # fmt: skip
    row = next(csv.DictReader((tmp_path / "days.csv").open()))
    run("trace", "days.csv", "--region", "a", "--period", "2001", "--out", "t.csv", cwd=tmp_path)
    steps = [r for r in csv.DictReader((tmp_path / "t.csv").open()) if r["part"] == "step"]
    added = sum(float(step["share"] or 0) for step in steps)
    assert added == pytest.approx(float(row["value"]), rel=1e-12)


def test_what_steps_and_cells_of_an_anomaly_give_is_called_its_value(tmp_path):
    rng = np.random.default_rng(4)
    write_grid(tmp_path / "rain.nc", rng.gamma(2, 3, (365 * 4 + 1, 2, 3)))
    write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 3, 2)})
    run("anomalies", "rain.nc", "--regions", "r.geojson", "--base", "2001..2004", "--every",
        "year", "--out", "a.csv", cwd=tmp_path)  # fmt: skip
    said = run("trace", "a.csv", "--region", "a", "--period", "2003", cwd=tmp_path).stdout
    row = next(r for r in csv.DictReader((tmp_path / "a.csv").open()) if r["period"] == "2003")
    (line,) = [line for line in said.splitlines() if "put together" in line]
    assert line.split()[0] == "value"
    assert float(line.split()[3]) == pytest.approx(float(row["value"]))
    assert f"value                {row['value']} mm" in said
