"""Plain TIFF blocks read here give what the raster library gives."""

import numpy as np
import pytest
import rasterio
from hypothesis import given
from hypothesis import strategies as st

from bavlo.compiled import compiled, prepare
from bavlo.grids.fast import tiff
from bavlo.grids.fast.shared import shared
from bavlo.grids.source import CellSelection, CellSubset, Window


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
    with tiff.opened(path) as fetch:
        directory = tiff.read_directory(fetch)
        assert directory is not None
        for rows, columns in (
            (slice(0, 70), slice(0, 90)),
            (slice(13, 57), slice(30, 65)),
            (slice(69, 70), slice(0, 1)),
        ):
            found = tiff.read_window(path, fetch, directory, window_of(rows, columns), 0)
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


BLOCKS = {
    "tiles": {"tiled": True, "blockxsize": 64, "blockysize": 32},
    "strips": {"blockysize": 7},
}


@pytest.mark.parametrize("dtype", ["float32", "float64"])
@pytest.mark.parametrize("blocks", BLOCKS)
@pytest.mark.parametrize("width", [130, 131])
def test_the_compiled_predictor_gives_the_same_bits(dtype, blocks, width, tmp_path, monkeypatch):
    pytest.importorskip("numba")
    path = tmp_path / "a.tif"
    values = np.random.default_rng(2).normal(0, 1e3, (100, width)).astype(dtype)
    values[::7, ::5] = np.nan
    with rasterio.open(
        path, "w", driver="GTiff", width=width, height=100, count=1, dtype=dtype,
        compress="deflate", predictor=3, **BLOCKS[blocks],
    ) as data:  # fmt: skip
        data.write(values, 1)
    prepare(lambda: tiff.warm_up(path))
    assert compiled(tiff.undo_float_predictor) is not None
    wanted = [
        (slice(0, 100), slice(0, width)), (slice(20, 71), slice(60, 130)),
        (slice(31, 33), slice(0, 5)),
    ]  # fmt: skip
    with tiff.opened(path) as fetch:
        directory = tiff.read_directory(fetch)
        for rows, columns in wanted:
            window = path, fetch, directory, window_of(rows, columns), 0
            found = tiff.read_window(*window)
            with shared(2**20):
                kept = tiff.read_window(*window)
            with monkeypatch.context() as without:
                without.setattr("bavlo.compiled.loops.wanted", False)
                assert compiled(tiff.undo_float_predictor) is None
                plain = tiff.read_window(*window)
            own = values[rows, columns].tobytes()
            assert found.tobytes() == kept.tobytes() == plain.tobytes() == own


def test_files_that_say_something_else_have_another_signature(tmp_path):
    signatures = set()
    for n, change in enumerate(({}, {"nodata": 5}, {"width": 11}, {"crs": "EPSG:32744"})):
        settings = {"width": 10, "height": 10, "count": 1, "dtype": "int16", "compress": "deflate"}
        settings |= change
        with rasterio.open(tmp_path / f"{n}.tif", "w", driver="GTiff", **settings) as data:
            data.write(np.ones((10, settings["width"]), "int16"), 1)
        with tiff.opened(tmp_path / f"{n}.tif") as fetch:
            signatures.add(tiff.read_directory(fetch).signature)
    assert len(signatures) == 4
