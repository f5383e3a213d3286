"""`bavlo compare` on grids, tables and observations, against plain calculation."""

import csv
import io
import json

import numpy as np
import pytest

from bavlo.tables.formats import ENDINGS, FORMATS, read_table
from support import box, run, write_grid, write_regions

DAYS = 1095


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    """Three grids of one rain, one of them in inches, over three regions."""
    folder = tmp_path_factory.mktemp("compare")
    rng = np.random.default_rng(8)
    rain = rng.gamma(0.5, 8, (DAYS, 6, 8))
    write_grid(folder / "gauge.nc", rain)
    write_grid(folder / "sat.nc", rain * 0.8 + rng.gamma(0.5, 2, rain.shape), name="pr")
    other = rain * 1.1
    other[40:60] = np.nan
    write_grid(folder / "model.nc", other / 25.4, unit="inch", name="rain")
    shapes = {"north": box(0, 3, 8, 6), "south": box(0, 0, 8, 3), "east": box(5, 0, 8, 6)}
    write_regions(folder / "r.geojson", shapes)
    for name in ("gauge", "sat", "model"):
        run(
            *("series", f"{name}.nc", "--regions", "r.geojson", "--every", "month"),
            *("--kind", "amount", "--out", f"{name}.csv", "--quiet"),
            cwd=folder,
        )
    return folder


def rows(folder, *words):
    done = run("compare", *words, "--out", "-", "--quiet", cwd=folder)
    return list(csv.DictReader(io.StringIO(done.stdout)))


def values(folder, name):
    table = read_table(folder / f"{name}.csv")
    return table.full("value")[:, :, 0]


def test_statistics_of_tables_are_those_of_their_values(world):
    found = rows(world, "a=gauge.csv", "b=sat.csv")
    a, b = values(world, "gauge"), values(world, "sat")
    by = {(r["region"], r["period"], r["statistic"]): r for r in found}
    months = [label[5:] for label in read_table(world / "gauge.csv").labels("period")]
    for n, region in enumerate(("north", "south", "east")):
        row = by[region, "all", "bias"]
        assert float(row["value"]) == pytest.approx((b[n] - a[n]).mean())
        assert (row["a"], row["b"], row["n"], row["unit"]) == ("a", "b", "36", "mm")
        july = [m == "07" for m in months]
        rmse = np.sqrt(((b[n] - a[n])[july] ** 2).mean())
        assert float(by[region, "07", "rmse"]["value"]) == pytest.approx(rmse)
        share = float(by[region, "all", "percent_bias"]["value"])
        assert share == pytest.approx(100 * (b[n] - a[n]).sum() / a[n].sum())
    assert [r["period"] for r in found[:: len({r["statistic"] for r in found})]][:13] == [
        "all",
        *(f"{m:02d}" for m in range(1, 13)),
    ]


def test_grids_by_name_give_what_their_tables_give(world):
    grids = ("gauge=gauge.nc", "sat=sat.nc", "--kind", "sat=amount", "--regions", "r.geojson")
    assert rows(world, *grids, "--every", "month") == rows(world, "gauge=gauge.csv", "sat=sat.csv")


def test_only_periods_that_all_sources_have_count_and_units_are_brought_together(world):
    found = rows(world, "gauge=gauge.csv", "model=model.csv", "sat=sat.csv")
    assert {r["n"] for r in found if r["period"] == "all"} == {"34"}
    pairs = list(dict.fromkeys((r["a"], r["b"]) for r in found))
    assert pairs == [("gauge", "model"), ("gauge", "sat"), ("model", "sat")]
    percent = [
        float(r["value"])
        for r in found
        if (r["a"], r["b"], r["statistic"]) == ("gauge", "model", "percent_bias")
    ]
    np.testing.assert_allclose(percent, 10, rtol=1e-9)
    against = rows(world, "a=gauge.csv", "m=model.csv", "s=sat.csv", "--against", "s")
    assert list(dict.fromkeys((r["a"], r["b"]) for r in against)) == [("s", "a"), ("s", "m")]


def test_as_anomaly_sources_on_different_datums_have_no_bias(world):
    found = rows(world, "a=gauge.csv", "m=model.csv", "--as", "anomaly")
    assert "percent_bias" not in {r["statistic"] for r in found}
    bias = [float(r["value"]) for r in found if r["statistic"] == "bias"]
    np.testing.assert_allclose(bias, 0, atol=1e-12)
    rmse = [float(r["value"]) for r in found if r["statistic"] == "rmse"]
    assert min(rmse) > 0


