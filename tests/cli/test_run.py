"""`bavlo run`: what a study lists is made once, and again only where something changed."""

import json
import re
import shutil
import subprocess
import time
from unittest import mock

import netCDF4
import numpy as np
import pytest
import shapely

from bavlo.engine import choices
from bavlo.jobs import ledger
from bavlo.remembered import OPEN_FILES
from support import PROGRAM, box, program, run, write_grid, write_regions

STUDY = """
[study]
title = "A small study"
folder = "out"

[grids]
rain = "rain_*.nc"

[regions]
file = "regions.geojson"

[[result]]
name = "months"
command = "series"
every = ["month", "year"]
measure = "mean,p90,max"
out = ["months.csv", "months.parquet"]

[[result]]
name = "anomalies"
command = "anomalies"
grids = "rain"
every = "month"
window = 3
base = "2001..2003"
out = "anomalies.csv"

[[result]]
name = "volumes"
command = "series"
every = "season"
measure = "volume"
out = "volumes.csv"

[[result]]
name = "latest"
command = "series"
every = "day"
during = "{latest_month}"
out = "{latest_month}.json"

[[result]]
name = "wet days"
command = "extremes"
when = "rain >= 10 mm"
every = "year"
out = "wet.csv"

[[result]]
name = "wet regions"
command = "extremes"
when = ["rain >= 6 mm", "rain < 2 mm for 2 days"]
spell-edge = "cut"
count = "days,longest,share,total"
test-on = "region"
every = "month"
out = "wet_regions.csv"

[[result]]
name = "against normal"
command = "anomalies"
of = "wet days"
base = "2001..2003"
out = "wet_anomalies.csv"
"""
DAY0 = np.datetime64("2001-01-01")


def values(first, last):
    """Rain from one day to another, excluded, the same for the same days."""
    days = np.arange(np.datetime64(first), np.datetime64(last))
    out = np.empty((days.size, 6, 8))
    for n, day in enumerate(days):
        rng = np.random.default_rng(1000 + int((day - DAY0).astype(int)))
        out[n] = np.round(rng.gamma(0.5, 8, (6, 8)), 1)
    return days, out


def write(path, first, last, change=lambda out: out):
    days, out = values(first, last)
    OPEN_FILES.clear()
    path.unlink(missing_ok=True)
    write_grid(path, change(out), stamps=(days - DAY0).astype(float), chunksizes=(1, 6, 8),
               zlib=True, attributes={"cell_methods": "time: sum"})  # fmt: skip


@pytest.fixture
def folder(tmp_path, monkeypatch):
    monkeypatch.setattr(choices, "BLOCK_VALUES", 48 * 40)  # many blocks, and segments
    for year in (2001, 2002, 2003):
        write(tmp_path / f"rain_{year}.nc", f"{year}-01-01", f"{year + 1}-01-01")
    write_regions(tmp_path / "regions.geojson", {"a": box(0.5, 0.5, 3.3, 4.1),
                                                 "b": box(2, 1, 7.5, 5.5)})  # fmt: skip
    (tmp_path / "s.toml").write_text(STUDY)
    return tmp_path


def outputs(folder):
    return {
        path.name: path.read_bytes()
        for path in sorted((folder / "out").iterdir())
        if path.is_file()
    }


def from_nothing(folder):
    """What the study makes without anything known of it."""
    shutil.rmtree(folder / "out")
    run("run", "s.toml", cwd=folder)
    return outputs(folder)


def said(folder, *more, check=True):
    done = run("run", "s.toml", *more, cwd=folder, check=check)
    return done.stdout


def append_file(folder):
    write(folder / "rain_2004.nc", "2004-01-01", "2004-02-01")


def grow(folder):
    write(folder / "rain_2003.nc", "2003-01-01", "2004-02-20")


def revise(folder):
    def wetter(out):
        out[40:60] += 3
        return out

    write(folder / "rain_2002.nc", "2002-01-01", "2003-01-01", wetter)


def add_earlier(folder):
    write(folder / "rain_2000.nc", "2000-06-01", "2001-01-01")


