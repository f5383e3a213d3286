"""Region files as strangers make them."""

import csv
import json
import warnings
import zipfile

import numpy as np
import pytest

from bavlo.errors import BavloError, BavloWarning
from bavlo.jobs.describe_regions import describe_regions
from bavlo.regions.read import RegionOptions, read_regions
from bavlo.regions.vector import SHAPEFILE, Features, write
from support import box, rows, run, write_grid, write_regions

SHAPES = {"a": box(0, 0, 2, 2), "b": box(2, 0, 4, 2), "c": box(0, 2, 2, 4)}


@pytest.fixture
def grid(tmp_path):
    return write_grid(tmp_path / "rain.nc", np.arange(16.0).reshape(1, 4, 4))


def labels(path, **options):
    return list(read_regions(path, RegionOptions(**options)).regions.labels)


@pytest.mark.parametrize("folder", ["", "export/", "a/b c/"])
def test_a_shapefile_may_lie_in_folders_of_a_zip(tmp_path, folder):
    features = Features(
        np.array(list(SHAPES.values())),
        {"name": np.array(list(SHAPES), object)},
        "EPSG:4326",
        "Shapefile",
        "",
    )
    write(tmp_path / "sheds.shp", features, "Polygon")
    packed = tmp_path / "sheds.zip"
    with zipfile.ZipFile(packed, "w") as out:
        for part in sorted(tmp_path.glob("sheds.*")):
            if part != packed:
                out.write(part, f"{folder}{part.name}")
        out.writestr(f"__MACOSX/{folder}._sheds.shp", b"nothing")
    assert labels(packed) == ["a", "b", "c"]
    with zipfile.ZipFile(packed, "a") as out:
        for part in sorted(tmp_path.glob("sheds.*")):
            if part != packed:
                out.write(part, f"other/districts{part.suffix}")
    if folder:
        with pytest.raises(BavloError, match="several layers: sheds, districts"):
            labels(packed)
        assert labels(packed, layer="districts") == ["a", "b", "c"]


def test_topojson_has_the_reference_system_of_its_format(tmp_path):
    path = tmp_path / "r.topojson"
    arc = [[0, 0], [2, 0], [2, 2], [0, 2], [0, 0]]
    shape = {"type": "Polygon", "arcs": [[0]], "properties": {"name": "a"}}
    path.write_text(
        json.dumps(
            {
                "type": "Topology",
                "objects": {"areas": {"type": "GeometryCollection", "geometries": [shape]}},
                "arcs": [arc],
            }
        )
    )
    found = read_regions(path).regions
    assert found.labels == ("a",)
    assert found.crs == "OGC:CRS84"


@pytest.mark.parametrize(
    ("text", "name"),
    [
        ("name;lon;lat\nport;1,5;2,25\n", "semicolon"),
        ("name\tlon\tlat\nport\t1,5\t2,25\n", "tab"),
        ("name,lon,lat\nport,1.5,2.25\n", "comma"),
    ],
)
def test_points_come_with_any_delimiter_and_decimal_comma(tmp_path, text, name):
    path = tmp_path / f"{name}.csv"
    path.write_text(text)
    (point,) = read_regions(path).regions.geometry
    assert (point.x, point.y) == (1.5, 2.25)


def test_two_fields_may_make_one_label_and_are_proposed(tmp_path):
    path = write_regions(
        tmp_path / "r.geojson",
        SHAPES,
        district=["East", "East", "West"],
        town=["Sill", "Carrow", "Sill"],
    )
    told = json.loads(path.read_text())
    for feature in told["features"]:
        del feature["properties"]["name"]
    path.write_text(json.dumps(told))
    with pytest.raises(BavloError, match=r"no field names every.*label='district,town'"):
        labels(path)
    assert labels(path, label="district,town") == ["East / Sill", "East / Carrow", "West / Sill"]
    with pytest.raises(BavloError, match="no field 'city'"):
        labels(path, label="district,city")
    with pytest.raises(BavloError, match=r"names several regions alike.*label='district,town'"):
        labels(path, label="town")
    said = dict(describe_regions(path, RegionOptions()).facts)
    assert "two together name each differently: district,town" in said["label"]


def test_candidates_for_labels_are_told_in_the_order_of_their_use(tmp_path):
    path = write_regions(
        tmp_path / "r.geojson", SHAPES, code=["A1", "B2", "C3"], town=["Sill", "Corr", "Esk"]
    )
    with pytest.raises(BavloError, match=r"name \(a, …\), town \(Sill, …\), code \(A1, …\)"):
        labels(path)


def test_numbers_in_text_lose_their_point_zero(tmp_path):
    path = write_regions(tmp_path / "r.geojson", SHAPES, id=["101.0", "102.0", "7.0"])
    assert labels(path, label="id") == ["101", "102", "7"]
    mixed = write_regions(tmp_path / "m.geojson", SHAPES, id=["1.0", "v1.0", "2.0"])
    assert labels(mixed, label="id") == ["1.0", "v1.0", "2.0"]


def test_a_region_without_geometry_is_a_row_with_a_note(tmp_path, grid):
    path = write_regions(tmp_path / "r.geojson", SHAPES)
    told = json.loads(path.read_text())
    told["features"][1]["geometry"] = None
    path.write_text(json.dumps(told))
    found = rows("series", grid, path, every="day")
    assert [(r["region"], bool(r["value"]), r["note"]) for r in found] == [
        ("a", True, ""),
        ("b", False, "no geometry"),
        ("c", True, ""),
    ]
    said = run("series", grid, "--regions", path, "--every", "day")
    assert "b: no geometry, so that it has no values" in said.stderr
    assert "for regions without geometry" in said.stdout
    with pytest.raises(BavloError, match="would be repaired: b: no geometry"):
        rows("series", grid, path, every="day", strict=True)
    counts = rows("extremes", grid, path, every="all", when=["rain > 3 mm"])
    assert [r["note"] for r in counts] == ["", "no geometry", ""]
    assert "no geometry" in " ".join(describe_regions(path, RegionOptions()).doubts)


