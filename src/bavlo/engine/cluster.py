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
from bavlo.engine.work import StretchWork

Task = TypeVar("Task")
Outcome = TypeVar("Outcome")

LOCAL = "local"
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
        for task, future in _ahead(
            client, tasks, lambda t: client.submit(_do, shared, "", t, pure=False)
        ):
            yield _outcome(future, name(task))
            del future  # lets the cluster forget it


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
        yield There(client, _shared(client, work), name, told)


@dataclass(eq=False)
class There:
    """Stretches computed by the workers of a cluster, which keep what they make until asked."""

    client: Any
    shared: Any
    name: Callable[[Stretch], str]
    told: Callable[[int], None]
    doing: str = ""

    def stretches(self, stretches: Sequence[Stretch]) -> Iterator[tuple[Stretch, Any]]:
        """What stands for what is made of each stretch, in their order."""
        for stretch, future in _ahead(self.client, stretches, lambda s: self.call("", s)):
            self.doing = self.name(stretch)
            yield stretch, future
            self.told(stretch.last)

    def call(self, name: str, *arguments: Any) -> Any:
        """Let the work do something with what was made, on a worker that has it."""
        return self.client.submit(_do, self.shared, name, *arguments, pure=False)

    def get(self, made: Any) -> Any:
        """What was made, fetched."""
        return _outcome(made, self.doing)


def _shared(client: Any, work: Any) -> Any:
    import cloudpickle

    with warnings.catch_warnings():
        # Of its size the library warns its own users; here it goes out once, as it should.
        warnings.simplefilter("ignore", UserWarning)
        return client.submit(_same, cloudpickle.dumps(work), pure=False)


def _ahead(
    client: Any, tasks: Sequence[Task], submit: Callable[[Task], Any]
) -> Iterator[tuple[Task, Any]]:
    """Tasks and what stands for their outcomes, a few of them under way ahead of time."""
    threads = max(sum(client.nthreads().values()), 1)
    under_way: deque[tuple[Task, Any]] = deque()
    waiting = iter(tasks)
    while True:
        for task in itertools.islice(waiting, AHEAD * threads - len(under_way)):
            under_way.append((task, submit(task)))
        if not under_way:
            return
        yield under_way.popleft()


def _same(data: bytes) -> bytes:
    return data


_known: dict[int, tuple[bytes, Any]] = {}


def _do(shared: bytes, name: str, *arguments: Any) -> Any:
    """On a worker: unpack the work once; let it do a task, a stretch, or what is named."""
    work = _unpacked(shared)
    if name:
        return getattr(work, name)(*arguments)
    (task,) = arguments
    if not isinstance(task, Stretch):
        return work(task)
    fold = work.begin(task)
    for unit in task.units:
        fold.add(work.each(unit))
    return fold.close()


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
