"""Who runs the two main loops: threads of this process, or a Dask cluster."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager

from bavlo.engine.memory import fitting_jobs
from bavlo.engine.needs import Needs
from bavlo.engine.protocol import Executor, OnProgress, Resources
from bavlo.engine.threads import Threads


@contextmanager
def executor(
    resources: Resources, needs: Needs, on_progress: OnProgress, on_note: Callable[[str], None]
) -> Iterator[Executor]:
    """An executor within the given resources.

    Parameters
    ----------
    needs
        What units and results take in memory; as many units are held at once as fit.
    on_progress
        Called with the steps that are done and the steps in all.
    on_note
        Hears of scratch files and their size.

    Raises
    ------
    RequestError
        Where the memory does not hold one unit, or no cluster answers.
    """
    if resources.cluster is None:
        jobs = fitting_jobs(resources.jobs, resources.memory, needs)
        yield Threads(jobs, needs.room, resources.scratch, on_progress, on_note)
        return
    from bavlo.engine import dask

    with dask.client(resources.cluster, resources.jobs) as client:
        yield dask.Cluster(client, on_progress)
