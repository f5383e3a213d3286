"""Formulas at each step, on cells' values of periods, and on regions' values."""

import netCDF4
import numpy as np
import pytest

from bavlo.errors import BavloError
from brute import weighted_percentile
from support import box, rows, run, write_grid, write_regions

DAYS = 59  # January and February 2001
MONTH = np.repeat([0, 1], [31, 28])


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    folder = tmp_path_factory.mktemp("made")
    rng = np.random.default_rng(12)
    aet = rng.gamma(2, 1, (DAYS, 4, 6))
    pet = aet + rng.gamma(2, 1, (DAYS, 4, 6))
    warm = rng.normal(20, 3, (DAYS, 4, 6))
    write_grid(folder / "aet.nc", aet, name="aet", unit="mm")
    write_grid(folder / "pet.nc", pet, name="pet", unit="mm")
    write_grid(folder / "warm.nc", warm, name="warm", unit="degC")
    # Two regions that share the cells of a column.
    shapes = {"west": box(0, 0, 2.4, 4), "east": box(2.4, 0, 6, 4)}
    regions = write_regions(folder / "regions.geojson", shapes)
    return folder, regions, {"aet": aet, "pet": pet, "warm": warm}


def weights(region):
    rows_ = np.diff(np.sin(np.radians(np.arange(5))))[:, None]
    columns = {"west": [1, 1, 0.4, 0, 0, 0], "east": [0, 0, 0.6, 1, 1, 1]}[region]
    return rows_ * np.array(columns)


def totals(values):
    return np.stack([values[m == MONTH].sum(axis=0) for m in (0, 1)])


def mean(values, region):
    w = weights(region)
    return (values * w).sum(axis=(-2, -1)) / w.sum()


def made(world, names, formula, **options):
    folder, regions, _ = world
    grids = [f"{name}={folder / name}.nc" for name in names]
    found = rows("series", grids, regions, make=[formula], **options)
    return {(r["region"], r["period"], r["measure"]): r for r in found}


def value(found, region, month, measure="mean"):
    return float(found[region, f"2001-0{month + 1}", measure]["value"])


def test_a_ratio_of_totals_is_made_on_cells_or_on_regions(world):
    _, _, data = world
    names, formula = ("aet", "pet"), "stress = 1 - aet / pet"
    by_step = made(world, names, formula)
    by_cell = made(world, names, formula, **{"make-on": "cell"})
    by_region = made(world, names, formula, **{"make-on": "region"})
    for region in ("west", "east"):
        for month in (0, 1):
            a, p = (totals(data[name])[month] for name in names)
            each = 1 - data["aet"][month == MONTH] / data["pet"][month == MONTH]
            assert value(by_step, region, month) == pytest.approx(mean(each, region).mean())
            assert value(by_cell, region, month) == pytest.approx(mean(1 - a / p, region))
            assert value(by_region, region, month) == pytest.approx(
                1 - mean(a, region) / mean(p, region)
            )
    row = by_cell["west", "2001-01", "mean"]
    assert (row["unit"], row["combine"], row["steps"]) == ("1", "aet total, pet total", "1")
    row = by_region["west", "2001-01", "mean"]
    assert (row["unit"], row["combine"], row["order"]) == ("1", "aet total, pet total", "region")


def test_each_grid_is_combined_by_its_own_kind_or_as_is_said_of_it(world):
    _, _, data = world
    names, formula = ("aet", "warm"), "a = aet / warm"
    found = made(world, names, formula, **{"make-on": "cell"})
    other = made(
        world, names, formula, **{"make-on": "region", "combine": ["warm=max", "aet=mean"]}
    )
    for month in (0, 1):
        total, warm = totals(data["aet"])[month], data["warm"][month == MONTH]
        assert value(found, "east", month) == pytest.approx(mean(total / warm.mean(axis=0), "east"))
        daily = mean(data["aet"][month == MONTH], "east").mean()
        expected = daily / mean(warm, "east").max()
        assert value(other, "east", month) == pytest.approx(expected)
    assert other["east", "2001-01", "mean"]["combine"] == "aet mean, warm max"
    with pytest.raises(BavloError, match="of warm alone goes with formulas on values of periods"):
        made(world, names, formula, combine=["warm=max"])


def test_numbers_have_units_and_are_converted(world):
    _, _, data = world
    found = made(world, ("aet",), "r = aet / 5 cm", **{"make-on": "cell"})
    assert value(found, "west", 0) == pytest.approx(mean(totals(data["aet"])[0], "west") / 50)
    cold = made(world, ("warm",), "d = 1 - warm / 10 degC", every="month")
    assert cold["west", "2001-01", "mean"]["unit"] == "1"
    for text, message in (
        ("d = warm - 280 K", "280 K is a temperature or a difference; write it in degC"),
        ("d = aet / 3 blobs", "'blobs' is no unit"),
        ("d = aet / sigmoid(aet)", "is no function; use one of: mean min max std median pNN"),
        ("d = aet - 1 mm", "nothing tells whether d in mm is an amount"),
        ("d = 1 / mean(2)", "closes mean"),
    ):
        with pytest.raises(BavloError, match=message):
            made(world, ("aet", "warm"), text)


@pytest.mark.parametrize("stage", ["step", "cell"])
def test_functions_are_of_the_cells_of_each_region(world, stage):
    _, _, data = world
    options = {"make-on": stage, "every": "month", "measure": ["mean,max"]}
    found = made(world, ("warm",), "w = warm / p90(warm)", **options)
    for region in ("west", "east"):
        w = weights(region).ravel()
        for month in (0, 1):
            days = data["warm"][month == MONTH]
            fields = days if stage == "step" else days.mean(axis=0)[None]
            ratios = np.array([f / weighted_percentile(f.ravel(), w, 90) for f in fields])
            expected = mean(ratios, region).mean()
            assert value(found, region, month) == pytest.approx(expected)
            highest = ratios.mean(axis=0)[weights(region) > 0].max()
            assert value(found, region, month, "max") == pytest.approx(highest)


