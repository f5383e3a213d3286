"""A real scheduler and worker processes give what one machine gives, to the last byte."""

import json
import subprocess
import sys
import time
from functools import partial

import pytest

from bavlo.cli.main import main
from bavlo.cli.screen import Screen
from bavlo.core import stretches
from bavlo.core.errors import BavloError
from bavlo.engine import cluster
from bavlo.engine.units import plan_units
from bavlo.study import series, stream
from support import run

DASK = [sys.executable, "-m", "dask"]


@pytest.fixture(scope="module")
def workers(tmp_path_factory):
    """A scheduler with two workers, each a process of its own."""
    pytest.importorskip("distributed")
    folder = tmp_path_factory.mktemp("cluster")
    told = folder / "scheduler.json"
    scheduler = subprocess.Popen(
        [
            *DASK,
            "scheduler",
            "--host",
            "127.0.0.1",
            "--port",
            "0",
            "--no-dashboard",
            "--scheduler-file",
            told,
        ],
        stderr=subprocess.DEVNULL,
        cwd=folder,
    )
    for _ in range(200):
        if told.exists() and told.read_text().strip():
            break
        time.sleep(0.1)
    started = [
        subprocess.Popen(
            [
                *DASK,
                "worker",
                "--scheduler-file",
                told,
                "--nthreads",
                "1",
                "--no-nanny",
                "--no-dashboard",
            ],
            stderr=subprocess.DEVNULL,
            cwd=folder,
        )
        for _ in range(2)
    ]
    yield json.loads(told.read_text())["address"], started
    for process in (*started, scheduler):
        process.kill()
        process.wait()


def arguments_of(demo, *more):
    return [
        "series",
        *sorted(demo.glob("rain_*.nc")),
        "--regions",
        demo / "watersheds.geojson",
        "--measure",
        "mean,p90,max",
        *more,
    ]


def test_a_cluster_gives_the_same_bytes_and_survives_a_worker_that_dies(
    demo, workers, tmp_path, monkeypatch
):
    address, started = workers
    monkeypatch.setattr(series, "plan_units", partial(plan_units, values=2**16))

    def written(name, *more):
        words = [*arguments_of(demo, "--order", "region"), *more, "--out", tmp_path / name]
        assert main([str(word) for word in words]) == 0
        return (
            (tmp_path / name).read_bytes(),
            json.loads((tmp_path / f"{name}.about.json").read_text()),
        )

    here = written("here.csv")
    killed_at = []

    def progress(screen, done, total, what):
        if not killed_at and done < total:  # in the middle of the work
            killed_at.append(done)
            started[0].kill()

    monkeypatch.setattr(Screen, "progress", progress)
    assert written("there.csv", "--cluster", address) == here
    assert killed_at


def test_cells_first_and_conditions_are_the_same_on_a_cluster(demo, workers, tmp_path):
    address, _ = workers
    regions = ["--regions", demo / "watersheds.geojson", "--during", "2001..2003"]
    for command in (
        ["series", "--measure", "p90,max", "--order", "cell"],
        ["extremes", "--when", "rain >= 20 mm for 2 days", "--count", "days,longest"],
    ):
        told = []
        for more in ([], ["--cluster", address]):
            out = tmp_path / "out.csv"
            run(
                command[0],
                *sorted(demo.glob("rain_*.nc")),
                *regions,
                *command[1:],
                *more,
                "--out",
                out,
                "--replace",
            )
            told.append(out.read_bytes())
        assert told[0] == told[1]


@pytest.mark.parametrize(
    "command",
    [
        ["series", "--measure", "mean,p90", "--order", "cell"],
        ["extremes", "--when", "rain >= 20 mm", "--count", "days,total,first"],
        ["extremes", "--when", "rain < 5 mm for 9 days", "--count", "spells,longest,days,excess"],
    ],
)
def test_long_periods_of_cells_merge_on_the_cluster_as_they_do_here(
    command, demo, workers, tmp_path, monkeypatch
):
    """Many small units: what each makes of a year of cells stays with the workers."""
    address, _ = workers
    monkeypatch.setattr(stretches, "MOST_UNITS", 7)
    monkeypatch.setattr(series, "plan_units", partial(plan_units, values=2**16))
    monkeypatch.setattr(stream, "UNIT_VALUES", 2**16)
    monkeypatch.setattr(stream, "UNITS_THERE", (2, 3))
    merged = []
    call = cluster.There.call
    monkeypatch.setattr(
        cluster.There, "call", lambda *given: (merged.append(given[1]), call(*given))[1]
    )
    told = []
    for n, more in enumerate(([], ["--cluster", address])):
        out = tmp_path / f"{n}.csv"
        arguments = [
            *(command[0], *sorted(demo.glob("rain_*.nc")), *command[1:]),
            *("--regions", demo / "watersheds.geojson", "--every", "year", *more, "--out", out),
        ]
        assert main([str(word) for word in arguments]) == 0
        told.append(out.read_bytes())
    assert told[0] == told[1]
    assert merged.count("merge") > 30
    assert merged.count("finish") == (30 if command[0] == "series" else 0)


def test_a_damaged_file_is_named_whoever_reads_it(demo, workers, tmp_path):
    address, _ = workers
    good = (demo / "rain_2001-2010.nc").read_bytes()
    bad = tmp_path / "rain_bad.nc"
    middle = len(good) // 2
    bad.write_bytes(good[:middle] + bytes(200_000) + good[middle + 200_000 :])
    done = run(
        "series",
        demo / "rain_1991-2000.nc",
        bad,
        "--regions",
        demo / "watersheds.geojson",
        "--cluster",
        address,
        "--out",
        tmp_path / "x.csv",
        check=False,
    )
    assert done.returncode == 1
    assert "rain_bad.nc" in done.stderr
    assert "Traceback" not in done.stderr
    assert not (tmp_path / "x.csv").exists()


def test_an_address_where_nothing_answers_is_said_to_be_that(demo, monkeypatch):
    monkeypatch.setattr(cluster, "PATIENCE", 1)
    with pytest.raises(BavloError, match="no scheduler answers"):
        list(cluster.run(str, [1], 1, "tcp://127.0.0.1:1", str))
