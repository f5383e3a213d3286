"""Bavlo from Python: the same numbers as on the command line, and good manners."""

import csv
import json
import subprocess
import sys
import threading
import warnings
from dataclasses import dataclass

import netCDF4
import numpy as np
import pytest

import bavlo
from bavlo.remembered import OPEN_FILES
from support import box, run, write_grid

DAYS = np.arange(np.datetime64("2001-01-01"), np.datetime64("2004-01-01"))


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    """A grid and two regions."""
    folder = tmp_path_factory.mktemp("python")
    rain = np.random.default_rng(3).gamma(0.5, 8, (DAYS.size, 4, 6)).round(1)
    write_grid(folder / "rain.nc", rain, attributes={"cell_methods": "time: sum"})
    (folder / "w.geojson").write_text(json.dumps(shapes()))
    return folder, rain


def shapes():
    from shapely import to_geojson

    named = {"a": box(0.5, 0.5, 2.25, 3), "b": box(2, 1, 5.5, 3.75)}
    return {
        "type": "FeatureCollection",
        "features": [
            {"type": "Feature", "properties": {"name": name}, "geometry": json.loads(
                to_geojson(shape))} for name, shape in named.items()
        ],
    }  # fmt: skip


def test_a_call_gives_what_the_command_line_gives(world, tmp_path, capsys):
    folder, _ = world
    table = bavlo.series(folder / "rain.nc", regions=folder / "w.geojson", every=["month", "year"],
                         measure=["mean", "p90"], during="2002..2003")  # fmt: skip
    table.write(tmp_path / "python.csv", tmp_path / "python.xlsx")
    words = ["--every", "month,year", "--measure", "mean,p90", "--during", "2002..2003"]
    run("series", folder / "rain.nc", "--regions", folder / "w.geojson", *words, "--out",
        tmp_path / "line.csv")  # fmt: skip
    assert (tmp_path / "python.csv").read_bytes() == (tmp_path / "line.csv").read_bytes()
    for suffix in ("csv",):
        a, b = (json.loads((tmp_path / f"{n}.{suffix}.about.json").read_text()) for n in
                ("python", "line"))  # fmt: skip
        assert a == b
    assert capsys.readouterr() == ("", "")
    assert len(table) == 2 * 2 * 26
    with pytest.raises(bavlo.BavloError, match="exists already"):
        table.write(tmp_path / "python.csv")


def test_a_table_becomes_what_other_libraries_hold(world):
    folder, _ = world
    table = bavlo.series(folder / "rain.nc", regions=folder / "w.geojson", every="year")
    frame = table.to_pandas()
    np.testing.assert_array_equal(frame["value"], table["value"])
    assert frame.attrs["bavlo"] == table.about
    arrow = table.to_arrow()
    assert arrow.column_names == table.columns
    np.testing.assert_array_equal(arrow["value"].to_numpy(), table["value"])
    page = table._repr_html_()
    assert page.count("<tr>") == 7
    assert "bavlo.Table" in repr(table)
    axes = table.plot().axes
    drawn = np.concatenate([line.get_ydata() for line in axes[0].lines])
    assert table["value"][0] in drawn
    with pytest.raises(KeyError):
        table["values"]


@dataclass
class Labelled:
    """An array with names and coordinates, as several libraries have it."""

    values: np.ndarray
    dims: tuple
    coords: dict
    attrs: dict
    name: str = "rain"

    def __array__(self, dtype=None, copy=None):
        return self.values


class Frame:
    crs = "EPSG:4326"

    @property
    def __geo_interface__(self):
        return shapes()


def test_arrays_and_shapes_in_memory_give_what_their_files_give(world):
    folder, rain = world
    lat, lon = np.arange(4) + 0.5, np.arange(6) + 0.5
    wanted = bavlo.series(folder / "rain.nc", regions=folder / "w.geojson", every="year")
    told = {"cell_methods": "time: sum"}
    plain = bavlo.Array(rain, lat, lon, DAYS, "rain", "mm", told)
    coords = {"time": DAYS, "lat": lat, "lon": lon}
    labelled = Labelled(np.moveaxis(rain, 0, 2), ("lat", "lon", "time"), coords,
                        {"units": "mm", **told})  # fmt: skip
    for given in (plain, labelled, {"rain": plain}):
        found = bavlo.series(given, regions=Frame(), every="year")
        np.testing.assert_array_equal(found["value"], wanted["value"])
        assert found.about["inputs"][0]["file"].startswith("in memory ")
    again = bavlo.series(plain, regions=Frame(), every="year")
    assert again.about == bavlo.series(plain, regions=Frame(), every="year").about
    with pytest.raises(bavlo.BavloError, match="for coordinates"):
        bavlo.series(bavlo.Array(rain, lat[:2], lon, DAYS), regions=Frame())
    with pytest.raises(bavlo.BavloError, match="is no grid"):
        bavlo.series(3, regions=Frame())


