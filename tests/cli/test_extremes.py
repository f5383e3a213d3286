"""`bavlo extremes` as installed, against counting by hand."""

import numpy as np
import pandas as pd
import pytest

from bavlo.tables import csv
from support import box, program, run, write_grid, write_regions

DAYS = pd.date_range("2001-01-01", "2004-12-31")
EXTREMES = (
    "region,period,start,end,condition,variable,tested_on,count,value,unit,area_valid,steps,"
    "steps_expected,note"
)
EVENTS = (
    "region,condition,event,start,end,steps,variable,peak,peak_on,unit,total,total_unit,"
    "area_share,open"
)


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    """Four years of whole millimetres on six cells, so that there are ties at thresholds."""
    folder = tmp_path_factory.mktemp("extremes")
    rng = np.random.default_rng(11)
    rain = np.round(rng.gamma(0.5, 12, (DAYS.size, 2, 3)))
    rain[400:410, 1, 1] = np.nan
    rain[:, 0, 0] = np.nan
    write_grid(folder / "rain.nc", rain, attributes={"cell_methods": "time: sum"})
    flux = (rain / 86400).astype("f8")
    write_grid(
        folder / "pr.nc",
        flux,
        name="pr",
        unit="kg m-2 s-1",
        attributes={"standard_name": "precipitation_flux"},
    )
    heat = np.round(
        20 + 8 * np.cos(np.arange(DAYS.size) / 58)[:, None, None] + rng.normal(0, 3, rain.shape)
    )
    write_grid(folder / "tmax.nc", heat.astype("f4"), name="tmax", unit="degC")
    write_grid(folder / "kelvin.nc", (heat + 273.15).astype("f4"), name="tas", unit="K")
    for year in range(2001, 2005):
        at = np.flatnonzero(DAYS.year == year)
        write_grid(
            folder / f"part_{year}.nc",
            rain[at],
            stamps=at,
            attributes={"cell_methods": "time: sum"},
        )
    write_grid(folder / "limit.nc", np.full((2, 3), 15.0), name="limit", time=False)
    (folder / "limits.csv").write_text("region,value,unit\neast,1.5,cm\nfar,0.9,cm\n")
    write_regions(folder / "r.geojson", {"east": box(1, 0, 3, 2), "far": box(2.25, 1, 3, 2)})
    return folder, rain, heat


def extremes(folder, *arguments, out="out.csv"):
    run(
        "extremes",
        *arguments,
        "--regions",
        folder / "r.geojson",
        "--out",
        folder / out,
        "--replace",
    )
    return pd.read_csv(folder / out)


WEIGHTS = {(0, 1): np.sin(np.radians(1)), (0, 2): np.sin(np.radians(1))}
WEIGHTS |= {(1, 1): np.sin(np.radians(2)) - np.sin(np.radians(1))}
WEIGHTS |= {(1, 2): WEIGHTS[1, 1]}


def of_east(per_cell):
    """Area-weighted mean of a number of each cell of the region east, leaving out NaN."""
    known = {cell: per_cell(cell) for cell in WEIGHTS}
    known = {cell: v for cell, v in known.items() if v == v}
    total = sum(WEIGHTS[cell] for cell in known)
    return sum(v * WEIGHTS[cell] for cell, v in known.items()) / total


def test_counts_of_cells_agree_with_counting_by_hand(world):
    folder, rain, _ = world
    names = "days,share,spells,longest,total,excess,first,last"
    found = extremes(
        folder, folder / "rain.nc", "--when", "rain >= 10 mm", "--count", names, "--every", "year"
    )
    assert ",".join(found.columns) == EXTREMES
    east = found[found.region == "east"].set_index(["period", "count"])["value"]
    for year in range(2001, 2005):
        inside = DAYS.year == year

        def series(cell, inside=inside):
            values = rain[inside, *cell]
            return None if np.isnan(values).any() else values

        def count(how, series=series):
            return of_east(lambda cell: np.nan if series(cell) is None else how(series(cell)))

        def runs(cell, year=year):
            """Spells that end in the year, whenever they began, and the longest up to its end."""
            ended, longest, run_of = 0, 0, 0
            values = rain[:, *cell]
            for n, value in enumerate(values):
                run_of = run_of + 1 if value >= 10 else 0
                ends = n + 1 == len(values) or not values[n + 1] >= 10
                if run_of and DAYS[n].year == year:
                    ended, longest = ended + ends, max(longest, run_of)
            return ended, longest

        expected = {
            "days": count(lambda v: (v >= 10).sum()),
            "share": count(lambda v: (v >= 10).mean()),
            "total": count(lambda v: v[v >= 10].sum()),
            "excess": count(lambda v: (v[v >= 10] - 10).sum()),
            "first": count(lambda v: np.flatnonzero(v >= 10)[0] + 1),
            "last": count(lambda v: np.flatnonzero(v >= 10)[-1] + 1),
            "spells": of_east(lambda c: np.nan if series(c) is None else runs(c)[0]),
            "longest": of_east(lambda c: np.nan if series(c) is None else runs(c)[1]),
        }
        for name, value in expected.items():
            np.testing.assert_allclose(east[year, name], value, rtol=1e-9)


