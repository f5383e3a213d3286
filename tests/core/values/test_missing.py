"""Marks of no data among values."""

import numpy as np
import pytest

from bavlo.core.values.kinds import Quantity
from bavlo.core.values.missing import count_marks, find_marks, stored_as, usual_marks

RAIN = Quantity("amount", "mm", "mm", "")
HEIGHT = Quantity("state", "m", "", "")
WARMTH = Quantity("state", "degC", "", "")
SHARE = Quantity("state", "%", "", "")


def found(what, values, dtype):
    marks = usual_marks(np.dtype(dtype))
    values = np.asarray(values, dtype).astype(float)
    sampled = count_marks([values], marks.astype(float))
    return {
        m.value: (m.count, m.is_certain)
        for m in find_marks(what, sampled, marks.astype(float), marks.astype(float))
    }


@pytest.mark.parametrize("mark", [-9999, -999, -99.9, -3.4e38, np.finfo(np.float32).min])
def test_rain_cannot_be_a_mark_below_zero(mark):
    value = float(np.float32(mark))
    assert found(RAIN, [0, 1, 2, mark, mark], "float32") == {value: (2, True)}


def test_anomalies_of_rain_may_be_below_zero_and_so_are_asked_about():
    assert found(RAIN, [-50, 1, 60, -999], "float32") == {-999: (1, False)}
    assert found(RAIN, [-800, 1, 60, -999], "float32") == {}


@pytest.mark.parametrize(
    ("what", "values", "dtype", "expected"),
    [
        (HEIGHT, [0, 3000, -9999], "int16", {-9999: (1, False)}),
        (HEIGHT, [0, 3000, -999], "int16", {}),
        (HEIGHT, [10, 3000, -32768], "int16", {-32768: (1, False)}),
        (HEIGHT, [10, 3000, 32761, 32761], "int16", {32761: (2, False)}),
        (HEIGHT, [10, 30000, 32761], "int16", {}),
        (HEIGHT, [10, 3000, 1e20], "float64", {1e20: (1, False)}),
        (HEIGHT, [10, 3000, -3.4e38], "float64", {-3.4e38: (1, True)}),
        (WARMTH, [-30, 40, -999], "float32", {-999: (1, True)}),
        (WARMTH, [-20, 40, -99.9], "float32", {float(np.float32(-99.9)): (1, False)}),
        (SHARE, [0, 5, 100, 255], "uint8", {255: (1, False)}),
        (SHARE, [0, 1, 0, 1], "uint8", {}),
        (SHARE, [0, 100, 120], "int8", {}),
        (SHARE, [-9999, -9999], "float32", {-9999: (2, False)}),
    ],
)
def test_marks_that_could_be_values_must_lie_apart(what, values, dtype, expected):
    assert found(what, values, dtype) == expected


@pytest.mark.parametrize(
    ("number", "dtype", "scale", "offset", "expected"),
    [
        (-9999, "int16", None, None, [-9999]),
        (3276.1, "int16", 0.1, None, [32761]),
        (32761, "int16", 0.1, None, [32761]),
        (-99.9, "float32", None, None, [-99.9]),
        (200.5, "int16", 0.01, 150.0, [5050]),
        (1e20, "int16", None, None, []),
    ],
)
def test_a_number_is_compared_as_it_is_stored_and_as_it_reads(
    number, dtype, scale, offset, expected
):
    assert stored_as(number, np.dtype(dtype), scale, offset) == expected
