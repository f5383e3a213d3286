"""Steps added up as they are stored give what their values give, to the last bit."""

import gzip
import shutil
from dataclasses import replace
from functools import partial

import numpy as np
import pytest
import rasterio
from hypothesis import given
from hypothesis import strategies as st

from bavlo.commands import series
from bavlo.compiled import prepare
from bavlo.core.reduce.totals import DecodedStep
from bavlo.engine.protocol import Resources
from bavlo.errors import InputError
from bavlo.grids.cf import Packing
from bavlo.grids.fast import chunks, planes, stored
from bavlo.grids.fast.stored import StoredStep
from bavlo.grids.open import open_grid
from bavlo.grids.source import CellSelection, CellSubset, Window, whole
from bavlo.plan.reading import adds_as_stored, will_add_as_stored
from support import box, run, write_grid, write_regions

pytest.importorskip("numba")


@pytest.fixture(autouse=True)
def loops():
    prepare(partial(stored.warm_up, np.dtype("f4")))
    prepare(partial(stored.warm_up, np.dtype("f8")))


@pytest.fixture
def added(monkeypatch):
    """The steps that are added up as they are stored."""
    found, plain = [], StoredStep.add_to

    def noted(step, total):
        found.append(step)
        plain(step, total)

    monkeypatch.setattr(StoredStep, "add_to", noted)
    return found


def some_step(rng, dtype, packing, holes):
    """A step in two rectangles, and its values by themselves."""
    cells = np.sort(rng.permutation(240)[:170])
    windows = CellSelection((12, 20), cells).windows
    field = np.round(rng.normal(0, 9, 240), 1).astype(dtype)
    for mark in (*packing.missing, *packing.marks, np.nan, -0.0):
        field[rng.random(240) < holes] = mark
    cut = cells.size // 2
    parts = []
    for own, position in ((cells[:cut], np.arange(cut)), (cells[cut:], slice(cut, cells.size))):
        place = position if isinstance(position, np.ndarray) else np.arange(cut, cells.size)
        parts.append((CellSubset.of(own, place, 240), field))
    assert sum(window.subset.runs[2].sum() for window in windows) == cells.size
    return StoredStep(parts, packing, cells.size), packing.decode(field)[cells]


@pytest.mark.parametrize("dtype", ["f4", "f8"])
@given(st.integers(0, 10**6), st.sampled_from([0.0, 0.01, 0.3, 1.0]))
def test_what_is_seen_and_added_is_that_of_the_values(dtype, seed, holes):
    rng = np.random.default_rng(seed)
    packing = Packing(missing=(-9999.0, 1e20), marks=(-99.0,))
    step, values = some_step(rng, dtype, packing, holes)
    np.testing.assert_array_equal(step.decoded(), values)
    found, expected = step.seen, DecodedStep(values).seen
    assert (found.low, found.high) == (expected.low, expected.high)
    assert (found.missing is None) == (expected.missing is None)
    if found.missing is not None:
        np.testing.assert_array_equal(found.missing, expected.missing)
    total = rng.normal(0, 1e3, values.size)
    wanted, known = total + values, ~np.isnan(values)
    step.add_to(total)
    np.testing.assert_array_equal(total[known], wanted[known])


@pytest.mark.parametrize("dtype", ["f4", "f8"])
@pytest.mark.parametrize("mark", [0.0, -0.0, 5.0, -9999.0, np.inf, -np.inf])
@pytest.mark.parametrize("held", [0.0, -0.0, 5.0, -9999.0, np.inf, -np.inf, np.nan, -np.nan])
def test_what_means_no_data_is_found_whatever_stands_beside_it(dtype, mark, held):
    field = np.full(5000, 5.0, dtype)
    field[4500:] = held
    packing = Packing(missing=(mark,))
    step = StoredStep([(CellSubset(None, slice(0, 5000), 5000), field)], packing, 5000)
    found, expected = step.seen, DecodedStep(packing.decode(field)).seen
    assert (found.low, found.high) == (expected.low, expected.high)
    if expected.missing is None:
        assert found.missing is None
    else:
        np.testing.assert_array_equal(found.missing, expected.missing)


