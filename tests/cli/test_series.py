"""`bavlo series` as installed, on real files, against plain calculation."""

import csv
import json
import os
import re
import signal
import subprocess
import time

import netCDF4
import numpy as np
import pytest
import shapely

from brute import cell_weights, read_all, weighted_mean, weighted_percentile
from support import PROGRAM, box, program, run, write_grid, write_regions

CELL = np.radians(0.125) ** 2 * np.cos(np.radians(35))  # on the unit sphere
COLUMNS = (
    "region,period,start,end,variable,measure,value,unit,combine,order,area_valid,"
    "steps,steps_expected,note"
).split(",")


def read(path):
    with path.open(newline="") as file:
        return list(csv.DictReader(file))


@pytest.fixture(scope="module")
def world(demo):
    """Watersheds with the weight of every cell, and thirty years of rain, read the plain way."""
    collection = json.loads((demo / "watersheds.geojson").read_text())
    shapes = {
        f["properties"]["name"]: shapely.geometry.shape(f["geometry"])
        for f in collection["features"]
    }
    x, y = np.linspace(78, 86, 65), np.linspace(-32, -38, 49)
    weights = {name: cell_weights(shape, x, y) for name, shape in shapes.items()}
    dates, rain = read_all(sorted(demo.glob("rain_*.nc")), "rain")
    months = np.array([f"{d.year}-{d.month:02d}" for d in dates])
    return weights, months, rain


def test_monthly_totals_of_all_watersheds_agree_with_brute_force(demo, world):
    weights, months, rain = world
    rows = read(demo / "rain_months.csv")
    assert list(rows[0]) == COLUMNS
    assert [r["region"] for r in rows[::360]] == list(weights)
    names = np.unique(months)
    assert len(rows) == len(weights) * len(names)
    there = ~np.isnan(rain).reshape(len(months), -1)
    flat = np.where(there, rain.reshape(len(months), -1), 0.0)
    by_key = {(r["region"], r["period"]): r for r in rows}
    for name, weight in weights.items():
        w = weight.ravel()
        share = there @ w / w.sum()
        daily = np.divide(flat @ w, there @ w, out=np.full(len(months), np.nan), where=share >= 0.5)
        for month in names:
            row = by_key[name, month]
            inside = months == month
            known = ~np.isnan(daily[inside])
            assert float(row["steps"]) == known.sum()
            assert float(row["steps_expected"]) == inside.sum()
            if known.all():
                assert float(row["value"]) == pytest.approx(daily[inside].sum(), rel=1e-9)
                assert float(row["area_valid"]) == pytest.approx(share[inside].mean(), abs=1e-9)
                assert row["note"] == ""
            else:
                assert row["value"] == ""
                assert row["note"] == f"{known.sum()} of {inside.sum()} days"


@pytest.mark.parametrize("order", ["region", "cell"])
def test_monthly_p90_and_max_agree_with_brute_force_in_both_orders(demo, world, tmp_path, order):
    weights, months, rain = world
    run(
        "series",
        demo / "rain_2001-2010.nc",
        "--regions",
        demo / "watersheds.geojson",
        "--during",
        "2003-05..2003-10",
        "--order",
        order,
        "--measure",
        "p90,max",
        "--out",
        tmp_path / "out.csv",
    )
    rows = read(tmp_path / "out.csv")
    assert len(rows) == len(weights) * 6 * 2
    for row in rows:
        cells, w = rain[months == row["period"]], weights[row["region"]]
        touched = (w > 1e-6 * CELL) & ~np.isnan(rain[0])

        def measured(field, row=row, w=w, touched=touched):
            if row["measure"] == "max":
                return np.nanmax(field[touched])
            return weighted_percentile(field[touched], w[touched], 90)

        if np.isnan(cells).all(axis=(1, 2)).any():
            assert row["value"] == "", row
            continue
        if order == "cell":
            expected = measured(cells.sum(axis=0))
        else:
            expected = sum(measured(field) for field in cells)
        assert float(row["value"]) == pytest.approx(expected, rel=1e-6)
        assert row["order"] == order