def test_a_cell_with_a_gap_leaves_the_mean_and_lowers_area_valid(world):
    folder, *_ = world
    found = extremes(folder, folder / "rain.nc", "--when", ">= 10 mm", "--every", "year")
    row = found[(found.region == "east") & (found.period == 2002)].iloc[0]
    assert 0.7 < row["area_valid"] < 0.76
    assert row["steps_expected"] == 365
    strict = extremes(
        folder, folder / "rain.nc", "--when", ">= 10 mm", "--every", "year", "--min-area", "0.9"
    )
    row = strict[(strict.region == "east") & (strict.period == 2002)].iloc[0]
    assert np.isnan(row["value"])
    assert row["note"].startswith(("area_valid", "36"))


def test_units_of_grid_and_threshold_may_differ(world):
    folder, *_ = world
    days = ["--every", "month", "--count", "days,excess"]
    plain = extremes(folder, folder / "rain.nc", "--when", "rain >= 10 mm", *days)
    for text in ("pr >= 10 mm", "pr >= 1 cm"):
        flux = extremes(folder, folder / "pr.nc", "--when", text, *days)
        np.testing.assert_allclose(flux["value"], plain["value"], atol=1e-9)
    celsius = extremes(folder, folder / "tmax.nc", "--when", "tmax >= 25 degC", *days)
    kelvin = extremes(folder, folder / "kelvin.nc", "--when", "tas >= 25 degC", *days)
    np.testing.assert_allclose(kelvin["value"], celsius["value"], atol=1e-3)
    hours = kelvin["count"] == "days"
    assert kelvin["value"][hours].equals(celsius["value"][hours])
    fahrenheit = extremes(folder, folder / "kelvin.nc", "--when", "tas >= 77 degF", *days)
    assert fahrenheit["value"][hours].equals(celsius["value"][hours])


@pytest.mark.parametrize(
    "arguments",
    [
        ["--when", "rain >= 10 mm for 2 days", "--count", "days,spells,longest,total"],
        ["--when", "rain > p90 of wet days", "--base", "2001..2004"],
        ["--index", "Rx5day,CWD,R95p,PRCPTOT", "--base", "2001..2004", "--every", "year"],
    ],
)
def test_jobs_memory_and_the_order_of_files_change_no_byte(world, arguments):
    folder, *_ = world
    files = [folder / f"part_{year}.nc" for year in range(2001, 2005)]
    told = []
    for order, more in (
        (files, ["--jobs", "1"]),
        (files[::-1], ["--jobs", "2"]),
        (files, ["--jobs", "4", "--memory", "600MB"]),
    ):
        extremes(folder, *[f"rain={path}" for path in order], *arguments, *more)
        told.append((folder / "out.csv").read_bytes())
    assert told[0] == told[1] == told[2]
    extremes(folder, f"rain={folder / 'rain.nc'}", *arguments)
    assert (folder / "out.csv").read_bytes() == told[0]


def test_testing_cells_and_testing_the_region_answer_different_questions(world):
    folder, rain, _ = world
    condition = ["--when", "rain >= 25 mm", "--every", "year"]
    cells = extremes(folder, folder / "rain.nc", *condition)
    regions = extremes(folder, folder / "rain.nc", *condition, "--test-on", "region")
    mean = np.full(DAYS.size, np.nan)
    for n in range(DAYS.size):
        mean[n] = of_east(lambda cell, n=n: rain[n, *cell])
    expected = [(mean[DAYS.year == year] >= 25).sum() for year in range(2001, 2005)]
    east = regions[regions.region == "east"]
    assert east["value"].tolist() == expected
    assert set(regions["tested_on"]) == {"region"}
    assert (cells[cells.region == "east"]["value"].to_numpy() > 2 * east["value"]).all()


