"""Threads and a cluster go through the same loops with the same results."""

import itertools
from dataclasses import dataclass

import numpy as np
import pytest

from bavlo import compiled
from bavlo.core.reduce.period_state import Rules
from bavlo.core.reduce.protocol import Block
from bavlo.core.reduce.region_reducers import CellFirst, RegionFirst
from bavlo.core.stats.cell_sample import OverlayIndex
from bavlo.core.stats.measures import parse_measure
from bavlo.engine import choices, dask, memory
from bavlo.engine.executor import executor
from bavlo.engine.memory import fitting_jobs, size_text
from bavlo.engine.protocol import ArrayRecords, Needs, Resources, StepRecords, not_needed
from bavlo.engine.segments import plan_blocks, plan_segments
from bavlo.engine.threads import Threads
from bavlo.errors import InputError, RequestError
from bavlo.request.reporter import SilentReporter
from support import daily, some_overlay, step_weights_of

SIZES = 32, 128


@dataclass(frozen=True, eq=False)
class ArrayReader:
    """Reads units out of an array (T, C)."""

    block: np.ndarray

    def read(self, block):
        return self.block[block.first : block.last]

    def files(self, first, last):
        return f"steps {first} to {last}"


@dataclass(frozen=True, eq=False)
class NamedReader(ArrayReader):
    """The same under two names, as conditions read."""

    def read(self, block):
        values = super().read(block)
        return {"a": values, "b": -values}


@dataclass(frozen=True, eq=False)
class LongestOfBricks:
    """How many steps each cell is above zero, from its whole record."""

    bricks: tuple

    def compute(self, number, values):
        if "b" in values:
            np.testing.assert_array_equal(values["b"], -values["a"])
        return number, (values["a"] > 0).sum(axis=0)


@pytest.fixture(scope="module")
def cluster():
    """A scheduler and two workers in this process."""
    distributed = pytest.importorskip("distributed")
    with (
        distributed.LocalCluster(
            n_workers=2, threads_per_worker=1, processes=False, dashboard_address=None
        ) as here,
        distributed.Client(here) as client,
    ):
        yield client


def values(settled):
    found = sorted(itertools.chain(*settled), key=lambda each: each.first)
    return [
        np.concatenate([getattr(e, n) for e in found]) for n in ("value", "area_valid", "steps")
    ]


@pytest.mark.parametrize("order", [RegionFirst, CellFirst])
@pytest.mark.parametrize("every", ["month", "all"])
def test_a_cluster_reduces_to_the_same_bits_as_threads(order, every, cluster):
    rng = np.random.default_rng(3)
    block = rng.gamma(0.5, 8, (800, 12))
    block[rng.random(block.shape) < 0.02] = np.nan
    weights = step_weights_of(daily(800), every)
    measures = (parse_measure("mean"), parse_measure("p90"))
    rules = Rules("total", min_steps=0.5)
    reducer = order(OverlayIndex(some_overlay(rng, 4, 12)), weights, measures, rules)
    units = plan_blocks(weights.assignment, 12, 9 * 12)
    segments = plan_segments([weights.assignment], units, (2, 4))
    heard = []
    here = Threads(3, 0, lambda *done: heard.append(done), not_needed)
    there = dask.Cluster(cluster, not_needed)
    one, other = (
        values(each.reduce(ArrayReader(block), reducer, segments)) for each in (here, there)
    )
    for a, b in zip(one, other, strict=True):
        assert a.tobytes() == b.tobytes()
    assert heard[-1] == (800, 800)
    assert heard == sorted(heard)


@pytest.mark.parametrize(("room", "cut_values"), [(0, 500), (10**9, 500), (0, 4000), (0, 10**6)])
def test_bricks_get_the_whole_record_of_their_cells_wherever_they_are_computed(
    room, cut_values, cluster, tmp_path, monkeypatch
):
    monkeypatch.setattr(choices.OnCluster, "cut_values", cut_values)
    monkeypatch.setattr(choices.OnCluster, "groups_of_thread", 1)
    rng = np.random.default_rng(4)
    block = np.round(rng.normal(0, 3, (300, 23)), 1)
    units = [Block(a, b) for a, b in itertools.pairwise([0, 50, 51, 140, 300])]
    work = LongestOfBricks((slice(0, 9), slice(9, 20), slice(20, 23)))
    heard, notes = [], []
    here = Threads(2, room, lambda *done: heard.append(done), notes.append)
    there = dask.Cluster(cluster, not_needed)
    for records in (StepRecords(NamedReader(block), units), ArrayRecords({"a": block})):
        for each in (here, there):
            results = list(each.by_bricks(records, work))
            assert [number for number, _ in results] == [0, 1, 2]
            counted = np.concatenate([counts for _, counts in results])
            np.testing.assert_array_equal(counted, (block > 0).sum(axis=0))
    assert any("scratch file" in note for note in notes) == (room == 0)
    assert (600, 600) in heard
    assert not list(tmp_path.iterdir())


