"""A real scheduler and worker processes give what one machine gives, to the last byte."""

import json
import shutil
import subprocess
import sys
import time

import pytest

from bavlo.cli.screen import Screen
from bavlo.core.reduce.merging import MergeTree
from bavlo.engine import choices
from bavlo.engine import dask as cluster
from bavlo.errors import BavloError
from support import run

DASK = [sys.executable, "-m", "dask"]
ROOM = ["--memory", "4GB"]  # this process has done other tests before


@pytest.fixture(scope="module")
def workers(tmp_path_factory):
    """A scheduler with three workers, each a process of its own; tests may kill two."""
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
        for _ in range(3)
    ]
    yield json.loads(told.read_text())["address"], list(started)
    for process in (*started, scheduler):
        process.kill()
        process.wait()


@pytest.mark.parametrize(
    "command",
    [
        ["series", "--measure", "p90,max", "--order", "cell"],
        ["extremes", "--when", "rain >= 20 mm for 2 days", "--count", "days,longest"],
        ["extremes", "--when", "rain > p95 of wet days", "--count", "days,total", "--events"],
        ["extremes", "--when", "rain < 1 mm", "--count", "longest", "--spell-edge", "cut"],
        ["extremes", "--index", "CDD,Rx5day,R95p", "--every", "year"],
        ["extremes", "--when", "rain > p90 of all days", "--test-on", "region"],
    ],
)
def test_what_is_made_on_a_cluster_is_what_is_made_here(
    command, demo, workers, tmp_path, monkeypatch
):
    address, _ = workers
    monkeypatch.setattr(
        choices.OnCluster, "cut_values", 2**20
    )  # so that records are cut in several runs
    told = []
    for n, more in enumerate((ROOM, [*ROOM, "--cluster", address])):
        out = tmp_path / f"{n}.csv"
        wanted = list(command)
        if "--events" in wanted:
            wanted.append(tmp_path / f"events_{n}.csv")
        words = [wanted[0], *sorted(demo.glob("rain_*.nc")), *wanted[1:], *more, "--out", out]
        regions = ["--regions", demo / "watersheds.geojson", "--during", "2001..2003"]
        run(*words, *regions)
        told.append(out.read_bytes())
        if "--events" in wanted:
            told[-1] += (tmp_path / f"events_{n}.csv").read_bytes()
    assert told[0] == told[1]
    assert len(told[0]) > 1000


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
    sizes = {"values": (32, 7), "counts": (2, 3)}
    monkeypatch.setattr(choices, "SEGMENT_BLOCKS", sizes)
    monkeypatch.setattr(choices, "BLOCK_VALUES", 2**16)
    monkeypatch.setattr(choices, "BLOCK_VALUES", 2**16)
    merged = []

    class Counted(MergeTree):
        def __init__(self, merge):
            super().__init__(lambda a, b: (merged.append(1), merge(a, b))[1])

    monkeypatch.setattr(cluster, "MergeTree", Counted)
    told = []
    for n, more in enumerate((ROOM, [*ROOM, "--cluster", address])):
        out = tmp_path / f"{n}.csv"
        arguments = [
            *(command[0], *sorted(demo.glob("rain_*.nc")), *command[1:]),
            *("--regions", demo / "watersheds.geojson", "--every", "year", *more, "--out", out),
        ]
        run(*arguments)
        told.append(out.read_bytes())
    assert told[0] == told[1]
    assert len(merged) > 30


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


def test_an_address_where_nothing_answers_is_said_to_be_that():
    with pytest.raises(BavloError, match="no scheduler answers"):
        cluster.client("tcp://127.0.0.1:1", 1, patience=1).__enter__()