def test_tables_go_on_into_other_calls(world):
    folder, _ = world
    months = bavlo.series(folder / "rain.nc", regions=folder / "w.geojson", every="month")
    anomalies = bavlo.anomalies(months, base=(2001, 2003), window=3)
    normals = bavlo.normals(folder / "rain.nc", regions=folder / "w.geojson", every="month",
                            base="2001..2003")  # fmt: skip
    first = {p: v for p, v, s in zip(normals["period"], normals["value"], normals["statistic"],
                                     strict=True) if s == "mean"}  # fmt: skip
    assert len(first) == 12
    assert np.isfinite(anomalies["anomaly"]).any()
    agreed = bavlo.compare({"a": months, "b": folder / "rain.nc"}, regions=folder / "w.geojson",
                           every="month")  # fmt: skip
    bias = agreed["value"][agreed["statistic"] == "bias"]
    np.testing.assert_allclose(bias, 0, atol=1e-12)
    wet = bavlo.extremes(folder / "rain.nc", regions=folder / "w.geojson", when="> 10 mm",
                         every="year", events=True)  # fmt: skip
    assert len(wet.events) > 10
    assert bavlo.chart(months, only="a", figure="years").axes
    assert bavlo.map(months, regions=folder / "w.geojson", period="2002-03").axes
    sized = (
        bavlo.chart(months, size="900x500"),
        bavlo.map(months, regions=folder / "w.geojson", size="900x500"),
    )
    assert all(figure.get_size_inches().tolist() == [9, 5] for figure in sized)


def test_grids_stay_in_memory_until_they_are_written(world, tmp_path):
    folder, rain = world
    yearly = bavlo.grid(folder / "rain.nc", every="year")
    arrays = yearly.arrays()
    np.testing.assert_allclose(arrays["rain"][1], rain[365:730].sum(axis=0), rtol=1e-6)
    yearly.write(tmp_path / "y.nc")
    with netCDF4.Dataset(tmp_path / "y.nc") as data:
        np.testing.assert_array_equal(data["rain"][:], arrays["rain"])
    regions = bavlo.series(yearly, regions=folder / "w.geojson", every="year", kind="amount")
    direct = bavlo.series(folder / "rain.nc", regions=folder / "w.geojson", every="year")
    np.testing.assert_allclose(regions["value"], direct["value"], rtol=1e-6)


def test_errors_name_the_keyword_and_doubts_are_warnings(world):
    folder, rain = world
    with pytest.raises(bavlo.BavloError, match="'fortnight'"):
        bavlo.series(folder / "rain.nc", regions=folder / "w.geojson", every="fortnight")
    with pytest.raises(bavlo.BavloError, match="series has no mesure; did you mean measure"):
        bavlo.series(folder / "rain.nc", regions=folder / "w.geojson", mesure="mean")
    with pytest.raises(bavlo.BavloError, match="neither a file nor features"):
        bavlo.series(folder / "rain.nc", regions=[1, 2])
    odd = rain.copy()
    odd[:, 1, 1] = -9999
    lat, lon = np.arange(4) + 0.5, np.arange(6) + 0.5
    grid = bavlo.Array(odd, lat, lon, DAYS, "rain", "mm", {"cell_methods": "time: sum"})
    with pytest.warns(bavlo.BavloWarning, match="-9999 is taken for missing.*missing="):
        bavlo.series(grid, regions=folder / "w.geojson", every="year")


def test_progress_is_told_only_when_it_is_asked_for(world, capsys):
    folder, _ = world
    heard = []
    bavlo.series(folder / "rain.nc", regions=folder / "w.geojson", every="month",
                 progress=lambda done, total: heard.append((done, total)))  # fmt: skip
    assert heard[-1] == (DAYS.size, DAYS.size)
    assert capsys.readouterr() == ("", "")


def test_two_calls_from_two_threads_do_not_disturb_each_other(world):
    folder, _ = world
    wanted = {
        every: bavlo.series(folder / "rain.nc", regions=folder / "w.geojson", every=every)["value"]
        for every in ("month", "year", "dekad", "season")
    }
    found = {}

    def work(every):
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            for _ in range(3):
                table = bavlo.series(folder / "rain.nc", regions=folder / "w.geojson", every=every)
                found.setdefault(every, []).append(table["value"])

    threads = [threading.Thread(target=work, args=(every,)) for every in wanted]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    for every, values in wanted.items():
        assert len(found[every]) == 3
        for each in found[every]:
            np.testing.assert_array_equal(each, values)


def test_after_a_call_its_grids_may_be_written_anew(world, tmp_path):
    regions, path = world[0] / "w.geojson", tmp_path / "rain.nc"
    write_grid(path, world[1], attributes={"cell_methods": "time: sum"})
    for scale in (2, 4):
        with netCDF4.Dataset(path, "a") as data:
            data["rain"][:] *= 2
        found = bavlo.series(path, regions=regions, every="year")
        first = bavlo.series(world[0] / "rain.nc", regions=regions, every="year")
        np.testing.assert_allclose(found["value"], first["value"] * scale)
        bavlo.describe(path)
        assert not OPEN_FILES.items("NetCDF")


def test_describe_tells_what_the_command_tells(world):
    folder, _ = world
    (found,) = bavlo.describe(folder / "rain.nc")
    assert "amount" in found["kind"]
    assert found["what"].endswith("rain.nc")


def test_importing_it_loads_nothing_heavy():
    code = (
        "import bavlo, sys; print([m for m in ('numpy', 'netCDF4', 'pandas') if m in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"
    assert set(bavlo.__all__) <= set(dir(bavlo))
    with pytest.raises(AttributeError):
        _ = bavlo.nothing


def test_numbers_of_the_walkthrough_are_those_of_csv(world, tmp_path):
    folder, _ = world
    table = bavlo.series(folder / "rain.nc", regions=folder / "w.geojson", every="year")
    table.write(tmp_path / "a.csv", layout="by-time")
    with (tmp_path / "a.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    assert len(rows) == 3
