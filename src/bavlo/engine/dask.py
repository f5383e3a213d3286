"""Blocks and bricks computed on a Dask cluster, whose workers open the files themselves."""

from __future__ import annotations

import itertools
import os
import pickle
import warnings
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cached_property, partial
from typing import Any, TypeVar

from bavlo import __version__, compiled
from bavlo.core.reduce.merging import InOrder, MergeTree
from bavlo.core.reduce.protocol import Block, Reducer
from bavlo.engine.bricks import Piece, cut_into_bricks, joined_brick
from bavlo.engine.choices import OnCluster
from bavlo.engine.protocol import ArrayRecords, BrickWork, OnProgress, Reader, StepRecords
from bavlo.engine.segments import Segment
from bavlo.errors import BavloError, InputError, RequestError

Content = TypeVar("Content")
State = TypeVar("State")
Settled = TypeVar("Settled")
Result = TypeVar("Result")
Task = TypeVar("Task")
Run = tuple[Block, ...]
Begun = tuple[Any, Any]  # futures of a pickled outcome, and of what stays with the workers

LOCAL = "local"
END = b"\n"
VERSION = __version__.encode() + END  # stands before all work, which other versions refuse
LOOKED_AFTER, MOST_IDLE = 5, 6  # seconds, and how often no worker may be running in a row
RUNNING = "running"
PATIENCE = 20  # seconds to wait for a scheduler, and for its first worker