def test_spread_tells_the_lowest_the_highest_and_who_stands_apart(world):
    done = run("compare", "a=gauge.csv", "s=sat.csv", "m=model.csv", "--spread", cwd=world)
    worst = [line for line in done.stdout.splitlines() if "the others in" in line]
    assert len(worst) == 3
    found = rows(world, "a=gauge.csv", "s=sat.csv", "m=model.csv", "--spread")
    all_values = {k: values(world, n) for k, n in (("a", "gauge"), ("s", "sat"), ("m", "model"))}
    all_values["m"] = all_values["m"] * 25.4
    for n, row in enumerate(found):
        r, p = divmod(n, 36)
        own = {k: v[r, p] for k, v in all_values.items() if not np.isnan(v[r, p])}
        assert int(row["n"]) == len(own)
        assert row["lowest_source"] == min(own, key=own.get)
        assert row["highest_source"] == max(own, key=own.get)
        assert float(row["range"]) == pytest.approx(max(own.values()) - min(own.values()))
        if len(own) == 3:
            away = {
                k: abs(v - np.median([w for j, w in own.items() if j != k])) for k, v in own.items()
            }
            assert row["apart"] == max(away, key=away.get)
        else:
            assert row["apart"] == ""


def test_your_own_observations_are_compared_at_their_points(world, tmp_path):
    points = {"North Hill": (2.5, 4.5), "South Mill": (6.5, 1.5)}
    (tmp_path / "points.csv").write_text(
        "name,lon,lat\n" + "".join(f"{n},{x},{y}\n" for n, (x, y) in points.items())
    )
    run(
        *("series", world / "gauge.nc", "--regions", tmp_path / "points.csv", "--every", "day"),
        *("--out", tmp_path / "days.csv", "--quiet"),
    )
    table = read_table(tmp_path / "days.csv")
    lines = ["station;date;rain (mm)"]
    for n, name in enumerate(points):
        for day, value in zip(table.labels("period"), table.full("value")[n, :, 0], strict=True):
            if day != "2002-03-05":
                lines.append(f"{name};{day};{str(2 * value).replace('.', ',')}")
    (tmp_path / "mine.csv").write_text("\n".join(lines) + "\n")
    words = (f"grid={world / 'gauge.nc'}", "mine=mine.csv", "--regions", "points.csv")
    found = rows(tmp_path, *words, "--every", "month")
    overall = [r for r in found if r["period"] == "all"]
    assert {r["n"] for r in overall} == {"35"}  # March 2002 lacks a day
    percent = [float(r["value"]) for r in overall if r["statistic"] == "percent_bias"]
    np.testing.assert_allclose(percent, 100, rtol=1e-9)
    normals = run(
        *("normals", "mine.csv", "--every", "month", "--base", "2001..2003", "--out", "-"),
        *("--min-steps", "0.9", "--quiet"),
        cwd=tmp_path,
    ).stdout
    own = list(csv.DictReader(io.StringIO(normals)))
    assert {r["region"] for r in own} == set(points)
    assert {r["unit"] for r in own} == {"mm"}


@pytest.mark.parametrize(
    ("text", "words", "said"),
    [
        ("station,date,rain\na,2001-01-01,3\n", (), "does not tell the unit of rain"),
        ("station,date,p,q\na,2001-01-01,3,4\n", (), "which column is the value"),
        ("station,when,rain\na,soon,3\n", (), "which column is a date"),
        ("station,date,rain (mm)\na,05/03/2001,3\n", (), "may be %d/%m/%Y or %m/%d/%Y"),
        ("station,date,rain (mm)\na,2001-01-01,3\na,2001-01-01,4\n", (), "has a second value"),
        ("station,date,rain (mm)\na,2001-01-01,1_0\n", (), "line 2 holds no value"),
        ("station,date,rain (mm)\na,2001-01-01\n", (), "it has 2 fields"),
        ("station,date,rain (mm)\na,2001-02-30,3\n", (), "there is no day 2001-02-30"),
        ("s,date,rain (mm)\na,2001-01-01,3\n", ("--columns", "region=t"), "has no column t"),
    ],
)
def test_observations_that_cannot_be_understood_are_asked_about(tmp_path, text, words, said):
    (tmp_path / "mine.csv").write_text(text)
    done = run("trends", "mine.csv", *words, cwd=tmp_path, check=False)
    assert done.returncode in (1, 2)
    assert said in done.stderr
    assert len(done.stderr.splitlines()) == 1


def test_sources_that_cannot_be_compared_say_why(world):
    run(
        *("series", "gauge.nc", "--regions", "r.geojson", "--every", "year", "--measure", "max"),
        *("--out", "yearly.csv", "--replace", "--quiet"),
        cwd=world,
    )
    for words, said in (
        (("gauge.csv",), "one source is given"),
        (("a=gauge.csv", "b=yearly.csv"), "nothing in common: a has mean; b has max"),
        (("a=gauge.csv", "a=sat.csv"), "two tables are called a"),
        (("a=gauge.csv", "b=sat.csv", "--against", "c"), "no source is called c"),
        (("a=gauge.csv", "b=sat.csv", "--every", "year"), "goes with grids"),
    ):
        done = run("compare", *words, cwd=world, check=False)
        assert done.returncode in (1, 2), words
        assert said in done.stderr, done.stderr


