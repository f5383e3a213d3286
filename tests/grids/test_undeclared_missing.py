"""Files with marks of no data that they do not declare."""

from types import SimpleNamespace

import netCDF4
import numpy as np
import pytest
import rasterio
from rasterio.transform import from_origin

from bavlo.core.values.kinds import quantity
from bavlo.errors import BavloError, InputError
from bavlo.grids.cells import whole
from bavlo.grids.open import open_grid
from bavlo.jobs.accumulations import _raining
from bavlo.jobs.describe_grids import describe_grid
from bavlo.jobs.missing import inspect, squares
from bavlo.jobs.reading import single_steps
from support import box, rows, run, write_grid, write_regions


@pytest.fixture(scope="module")
def regions(tmp_path_factory):
    return write_regions(tmp_path_factory.mktemp("regions") / "r.geojson", {"a": box(0, 0, 4, 4)})


def raster(path, values, unit="mm"):
    values = np.asarray(values)
    with rasterio.open(
        path,
        "w",
        driver="GTiff",
        width=values.shape[1],
        height=values.shape[0],
        count=1,
        dtype=values.dtype,
        crs="EPSG:4326",
        transform=from_origin(0, values.shape[0], 1, 1),
    ) as data:
        data.write(values[None])
        data.update_tags(units=unit, long_name="rain" if unit == "mm" else "height")
    return path


def values(found):
    return [None if not row["value"] else round(float(row["value"]), 6) for row in found]


def test_rain_with_an_undeclared_mark_is_the_mean_of_the_rest(tmp_path, regions):
    for day in (1, 2, 3):
        block = np.full((4, 4), float(day), "float32")
        block[0] = -9999
        raster(tmp_path / f"rain_2013030{day}.tif", block)
    files = sorted(tmp_path.glob("*.tif"))
    assert values(rows("series", files, regions, every="day")) == [1, 2, 3]
    said = run("series", *files, "--regions", regions, "--every", "day").stderr
    assert said.count("taken for missing") == 1
    assert "-9999 is taken for missing" in said
    assert "(12 of 48 values looked at)" in said
    raw = values(rows("series", files, regions, every="day", missing=["none"]))
    assert raw[0] < -2000


def test_steps_that_are_read_side_by_side_tell_what_they_tell_one_by_one(tmp_path):
    random, paths = np.random.default_rng(8), []
    for day in range(1, 31):
        block = random.gamma(0.5, 6, (30, 40)).round(1).astype("float32")
        block[:, :day] = -9999
        paths.append(raster(tmp_path / f"rain_200304{day:02}.tif", block))
    source = open_grid(paths)
    what = quantity(source.variable, "")
    found = [inspect(source, what, jobs) for jobs in (1, 2, 7)]
    assert found[0].marks == found[1].marks == found[2].marks
    assert len({(each.low, each.high, each.looked_at) for each in found}) == 1
    raining = [_raining(source, 30, jobs) for jobs in (1, 2, 7)]
    for each in raining[1:]:
        np.testing.assert_array_equal(each.values, raining[0].values)
    paths[14].write_bytes(paths[14].read_bytes()[:400])
    every = [(n, whole((30, 40))) for n in range(30)]
    for jobs in (1, 4):
        with pytest.raises(InputError, match="rain_20030415"):
            list(single_steps(open_grid(paths), every, jobs))


def test_a_height_with_an_undeclared_mark_is_asked_about(tmp_path, regions):
    block = np.arange(16, dtype="int16").reshape(4, 4) * 100
    block[0, 0] = -9999
    file = raster(tmp_path / "height.tif", block, "m")
    with pytest.raises(BavloError, match=r"apart from all other.*missing='-9999'.*'none'"):
        rows("series", file, regions, kind=["state"], measure=["min"])
    told = {"kind": ["state"], "measure": ["min"]}
    assert values(rows("series", file, regions, missing=["-9999"], **told)) == [100]
    assert values(rows("series", file, regions, missing=["none"], **told)) == [-9999]
    doubts = " ".join(describe_grid(open_grid([file])).doubts)
    assert "holds -9999, apart from all other values" in doubts


