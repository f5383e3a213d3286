"""The same regions in every format, reference system and winding; odd shapes and their repair."""

import csv
import io
import json
import zipfile

import numpy as np
import pyogrio
import pyogrio.raw
import pyproj
import pytest
import rasterio
import shapely
from rasterio.transform import from_origin
from shapely import MultiPolygon, Polygon, box

from bavlo.core.space.overlay import sphere_areas
from bavlo.core.space.regions import region_edges
from bavlo.errors import BavloError
from bavlo.jobs.series import series
from bavlo.regions.read import RegionOptions, read_regions
from bavlo.request.filling import make_request
from bavlo.request.reporter import SilentReporter
from bavlo.tables import csv as csv_table
from support import write_grid

SHAPEFILE = pyogrio.detect_write_driver("r.shp")
NAMES = ["Nørre Å", "Łąka, west", "=risky", "a very long name " * 4]
CODES = ["007", "008", "012", "100"]
SHAPES = [
    box(1.2, 1.3, 3.7, 4.1),
    Polygon(box(4, 1, 7, 5).exterior.coords, [box(5, 2, 6, 3).exterior.coords[::-1]]),
    MultiPolygon([box(0.1, 5.2, 0.4, 5.9), box(1, 6, 3, 7)]),
    box(5.05, 2.05, 5.95, 2.95),
]


@pytest.fixture(scope="module")
def grid(tmp_path_factory):
    y, x = np.mgrid[0:8, 0:8]
    values = (x + 10.0 * y)[None] * np.ones((3, 1, 1))
    return write_grid(tmp_path_factory.mktemp("grid") / "rain.nc", values)


def table(grid, regions, **options):
    given = {"grids": [str(grid)], "regions": str(regions), "every": "step", **options}
    report = SilentReporter()
    result = series(make_request("series", given), report)
    text = io.StringIO()
    csv_table.write(result.table, text)
    return list(csv.DictReader(text.getvalue().splitlines())), report


def write(
    path, *, crs="EPSG:4326", driver="GeoJSON", shapes=SHAPES, layer=None, fields=None, **more
):
    shapes = np.array(shapes, object)
    if pyproj.CRS(crs) != pyproj.CRS("EPSG:4326"):
        to = pyproj.Transformer.from_crs("EPSG:4326", crs, always_xy=True)
        shapes = shapely.transform(
            shapely.segmentize(shapes, 0.01), lambda p: np.column_stack(to.transform(*p.T))
        )
    fields = fields or {"name": NAMES, "code": CODES}
    pyogrio.raw.write(
        path,
        shapely.to_wkb(shapes),
        [np.array(v, object) for v in fields.values()],
        list(fields),
        geometry_type="Unknown" if driver != SHAPEFILE else "MultiPolygon",
        crs=crs,
        driver=driver,
        layer=layer,
        **more,
    )
    return path


def write_parquet(path):
    import pyarrow
    import pyarrow.parquet

    columns = {"name": NAMES, "code": CODES, "geometry": shapely.to_wkb(np.array(SHAPES, object))}
    about = {
        "version": "1.1.0",
        "primary_column": "geometry",
        "columns": {"geometry": {"encoding": "WKB", "geometry_types": []}},
    }
    rows = pyarrow.table(columns)
    rows = rows.replace_schema_metadata({b"geo": json.dumps(about).encode()})
    pyarrow.parquet.write_table(rows, path)
    return path


def write_csv(path):
    with path.open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file)
        writer.writerow(["name", "code", "wkt"])
        writer.writerows(zip(NAMES, CODES, (s.wkt for s in SHAPES), strict=True))
    return path


def write_shapefile(path):
    """A zipped Shapefile whose text is in an old single-byte encoding."""
    loose = path.with_suffix(".shp")
    names = [NAMES[0], "Laka, west", *NAMES[2:]]
    write(loose, driver=SHAPEFILE, fields={"name": names, "code": CODES}, encoding="ISO-8859-1")
    with zipfile.ZipFile(path, "w") as packed:
        for part in path.parent.glob(f"{path.stem}.*"):
            if part != path:
                packed.write(part, part.name)
    return path


KINDS = {
    "r.geojson": write,
    "r.gpkg": lambda p: write(p, driver="GPKG"),
    "r.fgb": lambda p: write(p, driver="FlatGeobuf"),
    "r.kml": lambda p: write(p, driver="KML"),
    "r.parquet": write_parquet,
    "r.csv": write_csv,
    "r.shp": lambda p: write(p, driver=SHAPEFILE),
    "r.zip": write_shapefile,
}