def test_regions_may_be_left_out_by_name_or_pattern(tmp_path, grid):
    path = write_regions(tmp_path / "r.geojson", SHAPES)
    assert labels(path, excluded=("b",)) == ["a", "c"]
    assert labels(path, only=("a", "b"), excluded=("b",)) == ["a"]
    assert labels(path, excluded=("[ab]",)) == ["c"]
    with pytest.raises(BavloError, match="no region is called 'z'"):
        labels(path, excluded=("z",))
    with pytest.raises(BavloError, match="no region is left"):
        labels(path, excluded=("*",))
    found = rows("series", grid, path, every="day", **{"except": ["c"]})
    assert [r["region"] for r in found] == ["a", "b"]


def test_an_archive_whose_members_grow_beyond_measure_is_refused(tmp_path):
    path = tmp_path / "r.zip"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as packed:
        packed.writestr("a.geojson", bytes(2**27 + 1))
    with pytest.raises(BavloError, match=r"a\.geojson, which would grow from 0 to 134 MB"):
        labels(path)


def test_points_whose_last_line_does_not_end_are_read_with_a_warning(tmp_path):
    path = tmp_path / "p.csv"
    path.write_text("name,lon,lat\np,1.5,1.5\nq,3.5,1.25\n")
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        assert labels(path) == ["p", "q"]
    path.write_text("name,lon,lat\np,1.5,1.5\nq,3.5,1.2")
    with pytest.warns(BavloWarning, match="last line does not end"):
        assert labels(path) == ["p", "q"]


def test_a_region_of_a_billionth_of_a_degree_has_the_value_of_its_cell(tmp_path, grid):
    write_regions(tmp_path / "r.geojson", {"tiny": box(1.2, 2.3, 1.2 + 1e-9, 2.3 + 1e-9)})
    run("series", grid, "--regions", "r.geojson", "--every", "all", "--out", "o.csv", cwd=tmp_path)
    (found,) = csv.DictReader((tmp_path / "o.csv").open(encoding="utf-8"))
    assert (float(found["value"]), float(found["area_valid"])) == (9.0, 1.0)


@pytest.mark.parametrize("zipped", [False, True])
@pytest.mark.parametrize(
    ("says", "warned"),
    [
        ("UTF-8", ""),
        ("65001", ""),
        ("UTF-16", "says 'UTF-16', which no DBF file can be in; read as UTF-8"),
        ("garbage", "which is no encoding; read as UTF-8"),
        ("ISO-8859-1", "its text is UTF-8 by all signs"),
        ("1252", "its text is UTF-8 by all signs"),
    ],
)
def test_a_damaged_statement_of_the_encoding_is_said(tmp_path, zipped, says, warned):
    features = Features(
        np.array([box(0, 0, 1, 1)]),
        {"name": np.array(["Gör"], object)},
        "EPSG:4326",
        SHAPEFILE,
        "r",
    )
    write(tmp_path / "r.shp", features, "Polygon", encoding="UTF-8")
    (tmp_path / "r.cpg").write_text(says)
    path = tmp_path / "r.shp"
    if zipped:
        path = tmp_path / "r.zip"
        with zipfile.ZipFile(path, "w") as packed:
            for part in tmp_path.glob("r.[!z]*"):
                packed.write(part, part.name)
    with warnings.catch_warnings(record=True) as said:
        warnings.simplefilter("always")
        found = labels(path)
    told = [str(w.message) for w in said if issubclass(w.category, BavloWarning)]
    assert [warned in text for text in told] == [True] * bool(warned)
    if says[0] in "Ug6":
        assert found == ["Gör"]


@pytest.mark.parametrize("columns", [{}, {"geometry": 5}, 7])
def test_a_parquet_file_that_does_not_tell_of_its_geometry_is_one_line(tmp_path, columns):
    pyarrow = pytest.importorskip("pyarrow")
    pytest.importorskip("pyarrow.parquet")
    about = {"version": "1.0.0", "primary_column": "geometry", "columns": columns}
    table = pyarrow.table({"name": ["a"], "geometry": [box(0, 0, 1, 1).wkb]})
    table = table.replace_schema_metadata({"geo": json.dumps(about)})
    pyarrow.parquet.write_table(table, tmp_path / "r.parquet")
    with pytest.raises(BavloError, match=r"geo metadata is not that of|neither a column of shapes"):
        labels(tmp_path / "r.parquet")


def test_a_parquet_file_whose_text_is_none_is_one_line(tmp_path):
    pyarrow = pytest.importorskip("pyarrow")
    pytest.importorskip("pyarrow.parquet")
    offsets = np.array([0, 3], np.int32)
    broken = pyarrow.Array.from_buffers(
        pyarrow.utf8(), 1, [None, pyarrow.py_buffer(offsets), pyarrow.py_buffer(b"a\xed\xa0")]
    )
    shapes = [box(0, 0, 1, 1).wkb]
    about = {"version": "1.0.0", "primary_column": "geometry"}
    about["columns"] = {"geometry": {"encoding": "WKB", "geometry_types": ["Polygon"]}}
    table = pyarrow.table({"name": broken, "geometry": shapes})
    table = table.replace_schema_metadata({"geo": json.dumps(about)})
    pyarrow.parquet.write_table(table, tmp_path / "r.parquet")
    with pytest.raises(BavloError, match="cannot be read as regions"):
        labels(tmp_path / "r.parquet")
