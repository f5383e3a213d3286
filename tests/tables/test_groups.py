"""Several sorts of periods and several grids in one table."""

import csv
import io

import netCDF4
import numpy as np
import pytest

from bavlo.tables import csv as csv_table
from bavlo.tables.formats import about_of, is_table, read_table
from bavlo.tables.group import TableGroup, parts_of
from bavlo.tables.layouts import laid_out
from support import box, run, write_grid, write_regions

EVERY = ("month", "JJA", "year")


@pytest.fixture(scope="module")
def grids(tmp_path_factory):
    """Three years of daily rain, packed, and of temperature, over two regions."""
    folder = tmp_path_factory.mktemp("group")
    rng = np.random.default_rng(5)
    rain = rng.integers(0, 30_000, (1095, 6, 8)).astype("i2")
    rain[40:43, 1, 1] = -1
    write_grid(folder / "rain.nc", rain, fill_value=np.int16(-1))
    with netCDF4.Dataset(folder / "rain.nc", "a") as data:
        data["rain"].scale_factor = 0.001
    write_grid(folder / "tmax.nc", rng.normal(20, 5, (1095, 6, 8)), name="tmax", unit="degC")
    write_regions(folder / "r.geojson", {"a": box(0.2, 0.3, 5, 4.7), "b, “c”": box(3, 2, 8, 6)})
    return folder


def rows(text):
    return list(csv.DictReader(io.StringIO(text)))


def series(folder, *more, grids=("rain=rain.nc",)):
    words = ("series", *grids, "--regions", "r.geojson", "--out", "-", "--quiet", *more)
    return rows(run(*words, cwd=folder).stdout)


@pytest.mark.parametrize("measure", ["mean", "mean,p90,max"])
def test_several_sorts_of_periods_are_each_as_if_asked_alone(grids, measure):
    found = series(grids, "--every", ",".join(EVERY), "--measure", measure)
    assert list(dict.fromkeys(row["every"] for row in found)) == list(EVERY)
    for every in EVERY:
        own = [row for row in found if row["every"] == every]
        alone = series(grids, "--every", every, "--measure", measure)
        assert [r["period"] for r in own] == [r["period"] for r in alone]
        for one, other in zip(own, alone, strict=True):
            assert one["steps"] == other["steps"]
            assert one["note"] == other["note"]
            assert float(one["value"]) == pytest.approx(float(other["value"]), rel=1e-13)


def test_named_grids_stand_in_one_table_each_with_what_is_said_of_it(grids):
    found = series(
        grids,
        *("--every", "year", "--unit", "tmax=K", "--measure", "tmax=max", "--measure", "rain=mean"),
        grids=("rain=rain.nc", "tmax=tmax.nc"),
    )
    assert list(dict.fromkeys((r["variable"], r["measure"], r["unit"]) for r in found)) == [
        ("rain", "mean", "mm"),
        ("tmax", "max", "K"),
    ]
    assert "every" not in found[0]
    alone = series(grids, "--every", "year", grids=("rain.nc",))
    assert [r["value"] for r in found if r["variable"] == "rain"] == [r["value"] for r in alone]


def test_a_period_given_twice_is_refused_with_both_names(grids):
    done = run(
        *("series", "rain.nc", "--regions", "r.geojson", "--every", "season,JJA", "--quiet"),
        cwd=grids,
        check=False,
    )
    assert done.returncode == 2
    assert "season and JJA both give the period 2001-JJA" in done.stderr


FORMATS = ("csv", "xlsx", "parquet", "json", "nc", "geojson", "gpkg", "shp.zip")


@pytest.mark.parametrize("many", [False, True], ids=["one", "group"])
def test_every_format_gives_back_the_same_table(grids, tmp_path, many):
    outs = [tmp_path / f"t.{ending}" for ending in FORMATS]
    more = ("tmax=tmax.nc", "--every", "month,year") if many else ()
    words = ["series", "rain=rain.nc", *more, "--regions", "r.geojson", "--measure", "mean,p90"]
    run(*words, *(w for out in outs for w in ("--out", out)), "--quiet", cwd=grids)
    wanted = read_table(outs[0])
    assert isinstance(wanted, TableGroup) == many
    text = io.StringIO()
    csv_table.write(wanted, text)
    assert text.getvalue() == outs[0].read_text()
    for out in outs:
        assert is_table(out), out
        found = read_table(out)
        assert found.header == wanted.header
        for name in wanted.header:
            one, other = found.column(name), wanted.column(name)
            if one.dtype.kind == "f":
                digits = 1e-15 if out.suffix == ".xlsx" else 0
                np.testing.assert_allclose(one, other, rtol=digits, atol=0)
            else:
                assert one.tolist() == other.tolist(), (out, name)
        about = about_of(out)
        assert about["request"]["command"] == "series"
        assert "r.geojson" in str(about["inputs"])


