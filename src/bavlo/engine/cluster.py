"""Units of work on a Dask cluster: workers open the files themselves."""

from __future__ import annotations

import os
import pickle
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, TypeVar

from bavlo.core.errors import BavloError, InputError, RequestError

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
        import cloudpickle

        shared = client.submit(_same, cloudpickle.dumps(work), pure=False)
        threads = max(sum(client.nthreads().values()), 1)
        under_way: deque[tuple[Task, Any]] = deque()
        waiting = iter(tasks)

        def fill() -> None:
            while len(under_way) < AHEAD * threads:
                task = next(waiting, None)
                if task is None:
                    return
                under_way.append((task, client.submit(_apply, shared, task, pure=False)))

        fill()
        while under_way:
            task, future = under_way.popleft()
            yield _outcome(future, name(task))
            del future  # lets the cluster forget it
            fill()


def _same(data: bytes) -> bytes:
    return data


_known: dict[int, tuple[bytes, Any]] = {}


def _apply(shared: bytes, task: Any) -> Any:
    """On a worker: unpack the work once, and do a task."""
    for key in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS"):
        os.environ.setdefault(key, "1")
    known = _known.get(len(shared))
    if known is None or known[0] != shared:
        _known.clear()
        known = _known[len(shared)] = (shared, pickle.loads(shared))
    return known[1](task)


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
