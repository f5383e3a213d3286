"""`bavlo normals` and `bavlo anomalies` as installed, against plain pandas."""

import netCDF4
import numpy as np
import pandas as pd
import pytest

from support import box, rows, run, write_grid, write_regions

NORMALS = "region,period,base,variable,measure,combine,order,statistic,value,unit,years"
ANOMALIES = (
    "region,period,start,end,variable,measure,window,value,unit,normal,std,anomaly,"
    "percent_of_normal,score,score_kind,rank,ranked_of,base,years,area_valid,steps,"
    "steps_expected,note"
)


@pytest.fixture(scope="module")
def monthly(demo):
    """Monthly totals made by pandas from daily values of each region."""
    out = demo / "days.csv"
    run(
        "series",
        *sorted(demo.glob("rain_*.nc")),
        "--regions",
        demo / "watersheds.geojson",
        "--every",
        "day",
        "--out",
        out,
    )
    daily = pd.read_csv(out)
    daily["month"] = daily["period"].str[:7]
    totals = daily.groupby(["region", "month"])["value"].agg(lambda v: v.sum(skipna=False))
    return totals.unstack("region").loc[:, daily["region"].unique()]


def test_normals_agree_with_pandas_and_from_table_and_grids_alike(demo, monthly, tmp_path):
    statistics = ["--statistic", "mean,std,min,max,p10"]
    run("normals", demo / "rain_months.csv", *statistics, "--out", tmp_path / "t.csv")
    run(
        "normals",
        *sorted(demo.glob("rain_*.nc")),
        "--regions",
        demo / "watersheds.geojson",
        *statistics,
        "--out",
        tmp_path / "g.csv",
    )
    table, grids = pd.read_csv(tmp_path / "t.csv"), pd.read_csv(tmp_path / "g.csv")
    assert ",".join(table.columns) == NORMALS
    np.testing.assert_allclose(table["value"], grids["value"], rtol=1e-12)
    assert table.drop(columns="value").equals(grids.drop(columns="value"))
    by_month = monthly.groupby(monthly.index.str[5:])
    ways = {
        "mean": by_month.mean(),
        "std": by_month.std(),
        "min": by_month.min(),
        "max": by_month.max(),
        "p10": by_month.agg(lambda v: np.percentile(v.dropna(), 10, method="median_unbiased")),
    }
    for row in table.itertuples():
        month = f"{row.period:02d}"
        assert row.value == pytest.approx(ways[row.statistic].loc[month, row.region], rel=1e-9)
        assert row.years == by_month.count().loc[month, row.region]


def test_anomalies_agree_with_pandas(demo, monthly, tmp_path):
    run(
        "anomalies",
        demo / "rain_months.csv",
        "--base",
        "1991..2010",
        "--during",
        "2012..2014",
        "--window",
        "1,3",
        "--out",
        tmp_path / "a.csv",
    )
    found = pd.read_csv(tmp_path / "a.csv")
    assert ",".join(found.columns) == ANOMALIES
    assert len(found) == 17 * 36 * 2
    for window in (1, 3):
        moved = monthly.rolling(window).sum() if window > 1 else monthly
        year, month = moved.index.str[:4].astype(int), moved.index.str[5:]
        base = moved[(year >= 1991) & (year <= 2010)]
        mean = base.groupby(base.index.str[5:]).mean()
        std = base.groupby(base.index.str[5:]).std()
        rank = moved.round(9).groupby(month).rank(method="min")  # sums of hundredths
        rows = found[found["window"] == window]
        for row in rows.itertuples():
            key = (row.period, row.region)
            normal = mean.loc[row.period[5:], row.region]
            value = moved.loc[key]
            assert row.value == pytest.approx(value, rel=1e-9)
            assert row.normal == pytest.approx(normal, rel=1e-9)
            assert row.anomaly == pytest.approx(value - normal, rel=1e-6, abs=1e-9)
            assert row.percent_of_normal == pytest.approx(value / normal * 100, rel=1e-9)
            spread = std.loc[row.period[5:], row.region]
            assert row.score == pytest.approx((value - normal) / spread, rel=1e-6, abs=1e-9)
            assert row.rank == rank.loc[key]
    third = found[(found["window"] == 3) & (found["period"] == "2012-01")].iloc[0]
    assert (third["start"], third["end"]) == ("2011-11-01", "2012-01-31")


def test_the_answer_comes_in_words(demo):
    said = run("anomalies", demo / "rain_years.csv", "--during", "2007", "--only", "Ombrel").stdout
    table = pd.read_csv(demo / "rain_years.csv").query("region == 'Ombrel'").set_index("period")
    value = table.loc[2007, "value"]
    share = value / table["value"].mean() * 100
    assert f"Ombrel, 2007: {value:.4g} mm, {share:.0f} % of normal, wettest of 29" in said


