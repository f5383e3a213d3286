"""A weighted mean lies within the lowest and highest of what went in; equal values give theirs."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo.core.space.interpolation import CUBIC, LINEAR
from bavlo.core.space.layout import GridLayout
from bavlo.core.space.regrid import AREA, regrid
from bavlo.core.stats.agreement import agreement, own_anomalies
from bavlo.core.stats.cell_sample import CellSample, OverlayIndex
from bavlo.core.stats.normals import Base, YearlyPeriods, normals, statistic
from bavlo.core.sums import mean_of
from support import box, rows, some_overlay, write_grid, write_regions

VALUES = st.floats(-1e6, 1e6).filter(lambda value: value == 0 or abs(value) > 1e-9)


def regions_of_steps(values, rng):
    shared = some_overlay(rng, 5, values.shape[1])
    sample = CellSample(OverlayIndex(shared), values)
    return sample.mean[:, :-1]


def regions_with_people(values, rng):
    shared = some_overlay(rng, 5, values.shape[1])
    people = np.round(rng.uniform(0, 9, values.shape[1])) + 1
    sample = CellSample(OverlayIndex(shared, extra=people), values)
    return sample.mean[:, :-1]


def coarser_cells(values, rng):
    fine = GridLayout(
        np.linspace(70, 72, values.shape[1] + 1), np.linspace(-40, -35, len(values) + 1)
    )
    coarse = GridLayout(np.linspace(70, 72, 3), np.linspace(-40, -35, 4))
    return regrid(fine, coarse, AREA).apply(values, 0.5)


def cells_of_another_system(values, rng):
    fine = GridLayout(
        np.linspace(80, 82, values.shape[1] + 1), np.linspace(-36, -34, len(values) + 1)
    )
    utm = GridLayout(np.linspace(440e3, 560e3, 4), np.linspace(6.05e6, 6.2e6, 4), "EPSG:32744")
    return regrid(fine, utm, AREA).apply(values, 0.1)


def between_centres(values, rng):
    fine = GridLayout(
        np.linspace(70, 72, values.shape[1] + 1), np.linspace(-40, -35, len(values) + 1)
    )
    other = GridLayout(np.linspace(70, 72, 12), np.linspace(-40, -35, 14))
    return regrid(fine, other, LINEAR).apply(values, 0.5)


def cubic(values, rng):
    fine = GridLayout(
        np.linspace(70, 72, values.shape[1] + 1), np.linspace(-40, -35, len(values) + 1)
    )
    other = GridLayout(np.linspace(70, 72, 12), np.linspace(-40, -35, 14))
    return regrid(fine, other, CUBIC).apply(values, 0.5)


def normals_of_years(values, rng):
    return statistic(values, "mean")


def smoothed_days(values, rng):
    days = [f"{m:02}-{d:02}" for m in (1, 2, 3) for d in range(1, 29)]
    years = np.repeat(np.arange(2001, 2011), len(days))
    record = np.resize(values, (years.size, values.shape[1]))
    periods = YearlyPeriods(tuple(days * 10), years, "standard")
    return normals(record, periods, Base(2001, 2010), ["mean"], smooth=15).values["mean"]


def bias(values, rng):
    zero = np.zeros_like(values)
    return agreement(zero, values, zero, zero)[0]["bias"]


MEMBERS = [
    regions_of_steps,
    regions_with_people,
    coarser_cells,
    cells_of_another_system,
    between_centres,
    cubic,
    normals_of_years,
    smoothed_days,
    bias,
    lambda values, rng: mean_of(values),
]


@pytest.mark.parametrize("mean", MEMBERS)
@given(VALUES, st.integers(0, 99), st.booleans())
def test_the_mean_of_equal_values_is_their_value(mean, value, seed, gaps):
    rng = np.random.default_rng(seed)
    values = np.full((7, 11), value)
    if gaps:
        values[rng.random(values.shape) < 0.2] = np.nan
    found = mean(values, rng)
    assert (np.isnan(found) | (found == value)).all()
    assert gaps or not np.isnan(found).all()


@pytest.mark.parametrize("mean", MEMBERS)
@given(VALUES, st.integers(0, 99), st.floats(1e-16, 1e-12))
def test_a_mean_lies_within_its_values(mean, value, seed, spread):
    rng = np.random.default_rng(seed)
    values = value * (1 + spread * rng.uniform(-1, 1, (7, 11)))
    found = mean(values, rng)
    assert np.nanmin(found) >= values.min()
    assert np.nanmax(found) <= values.max()


@given(VALUES, st.integers(1, 40), st.integers(2, 40))
def test_equal_values_do_not_vary(value, cells, years):
    rng = np.random.default_rng(cells)
    values = np.full((years, cells), value)
    sample = CellSample(OverlayIndex(some_overlay(rng, 4, cells)), values)
    assert np.nanmax(sample.variance) == 0
    assert (statistic(values, "std") == 0).all()
    cycle = np.zeros(years, np.int64)
    assert (own_anomalies(values, cycle, cycle == 0) == 0).all()


def test_years_that_differ_by_the_rounding_of_their_mean_do_not_vary():
    years = np.array([float(np.cumsum(np.full(n, 0.3))[-1] / n) for n in (365, 365, 365, 366) * 5])[
        :, None
    ]
    assert np.ptp(years) > 0
    assert statistic(years, "std")[0] == 0


@pytest.fixture(scope="module")
def constant(tmp_path_factory):
    """Two years at thresholds exactly, in regions of one cell, of parts of cells and of many."""
    folder = tmp_path_factory.mktemp("constant")
    warm = np.full((730, 4, 6), 25.0)
    warm[100:161] += 0.1
    write_grid(folder / "tmax.nc", warm, name="tmax", unit="degC")
    write_grid(folder / "rain.nc", np.full((730, 4, 6), 20.1), name="rain", unit="mm")
    shapes = {
        "one": box(0.1, 1.3, 0.8, 1.7),
        "parts": box(0.37, 0.21, 3.13, 2.77),
        "all": box(0, 0, 6, 4),
    }
    return folder, write_regions(folder / "regions.geojson", shapes)


@pytest.mark.parametrize("tested_on", ["cell", "region"])
def test_conditions_see_no_rounding_in_constant_fields(constant, tested_on):
    folder, regions = constant
    conditions = {
        "tmax > 25 degC": (61, 0),
        "tmax >= 25 degC": (365, 365),
        "tmax <= 25 degC": (304, 365),
        "rain > 20.1 mm": (0, 0),
        "rain >= 20.1 mm": (365, 365),
        "rain < 20.1 mm": (0, 0),
    }
    grids = [f"tmax={folder}/tmax.nc", f"rain={folder}/rain.nc"]
    options = {"when": list(conditions), "count": ["days"], "every": ["year"]}
    found = rows("extremes", grids, regions, **options, **{"test-on": tested_on})
    for row in found:
        expected = conditions[row["condition"]][int(row["period"]) - 2001]
        assert row["value"] == str(expected), row


@pytest.mark.parametrize("tested_on", ["cell", "region"])
def test_summer_days_of_a_region_are_those_above_25_degrees(constant, tested_on):
    folder, regions = constant
    options = {"index": ["SU"], "every": ["year"], "test-on": tested_on}
    found = rows("extremes", [f"tmax={folder}/tmax.nc"], regions, **options)
    assert [row["value"] for row in found] == ["61", "0"] * 3


def test_a_formula_finds_no_spread_in_one_cell(constant):
    folder, regions = constant
    found = rows(
        "series",
        [f"aet={folder}/rain.nc"],
        regions,
        variable=["aet=rain"],
        make=["s = 1 - aet / std(aet)"],
        **{"make-on": "cell"},
        every=["year"],
    )
    assert {row["value"] for row in found} == {""}
