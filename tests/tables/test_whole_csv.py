"""A CSV is told to be whole, or it is not read."""

import json
import warnings

import numpy as np
import pytest

from bavlo.errors import BavloWarning, InputError
from bavlo.tables.formats import beside, read_table
from bavlo.tables.placed import numbers_of
from support import box, run, write_grid, write_regions


@pytest.fixture
def table(tmp_path):
    grid = write_grid(tmp_path / "rain.nc", np.arange(40.0).reshape(10, 2, 2) + 0.12345)
    write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 1, 2), "b, or not": box(1, 0, 2, 2)})
    out = tmp_path / "out.csv"
    run("series", grid, "--regions", tmp_path / "r.geojson", "--every", "day", "--out", out)
    return out


@pytest.mark.parametrize("with_about", [True, False])
def test_a_table_that_is_cut_anywhere_is_refused(table, with_about):
    whole = table.read_bytes()
    if not with_about:
        beside(table).unlink()
    ends = {n + 1 for n, sign in enumerate(whole) if sign == ord("\n")}
    for size in range(1, len(whole)):
        table.write_bytes(whole[:size])
        at_a_line_end = size in ends and not with_about
        with warnings.catch_warnings(record=True):
            warnings.simplefilter("always")
            try:
                read_table(table)
            except InputError:
                continue
        assert at_a_line_end  # without its provenance nothing tells such a cut


def test_short_and_long_rows_are_named(table):
    beside(table).unlink()
    lines = table.read_text().splitlines()
    for odd, words in ((lines[3].rpartition(",")[0], "13 of 14"), (lines[3] + ",x", "15 of 14")):
        table.write_text("\n".join([*lines[:3], odd, *lines[4:], ""]))
        with pytest.raises(InputError, match=f"row 3 has {words} columns"):
            read_table(table)


def test_a_table_changed_by_hand_is_read_with_one_warning(table):
    before = read_table(table).full("value")
    table.write_text(table.read_text().replace(",mm,", ", mm,", 1).replace(", mm,", ",mm,", 1))
    with warnings.catch_warnings():
        warnings.simplefilter("error")  # nothing was changed after all
        read_table(table)
    lines = table.read_text().splitlines()
    row = lines[1].split(",")
    row[6] = "7.5"
    table.write_text("\n".join([lines[0], ",".join(row), *lines[2:], ""]))
    with pytest.warns(BavloWarning, match="was changed after Bavlo wrote it"):
        after = read_table(table).full("value")
    assert after.ravel()[0] == 7.5
    assert (after.ravel()[1:] == before.ravel()[1:]).all()
    done = run("chart", table, "--out", table.with_suffix(".png"))
    assert done.stderr.count("was changed after") <= 1


def test_rows_that_were_taken_out_are_missed(table):
    lines = table.read_text().splitlines()
    table.write_text("\n".join([*lines[:11], ""]))
    with pytest.raises(InputError, match="has 10 of the 20 rows that were written"):
        read_table(table)
    beside(table).unlink()
    assert len(read_table(table)) == 10


def test_what_was_written_stands_in_the_provenance(table):
    written = json.loads(beside(table).read_text())["written"]
    assert written["rows"] == 20
    assert written["size"] == table.stat().st_size


@pytest.mark.parametrize("text", ["1_0", "١٢", "0x1F", "1e", "--1", "true", "null", "1,2"])
def test_numbers_are_those_of_csv_only(text, tmp_path):
    with pytest.raises(InputError, match="is no number"):
        numbers_of(tmp_path, "value", ["1", text, ""])


def test_numbers_in_all_their_spellings_are_read(tmp_path):
    texts = ["1", "-0.5", "1e3", "+2.", ".5", "007", "", "nan", "inf", "-inf", "1E-3", "1e-300"]
    found = numbers_of(tmp_path, "value", texts)
    wanted = [float(text) if text else np.nan for text in texts]
    np.testing.assert_array_equal(found, wanted)


def test_rows_in_quotes_and_rows_without_give_the_same(table):
    beside(table).unlink()
    plain = table.read_text().replace('"b, or not"', "b")
    table.write_text(plain)
    one = read_table(table)
    table.write_text(plain.replace("b,", '"b",').replace("\n", "\r\n") + "\r\n")
    other = read_table(table)
    assert one.labels("region") == other.labels("region") == ["a", "b"]
    np.testing.assert_array_equal(one.full("value"), other.full("value"))