def test_mean_temperature_in_another_unit_agrees_with_brute_force(demo, world, tmp_path):
    weights, _, _ = world
    run(
        "series",
        demo / "tmax_1991-2000.nc",
        "--regions",
        demo / "watersheds.geojson",
        "--every",
        "year",
        "--during",
        "1993",
        "--unit",
        "degC",
        "--out",
        tmp_path / "out.csv",
    )
    dates, values = read_all([demo / "tmax_1991-2000.nc"], "tmax")
    inside = np.array([d.year == 1993 for d in dates])
    for row in read(tmp_path / "out.csv"):
        expected = np.mean([weighted_mean(f, weights[row["region"]]) for f in values[inside]])
        assert float(row["value"]) == pytest.approx(expected - 273.15, rel=1e-9)
        assert (row["unit"], row["combine"], row["steps"]) == ("degC", "mean", "365")


def test_jobs_and_memory_and_order_of_files_change_no_byte(demo, tmp_path):
    files = sorted(demo.glob("rain_*.nc"))
    rest = ("--regions", demo / "watersheds.geojson", "--every", "year")
    rest += ("--measure", "mean,p90,max")
    refused = program("series", *files, *rest, "--memory", "1MB", check=False)
    assert refused.returncode != 0
    least = int(re.search(r"this job needs (\d+)MB", refused.stderr)[1])
    outputs = []
    for n, (order, jobs, memory) in enumerate(
        [(1, 1, "1GB"), (-1, 2, "1GB"), (1, 8, "4GB"), (1, 2, f"{least + 40}MB")]
    ):
        out = tmp_path / f"{n}.csv"
        program("series", *files[::order], *rest, "--jobs", jobs, "--memory", memory, "--out", out)
        outputs.append(out.read_bytes())
    assert len(set(outputs)) == 1


@pytest.mark.parametrize("gaps", [False, True])
@pytest.mark.parametrize("every", ["month", "year"])
def test_packed_numbers_give_what_their_values_give(every, gaps, tmp_path):
    """Whatever is measured beside, and however many files hold them."""
    rng = np.random.default_rng(8)
    stored = rng.integers(0, 900, (730, 6, 10)).astype("i2")
    stored[:, 2:5, 3:6] = -1
    if gaps:
        stored[rng.random(730) < 0.1, 1, 8] = -1
    value = np.where(stored == -1, np.nan, stored * 0.1 + 5)
    packed = {"scale_factor": 0.1, "add_offset": 5.0}
    one, early, late = (tmp_path / name for name in ("one.nc", "early.nc", "late.nc"))
    write_grid(one, stored, fill_value=np.int16(-1))
    write_grid(early, stored[:400], fill_value=np.int16(-1))
    write_grid(late, stored[400:], fill_value=np.int16(-1), stamps=400 + np.arange(330))
    for path in (one, early, late):
        with netCDF4.Dataset(path, "a") as data:
            data["rain"].setncatts(packed)
    write_grid(tmp_path / "values.nc", value)
    shapes = {"a": box(0.3, 0.2, 7.5, 5.1), "b": box(7, 1, 10, 3.3), "c": box(3, 2, 6, 5)}
    regions = write_regions(tmp_path / "r.geojson", shapes)

    def table(paths, *more):
        out = tmp_path / "out.csv"
        words = ["series", *paths, "--regions", regions, "--every", every, *more, "--quiet"]
        run(*words, "--out", out, "--replace")
        return read(out)

    alone = table([one])
    beside = table([one], "--measure", "p90,mean")
    assert [r for r in beside if r["measure"] == "mean"] == alone
    p90 = table([one], "--measure", "p90", "--jobs", "1")
    assert [r for r in beside if r["measure"] == "p90"] == p90
    for paths in ([one], [early, late]):
        rows, expected = table(paths), table([tmp_path / "values.nc"])
        same = [key for key in COLUMNS if key not in ("value", "area_valid")]
        assert [[r[key] for key in same] for r in rows] == [
            [r[key] for key in same] for r in expected
        ]
        for key in ("value", "area_valid"):
            found, wanted = (
                np.array([float(r[key] or "nan") for r in some]) for some in (rows, expected)
            )
            np.testing.assert_allclose(found, wanted, rtol=1e-12)
        assert np.isfinite(wanted).any()


