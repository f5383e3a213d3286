"""Where units of work are computed: this process's threads, or a Dask cluster.

Outcomes come back in the order of the tasks, whatever computes them, so that what is made of them
is the same to the last bit.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import TypeVar

from bavlo.engine import local

Task = TypeVar("Task")
Outcome = TypeVar("Outcome")


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