@pytest.mark.parametrize(
    "command",
    [
        ["series", "--measure", "mean,p90,max", "--order", "region"],
        ["extremes", "--when", "rain > p95 of wet days"],
    ],
)
def test_a_worker_that_dies_in_the_middle_is_survived(
    command, demo, workers, tmp_path, monkeypatch
):
    address, started = workers
    monkeypatch.setattr(choices, "BLOCK_VALUES", 2**16)
    monkeypatch.setattr(choices.OnCluster, "cut_values", 2**18)
    monkeypatch.setattr(choices, "BLOCK_VALUES", 2**16)

    def written(name, *more):
        words = [command[0], *sorted(demo.glob("rain_*.nc")), *command[1:], *more]
        words += ["--regions", demo / "watersheds.geojson", "--out", tmp_path / name]
        run(*words, "--during", "1991..2000")
        return (
            (tmp_path / name).read_bytes(),
            json.loads((tmp_path / f"{name}.about.json").read_text()),
        )

    here = written("here.csv", *ROOM)
    killed_at = []

    def progress(screen, done, total, what="steps"):
        if not killed_at and done < total:  # in the middle of the work
            killed_at.append(done)
            started.pop().kill()

    monkeypatch.setattr(Screen, "progress", progress)
    assert written("there.csv", *ROOM, "--cluster", address) == here
    assert killed_at


def test_workers_with_another_version_refuse_the_work(demo, workers, tmp_path, monkeypatch):
    address, _ = workers
    monkeypatch.setattr(cluster, "VERSION", b"9.9\n")
    words = ["series", demo / "monthly_rain.nc", "--regions", demo / "watersheds.geojson"]
    told = run(*words, *ROOM, "--cluster", address, "--out", tmp_path / "o.csv", check=False)
    assert told.returncode != 0
    assert "a worker has Bavlo 0.1.0, and this is 9.9; install the same version" in told.stderr
    assert not list(tmp_path.iterdir())


def test_a_scheduler_that_goes_away_in_the_middle_is_one_line(demo, tmp_path, monkeypatch):
    distributed = pytest.importorskip("distributed")
    monkeypatch.setattr(choices, "BLOCK_VALUES", 2**14)
    started = distributed.LocalCluster(
        n_workers=1, threads_per_worker=1, processes=True, dashboard_address=None,
        silence_logs=50,
    )  # fmt: skip
    closed = []

    def progress(screen, done, total, what="steps"):
        if not closed:
            closed.append(done)
            started.close(timeout=5)

    monkeypatch.setattr(Screen, "progress", progress)
    words = ["series", *sorted(demo.glob("rain_*.nc")), "--regions", demo / "watersheds.geojson"]
    words += ["--every", "day", "--out", tmp_path / "o.csv"]
    told = run(*words, *ROOM, "--cluster", started.scheduler_address, check=False)
    assert closed
    assert told.returncode == 1
    assert "the cluster was lost while it was read; start it again" in told.stderr
    assert not list(tmp_path.iterdir())


class Asked:
    """A future that is never done, of a client that sees the given workers."""

    def __init__(self, *states, is_done=False):
        self.states, self.is_done = states, is_done

    def result(self, timeout):
        raise TimeoutError("the server did not answer")

    def done(self):
        return self.is_done

    def scheduler_info(self):
        return {"workers": {n: {"status": state} for n, state in enumerate(self.states)}}


def test_a_task_that_failed_of_a_time_limit_is_not_waited_for():
    with pytest.raises(BavloError, match=r"failed on a worker \(the server did not answer\)"):
        cluster._outcome(Asked("running"), Asked(is_done=True), "rain")


@pytest.mark.parametrize(
    ("states", "said"),
    [
        (["paused", "paused"], "all workers pause, since their memory is full"),
        ([], "the cluster has no worker left"),
    ],
)
def test_work_that_no_worker_can_do_is_not_waited_for_without_end(states, said):
    with pytest.raises(BavloError, match=said):
        cluster._outcome(Asked(*states), Asked(), "rain")


def test_a_file_that_workers_do_not_have_is_named(demo, workers, tmp_path, monkeypatch):
    # The link leads each process to its own working folder, where only this one has the file.
    shutil.copy(demo / "monthly_rain.nc", tmp_path / "g.nc")
    shutil.copy(demo / "watersheds.geojson", tmp_path / "r.geojson")
    address, _ = workers
    words = ["series", "/proc/self/cwd/g.nc", "--regions", "r.geojson", "--out", "o.csv"]
    told = run(*words, *ROOM, "--cluster", address, cwd=tmp_path, check=False)
    assert told.returncode == 1
    assert "g.nc: " in told.stderr
    assert "Traceback" not in told.stderr
    assert told.stderr.strip().count("\n") == 0
    assert not (tmp_path / "o.csv").exists()
