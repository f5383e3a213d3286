"""The schema of every table: built from arrays, told by its header, and read back."""

import numpy as np
import pytest

from bavlo.errors import RequestError
from bavlo.tables import csv
from bavlo.tables.formats import Companions, format_of
from bavlo.tables.schema import (
    ANOMALIES,
    CLASSES,
    EVENTS,
    EXTREMES,
    NORMALS,
    RETURN_LEVELS,
    SCHEMAS,
    SERIES,
    TEXT,
    schema_by_axes,
    schema_of,
)

SIZES = {
    "region": 3,
    "period": 4,
    "measure": 2,
    "pair": 2,
    "window": 2,
    "statistic": 2,
    "condition": 2,
    "count": 2,
    "class": 3,
    "return_period": 3,
    "row": 5,
}


def values_of(schema, seed=0, leave_out=()):
    """Different values along every axis of each column."""
    rng = np.random.default_rng(seed)
    out = {}
    for column in schema.columns:
        if column.name in leave_out:
            continue
        shape = tuple(SIZES[axis] for axis in column.axes)
        if column.kind == TEXT:
            texts = np.empty(shape, object)
            texts.ravel()[:] = [f'{column.name} {n}, "x"' for n in range(texts.size)]
            out[column.name] = texts if shape else f"{column.name} only"
        else:
            numbers = rng.normal(0, 100, shape)
            if column.name not in schema.axes and column.name != "years":
                numbers = np.where(rng.random(shape) < 0.2, np.nan, numbers)
            out[column.name] = numbers
    return out


@pytest.mark.parametrize("schema", SCHEMAS, ids=lambda s: f"{s.name} by {s.axes[-1]}")
def test_a_table_comes_back_from_csv_as_it_was(schema, tmp_path):
    given = values_of(schema)
    table = schema.table(given)
    assert table.header == [column.name for column in schema.columns]
    assert len(table) == np.prod([SIZES[axis] for axis in schema.axes])
    assert schema_of(table.header) is schema
    assert schema_by_axes(table) is schema
    csv.write_file(table, tmp_path / "t.csv", Companions())
    again = format_of(tmp_path / "t.csv").read(tmp_path / "t.csv")
    assert again.name == schema.name
    assert again.axes == table.axes
    for name in table.header:
        np.testing.assert_array_equal(again.column(name), table.column(name))


def test_columns_that_do_not_apply_are_left_out_as_a_whole():
    table = SERIES.table(
        values_of(SERIES, leave_out={"calendar", "weight", "level", "every", "x", "y"})
    )
    assert "calendar" not in table.header
    assert table.header[-1] == "note"
    table = EXTREMES.table({**values_of(EXTREMES), "calendar": None})
    assert "calendar" not in table.header


def test_each_schema_says_what_is_shown_and_what_lies_about_zero():
    assert ANOMALIES.shown == "anomaly"
    neutral = {c.name: c.neutral for c in ANOMALIES.columns if c.neutral is not None}
    assert neutral == {"anomaly": 0, "score": 0, "percent_of_normal": 100}
    assert ANOMALIES.column("percent_of_normal").unit == "%"
    assert SERIES.shown == NORMALS.shown == "value"
    assert SERIES.column("snow") is None
    assert not SERIES.is_text("value")
    assert EVENTS.is_text("open")


@pytest.mark.parametrize(
    "header", [[], ["region"], ["name", "value"], ["steps_expected"], ["region", "when"]]
)
def test_a_header_of_something_else_is_no_table(header):
    assert schema_of(header) is None


def test_rows_run_through_the_axes_the_last_one_fastest():
    given = values_of(CLASSES)
    table = CLASSES.table(given)
    row = 3 * 2 * 1 + 2 * 2 + 1  # region 0, period 1, class 2, measure 1
    found = dict(zip(table.header, table.rows(row, row + 1), strict=True))
    assert found["value"][0] == pytest.approx(given["value"][0, 1, 2, 1], nan_ok=True)
    assert found["class"][0] == given["class"][2]
    assert found["variable"][0] == "variable only"
    assert len([r for chunk in table.chunks() for r in chunk[0]]) == len(table)


def test_parts_of_a_table_are_had_by_the_places_of_an_axis():
    given = values_of(RETURN_LEVELS)
    given["years"] = np.array([2.0, 10, 50])
    table = RETURN_LEVELS.table(given)
    ten = table.where("years", "10") if "years" in table.axes else None
    assert ten is None
    part = table.take("region", [2, 0])
    assert part.labels("region") == [given["region"][2], given["region"][0]]
    np.testing.assert_array_equal(part.full("value"), given["value"][[2, 0]])
    anomalies = ANOMALIES.table({**values_of(ANOMALIES), "window": np.array([1.0, 3])})
    assert anomalies.where("window", "3").axes["window"] == 1
    with pytest.raises(RequestError, match="window has no 2"):
        anomalies.where("window", "2")
    with pytest.raises(RequestError, match="no column snow"):
        anomalies.where("snow", "2")


def test_an_ending_that_no_format_has_is_refused(tmp_path):
    with pytest.raises(RequestError, match=r"'\.doc' is not known"):
        format_of(tmp_path / "t.doc")
