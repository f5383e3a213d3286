"""Chunks of Zarr stores whose header of Blosc was damaged end in one line, not in a crash."""

import struct

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo.errors import InputError
from bavlo.grids.open import open_grid
from bavlo.grids.source import whole

zarr = pytest.importorskip("zarr")
blosc = pytest.importorskip("bavlo.grids.blosc")

VALUES = np.random.default_rng(3).gamma(0.5, 8, (20, 9, 12)).round(1).astype("f4")


def write_store(path, zarr_format):
    """Daily rain in two chunks that Blosc compressed; the file of the first of them."""
    group = zarr.open_group(path, mode="w", zarr_format=zarr_format)
    names = ("time", "lat", "lon")
    centres = np.arange(20.0), np.arange(9) + 0.5, np.arange(12) + 0.5
    units = "days since 2001-01-01", "degrees_north", "degrees_east"
    more = {"dimension_names": names} if zarr_format == 3 else {}
    for name, values, unit in zip(names, centres, units, strict=True):
        own = {"dimension_names": [name]} if zarr_format == 3 else {}
        array = group.create_array(name, data=values, **own)
        array.attrs.update({"units": unit, "_ARRAY_DIMENSIONS": [name]})
    compressor = zarr.codecs.BloscCodec() if zarr_format == 3 else blosc.Blosc()
    array = group.create_array(
        "rain", data=VALUES, chunks=(10, 9, 12), compressors=compressor, **more
    )
    array.attrs.update(
        {"units": "mm", "cell_methods": "time: sum", "_ARRAY_DIMENSIONS": list(names)}
    )
    return path / "rain" / ("c/0/0/0" if zarr_format == 3 else "0.0.0")


def read(path):
    """All values of the grid in a store."""
    source = open_grid([path])
    return source.read(0, 20, whole(source.layout.shape)).reshape(VALUES.shape)


@pytest.mark.parametrize("zarr_format", [2, 3])
@pytest.mark.parametrize("stated", [0, 15, 2**30, 2**32 - 1])
def test_a_chunk_that_states_another_length_than_it_has_is_refused(tmp_path, zarr_format, stated):
    chunk = write_store(tmp_path / "rain.zarr", zarr_format)
    np.testing.assert_array_equal(read(tmp_path / "rain.zarr"), VALUES)
    content = bytearray(chunk.read_bytes())
    struct.pack_into("<I", content, 12, stated)
    chunk.write_bytes(content)
    with pytest.raises(InputError, match=f"states {stated} bytes and has {len(content)}"):
        read(tmp_path / "rain.zarr")


@given(st.binary(max_size=60))
def test_what_is_no_chunk_of_blosc_is_refused_or_inflated_within_its_bounds(content):
    codec = blosc.CheckedBlosc()
    try:
        found = codec.decode(content)
    except (ValueError, RuntimeError):
        return
    assert len(found) == struct.unpack_from("<I", content, 4)[0]