def test_steps_that_count_are_those_of_the_measure_beside_which_a_volume_stands(demo, tmp_path):
    words = ["series", *sorted(demo.glob("rain_*.nc")), "--regions", demo / "watersheds.geojson"]
    words += ["--every", "year", "--quiet", "--measure"]
    run(*words, "mean", "--out", tmp_path / "mean.csv")
    run(*words, "volume,cv,count,mean", "--out", tmp_path / "all.csv")
    steps = {(r["region"], r["period"]): r["steps"] for r in read(tmp_path / "mean.csv")}
    assert len(set(steps.values())) > 3  # some years lack days
    for row in read(tmp_path / "all.csv"):
        assert row["steps"] == steps[row["region"], row["period"]]


def test_too_little_memory_names_the_least(demo):
    done = run(
        "series",
        str(demo / "rain_2001-2010.nc"),
        "--regions",
        str(demo / "watersheds.geojson"),
        "--memory",
        "20MB",
        check=False,
    )
    assert done.returncode == 2
    assert "this job needs" in done.stderr


def test_day_values_are_the_steps_themselves_and_gaps_say_so(demo, tmp_path):
    out = tmp_path / "days.csv"
    run(
        "series",
        demo / "rain_2001-2010.nc",
        "--regions",
        demo / "watersheds.geojson",
        "--only",
        "Drenna",
        "--every",
        "day",
        "--during",
        "2003-07-10..2003-07-15",
        "--out",
        out,
    )
    rows = read(out)
    assert [r["period"] for r in rows] == [f"2003-07-{d}" for d in range(10, 16)]
    assert [r["note"] for r in rows] == ["", *["area_valid 0.00"] * 4, ""]
    assert [r["value"] == "" for r in rows] == [False, True, True, True, True, False]


def test_min_steps_lets_an_unfinished_period_have_a_value_and_never_scales_it(demo, tmp_path):
    arguments = [
        "series",
        demo / "rain_2001-2010.nc",
        "--regions",
        demo / "watersheds.geojson",
        "--only",
        "Drenna",
        "--during",
        "2003-07",
    ]
    run(*arguments, "--min-steps", "0.8", "--out", tmp_path / "month.csv")
    run(*arguments, "--every", "day", "--out", tmp_path / "days.csv")
    total = sum(float(r["value"]) for r in read(tmp_path / "days.csv") if r["value"])
    (row,) = read(tmp_path / "month.csv")
    assert float(row["value"]) == pytest.approx(total, rel=1e-12)
    assert (row["steps"], row["steps_expected"]) == ("27", "31")


def test_region_outside_the_grid_is_a_warning_and_empty_rows(tmp_path):
    grid = write_grid(tmp_path / "rain.nc", np.ones((31, 4, 4)))
    shapes = {"in": box(1, 1, 2, 2), "half": box(3.5, 0, 4.5, 1), "out": box(50, 50, 51, 51)}
    regions = write_regions(tmp_path / "r.geojson", shapes)
    done = run("series", grid, "--regions", regions, "--out", tmp_path / "out.csv")
    assert "outside the grid" in done.stderr
    rows = read(tmp_path / "out.csv")
    assert [r["value"] for r in rows] == ["31", "31", ""]
    assert rows[1]["area_valid"] == "0.5"
    assert rows[2]["note"] == "outside the grid"


def test_the_unfinished_month_is_empty_and_a_cut_period_is_named(tmp_path):
    grid = write_grid(tmp_path / "rain.nc", np.ones((40, 4, 4)))
    regions = write_regions(tmp_path / "r.geojson", {"a": box(1, 1, 2, 2)})
    run("series", grid, "--regions", regions, "--out", tmp_path / "out.csv")
    assert [(r["value"], r["note"]) for r in read(tmp_path / "out.csv")] == [
        ("31", ""),
        ("", "9 of 28 days"),
    ]
    done = run("series", grid, "--regions", regions, "--during", "2001-01..2001-02-03")
    assert "left out, since 2001-01..2001-02-03 cuts it: 2001-02" in done.stdout


def test_text_that_a_spreadsheet_would_run_is_escaped(tmp_path):
    grid = write_grid(tmp_path / "rain.nc", np.ones((31, 4, 4)))
    regions = write_regions(
        tmp_path / "r.geojson", {"=1+1": box(1, 1, 2, 2), "a, b": box(0, 0, 1, 1)}
    )
    run("series", grid, "--regions", regions, "--out", tmp_path / "out.csv")
    assert [r["region"] for r in read(tmp_path / "out.csv")] == ["'=1+1", "a, b"]