def test_thresholds_come_from_a_grid_or_from_a_table(world):
    folder, *_ = world
    fixed = extremes(folder, folder / "rain.nc", "--when", "rain > 15 mm")
    named = [f"rain={folder / 'rain.nc'}"]
    grid = extremes(folder, *named, f"limit={folder / 'limit.nc'}", "--when", "rain > limit")
    np.testing.assert_allclose(grid["value"], fixed["value"])
    region = ["--test-on", "region", "--every", "year"]
    table = extremes(
        folder, *named, f"limit={folder / 'limits.csv'}", "--when", "rain > limit", *region
    )
    for name, text in (("east", "rain > 15 mm"), ("far", "rain > 9 mm")):
        one = extremes(folder, *named, "--when", text, *region)
        same = table[table.region == name]["value"].reset_index(drop=True)
        assert same.equals(one[one.region == name]["value"].reset_index(drop=True))


def test_heat_waves_of_two_variables_agree_with_numpy(world):
    folder, _, heat = world
    cold = np.roll(heat, 1, axis=0) - 8
    write_grid(folder / "tmin.nc", cold, name="tmin", unit="degC")
    found = extremes(
        folder,
        f"tmax={folder / 'tmax.nc'}",
        f"tmin={folder / 'tmin.nc'}",
        "--when",
        "tmax > 22 degC and tmin > 14 degC for 3 days",
        "--every",
        "year",
        "--spell-edge",
        "cut",
        "--count",
        "days,spells",
        "--only",
        "far",
    )
    both = (heat[:, 1, 2] > 22) & (cold[:, 1, 2] > 14)
    for year in range(2001, 2005):
        days = spells = 0
        n = 0
        while n < both.size:
            end = n
            while end < both.size and both[end]:
                end += 1
            if end - n >= 3:
                mine = sum(DAYS[k].year == year for k in range(n, end))
                days += mine
                spells += mine > 0
            n = max(end, n + 1)
        rows = found[found.period == year].set_index("count")["value"]
        assert (rows["days"], rows["spells"]) == (days, spells)


def test_events_tell_dates_peak_and_total(world):
    folder, rain, _ = world
    out = folder / "events.csv"
    extremes(
        folder,
        folder / "rain.nc",
        "--when",
        "rain >= 12 mm for 2 days",
        "--only",
        "far",
        "--events",
        out,
        "--area-share",
        "0.5",
    )
    events = pd.read_csv(out)
    assert ",".join(events.columns) == EVENTS
    values = rain[:, 1, 2]
    met = values >= 12
    starts = [n for n in range(met.size) if met[n] and (n == 0 or not met[n - 1])]
    expected = []
    for start in starts:
        stop = start
        while stop < met.size and met[stop]:
            stop += 1
        if stop - start >= 2:
            expected.append((start, stop))
    assert events["start"].tolist() == [str(DAYS[a])[:10] for a, _ in expected]
    assert events["end"].tolist() == [str(DAYS[b - 1])[:10] for _, b in expected]
    assert events["total"].tolist() == [values[a:b].sum() for a, b in expected]
    assert events["peak"].tolist() == [values[a:b].max() for a, b in expected]
    touching = [a == 0 or b == met.size for a, b in expected]
    assert events["open"].tolist() == ["yes" if t else "no" for t in touching]
    program("chart", out, "--figure", "timeline", "--out", folder / "t.png", "--replace")


