"""Files whose values grow from a beginning and start again."""

import numpy as np
import pytest

from bavlo.errors import BavloError
from bavlo.grids.open import open_grid
from bavlo.grids.source import ReadOptions
from bavlo.jobs.describe_grids import describe_grid
from support import box, rows, write_grid, write_regions

AREAS = {"a": box(0, 0, 6, 6)}


@pytest.fixture(scope="module")
def regions(tmp_path_factory):
    return write_regions(tmp_path_factory.mktemp("regions") / "r.geojson", AREAS)


def amounts(steps, seed=4):
    rng = np.random.default_rng(seed)
    wet = rng.random((steps, 6, 6)) < 0.3
    return np.round(rng.gamma(0.5, 4, (steps, 6, 6)) * wet, 2)


def since_midnight(values):
    """Hourly values added up since the last midnight."""
    days = values.reshape(-1, 24, 6, 6)
    return np.cumsum(days, axis=1).reshape(values.shape)


def write(path, values, first=0, **more):
    """Hourly values, stamped at the end of their hours since 2001-01-01T00."""
    stamps = first + 1 + np.arange(len(values)) if "stamps" not in more else more.pop("stamps")
    return write_grid(
        path, values, name="tp", since="hours since 2001-01-01", stamps=stamps, **more
    )


def totals(values):
    """The area-weighted mean over all cells of each day."""
    weight = np.diff(np.sin(np.radians(np.arange(7))))[:, None] * np.ones(6)
    by_day = values.reshape(-1, 24, 6, 6).sum(axis=1)
    return (by_day * weight).sum(axis=(1, 2)) / weight.sum()


def floats(found):
    return [float(row["value"]) for row in found]


def test_accumulated_values_are_asked_about_and_differenced_when_told(tmp_path, regions):
    rain = amounts(240)
    grid = write(tmp_path / "tp.nc", since_midnight(rain))
    with pytest.raises(BavloError, match="only grow and start again each day; say kind="):
        rows("series", grid, regions, every="day")
    found = rows("series", grid, regions, every="day", kind=["accumulated"])
    np.testing.assert_allclose(floats(found), totals(rain), rtol=1e-9)
    assert {row["steps"] for row in found} == {"24"}
    kept = rows("series", grid, regions, every="all", kind=["amount"])
    assert floats(kept)[0] > 5 * totals(rain).sum()


def test_files_of_one_run_each_are_differenced_across_files(tmp_path, regions):
    rain = amounts(240)
    values = since_midnight(rain)
    # Cut in the middle of days, so that differences go over from file to file.
    files = [write(tmp_path / f"tp_{n}.nc", values[n : n + 50], first=n) for n in range(0, 240, 50)]
    found = rows("series", files, regions, every="day", kind=["accumulated"])
    np.testing.assert_allclose(floats(found), totals(rain), rtol=1e-9)


def test_a_missing_hour_lengthens_the_next_and_one_before_midnight_is_lost(tmp_path, regions):
    rain = amounts(240)
    values, stamps = since_midnight(rain), 1 + np.arange(240)
    keep = ~np.isin(stamps, [30, 72])  # 06:00 of day 2, and the last hour of day 3
    grid = write(tmp_path / "tp.nc", values[keep], stamps=stamps[keep])
    found = rows("series", grid, regions, every="day", kind=["accumulated"])
    expected = totals(rain)
    assert found[2]["value"] == ""
    assert found[2]["note"] == "23 of 24 hours"
    whole = [n for n in range(10) if n != 2]
    np.testing.assert_allclose(
        [float(found[n]["value"]) for n in whole], expected[whole], rtol=1e-9
    )


def test_a_record_that_begins_within_a_run_has_no_first_step(tmp_path, regions):
    rain = amounts(240)
    grid = write(tmp_path / "tp.nc", since_midnight(rain)[5:], first=5)
    found = rows("series", grid, regions, every="day", kind=["accumulated"])
    assert found[0]["value"] == ""
    np.testing.assert_allclose(floats(found[1:]), totals(rain)[1:], rtol=1e-9)


