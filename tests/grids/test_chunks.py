"""Raw chunks give the bytes that the HDF5 library gives."""

import itertools
import pickle
import re
import shutil
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace

import h5py
import netCDF4
import numpy as np
import pytest

from bavlo.errors import BavloError
from bavlo.grids.cells import CellSelection, whole
from bavlo.grids.formats import chunked as chunks
from bavlo.grids.formats.rechunk import Room, rechunked
from bavlo.grids.formats.stored import chunk_table
from bavlo.grids.open import open_grid
from bavlo.remembered import OPEN_FILES
from support import box, run, write_grid, write_regions

SHAPE = (11, 13, 17)
DTYPES = ["<f4", ">f4", "<f8", "<i2", ">i2", "|u1", "<u4", ">i8"]
FILTERS = {
    "none": {},
    "deflate": {"compression": "gzip", "compression_opts": 4},
    "shuffle and deflate": {"compression": "gzip", "shuffle": True},
    "shuffle": {"shuffle": True},
    "fletcher32": {"compression": "gzip", "fletcher32": True},
    "lzf": {"compression": "lzf"},
    "scale-offset": {"scaleoffset": 3},
}
KEYS = [
    (slice(0, 11), slice(0, 13), slice(0, 17)),
    (slice(3, 4), slice(2, 9), slice(16, 17)),
    (slice(5, 11), 7, slice(1, 15)),
]


def read_as(path, **fields):
    """A grid whose file is read as if it had these properties."""
    source = open_grid([path])
    return replace(source, files=tuple(replace(f, **fields) for f in source.files))


def by_the_library(path):
    return read_as(path, is_hdf5=False, keeps_slabs=False)


@pytest.mark.parametrize("filters", FILTERS)
@pytest.mark.parametrize("dtype", DTYPES)
def test_every_type_filter_and_chunk_shape_gives_the_same_bytes(dtype, filters, tmp_path):
    if filters == "scale-offset" and np.dtype(dtype).kind == "f":
        pytest.skip("loses digits by design")
    rng = np.random.default_rng(0)
    values = (rng.random(SHAPE) * 100).astype(dtype)
    for n, shape in enumerate([(1, 13, 17), (4, 5, 6), (11, 1, 1), (3, 13, 2)]):
        path = tmp_path / f"{n}.h5"
        with h5py.File(path, "w") as file:
            data = file.create_dataset(
                "v", SHAPE, dtype, chunks=shape, fillvalue=7, **FILTERS[filters]
            )
            data[:8] = values[:8]  # the last chunks are never written
        reader = chunks._open(path, "v", path)
        known = filters in ("none", "deflate", "shuffle and deflate", "shuffle")
        assert (reader is not None) == known
        if reader is None:
            continue
        with h5py.File(path) as file:
            for key, _ in itertools.product(KEYS, range(2)):
                found, expected = reader.read(key), file["v"][key]
                assert found.dtype == expected.dtype
                assert found.tobytes() == expected.tobytes()


def write(path, values, **storage):
    with netCDF4.Dataset(path, "w") as data:
        for name, centres, unit in (
            ("time", np.arange(len(values)), "days since 2001-01-01"),
            ("lat", np.arange(values.shape[1]) * 0.1, "degrees_north"),
            ("lon", np.arange(values.shape[2]) * 0.1, "degrees_east"),
        ):
            data.createDimension(name, len(centres))
            data.createVariable(name, "f8", (name,))[:] = centres
            data[name].units = unit
        rain = data.createVariable("rain", "i2", ("time", "lat", "lon"), fill_value=-5, **storage)
        rain.scale_factor, rain.add_offset, rain.units = 0.1, 3.0, "mm"
        rain.set_auto_maskandscale(False)
        rain[:] = values
    return path


