"""Where units of work are computed: this process's threads, or a Dask cluster.

Outcomes come back in the order of the tasks, whatever computes them, so that what is made of them
is the same to the last bit.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, Protocol, TypeVar

from bavlo.core.stretches import Stretch
from bavlo.engine import local
from bavlo.engine.work import ShuffleWork, StretchWork

Task = TypeVar("Task")
Outcome = TypeVar("Outcome")


class Place(Protocol):
    """Where stretches are computed. What is made stays there until it is fetched.

    Attributes
    ----------
    tree_height
        How high trees should grow of what merges to the same in any order; see `Pairwise`.
    waiting
        How many merged parts may wait until they are fetched.
    """

    tree_height: int
    waiting: int

    def stretches(self, stretches: Sequence[Stretch]) -> Iterator[tuple[Stretch, Any, Any]]:
        """What was made of each stretch, and what the work has finished of it, in their order."""

    def call(self, name: str, *arguments: Any) -> Any:
        """Let the work do something with what was made."""

    def get(self, made: Any) -> Any:
        """What was made, fetched."""


def run(
    work: Callable[[Task], Outcome],
    tasks: Sequence[Task],
    jobs: int,
    cluster: str | None = None,
    name: Callable[[Task], str] = str,
) -> Iterator[Outcome]:
    """Do every task and give out the outcomes in the order of the tasks.

    Parameters
    ----------
    jobs
        How many tasks are under way or waiting to be fetched at once, on this machine.
    cluster
        Address of a Dask scheduler, or `local` to start one here; None for threads.
    name
        What a task is about, for the error of one that fails for good.
    """
    if cluster is None:
        yield from local.run(work, tasks, jobs)
        return
    from bavlo.engine import cluster as dask

    yield from dask.run(work, tasks, jobs, cluster, name)


def shuffled(
    work: ShuffleWork,
    runs: Sequence[Task],
    parts: int,
    jobs: int,
    cluster: str,
    name: Callable[[Task], str],
    told: Callable[[Task], None],
) -> Iterator[Any]:
    """Cut every run into parts, join what all runs have of a part, and give out the outcomes.

    Parameters
    ----------
    parts
        How many there are.
    name, told
        What a run is about, and what is told of every one that is cut.
    """
    from bavlo.engine import cluster as dask

    yield from dask.shuffled(work, runs, parts, jobs, cluster, name, told)


@contextmanager
def place(
    work: StretchWork,
    jobs: int,
    cluster: str | None,
    name: Callable[[Stretch], str],
    told: Callable[[int], None],
) -> Iterator[Place]:
    """Where stretches are computed; the parameters are those of `run`.

    Parameters
    ----------
    told
        Told of the steps that are reached.
    """
    if cluster is None:
        yield local.Here(work, jobs, told)
        return
    from bavlo.engine import cluster as dask

    with dask.there(work, jobs, cluster, name, told) as place:
        yield place