def test_on_regions_a_function_is_another_measure_of_the_cells_of_the_period(world):
    _, _, data = world
    options = {"make-on": "region", "measure": ["mean,min"]}
    found = made(world, ("warm",), "w = warm / p90(warm)", **options)
    w = weights("east")
    field = data["warm"][MONTH == 1].mean(axis=0)
    limit = weighted_percentile(field.ravel(), w.ravel(), 90)
    assert value(found, "east", 1) == pytest.approx(mean(field, "east") / limit)
    assert value(found, "east", 1, "min") == pytest.approx(field[w > 0].min() / limit)


def test_formulas_may_use_what_earlier_ones_make(world):
    folder, regions, data = world
    grids = [f"{name}={folder / name}.nc" for name in ("aet", "pet")]
    formulas = ["gap = pet - aet", "share = gap / pet"]
    for stage in ("cell", "region"):
        found = rows("series", grids, regions, make=formulas, **{"make-on": stage})
        a, p = (totals(data[name])[0] for name in ("aet", "pet"))
        expected = mean((p - a) / p, "west")
        if stage == "region":
            expected = 1 - mean(a, "west") / mean(p, "west")
        assert [row["variable"] for row in found] == ["gap"] * 4 + ["share"] * 4
        assert float(found[4]["value"]) == pytest.approx(expected)


def test_a_grid_may_be_made_of_values_of_periods_and_of_regions_that_share_no_cell(world, tmp_path):
    folder, regions, data = world
    out = tmp_path / "stress.nc"
    grids = [f"{name}={folder / name}.nc" for name in ("aet", "pet")]
    run("grid", *grids, "--make", "s = aet / pet", "--make-on", "cell", "--every", "month",
        "--out", out)  # fmt: skip
    with netCDF4.Dataset(out) as written:
        a, p = (totals(data[name]) for name in ("aet", "pet"))
        np.testing.assert_allclose(written["s"][:], a / p, rtol=1e-6)
    warm = folder / "warm.nc"
    whole = tmp_path / "whole.nc"
    run("grid", warm, "--make", "w = warm / max(warm)", "--every", "step", "--out", whole)
    with netCDF4.Dataset(whole) as written:
        expected = data["warm"] / data["warm"].max(axis=(1, 2), keepdims=True)
        np.testing.assert_allclose(written["w"][:], expected, rtol=1e-6)
    two = ["grid", warm, "--make", "w = warm / max(warm)", "--every", "step", "--out",
           tmp_path / "two.nc", "--regions"]  # fmt: skip
    refused = run(*two, regions, check=False)
    assert "two values in cells that two regions share" in refused.stderr
    apart = write_regions(tmp_path / "a.geojson", {"a": box(0, 0, 2, 4), "b": box(3, 0, 6, 4)})
    run(*two, apart, "--outside", "missing")
    with netCDF4.Dataset(tmp_path / "two.nc") as written:
        found = np.ma.filled(written["w"][:], np.nan)
        west = data["warm"][:, :, :2]
        np.testing.assert_allclose(
            found[:, :, :2], west / west.max(axis=(1, 2), keepdims=True), rtol=1e-6
        )
        assert np.isnan(found[:, :, 2]).all()


def test_normals_are_made_of_formulas_on_periods_too(world):
    folder, regions, data = world
    grids = [f"{name}={folder / name}.nc" for name in ("aet", "pet")]
    options = {"make": ["s = aet / pet"], "make-on": "cell", "base": "2001..2001"}
    found = rows("normals", grids, regions, **options)
    a, p = (totals(data[name])[0] for name in ("aet", "pet"))
    assert float(found[0]["value"]) == pytest.approx(mean(a / p, "west"))


def test_conditions_take_formulas_at_each_step_only(world):
    folder, regions, _ = world
    grids = [f"warm={folder / 'warm.nc'}"]
    with pytest.raises(BavloError, match="of the cells of regions, and there are none here"):
        rows("extremes", grids, regions, make=["w = warm / max(warm)"], when=["w > 0.9"])


def test_trends_and_comparisons_take_what_formulas_make(tmp_path):
    rng = np.random.default_rng(4)
    a, b = rng.normal(size=(2, 12 * 365, 2, 2))
    grids = [f"a={tmp_path / 'a.nc'}", f"b={tmp_path / 'b.nc'}"]
    write_grid(tmp_path / "a.nc", a, name="a", unit="degC")
    write_grid(tmp_path / "b.nc", b, name="b", unit="degC")
    regions = write_regions(tmp_path / "r.geojson", {"all": box(0, 0, 2, 2)})
    made = {"every": "year", "make": ["mean = (a + b) / 2", "lower = mean - b"]}
    table = tmp_path / "yearly.csv"
    run("series", *grids, "--regions", regions, "--every", "year", "--make", "mean = (a + b) / 2",
        "--out", table)  # fmt: skip
    alone = run("trends", *grids, "--regions", regions, "--every", "year", "--make",
                "mean = (a + b) / 2", "--out", "-").stdout  # fmt: skip
    assert alone == run("trends", table, "--out", "-").stdout
    found = rows("compare", grids, regions, **made)
    bias = next(row for row in found if row["statistic"] == "bias")
    assert (bias["a"], bias["b"]) == ("mean", "lower")
    assert float(bias["value"]) == pytest.approx(-b[: 11 * 365 + 2].mean(), abs=2e-3)  # whole years