def test_a_normal_of_zero_has_no_percent_and_says_so(tmp_path):
    days = np.zeros((366, 4, 4))
    days[200:] = 2.0
    grid = write_grid(tmp_path / "rain.nc", days, since="days since 2000-01-01")
    regions = write_regions(tmp_path / "r.geojson", {"a": box(1, 1, 2, 2)})
    run(
        "anomalies", grid, "--regions", regions, "--base", "2000..2000", "--out", tmp_path / "o.csv"
    )
    rows = pd.read_csv(tmp_path / "o.csv")
    assert np.isnan(rows.loc[0, "percent_of_normal"])
    assert rows.loc[0, "note"] == "normal is 0, so there is no percent of it"
    assert rows.loc[11, "percent_of_normal"] == 100


def test_tables_are_drawn_from_their_csv(demo, tmp_path):
    run("normals", demo / "rain_months.csv", "--out", tmp_path / "n.csv")
    run("anomalies", demo / "rain_years.csv", "--out", tmp_path / "a.csv")
    for name in ("n", "a"):
        run(
            "chart",
            tmp_path / f"{name}.csv",
            "--out",
            tmp_path / f"{name}_again.svg",
            "--title",
            "A title of one's own",
        )
        drawn = (tmp_path / f"{name}_again.svg").read_text()
        for expected in ("A title of one's own", "Upper Corran", "Otterslade", "1991..2020", "mm"):
            assert expected in drawn


def test_what_makes_no_sense_of_a_table_is_refused(demo, tmp_path):
    months = demo / "rain_months.csv"
    cases = [
        (["normals", months, "--every", "year"], "--every: goes with grids, and"),
        (["normals", demo / "people.csv"], "need a grid with time"),
        (["normals", demo / "stations.csv"], "does not tell which column is a date"),
        (["anomalies", months, "--base", "1950..1960"], "is outside the data"),
        (
            ["anomalies", demo / "heat.csv", "--score", "spi", "--base", "2001..2020"],
            "spi is for totals of rain",
        ),
        (["anomalies", months, "--window", "0"], "is no number of periods"),
        (["normals", months, "--out", tmp_path / "n.doc"], "the ending '.doc' is not known"),
        (["chart", demo / "people.csv", "--out", tmp_path / "c.png"], "there is no chart"),
        (["chart", months, "--out", tmp_path / "c.csv"], "the ending '.csv' is not known"),
    ]
    for arguments, expected in cases:
        done = run(*arguments, check=False)
        assert done.returncode in (1, 2)
        assert expected in done.stderr, (arguments, done.stderr)
        assert len(done.stderr.splitlines()) == 1


def test_normals_of_whole_years_are_those_of_years_without_a_gap(tmp_path):
    """Of years all of whose months are whole, also in anomalies and in grids."""
    regions = write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 2, 2)})
    days = np.arange(np.datetime64("2001-01-01"), np.datetime64("2011-01-01"))
    month, year = days.astype("M8[M]"), days.astype("M8[Y]").astype(int) + 1970
    block = np.broadcast_to((year - 2000.0)[:, None, None], (days.size, 2, 2)).copy()
    block[(month == np.datetime64("2003-05")) & (np.arange(days.size) % 7 == 0)] = np.nan
    grid = write_grid(tmp_path / "rain.nc", block)
    given = {"base": "2001..2010", "combine": ["mean"]}
    plain = rows("normals", grid, regions, **given)
    whole = rows("normals", grid, regions, **given, **{"normals-from": "whole-years"})
    assert float(plain[0]["value"]) == pytest.approx(5.5)
    means = [(float(r["value"]), r["years"]) for r in whole if r["statistic"] == "mean"]
    expected = np.mean([1, 2, 4, 5, 6, 7, 8, 9, 10])
    assert means == [(pytest.approx(expected), "9")] * 12
    against = rows("anomalies", grid, regions, **given, **{"normals-from": "whole-years"})
    assert {round(float(r["normal"]), 9) for r in against} == {round(expected, 9)}
    assert float(against[24]["value"]) == pytest.approx(3)  # January 2003 is reported all the same
    run("grid", grid, "--as", "normal", "--every", "month", "--base", "2001..2010", "--combine",
        "mean", "--normals-from", "whole-years", "--out", tmp_path / "n.nc")  # fmt: skip
    with netCDF4.Dataset(tmp_path / "n.nc") as data:
        np.testing.assert_allclose(data["rain_normal"][:], expected, rtol=1e-6)
