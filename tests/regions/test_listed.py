"""Regions that are rows of a table, and Shapefiles that have lost a part."""

import json
import os
import shutil

import numpy as np
import pytest
import shapely

from bavlo.errors import BavloError
from bavlo.regions import vector
from bavlo.regions.read import RegionOptions, read_regions
from bavlo.regions.vector import Features
from support import run

NAMES = ("Halder", "Fork")
PLACES = np.array([[79.5, -34.25], [80.25, -35.5]])
SHAPES = [shapely.box(79, -35, 80, -34), shapely.box(80, -36, 81.5, -35)]


def dms(value, letters):
    size = abs(value)
    minutes = (size - int(size)) * 60
    return f"{int(size)}°{int(minutes):02}'{(minutes - int(minutes)) * 60:04.1f}\"" + (
        letters[0] if value >= 0 else letters[1]
    )


def quoted(text):
    return '"' + text.replace('"', '""') + '"'


def table(path, head, rows, sign=","):
    path.write_text("\n".join([head, *(sign.join(row) for row in rows)]) + "\n")
    return path


POINTS = {
    "heads with degrees": ("Station,Latitude (°),Longitude (°),Elev", lambda n, x, y: (n, y, x, 5)),
    "hemispheres": ("Station,Lat,Long", lambda n, x, y: (n, f"{-float(y)}S", f"{x}E")),
    "hemispheres before": ("Station,LAT_DD,LON_DD", lambda n, x, y: (n, f"S{y[1:]}", f"E{x}")),
    "degrees, minutes and seconds": (
        "Station,lat,lon",
        lambda n, x, y: (n, quoted(dms(float(y), "NS")), quoted(dms(float(x), "EW"))),
    ),
    "both in one column": ("name,lat/lon", lambda n, x, y: (n, quoted(f"{y}, {x}"))),
    "both with letters": (
        "name,Coordinates",
        lambda n, x, y: (n, quoted(f"{x}°E {-float(y)}°S")),
    ),
    "WKT points": ("name,where", lambda n, x, y: (n, f"POINT ({x} {y})")),
    "a title above": ("Stations of the coast\nname,x,y", lambda n, x, y: (n, x, y)),
}


@pytest.mark.parametrize("layout", POINTS)
def test_points_are_read_in_the_writings_of_people(tmp_path, layout):
    head, row = POINTS[layout]
    rows = [row(n, str(x), str(y)) for n, (x, y) in zip(NAMES, PLACES.tolist(), strict=True)]
    path = table(tmp_path / "p.csv", head, [tuple(map(str, cells)) for cells in rows])
    found = read_regions(path)
    assert found.regions.labels == NAMES
    np.testing.assert_allclose(
        shapely.get_coordinates(found.regions.geometry), PLACES, rtol=0, atol=1e-9
    )


@pytest.mark.parametrize(
    ("head", "row", "said"),
    [
        ("name,place", 'A,"-34.25, 79.5"', "whether the latitude comes first"),
        ("name,lat,lon", "A,79.5E,34.25S", "stands where the other coordinate should"),
        ("name,lat,lon", "A,102.5,-34.25", "longitude and latitude are swapped"),
        ("name,easting,northing", "A,361000,6209000", "input_crs='regions=EPSG"),
        ("name,lon,lat", "A,361000,6209000", "are no degrees"),
        ("name,lat,lon", "A,34°75',79", "is no coordinate"),
    ],
)
def test_places_that_are_open_or_wrong_are_named_as_that(tmp_path, head, row, said):
    path = tmp_path / "p.csv"
    path.write_text(f"{head}\n{row}\n")
    with pytest.raises(BavloError, match=said):
        read_regions(path)


def test_points_in_metres_take_the_system_that_is_said(tmp_path):
    import pyproj

    x, y = pyproj.Transformer.from_crs("OGC:CRS84", "EPSG:32744").transform(79.5, -34.25)
    path = table(tmp_path / "p.csv", "name,Easting,Northing", [("A", f"{x:.3f}", f"{y:.3f}")])
    found = read_regions(path, RegionOptions(region_crs="EPSG:32744"))
    assert found.regions.crs == "EPSG:32744"
    assert shapely.get_coordinates(found.regions.geometry).tolist() == [[round(x, 3), round(y, 3)]]


@pytest.mark.parametrize("form", ["EWKT", "hexadecimal WKB", "EWKB", "GeoJSON", "WKT"])
def test_shapes_are_read_in_the_texts_of_databases(tmp_path, form):
    write = {
        "EWKT": lambda s: "SRID=4326;" + s.wkt,
        "hexadecimal WKB": lambda s: shapely.to_wkb(s, hex=True),
        "EWKB": lambda s: shapely.to_wkb(shapely.set_srid(s, 4326), hex=True, include_srid=True),
        "GeoJSON": shapely.to_geojson,
        "WKT": lambda s: s.wkt,
    }[form]
    rows = [(name, quoted(write(shape))) for name, shape in zip(NAMES, SHAPES, strict=True)]
    found = read_regions(table(tmp_path / "r.csv", "name,outline", rows))
    assert found.regions.crs == ("EPSG:4326" if form.startswith("EWK") else "OGC:CRS84")
    assert all(a.equals(b) for a, b in zip(found.regions.geometry, SHAPES, strict=True))