@pytest.fixture
def small(tmp_path):
    grid = write_grid(tmp_path / "rain.nc", np.ones((59, 4, 4)))
    regions = write_regions(tmp_path / "r.geojson", {"a": box(1, 1, 2, 2), "b": box(2, 2, 3, 3)})
    return tmp_path, grid, regions


def damaged(path, folder, keep):
    bad = folder / f"cut{keep}.nc"
    bad.write_bytes(path.read_bytes()[: int(path.stat().st_size * keep)])
    return bad


def test_bad_input_is_one_line_that_names_file_cause_and_remedy_and_writes_nothing(small):
    folder, grid, regions = small
    text = folder / "notes.nc"
    text.write_text("not a grid")
    two = write_grid(folder / "two.nc", np.ones((3, 4, 4)))
    write_grid(two, np.ones((3, 4, 4)), name="snow")
    timeless = write_grid(folder / "flat.nc", np.ones((4, 4)), time=False)
    labels = write_regions(
        folder / "l.geojson",
        {"x": box(0, 0, 1, 1), "y": box(1, 1, 2, 2)},
        other=np.array(["p", "q"], object),
    )
    twice = folder / "twice.geojson"
    twice.write_text(regions.read_text().replace('"b"', '"a"'))
    away = write_regions(folder / "away.geojson", {"z": box(60, 60, 61, 61)})
    empty = folder / "empty.geojson"
    empty.write_text('{"type": "FeatureCollection", "features": []}')
    here = folder / "here.csv"
    here.write_text("mine")
    cases = [
        ([folder / "none.nc", "--regions", regions], "none.nc: there is no such file"),
        ([text, "--regions", regions], "notes.nc: is no grid"),
        ([timeless, "--regions", regions, "--every", "month"], "has no time axis"),
        (
            [two, "--regions", regions],
            "several variables: rain (mm, amount); snow (mm, not told); choose one, as --variable",
        ),
        (
            [two, "--regions", regions, "--variable", "hail"],
            "no variable 'hail'; it has: rain, snow",
        ),
        ([grid, "--regions", labels], "name (x, …), other (p, …); choose one with --label"),
        ([grid, "--regions", labels, "--label", "nom"], "has no field 'nom'; it has: name, other"),
        ([grid, "--regions", twice], "'a' (2 times)"),
        ([grid, "--regions", away], "the grid covers 0..4 by 0..4, the regions 60..61 by 60..61"),
        ([grid, "--regions", regions, "--during", "1999"], "rain.nc has 2001-01-01..2001-02-28"),
        ([grid, "--regions", regions, "--unit", "degC"], "mm cannot be converted to degC"),
        ([grid, "--regions", regions, "--unit", "wibble"], "'wibble' is no unit"),
        ([grid, "--regions", empty], "empty.geojson: holds no regions"),
        ([grid, "--regions", folder / "no.shp"], "no.shp: there is no such file"),
        ([grid, "--regions", text], "notes.nc: cannot be read as regions"),
        ([grid, "--regions", regions, "--only", "q"], "no region is called 'q'; there are: a, b"),
        ([grid, "--regions", regions, "--out", here], "here.csv: exists already"),
        ([grid, "--regions", regions, "--out", folder / "no" / "x.csv"], "there is no folder"),
        ([grid, "--regions", regions, "--out", folder / "x.doc"], "the ending '.doc'"),
        ([grid, "--regions", regions, "--measure", "mode"], "'mode' is no measure"),
        ([grid, "--regions", regions, "--every", "fortnight"], "'fortnight' is no period"),
        ([grid, "--regions", regions, "--min-area", "2"], "'2' is no share"),
        ([grid], "no regions were given"),
        ([grid, "--region", regions], "there is no option --region; did you mean --regions?"),
        ([damaged(grid, folder, 0.5), "--regions", regions], "damaged or incomplete"),
        ([damaged(grid, folder, 0.02), "--regions", regions], "damaged or incomplete"),
    ]
    before = {p: p.read_bytes() for p in folder.iterdir()}
    for arguments, expected in cases:
        out = [] if "--out" in arguments else ["--out", folder / "out.csv"]
        done = run("series", *arguments, *out, check=False)
        assert done.returncode in (1, 2), arguments
        assert expected in done.stderr, (arguments, done.stderr)
        lines = [line for line in done.stderr.splitlines() if "warning" not in line]
        assert len(lines) == 1, done.stderr
        assert lines[0].startswith("bavlo: ")
        assert {p: p.read_bytes() for p in folder.iterdir()} == before