def add_region(folder):
    regions = {"a": box(0.5, 0.5, 3.3, 4.1), "b": box(2, 1, 7.5, 5.5), "c": box(5, 0, 8, 2)}
    (folder / "regions.geojson").unlink()
    write_regions(folder / "regions.geojson", regions)


def change_base(folder):
    (folder / "s.toml").write_text(STUDY.replace("2001..2003", "2002..2003"))


def delete_store(folder):
    shutil.rmtree(folder / "out" / ".bavlo" / "values")
    append_file(folder)


def damage_store(folder):
    for path in (folder / "out" / ".bavlo" / "values").iterdir():
        data = bytearray(path.read_bytes())
        data[len(data) // 2] ^= 255
        path.write_bytes(bytes(data))
    append_file(folder)


def damage_ledger(folder):
    (folder / "out" / ".bavlo" / "s.json").write_text('{"results": [')


@pytest.mark.parametrize(
    "change",
    [append_file, grow, revise, add_earlier, add_region, change_base, delete_store, damage_store,
     damage_ledger],
)  # fmt: skip
def test_after_any_change_the_bytes_are_those_of_a_run_from_nothing(folder, change):
    said(folder)
    before = outputs(folder)
    change(folder)
    replace = ["--replace"] if change is damage_ledger else []
    said(folder, *replace)
    after = outputs(folder)
    gone = {name for name in after if name.startswith("2003-12")}  # of an earlier latest month
    fresh = from_nothing(folder)
    assert fresh.keys() == after.keys() - (gone - fresh.keys())
    assert {name: after[name] for name in fresh} == fresh
    assert before != after or change in (damage_ledger,)


def test_nothing_is_made_where_nothing_changed(folder):
    first = said(folder)
    assert first.count("made in") == 7
    assert (folder / "out" / "2003-12.json").exists()
    again = said(folder)
    assert again.count("up to date") == 7
    assert said(folder, "--check").count("up to date") == 7


def test_only_the_steps_that_a_new_file_reaches_are_worked_on(folder):
    said(folder)
    append_file(folder)
    done = run("run", "s.toml", "--verbose", "--only", "months", cwd=folder)
    assert "31 of 1126 steps are worked on again" in done.stderr
    assert "rain_2004.nc was added" in done.stdout
    checked = said(folder, "--check")
    assert "months: up to date" in checked
    assert "against normal: not made: wet days is made anew" in checked


def test_why_a_result_is_made_is_said(folder):
    said(folder)
    (folder / "out" / "wet.csv").unlink()
    (folder / "s.toml").write_text(STUDY.replace('measure = "volume"', 'measure = "mean"'))
    checked = said(folder, "--check")
    assert "volumes: not made: the request changed: measure" in checked
    assert "wet days: not made: out/wet.csv is missing" in checked
    assert "months: up to date" in checked


def test_results_of_a_study_have_the_bytes_of_each_alone(folder):
    said(folder)
    made = outputs(folder)
    shutil.rmtree(folder / "out")
    for name in ("months", "anomalies", "volumes", "latest", "wet days", "wet regions"):
        said(folder, "--only", name)
    assert {name: outputs(folder)[name] for name in made if "wet_anom" not in name} == {
        name: data for name, data in made.items() if "wet_anom" not in name
    }


def test_one_result_fails_without_the_others(folder):
    text = STUDY.replace('measure = "volume"', 'measure = "volume"\nunit = "degC"')
    (folder / "s.toml").write_text(text)
    told = said(folder, check=False)
    assert "volumes: failed" in told
    assert told.count("made in") == 6
    assert not (folder / "out" / "volumes.csv").exists()


def test_the_warnings_of_a_result_are_its_own(folder):
    crossing = shapely.Polygon([(1, 1), (5, 5), (5, 1), (1, 5)])
    write_regions(folder / "odd.geojson", {"a": crossing})
    text = (
        STUDY
        + """
[[result]]
name = "odd"
command = "series"
regions = "odd.geojson"
every = "year"
out = "odd.csv"
"""
    )
    (folder / "s.toml").write_text(text)
    said(folder)
    told = {
        name: json.loads((folder / "out" / f"{name}.csv.about.json").read_text())["warnings"]
        for name in ("odd", "months", "wet")
    }
    assert told["odd"]
    assert told["months"] == told["wet"] == []


def test_one_failing_result_stops_only_what_needs_it(folder):
    said(folder)
    before = outputs(folder)
    wrong = STUDY.replace('when = "rain >= 10 mm"', 'when = "snow >= 10 mm"').replace(
        'every = "season"', 'every = "year"'
    )
    (folder / "s.toml").write_text(wrong)
    done = run("run", "s.toml", cwd=folder, check=False)
    assert done.returncode == 1
    assert "wet days: failed: --when" in done.stdout
    assert "against normal: failed: needs wet days, which failed" in done.stdout
    assert "volumes: made in" in done.stdout
    assert "2 of 7 results failed" in done.stdout
    after = outputs(folder)
    assert after["wet.csv"] == before["wet.csv"]
    assert after["volumes.csv"] != before["volumes.csv"]


def test_files_that_the_study_has_not_made_stay(folder):
    (folder / "out").mkdir()
    (folder / "out" / "wet.csv").write_text("mine")
    done = run("run", "s.toml", cwd=folder, check=False)
    assert "out/wet.csv: exists already, and no run of this study made it" in done.stdout
    assert (folder / "out" / "wet.csv").read_text() == "mine"


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ('measure = "volume"', 'mesure = "volume"', "did you mean measure?"),
        ('command = "extremes"', 'command = "extreme"', "did you mean extremes?"),
        ('grids = "rain"', 'grids = "rein"', "did you mean rain?"),
        ('of = "wet days"', 'of = "wet day"', "did you mean wet days?"),
        ('folder = "out"', 'foldr = "out"', "did you mean folder?"),
        ("[regions]", "[region]", "did you mean regions?"),
        ('out = "wet.csv"', "", "writes nothing"),
        ('name = "volumes"', 'name = "months"', "two results are called months"),
        ("[study]", "[study", "is no study file"),
    ],
)
def test_misspelt_keys_are_answered_with_the_nearest(folder, old, new, words):
    (folder / "s.toml").write_text(STUDY.replace(old, new, 1))
    done = run("run", "s.toml", cwd=folder, check=False)
    assert done.returncode == 1
    assert words in done.stderr
    assert not (folder / "out").exists()