@pytest.mark.parametrize("mark", [-9999.0, 32767.0])
def test_a_mark_that_no_sample_held_is_refused_as_when_it_is_decoded(mark):
    field = np.array([1, mark, 3], "f4")
    packing = Packing(watched=(-9999.0, 32767.0), where="rain.nc")
    step = StoredStep([(CellSubset(None, slice(0, 3), 3), field)], packing, 3)
    with pytest.raises(InputError, match="which a sample of its steps did not hold"):
        _ = step.seen
    beyond = np.array([-9998, 32766, 3], "f4")  # is none of them
    near = StoredStep([(CellSubset(None, slice(0, 3), 3), beyond)], packing, 3)
    assert near.seen.low == -9998


@given(st.integers(1, 6), st.integers(1, 9), st.integers(0, 4), st.integers(0, 7), st.data())
def test_cells_within_whole_lines_are_those_of_the_window(height, width, top, left, data):
    line = left + width + data.draw(st.integers(0, 3))
    held = data.draw(st.lists(st.booleans(), min_size=height * width, max_size=height * width))
    within = np.flatnonzero(held)
    if not within.size:
        return
    subset = CellSubset.of(within, np.arange(within.size), height * width)
    window = Window(slice(top, top + height), slice(left, left + width), subset)
    lines = np.random.default_rng(0).random((height, line))
    cut = lines[:, window.columns].reshape(1, -1)
    own = window.in_lines(line)
    np.testing.assert_array_equal(own.taken(lines.reshape(1, -1)), subset.taken(cut))
    assert window.in_lines(line) is own
    joined = np.concatenate([lines.ravel()[a : a + n] for a, _, n in own.runs.T])
    np.testing.assert_array_equal(joined, subset.taken(cut)[0])


@given(st.data())
def test_compiled_planes_are_put_together_as_by_numpy(data):
    shape = tuple(data.draw(st.integers(1, most)) for most in (3, 7, 11))
    raw = np.random.default_rng(1).integers(0, 256, (4, *shape)).astype("u1")
    inside = []
    for size in shape:
        first = data.draw(st.integers(0, size - 1))
        inside.append(slice(first, data.draw(st.integers(first + 1, size))))
    out, plain = (np.empty([s.stop - s.start for s in inside], "<f4") for _ in range(2))
    with pytest.MonkeyPatch.context() as patch:
        planes.put_planes(raw, tuple(inside), plain)
        patch.setattr(planes, "LEAST_COMPILED", 1)
        planes.put_planes(raw, tuple(inside), out)
    assert out.tobytes() == plain.tobytes()


def write_rasters(folder, values, *, packed=False, **settings):
    """A GeoTIFF a day."""
    folder.mkdir()
    for n, field in enumerate(values):
        path = folder / f"rain_{np.datetime64('2001-01-01') + n}.tif"
        size = {"height": field.shape[0], "width": field.shape[1]}
        with rasterio.open(
            path,
            "w",
            driver="GTiff",
            count=1,
            dtype=field.dtype,
            nodata=-9999,
            crs="OGC:CRS84",
            transform=rasterio.transform.from_origin(0, size["height"], 1, 1),
            **size,
            **settings,
        ) as data:
            data.write(field, 1)
        if packed:
            with path.open("rb") as source, gzip.open(f"{path}.gz", "wb") as target:
                shutil.copyfileobj(source, target)
            path.unlink()


LAYOUTS = ("a step a chunk", "not deflated", "many steps a chunk", "tiles", "one piece", "packed")