def test_return_levels_need_twenty_complete_years(world, demo):
    folder, *_ = world
    out = folder / "levels.csv"
    few = run(
        "extremes",
        folder / "rain.nc",
        "--regions",
        folder / "r.geojson",
        "--return-levels",
        "10",
        "--out",
        out,
        "--replace",
    )
    assert "fewer than 20 complete years" in few.stderr
    assert pd.read_csv(out)["value"].isna().all()
    many = run(
        "extremes",
        *sorted(demo.glob("rain_*.nc")),
        "--regions",
        demo / "watersheds.geojson",
        "--return-levels",
        "2,10,100",
        "--out",
        out,
        "--out",
        folder / "levels.png",
        "--replace",
    )
    assert "100 years are more than 3 times the record" in many.stderr
    levels = pd.read_csv(out)
    assert (levels["lower"] < levels["value"]).all()
    assert (levels["value"] < levels["upper"]).all()


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (["--when", "rain"], "in quotes"),
        (["--when", "rain > 20"], "has no unit"),
        (["--when", "rain > 20 degC"], "cannot be compared"),
        (["--when", "snow > 20 mm"], "there is no grid snow"),
        (["--when", "rain > p95", "--base", "2001..2004"], "of which days"),
        (["--when", "rain > p95 of all days"], "--base"),
        (["--when", "rain > 5 mm", "--index", "CDD"], "say what to look for"),
        (["--index", "XYZ"], "is no index"),
        (["--index", "TX90p"], "needs tmax"),
        (["--index", "CDD", "--every", "month"], "is defined by year"),
        (["--when", "rain > 5 mm", "--count", "hours"], "is no count"),
        ([], "say what to look for"),
    ],
)
def test_what_makes_no_sense_is_refused(world, tmp_path, arguments, said):
    folder, *_ = world
    done = run(
        "extremes",
        folder / "rain.nc",
        "--regions",
        folder / "r.geojson",
        *arguments,
        "--out",
        tmp_path / "x.csv",
        check=False,
    )
    assert done.returncode in (1, 2)
    assert said in done.stderr
    assert done.stderr.count("\n") == 1
    assert not list(tmp_path.iterdir())


def test_indices_are_explained_in_a_line_each():
    told = run("extremes", "--list").stdout
    assert "TX90p" in told
    assert "percentile" in told


def test_counts_that_do_not_apply_to_a_condition_are_left_out_and_named(tmp_path):
    regions = write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 4, 4), "b": box(2, 0, 4, 4)})
    rng = np.random.default_rng(2)
    rain = write_grid(tmp_path / "rain.nc", rng.gamma(1, 9, (400, 4, 4)))
    warm = write_grid(tmp_path / "tmax.nc", rng.normal(25, 5, (400, 4, 4)), name="tmax",
                      unit="degC")  # fmt: skip
    out = tmp_path / "x.csv"
    command = ["extremes", f"rain={rain}", f"tmax={warm}", "--regions", regions, "--every", "month",
               "--count", "days,total,excess"]  # fmt: skip
    both = ["--when", "rain >= 20 mm", "--when", "tmax > 30 degC"]
    said = run(*command, *both, "--out", out)
    assert "total is left out of 'tmax > 30 degC': tmax is a state and has no total" in said.stderr
    found = pd.read_csv(out)
    counts = found.groupby("condition")["count"].unique().map(list).to_dict()
    assert counts == {
        "rain >= 20 mm": ["days", "total", "excess"],
        "tmax > 30 degC": ["days", "excess"],
    }
    assert not found["value"][found.period != "2002-02"].isna().any()
    # What is left is as it is when each is asked for by itself.
    alone = tmp_path / "alone.csv"
    run(*command[:-1], "days,excess", "--when", "tmax > 30 degC", "--out", alone)
    own = found[found.condition == "tmax > 30 degC"].reset_index(drop=True)
    pd.testing.assert_frame_equal(own, pd.read_csv(alone))
    # Such a table is read back.
    table = csv.read(out)
    assert len(table) == len(found)
    run("chart", out, "--pick", "count=days", "--pick", "condition=tmax > 30 degC", "--out",
        tmp_path / "c.png")  # fmt: skip
    run("map", out, "--regions", regions, "--pick", "count=total", "--pick",
        "condition=rain >= 20 mm", "--period", "2001-03", "--out", tmp_path / "m.png")  # fmt: skip
    refused = run(*command, "--when", "tmax > 30 degC", check=False)
    assert "tmax is a state and has no total" in refused.stderr
    lines = out.read_text().splitlines()
    (tmp_path / "short.csv").write_text("\n".join(lines[:-1]) + "\n")
    short = run("chart", tmp_path / "short.csv", "--out", tmp_path / "s.png", check=False)
    assert "give one whole table" in short.stderr


def test_one_return_period_makes_a_table_and_a_figure(tmp_path):
    regions = write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 2, 2)})
    rng = np.random.default_rng(5)
    rain = write_grid(tmp_path / "rain.nc", rng.gamma(1, 9, (40 * 365, 2, 2)), calendar="noleap")
    command = ["extremes", rain, "--regions", regions, "--return-levels"]
    run(*command, "20", "--out", tmp_path / "l.csv", "--out", tmp_path / "l.png")
    found = pd.read_csv(tmp_path / "l.csv")
    assert found.years.tolist() == [20]
    assert found.lower[0] < found.value[0] < found.upper[0]
    refused = run(*command, "1,20", check=False)
    assert "whole years from 2 on" in refused.stderr
