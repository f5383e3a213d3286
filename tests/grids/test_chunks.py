"""Raw chunks give the bytes that the HDF5 library gives."""

import itertools
import pickle
from types import SimpleNamespace

import h5py
import netCDF4
import numpy as np
import pytest

from bavlo.core.values.kinds import Quantity
from bavlo.errors import BavloError
from bavlo.grids import cfgrid, scratch
from bavlo.grids.fast import chunks
from bavlo.grids.fast.chunk_table import chunk_table
from bavlo.grids.open import open_grid
from bavlo.grids.rechunk import Room, rechunked
from bavlo.grids.source import CellSelection, whole
from bavlo.plan import inspection, reading
from bavlo.plan.inspection import inspect
from bavlo.remembered import INFLATED, OPEN_FILES
from support import box, run, write_grid, write_regions

SHAPE = (11, 13, 17)
READER_OF = chunks.reader_of
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


@pytest.fixture
def inflated(monkeypatch):
    """Where the chunks lie that are inflated, in their order."""
    found, plain = [], chunks.ChunkReader._inflated

    def noted(reader, file, offset, length):
        found.append(offset)
        return plain(reader, file, offset, length)

    monkeypatch.setattr(chunks.ChunkReader, "_inflated", noted)
    return found


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
def test_both_ways_give_the_same_digits_and_damage_is_told(steps, monkeypatch, tmp_path):
    values = np.random.default_rng(1).integers(-5, 400, (20, 60, 70)).astype("i2")
    storage = {"zlib": True, "shuffle": True, "chunksizes": (steps, 25, 70)}
    path = write(tmp_path / "g.nc", values, **storage)
    grid = open_grid([path])
    cells = CellSelection((60, 70), np.array([5, 300, 301, 4100]))
    fast = [grid.read(0, 20, whole((60, 70))), grid.read(3, 9, cells)]
    monkeypatch.setattr(chunks, "reader_of", lambda path, name: None)
    usual = [grid.read(0, 20, whole((60, 70))), grid.read(3, 9, cells)]
    for a, b in zip(fast, usual, strict=True):
        assert a.tobytes() == b.tobytes()
    monkeypatch.undo()
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
def test_every_packing_and_byte_order_gives_the_same_digits_both_ways(
    dtype, packing, monkeypatch, tmp_path
):
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
        for reader in (chunks.reader_of, lambda path, name: None):
            monkeypatch.setattr(cfgrid.chunks, "reader_of", reader)
            grid = open_grid([path])
            told.append((grid.read(0, 12, whole((20, 30))), grid.read(3, 8, cells)))
            OPEN_FILES.clear()
        monkeypatch.setattr(cfgrid.chunks, "reader_of", READER_OF)
        assert READER_OF(path, "rain") is not None
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
def test_filters_that_are_not_known_go_the_ordinary_way(filters, monkeypatch, tmp_path):
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
def test_every_chunk_is_inflated_once_whatever_its_shape(
    chunk, memory, inflated, tmp_path, monkeypatch
):
    monkeypatch.setattr(INFLATED, "most_bytes", 0)  # as if the chunks were too large to be kept
    values = np.random.default_rng(0).gamma(1, 5, (60, 6, 7)).astype("f4")
    path = write_grid(
        tmp_path / "a.nc", values, chunksizes=chunk, zlib=True, shuffle=True, complevel=1
    )
    source = open_grid([path])
    cells = whole((6, 7))
    said = []
    room = Room(memory, lambda size: 2, tmp_path)
    with rechunked(source, cells, room, said.append) as same:
        blocks = [same.read(a, min(a + 7, 60), cells) for a in range(0, 60, 7)]
        assert ["scratch file" in line for line in said] == [True]
    np.testing.assert_array_equal(np.concatenate(blocks), values.reshape(60, -1).astype(float))
    assert sorted(inflated) == sorted(READER_OF(path, "rain").offset.ravel().tolist())
    assert [p.name for p in tmp_path.iterdir()] == ["a.nc"]  # the scratch file is gone


@pytest.mark.parametrize("order", [("time", "lat", "lon"), ("lat", "lon", "time")])
@pytest.mark.parametrize("height", [60, 25, 7])
@pytest.mark.parametrize("band", [1, 2000, 2**25])
@pytest.mark.parametrize(
    ("small", "dtype"),
    [(0, "<f4"), (2**14, "<f4"), (2**14, "<i2"), (0, ">f4"), (2**14, ">f4"), (0, ">f8")],
)
def test_turned_chunks_are_the_values_whatever_the_order_the_bands_and_the_workers(
    order, height, band, small, dtype, tmp_path, monkeypatch
):
    monkeypatch.setattr(scratch, "BAND", band)
    monkeypatch.setattr(chunks, "SMALL_CHUNK", small)
    monkeypatch.setattr(INFLATED, "most_bytes", 0)
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
    source = open_grid([tmp_path / "a.nc"])
    used = np.sort(rng.choice(11 * 13, 80, replace=False))
    cells = CellSelection((11, 13), used)
    said = []
    with rechunked(source, cells, Room(2**30, lambda size: 3, tmp_path), said.append) as same:
        assert len(said) == 1
        for first, last in ((0, 60), (3, 31), (59, 60)):
            block = same.read(first, last, cells)
            np.testing.assert_array_equal(block, values.reshape(60, -1)[first:last, used])


