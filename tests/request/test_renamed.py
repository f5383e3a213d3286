"""Study files and provenance of earlier versions, whose options had other names."""

import pytest

from bavlo.errors import RequestError
from bavlo.request.filling import asked, make_request
from bavlo.request.options import OPTIONS, options_of
from bavlo.request.recorded import request_of
from bavlo.request.renamed import NOW, renewed
from bavlo.request.study import read_study
from support import run

# An option of before, as a study file and as provenance has it, and what is said now.
OLD = [
    ("series", 'complete = "wmo"', {"complete": "wmo"}, {"min-steps": "wmo"}),
    ("grid", "touching = true", {"touching": True}, {"min-share": "0"}),
    ("normals", "whole-years = true", {"whole-years": True}, {"normals-from": "whole-years"}),
    ("normals", "from-months = true", {"from-months": True}, {"normals-from": "months"}),
    ("series", 'names = "codes.csv"', {"names": "codes.csv"}, {"label": "codes.csv"}),
    ("series", "offset = -273.15", {"offset": -273.15}, {"scale": ["1,-273.15"]}),
    ("series", "scale = 0.1\noffset = 5", {"scale": 0.1, "offset": 5}, {"scale": ["0.1,5"]}),
    ("series", 'at-points = "bilinear"', {"at-points": "bilinear"}, {"measure": ["bilinear"]}),
    ("series", 'region-crs = "EPSG:4326"', {"region-crs": "EPSG:4326"},
     {"input-crs": ["regions=EPSG:4326"]}),
    ("series", 'grid-crs = "EPSG:4326"', {"grid-crs": "EPSG:4326"}, {"input-crs": ["EPSG:4326"]}),
    ("series", 'weight-kind = "density"', {"weight-kind": "density"}, {"kind": ["weight=state"]}),
    ("trends", 'autocorrelation = "prewhiten"', {"autocorrelation": "prewhiten"},
     {"method": "prewhiten"}),
    ("extremes", 'order = "cell"', {"order": "cell"}, {}),
    ("extremes", 'order = "cell"\nreturn-levels = "2,10"',
     {"order": "cell", "return-levels": [2, 10]},
     {"test-on": "cell", "return-levels": "2,10"}),
    ("trends", 'method = "ols"\nautocorrelation = "hamed-rao"',
     {"method": "ols", "autocorrelation": "hamed-rao"}, {"method": "ols"}),
    ("series", "checksum = true", {"checksum": True}, {}),
]  # fmt: skip


@pytest.fixture
def grid(tmp_path):
    path = tmp_path / "rain.nc"
    path.write_bytes(b"CDF\x01")
    return path


@pytest.mark.parametrize(("command", "line", "recorded", "now"), OLD)
def test_a_study_of_before_asks_for_the_same(command, line, recorded, now, grid, tmp_path):
    study = tmp_path / "s.toml"
    study.write_text(
        f'[grids]\nrain = "{grid}"\n[[result]]\nname = "a"\ncommand = "{command}"\n'
        f'regions = "r.geojson"\nout = "a.csv"\n{line}\n'
    )
    given = read_study(study).results[0].given
    expected = {"grids": [str(grid)], "regions": "r.geojson", **now}
    made = make_request(command, {**given, "grids": [str(grid)], "out": []})
    assert asked(made) == asked(make_request(command, expected))


@pytest.mark.parametrize(("command", "line", "recorded", "now"), OLD)
def test_provenance_of_before_is_the_same_request(command, line, recorded, now, grid):
    told = {"command": command, "grids": [{"name": None, "files": [str(grid)]}], **recorded}
    expected = make_request(command, {"grids": [str(grid)], **now})
    assert asked(request_of(told)) == asked(expected)


def test_what_was_said_of_one_grid_before_is_still_said_of_it(grid):
    told = {
        "command": "series",
        "grids": [{"name": "rain", "files": [str(grid)]}, {"name": "t", "files": [str(grid)]}],
        "by_grid": [["scale", "rain", 0.1], ["offset", "rain", 2.0], ["offset", "t", -273.15]],
        "at": [[80.5, -34.0]],
    }
    request = request_of(told)
    assert {name: pair for _, name, pair in request.grids.by_grid} == {
        "rain": (0.1, 2.0),
        "t": (1.0, -273.15),
    }
    assert request.regions.regions == ((80.5, -34.0),)
    assert renewed({"scale": ["a=2", "3"], "offset": "a=1"})["scale"] == ["a=2,1", "3,0"]


def test_an_old_name_is_answered_with_the_new_one():
    for name, words in NOW.items():
        command = "extremes" if name == "order" else "grid" if name == "touching" else "series"
        done = run(command, "a.nc", f"--{name}", "x", check=False)
        assert done.returncode == 2, name
        assert f"there is no option --{name} any more" in done.stderr
        field = words.partition("‹")[2].partition("›")[0].partition(" ")[0]
        if field:
            assert f"--{field.replace('_', '-')}" in done.stderr
            assert any(option.request_field == field for option in OPTIONS), field


def test_there_are_at_most_ninety_options_and_forty_eight_of_a_command():
    assert len({option.name for option in OPTIONS}) <= 90
    for command in {command for option in OPTIONS for command in option.commands.split()}:
        assert len(options_of(command)) <= 48, command


def test_what_a_weight_is_needs_a_weight_and_regions_their_own_system(grid):
    request = make_request("series", {"grids": [str(grid)], "input-crs": ["regions=EPSG:32634"]})
    assert request.regions.reading.region_crs == "EPSG:32634"
    assert request.grids.reading.input_crs is None
    with pytest.raises(RequestError, match="given as 'EPSG:1' and as 'EPSG:2'"):
        make_request("series", {"grids": [str(grid)], "input-crs": ["EPSG:1", "EPSG:2"]})


def test_what_there_is_not_any_more_is_refused_and_never_left_out_in_silence(grid, tmp_path):
    study = tmp_path / "s.toml"
    text = f'[grids]\nrain = "{grid}"\n[[result]]\ncommand = "extremes"\nregions = "r.geojson"\n'
    study.write_text(text + 'out = "a.csv"\nindex = "TX90p"\nno-bootstrap = true\n')
    with pytest.raises(RequestError, match="without the bootstrap are no more; count days"):
        read_study(study)
    study.write_text(text + 'out = "a.csv"\nindex = "TX90p"\nno-bootstrap = false\n')
    assert read_study(study).results[0].given["index"] == ["TX90p"]
    with pytest.raises(RequestError, match="do not go together any more"):
        renewed({"command": "normals", "whole-years": True, "from-months": True})
    with pytest.raises(RequestError, match="bilinear stands for itself now"):
        renewed({"command": "series", "at-points": "bilinear", "measure": ["max"]})
    grids = [{"name": None, "files": [str(grid)]}]
    with pytest.raises(RequestError, match="without the bootstrap are no more"):
        request_of({"command": "extremes", "grids": grids, "no-bootstrap": False})
