"""Raw chunks give the bytes that the HDF5 library gives."""

import itertools

import h5py
import netCDF4
import numpy as np
import pytest

from bavlo.core.errors import BavloError
from bavlo.formats.grids import chunks, open_grid
from bavlo.formats.grids.netcdf import close_all
from bavlo.formats.grids.source import CellSelection, whole
from bavlo.formats.grids.turned import turned
from support import write_grid

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
        reader = chunks._open(path, "v")
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
    monkeypatch.setattr(chunks, "LEAST_SIZE", 0)
    values = np.random.default_rng(1).integers(-5, 400, (20, 60, 70)).astype("i2")
    storage = {"zlib": True, "shuffle": True, "chunksizes": (steps, 25, 70)}
    path = write(tmp_path / "g.nc", values, **storage)
    grid = open_grid([path])
    assert grid.files[0].by_chunks
    cells = CellSelection((60, 70), np.array([5, 300, 301, 4100]))
    fast = [grid.read(0, 20, whole((60, 70))), grid.read(3, 9, cells)]
    monkeypatch.setattr(chunks, "reader_of", lambda path, name: None)
    usual = [grid.read(0, 20, whole((60, 70))), grid.read(3, 9, cells)]
    for a, b in zip(fast, usual, strict=True):
        assert a.tobytes() == b.tobytes()
    monkeypatch.undo()
    monkeypatch.setattr(chunks, "LEAST_SIZE", 0)
    close_all()
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


@pytest.mark.parametrize("chunk", [(60, 1, 1), (60, 6, 7), (60, 2, 7), (25, 3, 2)])
@pytest.mark.parametrize("memory", [2**30, 2**12])
def test_every_chunk_is_inflated_once_whatever_its_shape(chunk, memory, tmp_path, monkeypatch):
    values = np.random.default_rng(0).gamma(1, 5, (60, 6, 7)).astype("f4")
    path = write_grid(
        tmp_path / "a.nc", values, chunksizes=chunk, zlib=True, shuffle=True, complevel=1
    )
    source = open_grid([path])
    cells = whole((6, 7))
    inflated = []
    plain = chunks.ChunkReader._bytes
    monkeypatch.setattr(
        chunks.ChunkReader,
        "_bytes",
        lambda self, file, number: inflated.append(number) or plain(self, file, number),
    )
    said = []
    with turned(source, cells, memory, tmp_path, said.append) as same:
        blocks = [same.read(a, min(a + 7, 60), cells) for a in range(0, 60, 7)]
        assert bool(said) == (memory < 2**20)
    np.testing.assert_array_equal(np.concatenate(blocks), values.reshape(60, -1).astype(float))
    assert len(inflated) == len(set(inflated))
    assert [p.name for p in tmp_path.iterdir()] == ["a.nc"]  # the scratch file is gone