def test_of_large_chunks_a_sample_inflates_the_first_one_alone_and_once(
    inflated, tmp_path, monkeypatch
):
    monkeypatch.setattr(inspection, "LARGE_CHUNK", 2**10)
    monkeypatch.setattr(INFLATED, "most_bytes", 0)
    values = np.random.default_rng(3).gamma(1, 5, (73, 40, 90))
    values[70, 20, 30] = -9999
    path = write_grid(tmp_path / "a.nc", values, chunksizes=(18, 40, 90), zlib=True)
    inspect(open_grid([path]), Quantity("amount", "mm", "mm", "its unit"))
    assert inflated == READER_OF(path, "rain").offset[[0], 0, 0].tolist()
    regions = write_regions(tmp_path / "r.geojson", {"a": box(1, 1, 85, 39)})
    words = ["series", path, "--regions", regions, "--every", "day"]
    refused = run(*words, check=False)  # what the others hold is still never a number
    assert "holds -9999, which this variable cannot be" in refused.stderr
    run(*words, "--missing", "-9999")


@pytest.mark.parametrize("jobs", [1, 2])
@pytest.mark.parametrize("sizes", [(18, 40, 90), (73, 20, 30), (18, 20, 30)])
@pytest.mark.parametrize("west", [1, 62])
def test_large_chunks_are_inflated_once_and_one_for_the_sample(
    west, sizes, jobs, inflated, tmp_path, monkeypatch
):
    monkeypatch.setattr(INFLATED, "most_bytes", 0)
    monkeypatch.setattr(inspection, "LARGE_CHUNK", 2**10)
    values = np.random.default_rng(3).gamma(1, 5, (73, 40, 90)).round(2)
    path = write_grid(tmp_path / "a.nc", values, chunksizes=sizes, zlib=True)
    plain = write_grid(tmp_path / "b.nc", values)
    regions = write_regions(tmp_path / "r.geojson", {"a": box(west, 1, west + 25, 39)})
    words = ["--regions", regions, "--every", "day", "--format", "csv", "--jobs", jobs]
    found = run("series", path, *words).stdout
    once = [offset for offset in set(inflated) if inflated.count(offset) == 1]
    beneath = READER_OF(path, "rain").offset[:, :, west // sizes[2] : (west + 24) // sizes[2] + 1]
    assert set(beneath.ravel().tolist()) <= set(inflated)
    if sizes[1:] == (40, 90):  # else several are looked at
        assert len(once) == len(set(inflated)) - 1
    assert found == run("series", plain, *words).stdout


def test_a_large_chunk_that_is_damaged_is_told_with_its_file(tmp_path, monkeypatch):
    monkeypatch.setattr(INFLATED, "most_bytes", 0)
    monkeypatch.setattr(inspection, "LARGE_CHUNK", 2**10)
    values = np.random.default_rng(3).gamma(1, 5, (36, 40, 90)).round(2)
    path = write_grid(tmp_path / "a.nc", values, chunksizes=(18, 40, 90), zlib=True)
    second = int(READER_OF(path, "rain").offset[1, 0, 0])
    with path.open("r+b") as file:
        file.seek(second + 100)
        file.write(b"\xff" * 50)
    regions = write_regions(tmp_path / "r.geojson", {"a": box(1, 1, 85, 39)})
    refused = run("series", path, "--regions", regions, "--every", "day", "--jobs", 2, check=False)
    assert refused.returncode != 0
    assert "a.nc" in refused.stderr
    assert "damaged" in refused.stderr


def test_a_chunk_that_no_file_can_hold_is_damage():
    told = SimpleNamespace(chunk_offset=(0, 0), byte_offset=2**64 - 1, size=5, filter_mask=0)
    dataset = SimpleNamespace(id=SimpleNamespace(chunk_iter=lambda note: note(told)), shape=(4, 4))
    with pytest.raises(OSError, match="beyond the end of the file"):
        chunk_table(dataset)


def test_a_chunk_larger_than_the_memory_is_an_error_that_names_the_least(tmp_path, monkeypatch):
    monkeypatch.setattr(inspection, "LARGE_CHUNK", 2**10)
    monkeypatch.setattr(INFLATED, "most_bytes", 0)
    write_grid(tmp_path / "a.nc", np.ones((60, 9, 9)), chunksizes=(60, 9, 9), zlib=True)
    write_regions(tmp_path / "r.geojson", {"a": box(1, 1, 5, 5)})
    words = ["series", "a.nc", "--regions", "r.geojson", "--out", "o.csv"]
    run(*words, cwd=tmp_path)
    monkeypatch.setattr(reading, "worker_bytes", lambda file, memory: 2e9)
    refused = run(*words, "--replace", cwd=tmp_path, check=False)
    assert "--memory: 1.0GB is too little; this job needs" in refused.stderr


@pytest.mark.parametrize("memory", [2**30, 2**12])
def test_chunks_of_many_steps_are_read_elsewhere_as_here(memory, tmp_path, monkeypatch):
    monkeypatch.setattr(INFLATED, "most_bytes", 0)
    values = np.random.default_rng(0).gamma(1, 5, (60, 6, 7)).astype("f4")
    write_grid(tmp_path / "a.nc", values, chunksizes=(60, 2, 7), zlib=True, complevel=1)
    source = open_grid([tmp_path / "a.nc"])
    cells, said = whole((6, 7)), []
    room = Room(memory, lambda size: 2, tmp_path, elsewhere=True)
    with rechunked(source, cells, room, said.append) as same:
        sent, its_cells = pickle.loads(pickle.dumps((same, cells)))
        block = sent.read(3, 9, its_cells)
    np.testing.assert_array_equal(block, values.reshape(60, -1)[3:9].astype(float))
    assert [line.count("a.nc") for line in said] == [1] * (memory < 2**20)