def test_bounds_from_the_beginning_of_each_run_tell_where_it_begins(tmp_path, regions):
    rain = amounts(48)
    ends = 1 + np.arange(48)
    bounds = np.column_stack([(ends - 1) // 24 * 24, ends])
    grid = write(tmp_path / "tp.nc", since_midnight(rain), bounds=bounds)
    with pytest.raises(BavloError, match=r"two of them begin 2001-01-01T00:00; say kind="):
        rows("series", grid, regions, every="day")
    found = rows("series", grid, regions, every="day", kind=["accumulated"])
    np.testing.assert_allclose(floats(found), totals(rain), rtol=1e-9)


def test_a_run_that_never_begins_anew_is_asked_about(tmp_path, regions):
    rain = amounts(48)
    grid = write(tmp_path / "tp.nc", np.cumsum(rain, axis=0))
    with pytest.raises(BavloError, match="never start again"):
        rows("series", grid, regions, every="day")
    found = rows("series", grid, regions, every="day", kind=["accumulated"])
    # Nothing tells when the first hour began, so its day is not whole.
    assert found[0]["note"] == "23 of 24 hours"
    np.testing.assert_allclose(floats(found[1:]), totals(rain)[1:], rtol=1e-9)


def test_daily_values_since_the_first_of_the_month_belong_to_their_days(tmp_path, regions):
    days = np.datetime64("2001-01-01") + np.arange(365)
    rain = amounts(365, seed=8)
    values = rain.copy()
    for n in range(1, 365):
        if days[n].astype("M8[M]") == days[n - 1].astype("M8[M]"):
            values[n] += values[n - 1]
    grid = write_grid(tmp_path / "rain.nc", values)
    found = rows("series", grid, regions, kind=["accumulated"])
    weight = np.diff(np.sin(np.radians(np.arange(7))))[:, None] * np.ones(6)
    daily = (rain * weight).sum(axis=(1, 2)) / weight.sum()
    month = days.astype("M8[M]").astype(int)
    expected = [daily[month == m].sum() for m in np.unique(month)]
    np.testing.assert_allclose(floats(found), expected, rtol=1e-9)


def test_a_fall_that_no_rule_expects_is_an_error(tmp_path, regions):
    values = since_midnight(amounts(720))
    values[690:696] = 0
    grid = write(tmp_path / "tp.nc", values)
    with pytest.raises(BavloError, match="falls at 2001-01-29T19:00, where no accumulation begins"):
        rows("series", grid, regions, every="day", kind=["accumulated"])


def test_describe_says_what_is_accumulated(tmp_path):
    grid = write(tmp_path / "tp.nc", since_midnight(amounts(240)))
    found = describe_grid(open_grid([grid]))
    assert any("seems to be accumulated" in doubt for doubt in found.doubts)
    told = describe_grid(open_grid([grid], ReadOptions(kind="accumulated")))
    facts = dict(told.facts)
    assert "begin anew each day at 00:00" in facts["steps"]
    assert facts["kind"].startswith("amount (told by the request")


def evaporation(days, seed=8):
    """Hourly evaporation in m, counted downward, with dew in the nights."""
    rng = np.random.default_rng(seed)
    sun = np.maximum(np.sin(2 * np.pi * (np.arange(24 * days) % 24 - 6) / 24), 0)[:, None, None]
    by_day = sun * rng.uniform(0.3, 1, (24 * days, 6, 6))
    return -0.0005 * by_day + 0.00002 * (sun == 0) * rng.random(by_day.shape)


@pytest.mark.parametrize("bounded", [False, True])
def test_evaporation_that_accumulates_downward_is_asked_about_and_differenced(
    tmp_path, regions, bounded
):
    values = evaporation(10)
    hours = np.arange(240)
    bounds = np.stack([hours - hours % 24, hours + 1], axis=1) if bounded else None
    grid = write_grid(
        tmp_path / "e.nc",
        since_midnight(values),
        name="e",
        unit="m of water equivalent",
        since="hours since 2001-01-01",
        stamps=hours + 1,
        bounds=bounds,
        attributes={"long_name": "Evaporation"},
    )
    if not bounded:
        with pytest.raises(BavloError, match="only fall and start again each day; say kind="):
            rows("series", grid, regions, every="day")
    found = rows("series", grid, regions, every="day", kind=["accumulated"])
    assert {row["unit"] for row in found} == {"m of water equivalent"}
    np.testing.assert_allclose(floats(found), totals(values), rtol=1e-9)
