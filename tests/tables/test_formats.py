"""Every format of tables, read back by its ordinary library and by the program."""

import csv as plain_csv
import datetime
import hashlib
import json
import zipfile

import netCDF4
import numpy as np
import openpyxl
import pyarrow.parquet as pq
import pyogrio
import pytest
import shapely

from bavlo.tables import xlsx
from bavlo.tables.formats import ENDINGS, FORMATS, Companions, ending_of, read_table
from bavlo.tables.layouts import short_names
from bavlo.tables.table import Column, Table
from support import box, run, write_grid, write_regions

AWKWARD = {
    'a, "b"; c': box(0, 0, 2, 2),
    "=1+1": box(2, 0, 4, 2),
    "Ünïcode <b>&amp;": box(0, 2, 2, 4),
    "x" * 200: box(2, 2, 4, 4),
}


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    folder = tmp_path_factory.mktemp("tables")
    rng = np.random.default_rng(3)
    block = rng.gamma(0.5, 9, (400, 4, 4))
    block[40:45, :2, :2] = np.nan
    grid = write_grid(folder / "rain.nc", block)
    regions = write_regions(folder / "r.geojson", AWKWARD, code=[3, 1, 4, 1])
    return folder, grid, regions


def write(world, tmp_path, name, *options, command="series"):
    out = tmp_path / name
    _, grid, regions = world
    run(command, grid, "--regions", regions, "--label", "name", "--out", out, *options)
    return out


def as_rows(table):
    out = []
    for chunk in table.chunks():
        out += zip(*(column.tolist() for column in chunk), strict=True)
    return [tuple(None if v != v else v for v in row) for row in out]


@pytest.mark.parametrize("ending", ENDINGS)
@pytest.mark.parametrize(
    ("command", "options"),
    [
        ("series", ["--every", "month", "--measure", "mean,p90"]),
        ("normals", ["--every", "month", "--base", "2001..2001"]),
        ("anomalies", ["--every", "month", "--base", "2001..2001"]),
        ("extremes", ["--every", "month", "--when", "rain >= 20 mm", "--count", "days,total"]),
    ],
)
def test_every_table_comes_back_bit_for_bit(world, tmp_path, ending, command, options):
    expected = read_table(write(world, tmp_path, "t.csv", *options, command=command))
    out = write(world, tmp_path, f"u{ending}", *options, command=command)
    found = read_table(out)
    assert found.header == expected.header
    assert found.axes == expected.axes
    one, other = as_rows(found), as_rows(expected)
    if ending != ".xlsx":
        assert one == other
        return
    for a, b in zip(one, other, strict=True):  # a sheet holds 16 digits
        near = [v if isinstance(v, str) else v and pytest.approx(v, rel=1e-15) for v in a]
        assert near == list(b)


def test_a_spreadsheet_has_dates_numbers_filters_and_an_about_sheet(world, tmp_path):
    out = write(world, tmp_path, "t.xlsx", "--every", "month")
    book = openpyxl.load_workbook(out)
    assert book.sheetnames == ["series", "about"]
    sheet = book["series"]
    head = [cell.value for cell in sheet[1]]
    first = dict(zip(head, (cell.value for cell in sheet[2]), strict=True))
    assert first["region"] == 'a, "b"; c'
    assert first["start"] == datetime.datetime(2001, 1, 1)
    assert isinstance(first["value"], float)
    assert sheet.freeze_panes == "A2"
    assert sheet.auto_filter.ref.startswith("A1:")
    formula = next(row for row in sheet.iter_rows(min_row=2) if row[0].value == "=1+1")
    assert formula[0].data_type == "s"
    empty = [row for row in sheet.iter_rows(min_row=2, values_only=True) if row[head.index("note")]]
    assert empty[0][head.index("value")] is None
    about = {row[0].value: row[1].value for row in book["about"].iter_rows(min_row=2)}
    assert about["request.command"] == "series"
    assert "rain.nc" in about["inputs.1.file"]
    assert not (tmp_path / "t.xlsx.about.json").exists()


def test_dates_before_1900_are_text_in_a_spreadsheet(tmp_path):
    grid = write_grid(tmp_path / "old.nc", np.ones((60, 4, 4)), since="days since 1850-01-01")
    regions = write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 4, 4)})
    out = tmp_path / "t.xlsx"
    run("series", grid, "--regions", regions, "--out", out)
    sheet = openpyxl.load_workbook(out)["series"]
    assert sheet["C2"].value == "1850-01-01"


