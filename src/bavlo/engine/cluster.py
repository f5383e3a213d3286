"""Units of work on a Dask cluster: workers open the files themselves."""

from __future__ import annotations

import itertools
import os
import pickle
import warnings
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any, TypeVar

from bavlo.core.errors import BavloError, InputError, RequestError
from bavlo.core.stretches import Stretch
from bavlo.engine.work import ShuffleWork, StretchWork

Task = TypeVar("Task")
Outcome = TypeVar("Outcome")
Begun = tuple[Any, Any]  # what stands for a pickled outcome, and for what stays with the workers

LOCAL = "local"
FETCHED_AT_ONCE = 2**25  # bytes of outcomes
AHEAD = 3  # tasks of each worker's thread that are under way at once
PATIENCE = 20  # seconds to wait for a scheduler, and for its first worker


def run(
    work: Callable[[Task], Outcome],
    tasks: Sequence[Task],
    jobs: int,
    address: str,
    name: Callable[[Task], str],
) -> Iterator[Outcome]:
    """Do every task on a cluster and give out the outcomes in the order of the tasks.

    What the tasks share goes out once, as a task of its own that the scheduler can do again when
    the workers that hold it are lost. A task whose worker dies is done again elsewhere.
    """
    with _client(address, jobs) as client:
        shared = _shared(client, work)

        def begin(batch: list[Task]) -> list[Begun]:
            futures = client.map(_done, batch, shared=shared, pure=False)
            return [(future, None) for future in futures]

        for _, _, outcome in _in_order(client, tasks, begin, name):
            yield outcome


def shuffled(
    work: ShuffleWork,
    runs: Sequence[Task],
    parts: int,
    jobs: int,
    address: str,
    name: Callable[[Task], str],
    told: Callable[[Task], None],
) -> Iterator[Any]:
    """What is cut stays with the workers, which pass the pieces of a part to whoever joins it."""
    with _client(address, jobs) as client:
        shared = _shared(client, work)
        known = {"shared": shared, "pure": False}

        def begin_runs(batch: list[Task]) -> list[Begun]:
            cut = client.map(_cut, batch, **known)
            return list(zip(client.map(_over, cut, priority=1, pure=False), cut, strict=True))

        cuts = []
        for run, cut, _ in _in_order(client, runs, begin_runs, name):
            cuts.append(cut)
            told(run)

        def begin_parts(batch: list[int]) -> list[Begun]:
            begun: list[Begun] = []
            for number in batch:
                pieces = client.map(_piece, cuts, number=number, pure=False)
                begun.append((client.submit(_joined, number, pieces, **known), None))
            return begun

        def part(number: int) -> str:
            return f"part {number + 1} of {parts} of the cells"

        for _, _, outcome in _in_order(client, range(parts), begin_parts, part):
            yield outcome


@contextmanager
def there(
    work: StretchWork,
    jobs: int,
    address: str,
    name: Callable[[Stretch], str],
    told: Callable[[int], None],
) -> Iterator[There]:
    """A cluster as the place where stretches are computed."""
    with _client(address, jobs) as client:
        yield There(client, _shared(client, work), name, told, work.keeps)


@dataclass(eq=False)
class There:
    """Stretches computed by the workers of a cluster, which keep what they make until asked."""

    client: Any
    shared: Any
    name: Callable[[Stretch], str]
    told: Callable[[int], None]
    keeps: Callable[[Stretch], bool]
    doing: str = ""
    tree_height = 3
    waiting = 32

    def stretches(self, stretches: Sequence[Stretch]) -> Iterator[tuple[Stretch, Any, Any]]:
        """What stands for what is made of each stretch, and what is finished of it, in order."""
        for stretch, made, finished in _in_order(self.client, stretches, self._begin, self.name):
            self.doing = self.name(stretch)
            yield stretch, made, finished
            self.told(stretch.last)

    def _begin(self, batch: list[Stretch]) -> list[Begun]:
        # Only what a neighbour has to finish must stay when the rest is fetched.
        open_ends = [stretch for stretch in batch if self.keeps(stretch)]
        whole = [stretch for stretch in batch if not self.keeps(stretch)]
        known = {"shared": self.shared, "pure": False}
        made = self.client.map(_made, open_ends, **known) if open_ends else []
        finished = self.client.map(_finished, made, priority=1, **known) if made else []
        alone = self.client.map(_made_whole, whole, **known) if whole else []
        begun = dict(zip(open_ends, zip(finished, made, strict=True), strict=True))
        begun |= {stretch: (future, None) for stretch, future in zip(whole, alone, strict=True)}
        return [begun[stretch] for stretch in batch]

    def call(self, name: str, *arguments: Any) -> Any:
        """Let the work do something with what was made, on a worker that has it."""
        return self.client.submit(_call, self.shared, name, *arguments, pure=False, priority=1)

    def get(self, made: Any) -> Any:
        """What was made, fetched."""
        return _outcome(made, self.doing)


def _shared(client: Any, work: Any) -> Any:
    import cloudpickle

    with warnings.catch_warnings():
        # Of its size the library warns its own users; here it goes out once, as it should.
        warnings.simplefilter("ignore", UserWarning)
        return client.submit(_same, cloudpickle.dumps(work), pure=False)


