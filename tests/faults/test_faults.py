"""A part of the campaign of damaged inputs and kills that `bench/faults.py` runs at any length."""

import runpy
import subprocess
import sys
from pathlib import Path

import pytest

BENCH = Path(__file__).parents[2] / "bench" / "faults.py"
# Changes of bytes that no checksum of these covers may leave a well-formed file.
UNCOVERED = {
    "four.nc", "classic.nc", "sums.nc", "deflate.tif", "plain.tif", "grid.asc", "r.geojson",
    "points.csv", "t.json", "t.parquet", "rain.grib", "r.fgb", "r.kml", "r.parquet",
    "rain.zarr/rain/.zarray", "rain.zarr/rain/.zattrs", "rain.zarr/rain/2.0.0",
    "rain.zarr/time/.zattrs", "study.toml", "t.shp.zip!t.shp", "t.shp.zip!t.shx",
    "t.shp.zip!t.dbf", "t.shp.zip!t.prj",
}  # fmt: skip


@pytest.mark.slow
def test_no_damage_ends_in_a_fault_a_hang_a_crash_or_an_unfounded_answer():
    # In a process of its own, since it forks.
    ended = subprocess.run(
        [sys.executable, BENCH, "100", "--seed", "11", "--kills", "8"],
        capture_output=True,
        text=True,
        timeout=600,
    )
    assert ended.returncode == 0, ended.stderr
    lines = ended.stdout.splitlines()
    rows = {
        cells[0]: [int(cell) for cell in cells[1:]]
        for cells in ([part.strip() for part in line.strip("|").split("|")] for line in lines)
        if len(cells) == 8 and cells[1].isdigit()
    }
    assert rows["all"][:2] > [50, 10]
    assert rows["all"][4:] == [0, 0, 0], ended.stdout
    silent = {name for name, counts in rows.items() if counts[3] and name != "all"}
    assert silent <= UNCOVERED, ended.stdout
    assert "left a draft" not in ended.stdout
    killed = [line for line in lines if line.startswith("SIG")]
    assert killed
    for line in killed:
        assert "drafts left" not in line
        assert " False " not in line, line  # some outputs without the others


def test_every_way_of_damage_changes_bytes_and_says_which():
    import random

    damage = runpy.run_path(str(BENCH))["damage"]
    rng = random.Random(3)
    content = bytes(range(1, 251)) * 4
    made = [damage(content, rng, True) for _ in range(400)]
    assert {way for way, _ in made} == {"flip", "cut", "zero", "swap", "head", "grow", "token"}
    assert sum(changed == content for _, changed in made) < 40


@pytest.mark.slow
def test_runs_side_by_side_on_one_cache_with_kills_leave_right_bytes():
    ended = subprocess.run(
        [sys.executable, BENCH, "--soak", "24"], capture_output=True, text=True, timeout=600
    )
    assert ended.returncode == 0, ended.stderr
    told = dict(line.rsplit(": ", 1) for line in ended.stdout.splitlines())
    assert told.pop("drafts left") == "0"
    assert all(what.startswith("sent ") for what in told), ended.stdout
    assert sum(int(number) for number in told.values()) == 24