@pytest.mark.parametrize("words", [(), ("--spread",)])
def test_tables_of_comparison_come_back_from_every_format(world, tmp_path, words):
    endings = [e for e in ENDINGS if not (FORMATS[e].of_regions or FORMATS[e].by_period)]
    outs = [tmp_path / f"t{ending}" for ending in endings]
    run(
        *("compare", "a=gauge.csv", "b=sat.csv", "c=model.csv", *words, "--quiet"),
        *(w for out in outs for w in ("--out", out)),
        cwd=world,
    )
    wanted = read_table(outs[0])
    for out in outs[1:]:
        found = read_table(out)
        assert found.axes == wanted.axes
        for name in wanted.header:
            one, other = found.column(name), wanted.column(name)
            if one.dtype.kind == "f":
                np.testing.assert_allclose(one, other, rtol=1e-15)
            else:
                assert one.tolist() == other.tolist()
    about = json.loads((tmp_path / "t.csv.about.json").read_text())
    assert [each["source"] for each in about["inputs"]] == ["a", "b", "c"]
    assert about["inputs"][0]["about"]["request"]["command"] == "series"


def test_pictures_show_all_sources_the_range_and_where_they_part(world, tmp_path):
    from bavlo.figures import draw
    from bavlo.jobs.matched import matched
    from bavlo.jobs.sources import Source

    sources = [Source(n, read_table(world / f"{n}.csv"), {}) for n in ("gauge", "sat")]
    (found,) = matched(sources)
    figure = draw([s.table for s in sources], "rain", "sources", matched=found)
    axes = figure.axes[0]
    lines = [line for line in axes.lines if line.get_label() in ("gauge", "sat")]
    np.testing.assert_array_equal(lines[1].get_ydata(), found.values[1][0, :, 0])
    marks = axes.lines[-1]
    gap = np.abs(found.values[0][0, :, 0] - found.values[1][0, :, 0])
    assert len(marks.get_xdata()) == 4  # a tenth of 36
    high = np.maximum(*(v[0, :, 0] for v in found.values))
    assert set(marks.get_ydata()) == set(high[np.argsort(-gap)[:4]])
    scatter = draw([s.table for s in sources], "rain", "scatter", matched=found)
    equal, points = scatter.axes[0].lines
    assert list(equal.get_xdata()) == list(equal.get_ydata())
    np.testing.assert_array_equal(points.get_xdata(), found.values[0][0, :, 0])
    run("chart", world / "gauge.csv", world / "sat.csv", "--out", tmp_path / "c.png")
    run(
        *("compare", world / "gauge.csv", world / "sat.csv"),
        *("--out", tmp_path / "t.csv", "--out", tmp_path / "t.png"),
    )
    run(
        *("map", tmp_path / "t.csv", "--regions", world / "r.geojson", "--pick", "statistic=bias"),
        *("--period", "all", "--out", tmp_path / "m.png"),
    )
    run("chart", tmp_path / "t.csv", "--pick", "statistic=rmse", "--out", tmp_path / "s.png")
    for name in ("c.png", "t.png", "m.png", "s.png"):
        assert (tmp_path / name).stat().st_size > 10_000


def test_normals_of_two_bases_come_with_their_change(world, tmp_path):
    out = tmp_path / "n.csv"
    bases = ("--base", "2001..2002", "--base", "2002..2003")
    run("normals", world / "gauge.csv", *bases, "--statistic", "mean", "--out", out)
    first, second, change = (part.full("value") for part in read_table(out).parts)
    own = values(world, "gauge").reshape(3, 3, 12)
    np.testing.assert_allclose(first[:, :, 0, 0], own[:, :2].mean(axis=1))
    np.testing.assert_allclose(second[:, :, 0, 0], own[:, 1:].mean(axis=1))
    np.testing.assert_array_equal(change, second - first)
    assert [part.labels("base")[0] for part in read_table(out).parts] == [
        "2001..2002",
        "2002..2003",
        "2002..2003 minus 2001..2002",
    ]
    run("normals", world / "gauge.csv", *bases, "--out", tmp_path / "n.nc")


def test_counts_of_conditions_have_normals_anomalies_and_trends(world, tmp_path):
    table = tmp_path / "heavy.csv"
    run(
        *("extremes", world / "gauge.nc", "--regions", world / "r.geojson", "--every", "month"),
        *("--when", "rain >= 10 mm", "--when", "rain < 1 mm", "--count", "days,longest"),
        *("--out", table, "--quiet"),
    )
    base = ("--base", "2001..2003")
    run("normals", table, *base, "--statistic", "mean", "--out", tmp_path / "n.csv")
    normal = read_table(tmp_path / "n.csv")
    assert normal.labels("condition") == ["rain >= 10 mm"] * 2 + ["rain < 1 mm"] * 2
    assert normal.labels("count") == ["days", "longest"] * 2
    counts = read_table(table).full("value")  # region, period, condition, count
    wanted = counts.reshape(3, 3, 12, 4).mean(axis=1)
    np.testing.assert_allclose(normal.full("value")[:, :, :, 0], wanted)
    run("anomalies", table, *base, "--out", tmp_path / "a.csv")
    found = read_table(tmp_path / "a.csv").full("anomaly")[:, :, :, 0]
    np.testing.assert_allclose(
        found, counts.reshape(3, 36, 4) - np.tile(wanted, (1, 3, 1)), atol=1e-12
    )
    run("trends", table, "--out", tmp_path / "t.csv")
    notes = set(read_table(tmp_path / "t.csv").column("note"))
    assert notes == {"3 values"}
