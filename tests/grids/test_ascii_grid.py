"""ASCII grids: every token a number, and as many as the header says."""

import gzip

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo.errors import BavloError
from bavlo.grids.formats.raster_files import check
from bavlo.grids.open import open_grid
from bavlo.grids.source import ReadOptions
from support import box, run, write_regions

HEAD = "ncols 3\nnrows 2\nxllcorner 0\nyllcorner 0\ncellsize 1\nNODATA_value -9999\n"
WHOLE = HEAD + "1 2.5 -3e2\n4 nan .5\n"


def test_a_whole_grid_passes_in_all_its_spellings():
    for text in (WHOLE, WHOLE.replace("\n", "\r\n"), WHOLE.upper(), WHOLE.replace(" ", "\t")):
        check(text.encode())
    check((HEAD + "1 2 3 4 5 6").encode())


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (WHOLE.replace("2.5", "none"), "'none' in line 7 is no number"),
        (WHOLE.replace("2.5", "2.5.1"), "'2.5.1' in line 7 is no number"),
        (WHOLE.replace("2.5", "2-5"), "is no number"),
        (WHOLE.replace("2.5", "1_0"), "is no number"),
        (WHOLE.replace(" .5", ""), "it has 5 numbers for 2 × 3 cells"),
        (WHOLE + "7\n", "it has 7 numbers"),
        (WHOLE.replace("nrows 2", "nrows two"), "its header"),
        (WHOLE.replace("cellsize 1", "cellsize one"), "its header"),
    ],
)
def test_what_is_no_number_or_too_few_is_refused(text, words):
    with pytest.raises(ValueError, match=r"is no number|numbers for|its header") as told:
        check(text.encode())
    assert words in str(told.value)


@given(st.lists(st.floats(allow_nan=False, allow_infinity=False), min_size=6, max_size=6))
def test_any_six_numbers_pass_and_none_of_them_may_be_missing(values):
    text = HEAD + " ".join(map(repr, values))
    check(text.encode())
    with pytest.raises(ValueError, match="numbers for"):
        check(text.rpartition(" ")[0].encode())


@pytest.mark.parametrize("zipped", [False, True])
def test_a_damaged_grid_ends_a_command_with_one_line(tmp_path, zipped):
    path = tmp_path / ("a.asc.gz" if zipped else "a.asc")
    write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 3, 2)})
    words = ["series", path, "--regions", tmp_path / "r.geojson", "--kind", "amount"]
    words += ["--input-unit", "mm", "--input-crs", "regions=EPSG:4326", "--input-crs", "EPSG:4326"]

    def write(text):
        path.write_bytes(gzip.compress(text.encode()) if zipped else text.encode())

    write(WHOLE.replace("nan", "6"))
    assert run(*words).returncode == 0
    write(WHOLE.replace("2.5", "2x5"))
    done = run(*words, check=False)
    assert done.returncode == 1
    assert "'2x5' in line 7 is no number" in done.stderr
    assert np.char.count(done.stderr, "\n") == 1


def test_a_packed_grid_that_grows_beyond_measure_is_refused(tmp_path):
    path = tmp_path / "a.asc.gz"
    zeros = gzip.compress(b"0 " * 2**23)  # of which a file may have any number
    path.write_bytes(gzip.compress(b"ncols 1\nnrows 1\n") + zeros * 33)
    with pytest.raises(BavloError, match=r"unpacks to more than .* MB; unpack it first"):
        open_grid([path], ReadOptions())
