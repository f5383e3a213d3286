"""Tables written as CSV and read back."""

import io

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo.errors import BavloError
from bavlo.tables import csv
from bavlo.tables.table import Column, Table, text_column

words = (
    st.text(st.characters(codec="utf-8", exclude_categories=["Cc", "Cs"]), min_size=1)
    .map(str.strip)
    .filter(bool)
)
numbers = st.one_of(st.floats(allow_nan=True, allow_infinity=False), st.integers(-5, 5).map(float))


@given(st.lists(words, min_size=1, max_size=3, unique=True), st.data())
def test_a_table_reads_back_as_it_was(tmp_path_factory, labels, data):
    shape = (len(labels), 2, 2)
    value = np.array(data.draw(st.lists(numbers, min_size=shape[0] * 4, max_size=shape[0] * 4)))
    table = Table(
        "series",
        {"region": shape[0], "period": 2, "measure": 2},
        (
            text_column("region", ("region",), labels),
            text_column("period", ("period",), ["2001", "2002"]),
            text_column("measure", ("measure",), ["mean", "p90"]),
            Column("value", ("region", "period", "measure"), value.reshape(shape)),
            text_column("unit", (), ["mm"]),
            Column("steps_expected", ("period",), np.array([365.0, 366.5])),
        ),
    )
    path = tmp_path_factory.getbasetemp() / "read_back.csv"
    with path.open("w", encoding="utf-8", newline="") as file:
        csv.write(table, file)
    again = csv.read(path)
    assert again.name == "series"
    assert again.header == table.header
    assert again.axes == table.axes
    for name in table.header:
        found, expected = again.column(name), table.column(name)
        if table.columns[table.header.index(name)].is_text:
            assert found.tolist() == expected.tolist()
        else:
            np.testing.assert_array_equal(found, expected)
    assert again.along("unit", "measure") == ["mm", "mm"]


@given(st.lists(numbers, max_size=200))
def test_many_numbers_are_written_as_each_alone_and_read_back_exactly(values):
    texts = csv.numbers_text(np.array(values, float))
    assert texts == [csv.number_text(float(value)) for value in values]
    again = [float(text) if text else np.nan for text in texts]
    np.testing.assert_array_equal(again, values)


def test_all_rows_of_a_long_table_are_written_in_their_order():
    labels = [f"r{n}" for n in range(7)]
    table = Table(
        "series",
        {"region": 7, "period": 9000},
        (
            text_column("region", ("region",), labels),
            Column("value", ("region", "period"), np.arange(63_000.0).reshape(7, 9000)),
        ),
    )
    text = io.StringIO()
    csv.write(table, text)
    wanted = [f"{labels[n // 9000]},{n}" for n in range(63_000)]
    assert text.getvalue().splitlines()[1:] == wanted


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("a,b\n1,2\n", "is no table that Bavlo wrote"),
        ("region,period,measure,value,steps_expected\n", "has no rows"),
        ("region,period,measure,value,steps_expected\na,1,m,1,1\nb,2,m,1,1\n", "are not 2 regions"),
        ("region,period,measure,value,steps_expected\na,1,m,x,1\n", "column value"),
    ],
)
def test_what_is_no_whole_table_is_refused(text, says, tmp_path):
    path = tmp_path / "t.csv"
    path.write_text(text)
    with pytest.raises(BavloError, match=says):
        csv.read(path)