def _in_order(
    client: Any,
    tasks: Sequence[Task],
    begin: Callable[[list[Task]], list[Begun]],
    name: Callable[[Task], str],
) -> Iterator[tuple[Task, Any, Any]]:
    """Tasks in their order, what stays with the workers and what is fetched of each.

    They are begun and fetched many at a time, as many as there are: a journey to the scheduler
    costs several times what a task costs it.
    """
    threads = max(sum(client.nthreads().values()), 1)
    under_way: deque[tuple[Task, Begun]] = deque()
    waiting = iter(tasks)
    size = FETCHED_AT_ONCE
    while True:
        if len(under_way) <= (AHEAD - 1) * threads:
            batch = list(itertools.islice(waiting, AHEAD * threads - len(under_way)))
            under_way.extend(zip(batch, begin(batch), strict=True))
        if not under_way:
            return
        done = itertools.takewhile(lambda each: each[1][0].status == "finished", under_way)
        most = max(FETCHED_AT_ONCE // size, 1)
        futures = [future for _, (future, _) in itertools.islice(done, most)]
        found = client.gather(futures, errors="skip") if len(futures) > 1 else []
        if len(found) < len(futures) or not found:
            task, (future, _) = under_way[0]
            found = [_outcome(future, name(task))]
        for data in found:
            task, (_, made) = under_way.popleft()
            size = len(data)
            yield task, made, pickle.loads(data)


def _same(data: bytes) -> bytes:
    return data


_known: dict[int, tuple[bytes, Any]] = {}


# What follows is done by workers. What is fetched is pickled there, so that its size is known.


def _done(task: Any, *, shared: bytes) -> bytes:
    return pickle.dumps(_unpacked(shared)(task))


def _made(stretch: Stretch, *, shared: bytes) -> Any:
    work = _unpacked(shared)
    fold = work.begin(stretch)
    for unit in stretch.units:
        fold.add(work.each(unit))
    return fold.close()


def _finished(made: Any, *, shared: bytes) -> bytes:
    return pickle.dumps(_unpacked(shared).finished(made))


def _made_whole(stretch: Stretch, *, shared: bytes) -> bytes:
    return _finished(_made(stretch, shared=shared), shared=shared)


def _cut(run: Any, *, shared: bytes) -> Any:
    return _unpacked(shared).cut(run)


def _over(cut: Any) -> bytes:
    return pickle.dumps(None)


def _piece(cut: Any, *, number: int) -> Any:
    return cut[number]


def _joined(number: int, pieces: list[Any], *, shared: bytes) -> bytes:
    return pickle.dumps(_unpacked(shared).join(number, pieces))


def _call(shared: bytes, name: str, *arguments: Any) -> Any:
    return getattr(_unpacked(shared), name)(*arguments)


def _unpacked(shared: bytes) -> Any:
    for key in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS"):
        os.environ.setdefault(key, "1")
    known = _known.get(len(shared))
    if known is None or known[0] != shared:
        _known.clear()
        known = _known[len(shared)] = (shared, pickle.loads(shared))
    return known[1]


def _outcome(future: Any, what: str) -> Any:
    """What a task gave, or an error in the user's words."""
    try:
        return future.result()
    except BavloError:
        raise
    except Exception as error:
        kind = type(error).__name__
        if kind == "KilledWorker":
            raise InputError(
                what, "the workers that read it died, one after the other", "look at their logs"
            ) from error
        if kind in ("CancelledError", "FutureCancelledError", "CommClosedError"):
            raise InputError(
                what, "the cluster was lost while it was read", "start it again"
            ) from (error)
        if isinstance(error, ModuleNotFoundError | AttributeError | pickle.UnpicklingError):
            raise RequestError(
                "--cluster",
                f"a worker cannot do the work ({error})",
                "install the same version of Bavlo on all workers",
            ) from error
        raise InputError(what, f"failed on a worker ({error})", "see the worker's log") from error


@contextmanager
def _client(address: str, jobs: int) -> Iterator[Any]:
    """A client of a scheduler that is there, or of one that is started here."""
    try:
        import distributed
    except ImportError:
        raise RequestError(
            "--cluster", "needs a further library", "pip install 'bavlo[cluster]'"
        ) from None
    import logging

    logging.getLogger("distributed").setLevel(logging.CRITICAL)
    if address == LOCAL:
        with (
            distributed.LocalCluster(
                n_workers=jobs,
                threads_per_worker=1,
                processes=True,
                dashboard_address=None,
                silence_logs=logging.CRITICAL,
            ) as cluster,
            distributed.Client(cluster) as client,
        ):
            yield client
        return
    try:
        client = distributed.Client(address, timeout=PATIENCE, set_as_default=False)
    except (OSError, TimeoutError, ValueError) as error:
        raise RequestError(
            "--cluster", f"no scheduler answers at {address} ({error})", "check the address"
        ) from error
    with client:
        try:
            client.wait_for_workers(1, timeout=PATIENCE)
        except TimeoutError as error:
            raise RequestError(
                "--cluster", f"the scheduler at {address} has no workers", "start some"
            ) from error
        yield client