@pytest.fixture(scope="module")
def expected(grid, tmp_path_factory):
    rows, _ = table(grid, write(tmp_path_factory.mktemp("plain") / "r.geojson"), label="code")
    return rows


@pytest.mark.parametrize("kind", KINDS)
def test_every_kind_of_file_gives_the_same(kind, grid, expected, tmp_path):
    path = KINDS[kind](tmp_path / kind)
    rows, _ = table(grid, path, label="code")
    # GeoJSON and FlatGeobuf may come in another order than written.
    found = {(r["region"], r["period"]): r for r in rows}
    for other in expected:
        row = found[other["region"], other["period"]]
        assert float(row["value"]) == pytest.approx(float(other["value"]), rel=1e-9)
    named, _ = table(grid, path, label="Name" if kind == "r.kml" else "name")
    if kind not in ("r.zip", "r.shp"):
        assert {r["region"] for r in named} == {
            "'=risky" if n == "=risky" else n.strip() for n in NAMES
        }
    assert NAMES[0] in {r["region"] for r in named}


@pytest.mark.parametrize(
    "crs", ["EPSG:32631", "EPSG:3857", "EPSG:3035", "EPSG:4258", "+proj=laea +lat_0=4 +lon_0=4"]
)
def test_every_reference_system_gives_the_same(crs, grid, expected, tmp_path):
    rows, _ = table(grid, write(tmp_path / "r.gpkg", driver="GPKG", crs=crs), label="code")
    for row, other in zip(rows, expected, strict=True):
        assert float(row["value"]) == pytest.approx(float(other["value"]), rel=1e-4)


def test_leading_zeros_survive_and_several_labels_are_asked_for(grid, tmp_path):
    path = write(tmp_path / "r.geojson")
    with pytest.raises(BavloError, match=r"code \(007, …\); choose one with label"):
        table(grid, path)
    rows, _ = table(grid, path, label="code", only=["00*"])
    assert [r["region"] for r in rows[::3]] == ["007", "008"]


def test_regions_are_joined_by_an_attribute(grid, tmp_path):
    path = write(
        tmp_path / "r.geojson",
        shapes=[box(0, 0, 2, 2), box(2, 0, 4, 2), box(5, 5, 6, 6)],
        fields={"name": ["a", "b", "c"], "basin": ["X", "X", "Y"]},
    )
    rows, _ = table(grid, path, **{"merge-by": "basin"})
    assert [r["region"] for r in rows[::3]] == ["X", "Y"]
    joined = read_regions(path, RegionOptions(merge_by="basin")).regions
    assert sphere_areas(region_edges(joined.geometry))[0] == pytest.approx(
        sphere_areas(region_edges(np.array([box(0, 0, 4, 2)])))[0]
    )


def test_a_layer_is_asked_for_and_a_missing_system_too(grid, tmp_path):
    path = write(tmp_path / "r.gpkg", driver="GPKG", layer="one")
    write(path, driver="GPKG", layer="two", append=False)
    with pytest.raises(BavloError, match="several layers: one, two; choose with layer"):
        table(grid, path, label="code")
    assert len(table(grid, path, label="code", layer="two")[0]) == 12
    loose = write(tmp_path / "s.shp", driver=SHAPEFILE)
    loose.with_suffix(".prj").unlink()
    with pytest.raises(BavloError, match="names no reference system; give it with input_crs"):
        table(grid, loose, label="code")
    assert len(table(grid, loose, label="code", **{"input-crs": "regions=EPSG:4326"})[0]) == 12


def cap(latitude):
    lon = np.arange(-180, 180, 10.0)
    return Polygon(np.column_stack([lon, np.full(lon.size, latitude)]))


BOWTIE = Polygon([(0, 0), (2, 2), (2, 0), (0, 2)])