def test_days_are_never_made_from_monthly_totals(demo):
    done = run(
        "series",
        str(demo / "monthly_rain.nc"),
        "--regions",
        str(demo / "watersheds.geojson"),
        "--every",
        "day",
        check=False,
    )
    assert done.returncode == 2
    assert "shorter than the steps of the grid (month)" in done.stderr


def test_yearly_totals_from_months_and_from_days_agree(demo, tmp_path):
    run(
        "series",
        demo / "monthly_rain.nc",
        "--regions",
        demo / "watersheds.geojson",
        "--every",
        "year",
        "--out",
        tmp_path / "out.csv",
    )
    daily = {(r["region"], r["period"]): r for r in read(demo / "rain_years.csv")}
    compared = 0
    for row in read(tmp_path / "out.csv"):
        other = daily[row["region"], row["period"]]
        assert row["steps_expected"] == "12"
        if row["value"] and other["value"] and row["area_valid"] == other["area_valid"] == "1":
            assert float(row["value"]) == pytest.approx(float(other["value"]), rel=1e-6)
            compared += 1
    assert compared > 300


@pytest.mark.parametrize(
    ("sent", "status", "words"),
    [
        (signal.SIGINT, 130, "interrupted"),
        (signal.SIGTERM, 143, "stopped by SIGTERM"),
        (signal.SIGHUP, 129, "stopped by SIGHUP"),
    ],
)
def test_a_signal_leaves_no_partial_file(demo, tmp_path, sent, status, words):
    plan = subprocess.Popen(
        [
            PROGRAM,
            "series",
            *sorted(demo.glob("tmax_*.nc")),
            "--regions",
            demo / "watersheds.geojson",
            "--measure",
            "p90",
            "--order",
            "region",
            "--out",
            tmp_path / "out.csv",
            "--out",
            tmp_path / "out.png",
            "--verbose",
        ],
        stderr=subprocess.PIPE,
        text=True,
        # Shells ignore interrupts for what they start in the background.
        preexec_fn=lambda: signal.signal(sent, signal.SIG_DFL),
    )
    while "named by" not in plan.stderr.readline():  # the files are open and the work begins
        assert plan.poll() is None
    time.sleep(0.2)
    os.kill(plan.pid, sent)
    _, said = plan.communicate(timeout=30)
    assert plan.returncode == status, said
    assert f"bavlo: {words}; nothing was written" in said
    assert not list(tmp_path.iterdir())


def test_the_chart_is_a_picture_of_the_asked_kind_and_the_same_each_time(small):
    folder, grid, regions = small
    arguments = ["series", grid, "--regions", regions, "--every", "day"]
    for name, magic in (("a.png", b"\x89PNG"), ("a.svg", b"<?xml"), ("a.pdf", b"%PDF")):
        run(*arguments, "--out", folder / name)
        first = (folder / name).read_bytes()
        assert first.startswith(magic)
        run(*arguments, "--out", folder / name, "--replace")
        assert (folder / name).read_bytes() == first
    about = json.loads((folder / "a.png.about.json").read_text())
    assert about["request"]["every"] == ["day"]
    assert about["inputs"][0]["size"] == grid.stat().st_size


def test_the_whole_table_goes_to_standard_output_as_csv(small):
    _, grid, regions = small
    done = run("series", "--regions", regions, grid, "--out", "-", "--quiet")
    rows = list(csv.DictReader(done.stdout.splitlines()))
    assert [(r["region"], r["value"]) for r in rows] == [
        ("a", "31"),
        ("a", "28"),
        ("b", "31"),
        ("b", "28"),
    ]


def test_a_file_named_like_a_grid_argument_is_still_a_file(small):
    folder, grid, regions = small
    odd = folder / "rain=2001.nc"
    grid.rename(odd)
    run("series", "rain=2001.nc", "--regions", regions, cwd=folder)
    run("series", "wet=rain=2001.nc", "--regions", regions, cwd=folder)