def test_more_rows_than_a_sheet_holds_go_on_in_another(tmp_path):
    most = 1_048_575
    values = np.full(most + 3, np.nan)
    values[[0, most - 1, most, most + 2]] = [1, 2, 3, 4]
    table = Table("counts", {"row": most + 3}, (Column("value", ("row",), values),))
    out = tmp_path / "t.xlsx"
    xlsx.write_file(table, out, Companions({}))
    book = openpyxl.load_workbook(out, read_only=True)
    assert book.sheetnames == ["counts", "counts 2", "about"]
    assert [row[0].value for row in book["counts 2"].iter_rows(min_row=2)] == [3, None, 4]


def test_parquet_has_types_and_provenance(world, tmp_path):
    out = write(world, tmp_path, "t.parquet", "--every", "month")
    table = pq.read_table(out)
    assert str(table.schema.field("start").type) == "date32[day]"
    assert str(table.schema.field("value").type) == "double"
    assert str(table.schema.field("region").type).startswith("dictionary<values=string")
    about = json.loads(table.schema.metadata[b"bavlo"])
    assert about["request"]["command"] == "series"
    lacking = np.isnan(read_table(out).column("value")).sum()
    assert table.column("value").null_count == lacking > 0


def test_json_is_a_schema_and_a_record_a_row(world, tmp_path):
    out = write(world, tmp_path, "t.json", "--every", "month")
    found = json.loads(out.read_text())
    assert found["table"] == "series"
    assert found["columns"][0] == {"name": "region", "type": "text"}
    assert found["rows"][0]["region"] == 'a, "b"; c'
    assert found["about"]["request"]["command"] == "series"
    _, grid, regions = world
    said = run(
        "series", grid, "--regions", regions, "--label", "name", "--out", "-", "--format", "json"
    )
    assert json.loads(said.stdout)["rows"] == found["rows"]


@pytest.mark.parametrize("ending", [".geojson", ".gpkg", ".shp.zip"])
def test_vector_files_are_the_regions_with_a_column_a_period(world, tmp_path, ending):
    options = ["--every", "month", "--measure", "mean,max"]
    plain = list(plain_csv.DictReader(write(world, tmp_path, "t.csv", *options).open()))
    out = write(world, tmp_path, f"v{ending}", *options)
    source = f"/vsizip/{out}/v.shp" if ending == ".shp.zip" else out
    layer = "series" if ending == ".gpkg" else None
    meta, _, wkb, columns = pyogrio.raw.read(source, layer=layer)
    fields = dict(zip(meta["fields"].tolist(), columns, strict=True))
    shapes = shapely.from_wkb(wkb)
    assert [shape.equals(given) for shape, given in zip(shapes, AWKWARD.values(), strict=True)]
    assert shapely.area(shapes).tolist() == [4, 4, 4, 4]
    assert fields["code"].tolist() == [3, 1, 4, 1]
    names = about_of(out, ending)["columns"]
    assert len(names) == 28
    by_head = {head: name for name, head in names.items()}
    for row in plain:
        n = list(AWKWARD).index(row["region"].removeprefix("'"))
        found = fields[by_head[f"{row['period']} {row['measure']}"]][n]
        if not row["value"]:
            assert found is None or np.isnan(found)
        else:
            assert found == pytest.approx(float(row["value"]), rel=1e-9)
    if ending == ".shp.zip":
        assert max(map(len, fields)) <= 10


def about_of(path, ending):
    if ending == ".geojson":
        return json.loads(path.read_text())["about"]
    if ending == ".shp.zip":
        return json.loads(zipfile.ZipFile(path).read("about.json"))
    lines = pyogrio.raw.read(path, layer="about", read_geometry=False)[3][1]
    return json.loads("\n".join(lines.tolist()))


def test_too_many_columns_for_a_format_are_refused_with_another(world, tmp_path):
    _, grid, regions = world
    out = tmp_path / "v.shp.zip"
    done = run("series", grid, "--regions", regions, "--label", "name", "--every", "day", "--out",
               out, check=False)  # fmt: skip
    assert done.returncode == 1
    assert "holds 254 columns, and there would be 403" in done.stderr
    assert not out.exists()


