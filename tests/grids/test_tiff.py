"""Plain TIFF blocks read here give what the raster library gives."""

import zlib

import numpy as np
import pytest
import rasterio
from hypothesis import given
from hypothesis import strategies as st

from bavlo.grids.cells import CellSelection, CellSubset, Window
from bavlo.grids.formats.raster_files import stored_bytes
from bavlo.grids.formats.tiff import blocks_of


def window_of(rows, columns):
    """A rectangle of which all cells are wanted."""
    size = (rows.stop - rows.start) * (columns.stop - columns.start)
    return Window(rows, columns, CellSubset(None, slice(0, size), size))


@pytest.mark.parametrize("dtype", ["float32", "float64", "int16", "uint8", "uint32"])
@pytest.mark.parametrize("predictor", [1, 2, 3])
@pytest.mark.parametrize("layout", ["tiled", "strips", "big endian", "BigTIFF", "sparse"])
def test_blocks_are_those_of_the_raster_library(dtype, predictor, layout, tmp_path):
    if predictor == 3 and not dtype.startswith("float"):
        pytest.skip("for floats only")
    if predictor == 2 and dtype == "float64":
        pytest.skip("the library does not write it")
    values = (np.random.default_rng(1).gamma(1, 40, (70, 90))).astype(dtype)
    settings = {"tiled": True, "blockxsize": 32, "blockysize": 16}
    if layout == "strips":
        settings = {"blockysize": 7}
    if layout == "big endian":
        settings["ENDIANNESS"] = "BIG"
    if layout == "BigTIFF":
        settings["BIGTIFF"] = "YES"
    if layout == "sparse":
        settings["SPARSE_OK"] = True
        values[:] = 0
        values[40:, 50:] = 7
    path = tmp_path / "a.tif"
    with rasterio.open(
        path,
        "w",
        driver="GTiff",
        width=90,
        height=70,
        count=1,
        dtype=dtype,
        compress="deflate",
        predictor=predictor,
        nodata=0,
        **settings,
    ) as data:
        data.write(values, 1)
    with rasterio.open(path) as data:
        whole = data.read(1)
    with stored_bytes(path) as (file, fetch):
        stored = blocks_of(file)
        assert stored is not None
        assert stored.predictor == predictor
        for rows, columns in (
            (slice(0, 70), slice(0, 90)),
            (slice(13, 57), slice(30, 65)),
            (slice(69, 70), slice(0, 1)),
        ):
            found = stored.read(fetch, window_of(rows, columns), 0)
            np.testing.assert_array_equal(found, whole[rows, columns])


@given(st.data())
def test_only_blocks_that_hold_wanted_cells_are_fetched(drawn):
    shape = (drawn.draw(st.integers(1, 70)), drawn.draw(st.integers(1, 90)))
    count = shape[0] * shape[1]
    wanted = drawn.draw(st.sets(st.integers(0, count - 1), min_size=1, max_size=12))
    cells = CellSelection(shape, np.array(sorted(wanted)))
    block = drawn.draw(st.integers(1, 40)), drawn.draw(st.integers(1, 40))
    row, column = np.divmod(cells.cells, shape[1])
    needed = {(y, x) for y, x in zip(row // block[0], column // block[1], strict=True)}
    found = [each for window in cells.windows for each in window.blocks(block)]
    assert set(found) == needed
    for window in cells.windows:
        own = window.blocks(block)
        assert own == sorted(set(own)) == window.blocks(block)


def test_a_turned_bit_in_a_block_is_damage(tmp_path):
    values = np.random.default_rng(5).gamma(1, 40, (40, 70)).astype("f4")
    path = tmp_path / "a.tif"
    with rasterio.open(
        path, "w", driver="GTiff", width=70, height=40, count=1, dtype="float32",
        compress="deflate", blockysize=10,
    ) as data:  # fmt: skip
        data.write(values, 1)
    with stored_bytes(path) as (file, fetch):
        stored, every = blocks_of(file), window_of(slice(0, 40), slice(0, 70))
        places = stored.places(every)
        np.testing.assert_array_equal(stored.read(fetch, every, 0), values)
        whole = path.read_bytes()
        for offset, size in places:
            for place in (offset + 2, offset + size // 2, offset + size - 1):
                content = bytearray(whole)
                content[place] ^= 4

                def damaged(first, count, content=content):
                    return bytes(content[first : first + count])

                with pytest.raises((zlib.error, ValueError)):
                    stored.read(damaged, every, 0)


def test_files_that_say_something_else_are_not_alike(tmp_path):
    found = []
    changes = ({}, {}, {"nodata": 5}, {"width": 11}, {"crs": "EPSG:32744"}, {"dtype": "int32"})
    for n, change in enumerate(changes):
        settings = {"width": 10, "height": 10, "count": 1, "dtype": "int16", "compress": "deflate"}
        settings |= change
        with rasterio.open(tmp_path / f"{n}.tif", "w", driver="GTiff", **settings) as data:
            data.write(np.ones((10, settings["width"]), settings["dtype"]), 1)
        with stored_bytes(tmp_path / f"{n}.tif") as (file, _):
            found.append(blocks_of(file).likeness)
    assert found[0] == found[1]
    assert all(found[0] != each for each in found[2:])