# Each odd shape, and a plain one of the area that it is repaired to.
ODD = {
    "a self-crossing": (
        BOWTIE,
        MultiPolygon([Polygon([(0, 0), (1, 1), (0, 2)]), Polygon([(2, 2), (1, 1), (2, 0)])]),
    ),
    "a hole that touches the edge along a line": (
        Polygon(box(0, 0, 4, 4).exterior.coords, [box(0, 1, 1, 2).exterior.coords]),
        box(0, 0, 4, 4).difference(box(0, 1, 1, 2)),
    ),
    "a hole outside": (
        Polygon(box(0, 0, 2, 2).exterior.coords, [box(5, 5, 6, 6).exterior.coords]),
        box(0, 0, 2, 2),
    ),
    "parts that overlap": (
        MultiPolygon([box(0, 0, 2, 2), box(1, 1, 3, 3)]),
        box(0, 0, 2, 2).union(box(1, 1, 3, 3)),
    ),
    "a part without area": (
        MultiPolygon([box(0, 0, 2, 2), Polygon([(5, 5), (6, 6), (5, 5)])]),
        box(0, 0, 2, 2),
    ),
    "a collection with a line": (
        shapely.GeometryCollection([box(0, 0, 2, 2), shapely.LineString([(3, 3), (4, 4)])]),
        box(0, 0, 2, 2),
    ),
    "an antimeridian crossing by jumps": (
        Polygon([(178, -2), (-178, -2), (-178, 2), (178, 2)]),
        box(178, -2, 182, 2),
    ),
    "a hole beside the antimeridian": (
        Polygon(
            [(170, -5), (-170, -5), (-170, 5), (170, 5)],
            [[(-178, -2), (-176, -2), (-176, 2), (-178, 2)]],
        ),
        box(170, -5, 190, 5).difference(box(182, -2, 184, 2)),
    ),
    "a cap round the south pole": (cap(-70.0), box(-180, -90, 180, -70)),
    "a cap round the north pole": (cap(80.0), box(-180, 80, 180, 90)),
}
FINE = {
    "a clockwise ring": (Polygon(box(0, 0, 2, 2).exterior.coords[::-1]), box(0, 0, 2, 2)),
    "doubled points": (Polygon([(0, 0), (0, 0), (2, 0), (2, 2), (2, 2), (0, 2)]), box(0, 0, 2, 2)),
    "heights": (Polygon([(0, 0, 5), (2, 0, 5), (2, 2, 6), (0, 2, 5)]), box(0, 0, 2, 2)),
    "an antimeridian crossing beyond 180": (box(178, -2, 182, 2), box(178, -2, 182, 2)),
    "a hole that touches at a point": (
        Polygon(box(0, 0, 4, 4).exterior.coords, [[(0, 2), (1, 1), (1, 3)]]),
        box(0, 0, 4, 4).difference(Polygon([(0, 2), (1, 1), (1, 3)])),
    ),
}


def area_of(shape):
    return sphere_areas(region_edges(np.array([shape], object)))[0]


@pytest.mark.parametrize("name", [*ODD, *FINE])
def test_odd_shapes_are_repaired_to_the_area_that_they_mean(name, tmp_path):
    shape, meant = (ODD | FINE)[name]
    path = tmp_path / "r.gpkg"
    write(
        path, driver="GPKG", shapes=[shape, box(50, 50, 51, 51)], fields={"name": ["odd", "plain"]}
    )
    told = read_regions(path, RegionOptions(label="name"))
    assert area_of(told.regions.geometry[0]) == pytest.approx(area_of(meant), rel=1e-12)
    assert len(told.repairs) == (name in ODD)
    assert all(text.startswith("odd: ") for text in told.repairs)
    if name in ODD:
        with pytest.raises(BavloError, match="would be repaired: odd: "):
            read_regions(path, RegionOptions(label="name", strict=True))


@pytest.mark.parametrize(
    "shape",
    [shapely.LineString([(0, 0), (1, 1)]), Polygon([(0, 0), (1, 1), (0, 0)])],
)
def test_what_cannot_be_repaired_is_an_error_that_names_the_region(shape, tmp_path):
    path = tmp_path / "r.gpkg"
    write(path, driver="GPKG", shapes=[box(0, 0, 1, 1), shape], fields={"name": ["good", "bad"]})
    with pytest.raises(BavloError, match="'bad'"):
        read_regions(path, RegionOptions(label="name"))
    assert len(read_regions(path, RegionOptions(label="name", only=("good",))).regions) == 1


def test_unclosed_rings_and_odd_json_are_read(tmp_path):
    path = tmp_path / "r.geojson"
    ring = [[0, 0], [2, 0], [2, 2], [0, 2]]
    path.write_text(
        json.dumps(
            {
                "type": "FeatureCollection",
                "features": [
                    {
                        "type": "Feature",
                        "properties": {"name": "open"},
                        "geometry": {"type": "Polygon", "coordinates": [ring]},
                    }
                ],
            }
        )
    )
    assert area_of(read_regions(path).regions.geometry[0]) == pytest.approx(
        area_of(box(0, 0, 2, 2))
    )