def test_wide_layouts_put_regions_or_periods_across(world, tmp_path):
    long = list(plain_csv.DictReader(write(world, tmp_path, "t.csv", "--every", "month").open()))
    value = {(r["region"], r["period"]): r["value"] for r in long}
    out = write(world, tmp_path, "time.csv", "--every", "month", "--layout", "by-time")
    rows = list(plain_csv.reader(out.open()))
    assert rows[0][:3] == ["period", "start", "end"]
    assert len(rows) == 15
    for row in rows[1:]:
        for name, cell in zip(rows[0][3:], row[3:], strict=True):
            assert value[name, row[0]] == cell
    out = write(world, tmp_path, "region.xlsx", "--every", "month", "--layout", "by-region")
    sheet = openpyxl.load_workbook(out)["series"]
    assert [cell.value for cell in sheet[1]][:3] == ["region", "2001-01", "2001-02"]
    assert sheet.max_row == 5
    two = write(world, tmp_path, "two.csv", "--measure", "mean,max", "--layout", "by-time")
    head = next(plain_csv.reader(two.open()))
    assert head[3:5] == ['a, "b"; c mean', 'a, "b"; c max']
    _, grid, regions = world
    said = run("series", grid, "--regions", regions, "--label", "name", "--layout", "by-time")
    assert "2001-01" in said.stdout


@pytest.mark.parametrize("ending", [e for e in ENDINGS if e != ".shp.zip"] + [".shp.zip"])
def test_the_same_request_gives_the_same_bytes(world, tmp_path, ending, monkeypatch):
    first = write(world, tmp_path, f"a{ending}", "--every", "month")
    folder = tmp_path / "later"
    folder.mkdir()
    again = write(world, folder, f"a{ending}", "--every", "month")
    assert first.read_bytes() == again.read_bytes()


def test_what_reads_tables_reads_all_of_them(world, tmp_path):
    normals = []
    for ending, entry in FORMATS.items():
        table = write(world, tmp_path, f"t{ending}", "--every", "month")
        run("chart", table, "--out", tmp_path / f"c{ending}.png")
        normals.append(tmp_path / (f"n{ending}.csv" if entry.of_regions else f"n{ending}"))
        run("normals", table, "--base", "2001..2001", "--out", normals[-1])
        assert "table" in run("describe", table).stdout
    one, *others = normals
    for other in others:
        if other.suffix != ".xlsx":
            assert as_rows(read_table(one)) == as_rows(read_table(other))


def test_a_table_without_shapes_makes_no_vector_file(world, tmp_path):
    table = write(world, tmp_path, "t.csv", "--every", "month")
    done = run("normals", table, "--base", "2001..2001", "--out", tmp_path / "n.gpkg", check=False)
    assert "this table has no shapes" in done.stderr
    zones = write_grid(tmp_path / "z.nc", np.ones((4, 4), "i4"), name="zone", unit="", time=False)
    done = run("series", world[1], "--regions", zones, "--out", tmp_path / "z.gpkg", check=False)
    assert "this table has no shapes" in done.stderr


def test_endings_are_told_by_the_longest_that_fits(tmp_path):
    assert ending_of(tmp_path / "a.shp.zip") == ".shp.zip"
    assert ending_of(tmp_path / "a.CSV") == ".csv"
    assert ending_of(tmp_path / "a.zip") == ""


def test_short_names_are_unique_and_letters_first():
    heads = ["2001-01 mean", "region", "Region", "a very long head", "ok"]
    names = short_names(heads, 10)
    assert len({name.lower() for name in names.values()}) == 5
    assert all(len(name) <= 10 and name[0].isalpha() for name in names.values())