@dataclass(frozen=True, eq=False)
class Cluster:
    """An executor on a Dask cluster: workers keep what they compute until it is asked for."""

    client: Any
    on_progress: OnProgress

    def reduce(
        self,
        reader: Reader[Content],
        reducer: Reducer[Content, State, Settled],
        segments: Sequence[Segment],
    ) -> Iterator[Settled]:
        """Reduce all blocks, a segment a task; what segments leave open is merged by workers."""
        known = {"shared": _shared(self.client, (reader, reducer)), "pure": False}
        submit = partial(self.client.submit, **known, priority=1)
        waiting: deque[Any] = deque()  # what merging has settled, to be fetched
        reading = ""

        def begin(batch: list[Segment]) -> list[Begun]:
            # Only what a neighbour has to finish must stay when the rest is fetched.
            states = self.client.map(_reduce_segment, [s for s in batch if s.is_open], **known)
            fetched = self.client.map(_settled, states, pure=False, priority=1) if states else []
            whole = self.client.map(_whole_segment, [s for s in batch if not s.is_open], **known)
            both, alone = zip(fetched, states, strict=True), iter(whole)
            return [next(both) if s.is_open else (next(alone), None) for s in batch]

        def merge(earlier: Any, later: Any) -> Any:
            merged = submit(_merge, earlier, later)
            waiting.append(self.client.submit(_settled, merged, pure=False, priority=1))
            return merged

        def fetched_until(most: int) -> Iterator[Settled]:
            while len(waiting) > most:
                yield from pickle.loads(_outcome(self.client, waiting.popleft(), reading))

        tree: MergeTree[Any] = MergeTree(merge)
        steps = segments[-1].last - segments[0].first if segments else 0

        def name(segment: Segment) -> str:
            return reader.files(segment.first, segment.last)

        for segment, state, settled in _in_order(self.client, segments, begin, name):
            reading = name(segment)
            yield from settled
            if segment.is_open:
                tree.add(state)
                if segment.ends_chain:
                    waiting.append(submit(_close, tree.close()))
            yield from fetched_until(OnCluster.waiting)
            self.on_progress(segment.last - segments[0].first, steps)
        if tree:
            waiting.append(submit(_close, tree.close()))
        yield from fetched_until(0)

    def by_bricks(
        self, records: StepRecords | ArrayRecords, work: BrickWork[Result]
    ) -> Iterator[Result]:
        """The results of all bricks, in their order."""
        if isinstance(records, ArrayRecords):
            yield from self._of_arrays(records, work)
        else:
            yield from self._of_steps(records, work)

    def _of_arrays(self, records: ArrayRecords, work: BrickWork[Result]) -> Iterator[Result]:
        """Records that are here go out with their bricks."""
        known = {"shared": _shared(self.client, (None, work)), "pure": False}

        def begin(batch: list[int]) -> list[Begun]:
            futures: list[Begun] = []
            for number in batch:
                own = {n: v[:, work.bricks[number]] for n, v in records.values.items()}
                futures.append((self.client.submit(_brick, number, own, **known), None))
            return futures

        bricks = range(len(work.bricks))
        for number, _, result in _in_order(self.client, bricks, begin, self._brick_name(work)):
            yield result
            self.on_progress(number + 1, len(bricks))

    def _of_steps(self, records: StepRecords, work: BrickWork[Result]) -> Iterator[Result]:
        """What is cut stays with the workers, which pass a brick's pieces to whoever joins it."""
        known = {"shared": _shared(self.client, (records.reader, work)), "pure": False}
        runs = plan_runs(records.blocks, work.bricks[-1].stop)
        begin_step = runs[0][0].first
        steps = runs[-1][-1].last - begin_step

        def begin_runs(batch: list[Run]) -> list[Begun]:
            cut = self.client.map(_cut, batch, **known)
            return list(zip(self.client.map(_over, cut, priority=1, pure=False), cut, strict=True))

        def name(run: Run) -> str:
            return records.reader.files(run[0].first, run[-1].last)

        cuts = []
        for run, cut, _ in _in_order(self.client, runs, begin_runs, name):
            cuts.append(cut)
            self.on_progress(run[-1].last - begin_step, 2 * steps)

        def begin_bricks(batch: list[range]) -> list[Begun]:
            futures: list[Begun] = []
            for numbers in batch:
                pieces = self.client.map(_pieces, cuts, numbers=numbers, pure=False, priority=1)
                futures.append((self.client.submit(_joined_bricks, numbers, pieces, **known), None))
            return futures

        values = steps * work.bricks[-1].stop
        groups = group_bricks(len(work.bricks), values, _threads(self.client))
        name_of = self._brick_name(work)
        for numbers, _, results in _in_order(
            self.client, groups, begin_bricks, lambda numbers: name_of(numbers[0])
        ):
            yield from results
            self.on_progress(steps + steps * numbers.stop // len(work.bricks), 2 * steps)

    @staticmethod
    def _brick_name(work: BrickWork[Any]) -> Callable[[int], str]:
        return lambda number: f"part {number + 1} of {len(work.bricks)} of the cells"


def plan_runs(blocks: Sequence[Block], cells: int) -> list[Run]:
    """Runs of blocks whose values are cut into bricks together."""
    steps = blocks[-1].last - blocks[0].first
    most = max(1, min(OnCluster.cut_values // max(cells, 1), -(-steps // OnCluster.cut_runs)))
    runs: list[Run] = []
    for block in blocks:
        if runs and block.last - runs[-1][0].first <= most:
            runs[-1] += (block,)
        else:
            runs.append((block,))
    return runs


def group_bricks(bricks: int, values: int, threads: int) -> list[range]:
    """Consecutive bricks that are joined by one task.

    Each task asks every run of steps for its part, so that fewer tasks spare the scheduler work
    that grows with the square of the record; of `values` in all it holds at most
    `cut_values`.
    """
    count = min(
        bricks, max(OnCluster.groups_of_thread * threads, -(-values // OnCluster.cut_values))
    )
    edges = [number * bricks // count for number in range(count + 1)]
    return [range(first, last) for first, last in itertools.pairwise(edges)]


def _threads(client: Any) -> int:
    """Threads of all workers."""
    return max(int(sum(client.nthreads().values())), 1)


def _shared(client: Any, work: Any) -> Any:
    import cloudpickle

    with warnings.catch_warnings():
        # Of its size the library warns its own users; here it goes out once, as it should.
        warnings.simplefilter("ignore", UserWarning)
        return client.submit(
            _Work, VERSION + cloudpickle.dumps((compiled.in_use(), work)), pure=False
        )


def _in_order(
    client: Any,
    tasks: Sequence[Task],
    begin: Callable[[list[Task]], list[Begun]],
    name: Callable[[Task], str],
) -> Iterator[tuple[Task, Any, Any]]:
    """Tasks in their order, what stays with the workers and what is fetched of each.

    They are futures and fetched many at a time, as many as there are: a journey to the scheduler
    costs several times what a task costs it.
    """
    threads = _threads(client)
    under_way: deque[tuple[Task, Begun]] = deque()
    waiting = iter(tasks)
    size = OnCluster.fetched_bytes
    while True:
        if len(under_way) <= (OnCluster.ahead - 1) * threads:
            batch = list(itertools.islice(waiting, OnCluster.ahead * threads - len(under_way)))
            under_way.extend(zip(batch, begin(batch), strict=True))
        if not under_way:
            return
        done = itertools.takewhile(lambda each: each[1][0].status == "finished", under_way)
        most = max(OnCluster.fetched_bytes // size, 1)
        futures = [future for _, (future, _) in itertools.islice(done, most)]
        found = client.gather(futures, errors="skip") if len(futures) > 1 else []
        if len(found) < len(futures) or not found:
            task, (future, _) = under_way[0]
            found = [_outcome(client, future, name(task))]
        for data in found:
            task, (_, made) = under_way.popleft()
            size = len(data)
            yield task, made, pickle.loads(data)


class _Work:
    """What workers are sent to do; travels as bytes, and is unpacked once in each process."""

    def __init__(self, data: bytes) -> None:
        self.data = data

    def __reduce__(self) -> tuple[type[_Work], tuple[bytes]]:
        return _Work, (self.data,)

    @cached_property
    def unpacked(self) -> Any:
        """The reader or nothing, and the reducer or the work on bricks."""
        for key in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS"):
            os.environ.setdefault(key, "1")
        if not self.data.startswith(VERSION):
            other = self.data.partition(END)[0].decode()
            raise RequestError(
                "cluster",
                f"a worker has Bavlo {__version__}, and this is {other}",
                "install the same version on all workers",
            )
        compiles, work = pickle.loads(self.data[len(VERSION) :])
        if compiles:
            compiled.use()
        return work


# What follows is done by workers. What is fetched is pickled there, so that its size is known.


def _reduce_segment(segment: Segment, *, shared: _Work) -> tuple[list[Any], Any]:
    """What is settled of a segment, and the state that it leaves open."""
    reader, reducer = shared.unpacked
    run: InOrder[Any, Any] = InOrder(reducer)
    settled = []
    for block in segment.blocks:
        for state in reducer.update(block, reader.read(block)):
            results, rest = reducer.settle(state)
            settled += [results, *run.add(rest)]
    return settled, run.rest


def _settled(state: tuple[list[Any], Any]) -> bytes:
    return pickle.dumps(state[0])


def _whole_segment(segment: Segment, *, shared: _Work) -> bytes:
    return _settled(_reduce_segment(segment, shared=shared))


def _merge(
    earlier: tuple[list[Any], Any], later: tuple[list[Any], Any], *, shared: _Work
) -> tuple[list[Any], Any]:
    if earlier[1] is None or later[1] is None:
        return [], later[1] if earlier[1] is None else earlier[1]
    reducer = shared.unpacked[1]
    settled, rest = reducer.settle(reducer.merge(earlier[1], later[1]))
    return [settled], rest


def _close(state: tuple[list[Any], Any], *, shared: _Work) -> bytes:
    reducer = shared.unpacked[1]
    return pickle.dumps([] if state[1] is None else [reducer.close(state[1])])


def _cut(run: Run, *, shared: _Work) -> list[Piece]:
    reader, work = shared.unpacked
    return cut_into_bricks((reader.read(block) for block in run), work.bricks)


def _over(cut: Any) -> bytes:
    return pickle.dumps(None)


def _pieces(cut: list[Piece], *, numbers: range) -> list[Piece]:
    return cut[numbers.start : numbers.stop]


def _joined_bricks(numbers: range, runs: list[list[Piece]], *, shared: _Work) -> bytes:
    work = shared.unpacked[1]
    bricks = zip(numbers, zip(*runs, strict=True), strict=True)
    return pickle.dumps([work.compute(number, joined_brick(parts)) for number, parts in bricks])


def _brick(number: int, values: dict[str, Any], *, shared: _Work) -> bytes:
    return pickle.dumps(shared.unpacked[1].compute(number, values))


def _awaited(client: Any, future: Any, what: str) -> Any:
    """What a task gives, unless there is no worker for longer than one takes to start again."""
    idle = 0
    while idle < MOST_IDLE:
        try:
            return future.result(timeout=LOOKED_AFTER)
        except TimeoutError:
            if future.done():  # that of the task itself, such as of a server that did not answer
                raise
            try:
                workers = client.scheduler_info().get("workers", {}).values()
            except OSError as error:  # the scheduler does not answer any more
                raise _lost(what) from error
            states = [worker.get("status") for worker in workers]
            idle = 0 if RUNNING in states else idle + 1
    if states:
        cause, remedy = "all workers pause, since their memory is full", "give them more of it"
    else:
        cause, remedy = "the cluster has no worker left", "start some, and look at their logs"
    raise InputError(what, f"{cause}, while it waits to be read", remedy)


def _lost(what: str) -> InputError:
    return InputError(what, "the cluster was lost while it was read", "start it again")


def _outcome(client: Any, future: Any, what: str) -> Any:
    """What a task gave, or an error in the user's words."""
    try:
        return _awaited(client, future, what)
    except BavloError:
        raise
    except Exception as error:
        kind = type(error).__name__
        if kind == "KilledWorker":
            raise InputError(
                what,
                "the workers that read it died, one after the other",
                "look at their logs, and give them more memory if that ran out",
            ) from error
        if kind in ("CancelledError", "FutureCancelledError", "CommClosedError"):
            raise _lost(what) from error
        if isinstance(error, ModuleNotFoundError | AttributeError | pickle.UnpicklingError):
            raise RequestError(
                "cluster",
                f"a worker cannot do the work ({error})",
                "install the same version of Bavlo on all workers",
            ) from error
        raise InputError(what, f"failed on a worker ({error})", "see the worker's log") from error


@contextmanager
def client(address: str, jobs: int, patience: float = PATIENCE) -> Iterator[Any]:
    """A client of a scheduler that is there (in so many seconds), or of one started here."""
    try:
        import distributed
    except ImportError:
        raise RequestError(
            "cluster", "needs a further library", "pip install 'bavlo[cluster]'"
        ) from None
    import logging

    logging.getLogger("distributed").setLevel(logging.CRITICAL)
    if address == LOCAL:
        try:
            cluster = distributed.LocalCluster(
                n_workers=jobs,
                threads_per_worker=1,
                processes=True,
                dashboard_address=None,
                silence_logs=logging.CRITICAL,
            )
        except (RuntimeError, OSError, TimeoutError) as error:
            raise RequestError(
                "cluster",
                f"its workers died while they started ({error})",
                "leave it out, or make sure that there is memory for them",
            ) from error
        with cluster, distributed.Client(cluster) as client:
            yield client
        return
    try:
        client = distributed.Client(address, timeout=patience, set_as_default=False)
    except (OSError, TimeoutError, ValueError) as error:
        raise RequestError(
            "cluster", f"no scheduler answers at {address} ({error})", "check the address"
        ) from error
    with client:
        try:
            client.wait_for_workers(1, timeout=patience)
        except TimeoutError as error:
            raise RequestError(
                "cluster", f"the scheduler at {address} has no workers", "start some"
            ) from error
        yield client