@pytest.mark.parametrize("ending", [".parquet", ".feather", ".xlsx"])
def test_typed_files_hold_regions_as_text_does(tmp_path, ending):
    path = tmp_path / f"r{ending}"
    texts = [shape.wkt for shape in SHAPES]
    if ending == ".xlsx":
        openpyxl = pytest.importorskip("openpyxl")
        book = openpyxl.Workbook()
        for row in [("name", "wkt"), *zip(NAMES, texts, strict=True)]:
            book.active.append(row)
        book.save(path)
    else:
        pyarrow = pytest.importorskip("pyarrow")
        feather = pytest.importorskip("pyarrow.feather")
        parquet = pytest.importorskip("pyarrow.parquet")
        data = pyarrow.table({"name": NAMES, "wkt": texts})
        (parquet.write_table if ending == ".parquet" else feather.write_feather)(data, path)
    found = read_regions(path)
    assert found.regions.labels == NAMES
    assert all(a.equals(b) for a, b in zip(found.regions.geometry, SHAPES, strict=True))


def shapefile(folder, name="Grünsee", encoding="UTF-8"):
    folder.mkdir(exist_ok=True)
    fields = {"name": np.array([name, "B"], object)}
    features = Features(np.array(SHAPES, object), fields, "EPSG:4326", vector.SHAPEFILE, "")
    vector.write(folder / "w.shp", features, "Polygon", encoding=encoding)
    return folder / "w.shp"


def test_a_shapefile_without_its_index_is_read_and_left_as_it_is(tmp_path):
    path = shapefile(tmp_path / "s")
    whole = read_regions(path).regions
    (tmp_path / "s" / "w.shx").unlink()
    before = sorted(os.listdir(tmp_path / "s"))
    with pytest.warns(UserWarning, match="has no .shx"):
        found = read_regions(path).regions
    assert found.labels == whole.labels
    assert all(a.equals(b) for a, b in zip(found.geometry, whole.geometry, strict=True))
    assert sorted(os.listdir(tmp_path / "s")) == before


@pytest.mark.parametrize(
    ("written", "says"), [("UTF-8", "ISO-8859-1"), ("UTF-8", None), ("ISO-8859-1", "UTF-8")]
)
def test_a_wrong_statement_of_the_encoding_is_overruled_by_the_text(tmp_path, written, says):
    path = shapefile(tmp_path / "s", encoding=written)
    path.with_suffix(".cpg").unlink(missing_ok=True)
    if says is not None:
        path.with_suffix(".cpg").write_text(says)
    with pytest.warns(UserWarning, match="cpg"):
        assert read_regions(path).regions.labels[0] == "Grünsee"


def test_an_encoding_that_is_said_counts(tmp_path):
    path = shapefile(tmp_path / "s", "Łąka", "CP1250")
    path.with_suffix(".cpg").unlink(missing_ok=True)
    assert read_regions(path, RegionOptions(encoding="CP1250")).regions.labels[0] == "Łąka"


def test_gml_is_named_by_its_own_fields_not_by_the_formats(tmp_path):
    fields = {"name": np.array(NAMES, object)}
    features = Features(np.array(SHAPES, object), fields, "EPSG:4326", "GML", "w")
    vector.write(tmp_path / "w.gml", features, "Polygon")
    found = read_regions(tmp_path / "w.gml").regions
    assert found.labels == NAMES
    x0, y0, x1, y1 = shapely.total_bounds(found.geometry)
    assert (x0, y0, x1, y1) == (79, -36, 81.5, -34)


def test_names_of_codes_come_with_semicolons(tmp_path):
    from bavlo.regions.read import _names_of_codes

    path = tmp_path / "names.csv"
    path.write_text("code;name\n1;Halder\n2;Grünsee\n", encoding="latin-1")
    with pytest.warns(UserWarning, match="Latin-1"):
        assert _names_of_codes(path) == {"1": "Halder", "2": "Grünsee"}


def test_regions_of_one_name_are_joined_when_asked(tmp_path):
    rows = [("Halder", quoted(SHAPES[0].wkt)), ("Halder", quoted(SHAPES[1].wkt))]
    path = table(tmp_path / "r.csv", "name,wkt", rows)
    with pytest.raises(BavloError, match="merge_by"):
        read_regions(path)
    found = read_regions(path, RegionOptions(merge_by="name")).regions
    assert found.labels == ("Halder",)
    assert found.geometry[0].area == pytest.approx(2.5)


def test_series_of_stations_in_a_workbook_are_those_of_the_same_csv(tmp_path, demo):
    openpyxl = pytest.importorskip("openpyxl")
    book = openpyxl.Workbook()
    lines = (demo / "stations.csv").read_text().splitlines()
    for n, line in enumerate(lines):
        cells = line.split(",")
        book.active.append(cells if n == 0 else [float(c) if "." in c else c for c in cells])
    book.save(tmp_path / "p.xlsx")
    shutil.copy(demo / "stations.csv", tmp_path / "p.csv")
    for ending in ("csv", "xlsx"):
        grid, points, out = next(demo.glob("rain_*.nc")), f"p.{ending}", f"{ending}.csv"
        run("series", grid, "--regions", tmp_path / points, "--out", tmp_path / out)
    assert (tmp_path / "csv.csv").read_text() == (tmp_path / "xlsx.csv").read_text()
    about = json.loads((tmp_path / "xlsx.csv.about.json").read_text())
    assert about["inputs"]
