"""GeoJSON is read whole or refused: what is no feature is not left out in silence."""

import json

import pytest
import shapely

from bavlo.errors import InputError
from bavlo.regions import vector

SQUARE = [[[80.0, -35.0], [81.0, -35.0], [81.0, -34.0], [80.0, -34.0], [80.0, -35.0]]]
HOLE = [[80.25, -34.75], [80.25, -34.5], [80.5, -34.5], [80.25, -34.75]]


def feature(kind="Polygon", coordinates=SQUARE, **fields):
    geometry = {"type": kind, "coordinates": coordinates}
    return {"type": "Feature", "properties": fields or {"name": "Sill"}, "geometry": geometry}


def written(path, features, **more):
    path.write_text(json.dumps({"type": "FeatureCollection", "features": features, **more}))
    return path


@pytest.mark.parametrize("odd", [{"typ": "Feature"}, {}, 5, None, {"type": "Polygon"}])
def test_what_is_listed_and_is_no_feature_is_not_left_out_in_silence(tmp_path, odd):
    path = written(tmp_path / "r.geojson", [feature(name="a"), odd, feature(name="b")])
    with pytest.raises(InputError, match=r"cannot be read|lists 3 features, of which only 2 are"):
        vector.read(path)


def test_shapes_of_a_plain_file_are_drawn_as_the_file_has_them(tmp_path):
    found = vector.read(written(tmp_path / "r.json", [feature(coordinates=[*SQUARE, HOLE])]))
    expected = shapely.box(80, -35, 81, -34).area - 0.25 * 0.25 / 2
    assert found.geometry[0].area == pytest.approx(expected)