def test_what_is_made_from_a_group_is_made_of_each_part(grids, tmp_path):
    run(
        *("series", "rain=rain.nc", "tmax=tmax.nc", "--regions", "r.geojson"),
        *("--every", "month,year", "--out", tmp_path / "t.parquet", "--quiet"),
        cwd=grids,
    )
    words = ("--base", "2001..2003", "--out", "-", "--quiet")
    found = rows(run("normals", tmp_path / "t.parquet", *words).stdout)
    parts = list(dict.fromkeys((r["variable"], r["every"]) for r in found))
    assert parts == [(v, e) for v in ("rain", "tmax") for e in ("month", "year")]
    alone = rows(
        run(
            *("normals", "tmax.nc", "--regions", "r.geojson", "--every", "year", *words), cwd=grids
        ).stdout
    )
    own = [r["value"] for r in found if (r["variable"], r["every"]) == ("tmax", "year")]
    np.testing.assert_allclose(
        np.array(own, float), np.array([r["value"] for r in alone], float), rtol=1e-13
    )
    assert len(rows(run("anomalies", tmp_path / "t.parquet", *words).stdout)) == len(
        read_table(tmp_path / "t.parquet")
    )
    run("chart", tmp_path / "t.parquet", "--out", tmp_path / "x.png", check=False)
    assert not (tmp_path / "x.png").exists()
    picked = ("--pick", "every=month", "--pick", "variable=rain")
    run("chart", tmp_path / "t.parquet", *picked, "--out", tmp_path / "x.png")
    assert (tmp_path / "x.png").exists()


def test_wide_layouts_put_parts_below_or_beside_one_another(grids, tmp_path):
    run(
        *("series", "rain=rain.nc", "tmax=tmax.nc", "--regions", "r.geojson"),
        *("--every", "year,all", "--out", tmp_path / "t.csv", "--quiet"),
        cwd=grids,
    )
    table = read_table(tmp_path / "t.csv")
    by_time = laid_out(table, "by-time")
    assert by_time.labels("period") == ["2001", "2002", "2003", "all"]
    assert by_time.header[:5] == ["period", "start", "end", "rain a", "rain b, “c”"]
    by_region = laid_out(table, "by-region")
    assert by_region.header[1:5] == ["rain 2001", "rain 2002", "rain 2003", "rain all"]
    for part in parts_of(table):
        name = part.labels("variable")[0]
        for label, value in zip(part.labels("period"), part.full("value")[0, :, 0], strict=True):
            assert by_region.column(f"{name} {label}")[0] == value
            row = by_time.labels("period").index(label)
            assert by_time.column(f"{name} a")[row] == value


def test_a_workbook_in_a_wide_layout_has_a_sheet_for_each_measure(grids, tmp_path):
    import openpyxl

    out = tmp_path / "t.xlsx"
    run(
        *("series", "rain.nc", "--regions", "r.geojson", "--every", "year"),
        *("--measure", "mean,p90", "--layout", "by-region", "--out", out, "--quiet"),
        cwd=grids,
    )
    book = openpyxl.load_workbook(out)
    assert book.sheetnames == ["mean", "p90", "one value a row", "about"]
    assert [c.value for c in book["p90"][1]] == ["region", "2001", "2002", "2003"]
    table = read_table(out)
    assert book["p90"]["C2"].value == pytest.approx(table.full("value")[0, 1, 1], rel=1e-15)


def test_more_columns_than_a_format_holds_are_refused_before_computing(grids, tmp_path):
    out = tmp_path / "t.shp.zip"
    done = run(
        *("series", "rain.nc", "--regions", "r.geojson", "--every", "day", "--out", out),
        cwd=grids,
        check=False,
    )
    assert done.returncode == 1
    assert "holds 254 columns, and there would be 1,09" in done.stderr
    assert not list(tmp_path.iterdir())