def test_a_second_fill_value_of_a_packed_file_is_asked_about(tmp_path, regions):
    block = np.full((5, 4, 4), 20, "int16")
    block[:, 0] = 32767
    block[:, 1] = 32761
    file = write_grid(tmp_path / "et.nc", block, name="evapotranspiration", fill_value=32767)
    with netCDF4.Dataset(file, "a") as data:
        data["evapotranspiration"].scale_factor = 0.1
    with pytest.raises(BavloError, match=r"holds 3276\.1, apart"):
        rows("series", file, regions, every="day")
    for mark in ("3276.1", "32761"):
        told = {"missing": [mark], "min-area": "0.1"}
        assert values(rows("series", file, regions, every="day", **told)) == [2] * 5


def test_several_marks_are_given_one_by_one_and_for_one_grid(tmp_path, regions):
    block = np.ones((3, 4, 4))
    block[:, 0], block[:, 1] = 77, 88
    file = write_grid(tmp_path / "rain.nc", block)
    told = {"every": "day", "min-area": "0.1"}
    assert values(rows("series", file, regions, missing=["77", "88"], **told)) == [1, 1, 1]
    named = f"rain={file}"
    own = ["rain=77", "rain=88"]
    assert values(rows("series", named, regions, missing=own, **told)) == [1, 1, 1]
    with pytest.raises(BavloError, match="no number"):
        rows("series", file, regions, missing=["none", "3"])


def test_a_mark_that_no_sample_held_is_an_error_and_never_a_number(tmp_path, regions):
    block = np.ones((100, 4, 4), "float32")
    block[50, 2, 2] = -999
    file = write_grid(tmp_path / "rain.nc", block)
    with pytest.raises(BavloError, match=r"rain\.nc: holds -999, which this variable cannot be"):
        rows("series", file, regions)
    found = rows("series", file, regions, every="day", missing=["-999"])
    assert {row["value"] for row in found} == {"1"} or set(values(found)) == {1}


def test_a_doubtful_mark_that_no_sample_held_is_asked_about_at_the_end(tmp_path, regions):
    block = np.ones((100, 4, 4), "float32")
    block[50, 2, 2] = -999
    file = write_grid(tmp_path / "level.nc", block, name="level", unit="m")
    options = {"kind": ["state"], "every": "day"}
    with pytest.raises(BavloError, match="holds -999, apart from all other values"):
        rows("series", file, regions, **options)
    assert len(rows("series", file, regions, missing=["none"], **options)) == 100


def test_weights_and_grids_take_marks_for_missing_too(tmp_path, regions):
    rain = write_grid(tmp_path / "rain.nc", np.arange(16.0).reshape(1, 4, 4))
    people = np.ones((4, 4))
    people[0] = -9999
    weight = write_grid(tmp_path / "people.nc", people, name="people", unit="people", time=False)
    found = rows("series", rain, regions, every="day", weight=str(weight))
    assert values(found) == [9.5]
    block = np.ones((2, 4, 4))
    block[:, 0, 0] = -9999
    odd = write_grid(tmp_path / "odd.nc", block)
    run("grid", odd, "--every", "day", "--out", tmp_path / "clean.nc")
    clean = open_grid([tmp_path / "clean.nc"])
    assert np.isnan(clean.read(0, 1, whole(clean.layout.shape))).sum() == 1


@pytest.mark.parametrize(("step_chunk", "most"), [(1, 300_000), (100, 5_000)])
def test_a_large_grid_is_looked_at_in_squares(step_chunk, most):
    shape = (3000, 5000)
    source = SimpleNamespace(layout=SimpleNamespace(shape=shape), step_chunk=step_chunk)
    cells = [selection.cells for selection in squares(source)]
    assert sum(c.size for c in cells) < most
    assert cells[0][0] == 0
    row, column = np.divmod(np.concatenate(cells), shape[1])
    assert row.max() > 2900
    assert column.max() > 4900