@pytest.mark.parametrize(
    ("bricks", "values", "threads", "count"),
    [
        (36, 2e8, 2, 12),  # some for each thread
        (5, 2e7, 2, 5),  # no more than there are bricks
        (2000, 8e9, 1, 120),  # each of as many values as a worker holds
    ],
)
def test_bricks_are_joined_in_as_few_groups_as_keep_all_workers_busy(
    bricks, values, threads, count
):
    groups = dask.group_bricks(bricks, int(values), threads)
    assert len(groups) == count
    assert list(itertools.chain(*groups)) == list(range(bricks))
    sizes = [len(group) for group in groups]
    assert max(sizes) - min(sizes) <= 1


@pytest.mark.parametrize("pays", [False, True])
def test_workers_are_told_whether_compiled_loops_pay(pays, monkeypatch):
    class Client:
        def submit(self, work, data, **_):
            return work(data)

    allowed = []
    monkeypatch.setattr(compiled, "use", lambda: allowed.append(True))
    monkeypatch.setattr(compiled, "in_use", lambda: pays)
    assert dask._shared(Client(), "the work").unpacked == "the work"
    assert allowed == [True] * pays


@pytest.mark.parametrize(
    ("address", "most", "used"),
    [(None, 2**60, True), (None, 2**20, False), ("tcp://there:8786", 2**20, True)],
)
def test_loops_are_used_where_they_fit_and_count_as_taken(address, most, used, monkeypatch):
    pytest.importorskip("numba")
    monkeypatch.setattr(compiled, "_wanted", False)
    needs = memory.use_loops(Resources(2, most, address), Needs(10, 10))
    assert compiled.in_use() == used
    assert needs.kept == 10 + compiled.SIZE * (used and address is None)


def test_an_error_on_a_worker_names_what_was_read(cluster):
    class Broken(ArrayReader):
        def read(self, block):
            raise ZeroDivisionError("a flaw")

    class Refusing(ArrayReader):
        def read(self, block):
            raise InputError("x.nc", "is damaged", "fetch it again")

    weights = step_weights_of(daily(20), "month")
    index = OverlayIndex(some_overlay(np.random.default_rng(0), 2, 3))
    reducer = RegionFirst(index, weights, (parse_measure("mean"),), Rules("total"))
    segments = plan_segments(
        [weights.assignment], plan_blocks(weights.assignment, 3, 2**21), (32, 128)
    )
    there = dask.Cluster(cluster, not_needed)
    with pytest.raises(InputError, match=r"steps 0 to 20: failed on a worker \(a flaw\)"):
        list(there.reduce(Broken(np.ones((20, 3))), reducer, segments))
    with pytest.raises(InputError, match=r"x\.nc: is damaged; fetch it again"):
        list(there.reduce(Refusing(np.ones((20, 3))), reducer, segments))


def test_as_many_units_are_held_as_fit_and_the_least_memory_is_named():
    base = memory.in_use()
    needs = Needs(block=2**26, kept=2**20)
    assert (
        fitting_jobs(8, base + 2**30, needs) in range(12, 16)
        or fitting_jobs(8, base + 2**30, needs) == 8
    )
    assert fitting_jobs(99, base + 2**30, needs) < 16
    with pytest.raises(RequestError, match="is too little; this job needs"):
        fitting_jobs(2, base // 2, needs)
    assert size_text(1.5 * 2**30) == "1.5GB"
    assert size_text(300 * 2**20) == "300MB"


def test_an_executor_keeps_to_its_resources():
    needs = Needs(2**20, 0, 5.0)
    said = SilentReporter()
    with executor(Resources(3, memory.in_use() + 2**30, None), needs, said) as e:
        assert isinstance(e, Threads)
        assert (e.jobs, e.room) == (3, 5.0)
    assert said.notes[0].startswith("threads: 3; 1MB for each block, 0MB beside them")
    with (
        pytest.raises(RequestError, match="too little"),
        executor(Resources(3, 2**20, None), needs, SilentReporter()),
    ):
        pass


def test_work_that_fails_in_a_thread_stops_the_others():
    done = []

    class Reader(ArrayReader):
        def read(self, block):
            if block.first:
                raise InputError("x.nc", "is damaged")
            done.append(block)
            return super().read(block)

    weights = step_weights_of(daily(400), "day")
    index = OverlayIndex(some_overlay(np.random.default_rng(0), 2, 3))
    reducer = RegionFirst(index, weights, (parse_measure("mean"),), Rules("total"))
    units = plan_blocks(weights.assignment, 3, 15)
    threads = Threads(2, 0, not_needed, not_needed)
    with pytest.raises(InputError, match=r"x\.nc"):
        list(
            threads.reduce(
                Reader(np.ones((400, 3))),
                reducer,
                plan_segments([weights.assignment], units, SIZES),
            )
        )
    assert len(done) == 1