@pytest.mark.slow
def test_a_second_run_at_once_says_so_and_stops(folder):
    fcntl = pytest.importorskip("fcntl")
    (folder / "out" / ".bavlo").mkdir(parents=True)
    with (folder / "out" / ".bavlo" / "s.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        done = program("run", "s.toml", cwd=folder, check=False)
    assert done.returncode == 1
    assert "another run of this study is under way" in done.stderr


@pytest.mark.slow
def test_an_interrupt_keeps_what_is_whole(folder):
    import signal

    process = subprocess.Popen([PROGRAM, "run", "s.toml"], cwd=folder, stderr=subprocess.PIPE,
                               stdout=subprocess.PIPE, text=True)  # fmt: skip
    until = time.monotonic() + 60
    while not (folder / "out" / "months.csv").exists() and time.monotonic() < until:
        time.sleep(0.01)
    process.send_signal(signal.SIGINT)
    process.communicate()
    assert process.returncode in (0, 130)
    told = json.loads((folder / "out" / ".bavlo" / "s.json").read_text())["results"]
    for name in told:
        assert f"{name}: up to date" in said(folder, "--check")
    again = program("run", "s.toml", cwd=folder, check=False)
    assert again.returncode == 0, again.stdout + again.stderr
    made = outputs(folder)
    shutil.rmtree(folder / "out")
    program("run", "s.toml", cwd=folder)
    assert made == outputs(folder)
    assert not [name for name in made if ".part." in name]


@pytest.mark.parametrize("in_the_middle", [False, True])
def test_files_of_a_run_that_was_stopped_before_it_could_say_so_are_the_study_s_own(
    folder, in_the_middle
):
    before = ledger.Ledger.note
    said(folder)
    first = outputs(folder)
    shutil.rmtree(folder / "out")

    def killed(self, result, request, inputs):
        if result.name == "volumes":
            stop = KeyboardInterrupt
            if not in_the_middle:
                raise stop
            with mock.patch.object(ledger.Ledger, "given", side_effect=stop):
                before(self, result, request, inputs)
        before(self, result, request, inputs)

    with mock.patch.object(ledger.Ledger, "note", killed):
        run("run", "s.toml", cwd=folder, check=False)
    assert (folder / "out" / "volumes.csv").exists()
    said(folder)
    assert outputs(folder) == first


def test_a_new_study_file_can_be_run(folder):
    run("run", "--new", "new.toml", "rain_*.nc", "regions.geojson", cwd=folder)
    text = (folder / "new.toml").read_text()
    assert 'rain = "rain_*.nc"' in text
    assert 'file = "regions.geojson"' in text
    done = run("run", "new.toml", cwd=folder)
    assert done.stdout.count("made in") == 3


def test_a_study_names_several_grids_with_what_is_said_of_each(folder):
    with netCDF4.Dataset(folder / "rain_2001.nc", "a") as data:
        data["rain"].delncattr("cell_methods")
        data.renameVariable("rain", "def")
    OPEN_FILES.clear()
    text = """
[grids]
water = { files = "rain_2001.nc", kind = "amount", variable = "def" }
other = "rain_2002.nc"
[regions]
file = "regions.geojson"
[[result]]
command = "compare"
grids = ["water", "other"]
every = "all"
out = "a.csv"
[[result]]
name = "months"
command = "series"
grids = "water"
out = "b.csv"
"""
    (folder / "s.toml").write_text(text)
    done = run("run", "s.toml", "--only", "months", cwd=folder)
    assert "months: made in" in done.stdout
    assert json.loads((folder / "b.csv.about.json").read_text())["grid"]["kind"] == "amount"


def test_counts_of_periods_that_no_new_step_reaches_are_kept(folder):
    said(folder)
    append_file(folder)
    for name in ("wet days", "wet regions"):
        done = run("run", "s.toml", "--verbose", "--only", name, cwd=folder)
        assert "31 of 1126 steps are counted again" in done.stderr


NEEDY = """
[study]
folder = "out"
[grids]
rain = "rain_*.nc"
tmax = "tmax_*.nc"
tmin = "tmin_*.nc"
[regions]
file = "watersheds.geojson"
[[result]]
name = "ranks"
command = "series"
grids = "rain"
measure = "p90"
out = "ranks.csv"
[[result]]
name = "months"
command = "series"
grids = "tmin"
out = "months.csv"
[[result]]
name = "warm"
command = "series"
grids = "tmax"
measure = "p90"
out = "warm.csv"
[[result]]
name = "wet"
command = "extremes"
grids = "rain"
when = "rain >= 20 mm"
out = "wet.csv"
"""


def test_a_study_needs_no_more_memory_than_its_largest_result(demo, tmp_path):
    for path in demo.iterdir():
        if path.suffix == ".nc" or path.name == "watersheds.geojson":
            (tmp_path / path.name).symlink_to(path)
    (tmp_path / "s.toml").write_text(NEEDY)
    needs = []
    for name in ("ranks", "months", "warm", "wet"):
        done = program("run", "s.toml", "--only", name, "--jobs", "1", "--memory", "90MB",
                       cwd=tmp_path, check=False)  # fmt: skip
        needs.append(int(re.search(r"this job needs (\d+)MB", done.stdout + done.stderr)[1]))
    assert not (tmp_path / "out" / "warm.csv").exists()
    memory = f"{int(1.15 * max(needs))}MB"
    done = program("run", "s.toml", "--jobs", "1", "--memory", memory, cwd=tmp_path)
    assert done.stdout.count("made in") == 4