def test_points_take_their_cell_or_what_lies_between(grid, tmp_path):
    path = tmp_path / "stations.csv"
    path.write_text("name,lon,lat\nA,2.5,3.5\nB,3.0,3.5\nC,362.75,3.75\nD,99,0\n")
    rows, report = table(grid, path)
    assert [r["value"] for r in rows[::3]] == ["32", "33", "32", ""]
    assert "outside the grid" in report.warnings[0]
    rows, _ = table(grid, path, **{"measure": "bilinear"})
    assert [float(r["value"]) for r in rows[:9:3]] == pytest.approx([32, 32.5, 34.75])


def write_codes(path, codes, size):
    ny, nx = codes.shape
    with rasterio.open(
        path,
        "w",
        driver="GTiff",
        height=ny,
        width=nx,
        count=1,
        dtype="int16",
        crs="EPSG:4326",
        nodata=0,
        transform=from_origin(0, 8, size, size),
    ) as data:
        data.write(codes.astype("int16"), 1)
    return path


def test_zones_of_any_cell_size_are_regions(grid, tmp_path):
    """Zones of half-cells that make up boxes give what the boxes give."""
    codes = np.zeros((16, 16), int)
    codes[16 - 9 : 16 - 2, 3:8] = 5
    codes[0:4, 10:12] = 12
    names = tmp_path / "names.csv"
    names.write_text("code,name\n5,Five\n12,Twelve\n")
    rows, _ = table(grid, write_codes(tmp_path / "z.tif", codes, 0.5), label=str(names))
    boxes = write(
        tmp_path / "r.geojson",
        shapes=[box(1.5, 1, 4, 4.5), box(5, 6, 6, 8)],
        fields={"name": ["Five", "Twelve"]},
    )
    other, _ = table(grid, boxes)
    for row, same in zip(rows, other, strict=True):
        assert row["region"] == same["region"]
        assert float(row["value"]) == pytest.approx(float(same["value"]), rel=1e-12)
    coarse, _ = table(grid, write_codes(tmp_path / "c.tif", np.arange(1, 17).reshape(4, 4), 2.0))
    assert float(coarse[0]["value"]) == pytest.approx(
        float(
            table(
                grid,
                write(tmp_path / "b.geojson", shapes=[box(0, 6, 2, 8)], fields={"name": ["b"]}),
            )[0][0]["value"]
        ),
        rel=1e-12,
    )


def test_people_are_summed_by_covered_share_and_weigh_means(grid, tmp_path):
    people = np.arange(64.0).reshape(8, 8)
    static = write_grid(tmp_path / "people.nc", people, name="people", unit="people", time=False)
    shape = write(
        tmp_path / "r.geojson",
        shapes=[box(0, 0, 1.5, 1), box(3, 3, 5, 5)],
        fields={"name": ["a", "b"]},
    )
    given = {"grids": [str(static)], "regions": str(shape), "measure": ["sum,count"]}
    rows = series(make_request("series", given), SilentReporter()).table
    assert rows.column("value").reshape(2, 2).tolist() == pytest.approx(
        np.array([[0.5, 1.5], [people[3:5, 3:5].sum(), 4]])
    )
    assert rows.labels("period") == ["static"]
    weighed, _ = table(grid, shape, weight=str(static), only=["b"])
    y, x = np.mgrid[0:8, 0:8]
    inside = (slice(3, 5), slice(3, 5))
    expected = np.average((x + 10.0 * y)[inside], weights=people[inside])
    assert float(weighed[0]["value"]) == pytest.approx(expected)
    coarse = write_grid(
        tmp_path / "coarse.nc",
        np.full((4, 4), 8.0),
        name="people",
        unit="people",
        time=False,
        lon=np.arange(1, 8, 2.0),
        lat=np.arange(1, 8, 2.0),
    )
    brought, report = table(grid, shape, weight=str(coarse), only=["b"])
    assert any("keeping its total" in note for note in report.notes)
    # Two people in each small cell but for the area of rows: nearly the plain mean.
    assert float(brought[0]["value"]) == pytest.approx((x + 10.0 * y)[inside].mean(), rel=1e-3)