def test_netcdf_is_time_series_with_outlines_and_bounds(world, tmp_path):
    options = ["--every", "month", "--measure", "mean,p90"]
    table = read_table(write(world, tmp_path, "t.csv", *options))
    out = write(world, tmp_path, "t.nc", *options)
    with netCDF4.Dataset(out) as data:
        data.set_auto_mask(False)
        assert (data.Conventions, data.featureType) == ("CF-1.11", "timeSeries")
        assert data["region_name"].cf_role == "timeseries_id"
        assert data["region_name"][:].tolist() == list(AWKWARD)
        assert data["period_name"][0] == "2001-01"
        full = table.full("value")
        np.testing.assert_array_equal(data["rain_mean"][:], full[:, :, 0])
        np.testing.assert_array_equal(data["rain_p90"][:], full[:, :, 1])
        assert (data["rain_mean"].units, data["rain_mean"].cell_methods) == ("mm", "time: sum")
        assert data["rain_mean"].coordinates == "region_name period_name time"
        bounds = data["time_bounds"][:]
        assert data["time"].bounds == "time_bounds"
        last = netCDF4.num2date(bounds[0, 1], data["time"].units)
        assert last.isoformat() == "2001-02-01T00:00:00"
        assert (bounds[1:, 0] == bounds[:-1, 1]).all()
        about = json.loads(data.bavlo)
        assert about["request"]["command"] == "series"
        # The outlines, put together again as the conventions say (section 7.5).
        container = data[data["rain_mean"].geometry]
        assert container.geometry_type == "polygon"
        x, y = (data[name][:] for name in container.node_coordinates.split())
        counts = data[container.node_count][:]
        ends = np.cumsum(counts)
        for label, begin, end in zip(AWKWARD, ends - counts, ends, strict=True):
            ring = shapely.Polygon(np.column_stack([x[begin:end], y[begin:end]]))
            assert ring.equals(AWKWARD[label])
        assert data[container.part_node_count][:].sum() == x.size
        assert data[container.interior_ring][:].tolist() == [0, 0, 0, 0]
        assert data[container.grid_mapping].grid_mapping_name == "latitude_longitude"


def test_netcdf_normals_have_climatology_bounds(world, tmp_path):
    out = write(world, tmp_path, "n.nc", "--every", "month", "--base", "2001..2001",
                command="normals")  # fmt: skip
    with netCDF4.Dataset(out) as data:
        assert data["time"].climatology == "climatology_bounds"
        first, last = netCDF4.num2date(data["climatology_bounds"][0], data["time"].units)
        assert (first.isoformat()[:10], last.isoformat()[:10]) == ("2001-01-01", "2001-02-01")
        assert "within years time: mean over years" in data["rain_mean_mean"].cell_methods
        assert data["years_mean"].units == "years"


def test_netcdf_anomalies_have_a_variable_for_each_number(world, tmp_path):
    out = write(world, tmp_path, "a.nc", "--every", "month", "--base", "2001..2001", "--window",
                "1,2", command="anomalies")  # fmt: skip
    with netCDF4.Dataset(out) as data:
        assert {"anomaly_mean_1", "anomaly_mean_2", "rank_mean_1", "steps_1"} <= set(data.variables)
        assert data["percent_of_normal_mean_1"].units == "%"
        assert data["rank_mean_1"].units == "1"
        assert data["anomaly_mean_2"].units == "mm"


WITHOUT_SHAPES = [ending for ending, entry in FORMATS.items() if not entry.of_regions]


@pytest.mark.parametrize("ending", WITHOUT_SHAPES)
def test_what_is_made_of_a_table_carries_its_parent_and_the_chain_goes_back(
    world, tmp_path, ending
):
    table = write(world, tmp_path, f"t{ending}", "--every", "month")
    assert about_table(table)["request"]["every"] == ["month"]
    out = tmp_path / f"n{ending}"
    run("normals", table, "--base", "2001..2001", "--out", out)
    (parent,) = about_table(out)["inputs"]
    assert parent["sha256"] == hashlib.sha256(table.read_bytes()).hexdigest()
    assert parent["about"] == about_table(table)
    assert parent["about"]["inputs"][0]["file"].endswith("rain.nc")
    said = " ".join(run("describe", out).stdout.split())
    assert "made by bavlo 0.1.0 normals with base 2001..2001; from" in said
    figure = tmp_path / "c.png"
    run("chart", out, "--out", figure)
    (shown,) = json.loads((tmp_path / "c.png.about.json").read_text())["inputs"]
    assert shown["about"]["inputs"][0]["sha256"] == parent["sha256"]


def about_table(path):
    from bavlo.tables.formats import about_of

    return about_of(path)


def test_a_map_tells_the_table_and_the_regions_that_it_shows(world, tmp_path):
    table = write(world, tmp_path, "t.csv", "--every", "month")
    run("map", table, "--regions", world[2], "--label", "name", "--out", tmp_path / "m.png")
    about = json.loads((tmp_path / "m.png.about.json").read_text())
    assert [each["file"] for each in about["inputs"]] == [str(table), str(world[2])]
    assert about["inputs"][0]["about"]["request"]["command"] == "series"
