"""Plain TIFF blocks read here give what the raster library gives."""

import struct
from contextlib import contextmanager
from dataclasses import fields

import numpy as np
import pytest
import rasterio
from hypothesis import given
from hypothesis import strategies as st

from bavlo.grids.fast import tiff, tiff_directory
from bavlo.grids.fast.tiff_directory import opened, read_directory
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
    with opened(path) as fetch:
        directory = read_directory(fetch)
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


LIKE = {
    "tiles": {"tiled": True, "blockxsize": 32, "blockysize": 16},
    "strips": {"blockysize": 3},
    "one strip": {"blockysize": 40, "BIGTIFF": "YES"},
}


@contextmanager
def read_anew():
    """Without what is known of the file that was read before."""
    with pytest.MonkeyPatch.context() as without:
        without.setattr(tiff_directory, "_latest", None)
        yield


def directory_of(content):
    return read_directory(lambda first, size: content[first : first + size])


def written(path, values, date="2001:01:01 00:00:00", tagged="after", **settings):
    """The bytes of a raster; the directory lies at the end where it was tagged after its values."""
    height, width = values.shape
    with rasterio.open(
        path, "w", driver="GTiff", width=width, height=height, count=1, dtype=values.dtype,
        compress="deflate", nodata=-1, **settings,
    ) as data:  # fmt: skip
        steps = [lambda: data.update_tags(TIFFTAG_DATETIME=date), lambda: data.write(values, 1)]
        for step in steps if tagged == "before" else steps[::-1]:
            step()
    return path.read_bytes()


def facts(directory):
    """All that a directory says."""
    return directory and [getattr(directory, f.name) for f in fields(directory)]


@pytest.mark.parametrize("layout", LIKE)
@pytest.mark.parametrize("tagged", ["before", "after"])
def test_the_directory_of_a_like_file_is_the_one_that_would_be_read_anew(
    layout, tagged, tmp_path, monkeypatch
):
    random, seen, whole = np.random.default_rng(4), [], tiff_directory._read_directory
    monkeypatch.setattr(tiff_directory, "_latest", None)
    parsed = []
    monkeypatch.setattr(
        tiff_directory, "_read_directory", lambda at: parsed.append(at) or whole(at)
    )
    for n in range(4):
        values = random.gamma(1, 40, (40, 70)).astype("f4")
        date = f"200{n}:01:01 00:00:00"
        content = written(tmp_path / f"{n}.tif", values, date, tagged, **LIKE[layout])
        with read_anew():
            anew = directory_of(content)
        found = directory_of(content)
        assert facts(found) == facts(anew)
        seen.append(found)
    assert len({each.signature for each in seen}) == 1
    assert len({each.sizes for each in seen}) == 4
    assert len(parsed) == 4 + 1  # each anew, and the first


@pytest.mark.parametrize("layout", LIKE)
@pytest.mark.parametrize("tagged", ["before", "after"])
def test_no_change_of_a_directory_is_overlooked_since_it_was_like_another(layout, tagged, tmp_path):
    values = np.random.default_rng(5).gamma(1, 40, (40, 70)).astype("f4")
    content = written(tmp_path / "a.tif", values, tagged=tagged, **LIKE[layout])
    known = directory_of(content)
    within = range(known.offsets[0], known.offsets[-1] + known.sizes[-1])
    differ = 0
    for place in [*range(within.start), *range(within.stop, len(content))]:
        for bit in (1, 2, 128):
            changed = bytearray(content)
            changed[place] ^= bit
            with read_anew():
                anew = facts(directory_of(changed))
            assert facts(directory_of(content)) == facts(known)
            assert facts(directory_of(changed)) == anew
            differ += anew != facts(known)
    assert differ > 300
    for end in range(0, len(content), 7):
        with read_anew():
            anew = facts(directory_of(content[:end]))
        assert facts(directory_of(content[:end])) == anew


def test_a_directory_that_was_left_behind_is_not_taken_for_the_one_that_counts():
    def entries(width):
        told = {256: width, 257: 4, 258: 8, 259: 8, 273: 200, 277: 1, 278: 4, 279: 30}
        listed = [struct.pack("<HHII", tag, 4, 1, value) for tag, value in told.items()]
        return struct.pack("<H", len(told)) + b"".join(listed) + bytes(4)

    first = struct.pack("<2sHI", b"II", 42, 8) + entries(70)
    later = struct.pack("<2sHI", b"II", 42, len(first)) + entries(70) + entries(80)
    with read_anew():
        assert directory_of(first).shape == (4, 70)
        assert directory_of(later).shape == (4, 80)
        assert directory_of(first).shape == (4, 70)


def test_files_that_say_something_else_have_another_signature(tmp_path):
    signatures = set()
    for n, change in enumerate(({}, {"nodata": 5}, {"width": 11}, {"crs": "EPSG:32744"})):
        settings = {"width": 10, "height": 10, "count": 1, "dtype": "int16", "compress": "deflate"}
        settings |= change
        with rasterio.open(tmp_path / f"{n}.tif", "w", driver="GTiff", **settings) as data:
            data.write(np.ones((10, settings["width"]), "int16"), 1)
        with opened(tmp_path / f"{n}.tif") as fetch:
            signatures.add(read_directory(fetch).signature)
    assert len(signatures) == 4