def test_classes_have_shares_and_areas_and_are_never_averaged(tmp_path):
    cover = np.ones((8, 8), "i2")
    cover[:, 4:] = 3
    cover[0, 0] = -9
    path = write_grid(
        tmp_path / "cover.nc",
        cover,
        name="cover",
        unit="",
        time=False,
        fill_value=-9,
        attributes={"flag_values": np.array([1, 3], "i2"), "flag_meanings": "forest open_water"},
    )
    shape = write(
        tmp_path / "r.geojson",
        shapes=[box(0, 0, 8, 1), box(5, 5, 6, 6)],
        fields={"name": ["a", "b"]},
    )
    given = {"grids": [str(path)], "regions": str(shape)}
    rows = series(make_request("series", {**given, "measure": ["shares"]}), SilentReporter()).table
    assert rows.labels("class") == ["forest", "open water"]
    values = rows.column("value").reshape(2, 2, 2)
    assert values[0, :, 0] == pytest.approx([3 / 7, 4 / 7])
    cell = area_of(box(0, 0, 1, 1))
    assert values[0, :, 1] == pytest.approx([3 * cell, 4 * cell], rel=1e-2)
    assert values[1].tolist()[0] == [0.0, 0.0]
    most = series(
        make_request("series", {**given, "measure": ["majority"]}), SilentReporter()
    ).table
    assert most.column("value").tolist() == [3.0, 3.0]
    with pytest.raises(BavloError, match="mean of class codes means nothing"):
        series(make_request("series", given), SilentReporter())


@pytest.mark.parametrize(
    ("unit", "low", "high", "says"),
    [
        ("mm", -5.0, 10.0, "which rain never is"),
        ("kg m-2 s-1", 0.0, 30.0, "totals labelled as rates"),
        ("degC", 270.0, 300.0, "Kelvin labelled as Celsius"),
        ("K", 1.0, 30.0, "Celsius labelled as Kelvin"),
        ("degC", 0.0, 99.0, "missing value"),
        ("mm", 0.0, 300.0, ""),
        ("K", 260.0, 310.0, ""),
    ],
)
def test_implausible_values_are_called_out_with_the_likely_cause(unit, low, high, says, tmp_path):
    values = np.full((2, 4, 4), (low + high) / 2)
    values[0, 1, 1], values[1, 1, 1] = low, high
    path = write_grid(tmp_path / "g.nc", values, name="rain" if "m" in unit else "temp", unit=unit)
    shape = write(tmp_path / "r.geojson", shapes=[box(0, 0, 3, 3)], fields={"name": ["a"]})
    _, report = table(path, shape)
    assert [w for w in report.warnings if says and says in w] or (not says)
    assert bool(report.warnings) == bool(says)


def test_a_turned_bit_in_a_zipped_shapefile_is_an_error_or_changes_nothing(tmp_path):
    path = write_shapefile(tmp_path / "r.zip")
    whole = path.read_bytes()
    plain = read_regions(path, RegionOptions(label="code")).regions
    rng = np.random.default_rng(1)
    for n, at in enumerate(rng.integers(0, len(whole), 80).tolist()):
        flipped = bytearray(whole)
        flipped[at] ^= 1 << int(rng.integers(0, 8))
        bad = tmp_path / f"bad{n}.zip"
        bad.write_bytes(flipped)
        try:
            told = read_regions(bad, RegionOptions(label="code"))
        except BavloError:
            continue
        assert told.regions.labels == plain.labels
        assert shapely.equals(told.regions.geometry, plain.geometry).all()


@pytest.mark.parametrize("kind", ["r.geojson", "r.gpkg", "r.fgb", "r.shp", "r.zip", "r.parquet"])
def test_damaged_region_files_give_a_clean_error_or_all_regions(kind, tmp_path):
    path = KINDS[kind](tmp_path / kind)
    whole = path.read_bytes()
    for cut in np.linspace(0, len(whole) * 0.9, 12).astype(int):
        path.write_bytes(whole[:cut])
        try:
            told = read_regions(path, RegionOptions(label="code"))
        except BavloError:
            continue
        assert len(told.regions) == 4


@pytest.mark.parametrize("text", ["8_1.5", "٨١", "0x51", "81.5.2", "east"])
def test_coordinates_of_points_are_numbers_in_the_spelling_of_csv(text, tmp_path):
    path = tmp_path / "p.csv"
    path.write_text(f"name,lon,lat\na,{text},-35\n", encoding="utf-8")
    with pytest.raises(BavloError, match="is no coordinate"):
        read_regions(path)


@pytest.mark.parametrize("corner", ["1e308", "-1e12"])
def test_corners_that_are_no_place_are_refused_by_name(corner, tmp_path):
    path = tmp_path / "r.geojson"
    ring = f"[[0,0],[1,0],[1,{corner}],[0,0]]"
    path.write_text(
        '{"type":"FeatureCollection","features":[{"type":"Feature","properties":{"name":"far"},'
        f'"geometry":{{"type":"Polygon","coordinates":[{ring}]}}}}]}}'
    )
    with pytest.raises(BavloError, match=r"'far' has a corner at 1, .*, which is no place"):
        read_regions(path)
