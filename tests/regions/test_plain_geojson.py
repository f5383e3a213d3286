"""GeoJSON that is read without the vector library: the same features, or none."""

import json
import subprocess
import sys

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from bavlo.errors import InputError
from bavlo.regions import geojson, vector

SQUARE = [[[80.0, -35.0], [81.0, -35.0], [81.0, -34.0], [80.0, -34.0], [80.0, -35.0]]]
HOLE = [[80.25, -34.75], [80.25, -34.5], [80.5, -34.5], [80.25, -34.75]]


def feature(kind="Polygon", coordinates=SQUARE, **fields):
    geometry = {"type": kind, "coordinates": coordinates}
    return {"type": "Feature", "properties": fields or {"name": "Sill"}, "geometry": geometry}


def written(path, features, **more):
    path.write_text(json.dumps({"type": "FeatureCollection", "features": features, **more}))
    return path


def same(path):
    """What was read plainly, having seen that the library reads the same."""
    ours = geojson.plain(path)
    theirs = vector._by_pyogrio(path, vector.layers(path)[0])
    assert (ours.crs, ours.driver, ours.layer) == (theirs.crs, theirs.driver, theirs.layer)
    assert [g.wkb for g in ours.geometry] == [g.wkb for g in theirs.geometry]
    assert list(ours.fields) == list(theirs.fields)
    for name, column in ours.fields.items():
        assert column.dtype == theirs.fields[name].dtype
        np.testing.assert_array_equal(column, theirs.fields[name])
    return ours


def test_plain_features_are_those_of_the_vector_library(tmp_path):
    features = [
        feature(name="Sill", code=7, large=2**40, area=1.5),
        feature(
            "MultiPolygon", [SQUARE, [SQUARE[0], HOLE]], name="Tåss", code=-3, large=5, area=2.0
        ),
        feature("Point", [80.5, -34.5], name="", code=0, large=0, area=-1e-300),
    ]
    found = same(written(tmp_path / "r.geojson", features, name="parts"))
    assert found.layer == "parts"
    assert found.geometry[1].geoms[1].interiors


@given(st.lists(st.tuples(st.floats(-180, 180), st.floats(-90, 90)), min_size=3, max_size=9))
def test_coordinates_come_back_to_the_last_bit(tmp_path_factory, vertices):
    path = tmp_path_factory.mktemp("drawn") / "r.geojson"
    ring = [list(v) for v in (*vertices, vertices[0])]
    same(written(path, [feature(coordinates=[ring])]))


@pytest.mark.parametrize(
    ("features", "more"),
    [
        ([feature(name="a"), feature(name=None)], {}),
        ([feature(name="a"), feature(name=5)], {}),
        ([feature(name="a"), feature(town="b")], {}),
        ([feature(name=True)], {}),
        ([feature(name=[1, 2])], {}),
        ([feature(name=2**70)], {}),
        ([feature(since="2013-05-01")], {}),
        ([{**feature(), "id": 5}], {}),
        ([{**feature(), "geometry": None}], {}),
        ([feature("LineString", SQUARE[0])], {}),
        ([feature("Point", [80.0, -35.0, 12.0])], {}),
        ([feature(coordinates=[SQUARE[0][:-1]])], {}),
        ([feature(coordinates=[])], {}),
        ([feature("MultiPolygon", [])], {}),
        ([feature()], {"crs": {"type": "name", "properties": {"name": "EPSG:3857"}}}),
        ([], {}),
    ],
)
def test_what_is_not_plain_is_left_to_the_vector_library(tmp_path, features, more):
    assert geojson.plain(written(tmp_path / "r.geojson", features, **more)) is None


@pytest.mark.parametrize("text", ["", "{", "[]", "5", '{"type": "FeatureCollection"}', "\xff"])
def test_text_that_is_no_collection_is_left_to_the_vector_library(tmp_path, text):
    (tmp_path / "r.geojson").write_text(text, encoding="latin-1")
    assert geojson.plain(tmp_path / "r.geojson") is None


@pytest.mark.parametrize("odd", [{"typ": "Feature"}, {}, 5, None, {"type": "Polygon"}])
def test_what_is_listed_and_is_no_feature_is_not_left_out_in_silence(tmp_path, odd):
    path = written(tmp_path / "r.geojson", [feature(name="a"), odd, feature(name="b")])
    with pytest.raises(InputError, match=r"cannot be read|lists 3 features, of which only 2 are"):
        vector.read(path)


def test_a_small_job_loads_neither_the_vector_library_nor_the_projection_library(tmp_path):
    written(tmp_path / "r.geojson", [feature()])
    code = (
        "import sys; from pathlib import Path; from bavlo.regions.read import read_regions;"
        "read_regions(Path('r.geojson')); print({'pyogrio', 'pyproj'} & set(sys.modules))"
    )
    ran = subprocess.run([sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True)
    assert ran.stdout.strip() == "set()", ran.stderr


def test_shapes_of_a_plain_file_are_drawn_as_the_file_has_them(tmp_path):
    found = same(written(tmp_path / "r.json", [feature(coordinates=[*SQUARE, HOLE])]))
    expected = shapely.box(80, -35, 81, -34).area - 0.25 * 0.25 / 2
    assert found.geometry[0].area == pytest.approx(expected)