@pytest.mark.parametrize("layout", LAYOUTS)
@pytest.mark.parametrize("gaps", ["none", "fixed", "changing"])
def test_every_layout_gives_the_same_table_with_and_without_loops(
    layout, gaps, added, tmp_path, monkeypatch
):
    rng = np.random.default_rng(4)
    values = np.round(rng.gamma(0.5, 9, (75, 12, 40)), 1).astype("f4")
    if gaps != "none":
        values[:, 3:6, 10:20] = -9999
    if gaps == "changing":
        values[40, 8, 8] = -9999
        values[60, 9, :] = np.nan
    grid = tmp_path / "rain.nc"
    chunks_of = {"a step a chunk": (1, 12, 20), "many steps a chunk": (30, 4, 40)}
    if layout in ("tiles", "one piece", "packed"):
        grid = tmp_path / "rain"
        tiled = {"tiled": True, "blockxsize": 16, "blockysize": 16, "compress": "deflate"}
        write_rasters(
            grid, values, packed=layout == "packed", **(tiled if layout == "tiles" else {})
        )
    elif layout == "not deflated":
        write_grid(grid, values, fill_value=np.float32(-9999), chunksizes=(1, 12, 40))
    else:
        storage = {"zlib": True, "shuffle": True, "chunksizes": chunks_of[layout]}
        write_grid(grid, values, fill_value=np.float32(-9999), **storage)
    shapes = {"a": box(0.4, 0.3, 21.5, 9.7), "b": box(20, 1, 39.5, 12), "c": box(9, 2, 30, 7)}
    regions = write_regions(tmp_path / "r.geojson", shapes)
    monkeypatch.setattr(chunks, "LEAST_SIZE", 0)
    monkeypatch.setattr(chunks, "MOST_KEPT", 0)  # so that chunks of many steps are turned about
    monkeypatch.setattr(series, "WORTH_ADDING", 0)
    monkeypatch.setattr(series, "WORTH_RANKING", 0)
    kind = ("--kind", "amount", "--input-unit", "mm") if grid.is_dir() else ()

    def table(*more):
        out = tmp_path / "out.csv"
        words = ["series", grid, "--regions", regions, "--every", "month", *kind, *more]
        run(*words, "--min-steps", "0.5", "--quiet", "--replace", "--out", out)
        return out.read_bytes()

    ranks = ("--measure", "median,p90", "--order", "region")
    words = ((), ranks, ("--measure", "mean,p90,max", "--order", "region"))
    found = [table(*more) for more in words]
    assert len(added) >= 40
    monkeypatch.setattr("bavlo.compiled.loops.wanted", False)
    added.clear()
    assert found == [table(*more) for more in words]
    assert not added


def test_steps_that_are_stored_together_are_not_read_one_by_one(tmp_path, monkeypatch):
    monkeypatch.setattr(chunks, "LEAST_SIZE", 0)
    monkeypatch.setattr(chunks, "MOST_KEPT", 0)
    values = np.ones((60, 12, 40), "f4")
    write_grid(tmp_path / "rain.nc", values, zlib=True, chunksizes=(30, 4, 40))
    source = open_grid([tmp_path / "rain.nc"])
    assert not adds_as_stored(source)
    assert source.read_stored(3, whole((12, 40))) is None
    here = Resources(2, 2**30, None, None)
    assert will_add_as_stored(source, here)  # once they are turned about
    assert not will_add_as_stored(source, replace(here, cluster="tcp://host:8786"))
    assert not will_add_as_stored(replace(source, scale=2.0), here)


def test_a_raster_unlike_the_first_is_decoded_among_others(added, tmp_path, monkeypatch):
    rng = np.random.default_rng(5)
    values = np.round(rng.gamma(0.5, 9, (40, 12, 40)), 1).astype("f4")
    values[:, 2, 3:9] = -9999
    folder = tmp_path / "rain"
    write_rasters(folder, values, compress="deflate")
    write_rasters(tmp_path / "other", values[:7], compress="lzw")
    (tmp_path / "other" / "rain_2001-01-07.tif").replace(folder / "rain_2001-01-07.tif")
    regions = write_regions(tmp_path / "r.geojson", {"a": box(0.4, 0.3, 21.5, 11.7)})
    monkeypatch.setattr(series, "WORTH_ADDING", 0)
    words = ["series", folder, "--regions", regions, "--every", "month", "--kind", "amount"]
    words += ["--input-unit", "mm", "--min-steps", "0.2", "--quiet", "--replace"]
    run(*words, "--out", tmp_path / "stored.csv")
    assert sum(bool(step.packing.where) for step in added) == 39  # others warmed loops up
    monkeypatch.setattr("bavlo.compiled.loops.wanted", False)
    run(*words, "--out", tmp_path / "plain.csv")
    assert (tmp_path / "stored.csv").read_bytes() == (tmp_path / "plain.csv").read_bytes()