@pytest.mark.parametrize("steps", [1, 4])
def test_both_ways_give_the_same_digits_and_damage_is_told(steps, tmp_path):
    values = np.random.default_rng(1).integers(-5, 400, (20, 60, 70)).astype("i2")
    storage = {"zlib": True, "shuffle": True, "chunksizes": (steps, 25, 70)}
    path = write(tmp_path / "g.nc", values, **storage)
    grid = open_grid([path])
    cells = CellSelection((60, 70), np.array([5, 300, 301, 4100]))
    fast = [grid.read(0, 20, whole((60, 70))), grid.read(3, 9, cells)]
    plain = by_the_library(path)
    usual = [plain.read(0, 20, whole((60, 70))), plain.read(3, 9, cells)]
    for a, b in zip(fast, usual, strict=True):
        assert a.tobytes() == b.tobytes()
    OPEN_FILES.clear()
    whole_file = bytearray(path.read_bytes())
    with h5py.File(path) as file:
        info = file["rain"].id.get_chunk_info(3)
    for at in range(info.byte_offset + 2, info.byte_offset + info.size, info.size // 40):
        bad = tmp_path / f"bad{at}.nc"
        flipped = bytearray(whole_file)
        flipped[at] ^= 4
        bad.write_bytes(flipped)
        with pytest.raises(BavloError, match="damaged or incomplete"):
            open_grid([bad]).read(0, 20, whole((60, 70)))


PACKINGS = {
    "plain": {},
    "scaled": {"scale_factor": 0.1},
    "scaled in single precision": {"scale_factor": np.float32(0.1), "add_offset": np.float32(3)},
    "valid range": {"valid_range": (5, 90)},
    "two missing values": {"missing_value": 17, "add_offset": -2.5},
    "unsigned": {"_Unsigned": "true", "scale_factor": 0.5},
}
STORED = ["<f4", ">f4", "<f8", "<i1", "<i2", ">i2", "<i4", ">i4", "<u2", "<i8"]


@pytest.mark.slow
@pytest.mark.parametrize("packing", PACKINGS)
@pytest.mark.parametrize("dtype", STORED)
def test_every_packing_and_byte_order_gives_the_same_digits_both_ways(dtype, packing, tmp_path):
    attributes = dict(PACKINGS[packing])
    for name in ("valid_range", "missing_value"):
        if name in attributes:
            attributes[name] = np.array(attributes[name]).astype(dtype)
    values = np.random.default_rng(2).integers(0, 120, (12, 20, 30)).astype(dtype)
    cells = CellSelection((20, 30), np.array([0, 7, 8, 9, 31, 299, 300, 599]))
    for shape, filters in itertools.product(
        [(1, 20, 30), (1, 7, 8), (5, 20, 30), (12, 1, 1)],
        [{}, {"zlib": True, "shuffle": False}, {"zlib": True, "shuffle": True}],
    ):
        path = tmp_path / "g.nc"
        path.unlink(missing_ok=True)
        write_grid(
            path,
            values,
            chunksizes=shape,
            fill_value=np.array(3).astype(dtype),
            endian={"<": "little", ">": "big"}[dtype[0]],
            **filters,
        )
        with netCDF4.Dataset(path, "a") as data:  # the numbers above are the stored ones
            data["rain"].setncatts(attributes)
        told = []
        for grid in (open_grid([path]), by_the_library(path)):
            told.append((grid.read(0, 12, whole((20, 30))), grid.read(3, 8, cells)))
            OPEN_FILES.clear()
        assert chunks.reader_of(path, "rain") is not None
        for fast, usual in zip(*told, strict=True):
            assert fast.tobytes() == usual.tobytes()
        assert np.isnan(told[0][0]).any()
        assert not np.isnan(told[0][0]).all()


@pytest.mark.parametrize(
    "filters",
    [
        {"zlib": True, "fletcher32": True},
        {"compression": "zstd"},
        {"compression": "bzip2"},
        {"compression": "szip"},
        {"compression": "zlib", "significant_digits": 3},
    ],
    ids=lambda filters: " ".join(map(str, filters.values())),
)
def test_filters_that_are_not_known_go_the_ordinary_way(filters, tmp_path):
    values = np.random.default_rng(3).gamma(1, 5, (6, 16, 16)).astype("f4")
    try:
        path = write_grid(tmp_path / "g.nc", values, chunksizes=(1, 16, 16), **filters)
    except RuntimeError:
        pytest.skip("this netCDF4 library was built without it")
    with netCDF4.Dataset(path) as data:
        expected = data["rain"][:].astype(float)
    np.testing.assert_array_equal(
        open_grid([path]).read(0, 6, whole((16, 16))), np.asarray(expected).reshape(6, -1)
    )


@pytest.mark.parametrize("chunk", [(60, 1, 1), (60, 6, 7), (60, 2, 7), (25, 3, 2)])
@pytest.mark.parametrize("memory", [2**30, 2**12])
def test_chunks_of_many_steps_go_to_a_scratch_file_whatever_their_shape(chunk, memory, tmp_path):
    values = np.random.default_rng(0).gamma(1, 5, (60, 6, 7)).astype("f4")
    path = write_grid(
        tmp_path / "a.nc", values, chunksizes=chunk, zlib=True, shuffle=True, complevel=1
    )
    source = read_as(path, keeps_slabs=False)
    cells = whole((6, 7))
    said = []
    room = Room(memory, lambda size: 2)
    with rechunked(source, cells, room, said.append) as same:
        blocks = [same.read(a, min(a + 7, 60), cells) for a in range(0, 60, 7)]
        assert ["scratch file" in line for line in said] == [True]
    np.testing.assert_array_equal(np.concatenate(blocks), values.reshape(60, -1).astype(float))
    assert [p.name for p in tmp_path.iterdir()] == ["a.nc"]  # the scratch file is gone


@pytest.mark.parametrize("order", [("time", "lat", "lon"), ("lat", "lon", "time")])
@pytest.mark.parametrize("height", [60, 7])
@pytest.mark.parametrize("memory", [2**5, 2**16, 2**30])
@pytest.mark.parametrize("dtype", ["<f4", "<i2", ">f4", ">f8"])
def test_turned_chunks_are_the_values_whatever_the_order_the_bands_and_the_workers(
    order, height, memory, dtype, tmp_path
):
    rng = np.random.default_rng(5)
    values = rng.gamma(2, 50, (60, 11, 13)).astype(dtype)
    endian = {"<": "little", ">": "big"}[dtype[0]]
    values[rng.random(values.shape) < 0.1] = -9
    values[:, :4, :5] = -9  # chunks that are never written
    turned_about = values.transpose([("time", "lat", "lon").index(name) for name in order])
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as data:
        for name, centres, unit in (
            ("time", np.arange(60), "days since 2001-01-01"),
            ("lat", np.arange(11) - 30.0, "degrees_north"),
            ("lon", np.arange(13) + 80.0, "degrees_east"),
        ):
            data.createDimension(name, len(centres))
            data.createVariable(name, "f8", (name,))[:] = centres
            data[name].units = unit
        own = {"time": height, "lat": 4, "lon": 5}
        rain = data.createVariable(
            "rain",
            dtype,
            order,
            zlib=True,
            fill_value=-9,
            endian=endian,
            chunksizes=[own[n] for n in order],
        )
        rain.units = "mm"
        data.set_auto_mask(False)
        north, west = {"lat": slice(4, None)}, {"lat": slice(4), "lon": slice(5, None)}
        for part in (north, west):
            place = tuple(part.get(name, slice(None)) for name in order)
            rain[place] = turned_about[place]
    values = np.where(values == -9, np.nan, values)
    source = read_as(tmp_path / "a.nc", keeps_slabs=False)
    used = np.sort(rng.choice(11 * 13, 80, replace=False))
    cells = CellSelection((11, 13), used)
    said = []
    with rechunked(source, cells, Room(memory, lambda size: 3), said.append) as same:
        assert len(said) == 1
        for first, last in ((0, 60), (3, 31), (59, 60)):
            block = same.read(first, last, cells)
            np.testing.assert_array_equal(block, values.reshape(60, -1)[first:last, used])


@pytest.fixture(scope="module")
def large(tmp_path_factory):
    """A folder with a grid in two chunks that are too large to be kept, and one stored plainly."""
    folder = tmp_path_factory.mktemp("large")
    values = np.zeros((72, 500, 500), "f4")  # two chunks of 36 MB
    values[:, ::50, ::50] = np.random.default_rng(3).gamma(1, 5, (72, 10, 10)).round(2)
    at = {"lat": np.arange(500) * 0.1, "lon": np.arange(500) * 0.1}
    write_grid(folder / "plain.nc", values, **at)
    many = {**at, "chunksizes": (36, 500, 500), "zlib": True, "complevel": 1}
    write_grid(folder / "a.nc", values, **many)
    values[70, 120, 330] = -9999
    write_grid(folder / "marked.nc", values, **many)
    write_regions(folder / "r.geojson", {"a": box(6.2, 0.1, 48, 13.9)})
    return folder


WORDS = ["--regions", "r.geojson", "--every", "day", "--out", "-"]


@pytest.mark.parametrize("jobs", [1, 2])
def test_large_chunks_give_the_same_numbers(large, jobs):
    found, wanted = (
        run("series", n, *WORDS, "--jobs", jobs, cwd=large) for n in ("a.nc", "plain.nc")
    )
    assert found.stdout == wanted.stdout


def test_a_mark_that_no_sample_of_large_chunks_met_is_still_never_a_number(large):
    refused = run("series", "marked.nc", *WORDS, check=False, cwd=large)
    assert "holds -9999, which this variable cannot be" in refused.stderr
    run("series", "marked.nc", *WORDS, "--missing", "-9999", cwd=large)


def test_a_large_chunk_that_is_damaged_is_told_with_its_file(large, tmp_path):
    path = Path(shutil.copy(large / "a.nc", tmp_path))
    second = int(chunks.reader_of(path, "rain").offset[1, 0, 0])
    with path.open("r+b") as file:
        file.seek(second + 100)
        file.write(b"\xff" * 50)
    words = ["series", path, "--regions", large / "r.geojson", "--every", "day", "--jobs", 2]
    refused = run(*words, check=False)
    assert refused.returncode != 0
    assert "a.nc" in refused.stderr
    assert "damaged" in refused.stderr


def test_a_chunk_that_no_file_can_hold_is_damage():
    told = SimpleNamespace(chunk_offset=(0, 0), byte_offset=2**64 - 1, size=5, filter_mask=0)
    dataset = SimpleNamespace(id=SimpleNamespace(chunk_iter=lambda note: note(told)), shape=(4, 4))
    with pytest.raises(OSError, match="beyond the end of the file"):
        chunk_table(dataset)


def test_a_chunk_larger_than_the_memory_is_an_error_that_names_the_least(large):
    words = ["series", "a.nc", *WORDS, "--jobs", 1]
    refused = run(*words, "--memory", "250MB", cwd=large, check=False)
    assert "--memory: 250MB is too little; this job needs" in refused.stderr
    least = re.search(r"needs (\d+MB)", refused.stderr)[1]
    run(*words, "--memory", least, cwd=large)


@pytest.mark.parametrize("memory", [2**30, 2**12])
def test_chunks_of_many_steps_are_read_elsewhere_as_here(memory, tmp_path):
    values = np.random.default_rng(0).gamma(1, 5, (60, 6, 7)).astype("f4")
    write_grid(tmp_path / "a.nc", values, chunksizes=(60, 2, 7), zlib=True, complevel=1)
    source = read_as(tmp_path / "a.nc", keeps_slabs=False)
    cells, said = whole((6, 7)), []
    room = Room(memory, lambda size: 2, elsewhere=True)
    with rechunked(source, cells, room, said.append) as same:
        sent, its_cells = pickle.loads(pickle.dumps((same, cells)))
        block = sent.read(3, 9, its_cells)
    np.testing.assert_array_equal(block, values.reshape(60, -1)[3:9].astype(float))
    assert [line.count("a.nc") for line in said] == [1] * (memory < 2**20)
