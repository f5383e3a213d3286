"""Who runs the two main loops: threads of this process, or a Dask cluster."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from functools import partial

from bavlo import compiled
from bavlo.core.reduce.protocol import Reducer
from bavlo.engine.memory import fitting_jobs, size_text
from bavlo.engine.protocol import (
    ArrayRecords,
    BrickWork,
    Content,
    Executor,
    Listener,
    Needs,
    Reader,
    Resources,
    Result,
    Settled,
    State,
    StepRecords,
)
from bavlo.engine.segments import Segment
from bavlo.engine.threads import Threads


@contextmanager
def executor(resources: Resources, needs: Needs, report: Listener) -> Iterator[Executor]:
    """An executor within the given resources, which says how it goes about the work.

    Parameters
    ----------
    needs
        What blocks and results take in memory; as many blocks are held at once as fit.

    Raises
    ------
    RequestError
        Where the memory does not hold one block, or no cluster answers.
    """
    each = f"{size_text(needs.block)} for each block, {size_text(needs.kept)} beside them"
    loops = ", with compiled loops" if compiled.in_use() else ""
    if resources.cluster is None:
        jobs = fitting_jobs(resources.jobs, resources.memory, needs)
        report.note(f"threads: {jobs}; {each}{loops}")
        progress = partial(report.progress, what=needs.counted)
        yield Threads(jobs, needs.room, progress, report.note)
        return
    from bavlo.engine import dask

    with dask.client(resources.cluster, resources.jobs) as client:
        report.note(f"cluster: {resources.cluster}; {each}{loops}")
        yield dask.Cluster(client, partial(report.progress, what=needs.counted))


def reduced(
    resources: Resources,
    needs: Needs,
    report: Listener,
    reader: Reader[Content],
    reducer: Reducer[Content, State, Settled],
    segments: Sequence[Segment],
) -> Iterator[Settled]:
    """What all blocks of some segments come to, as it is settled."""
    with executor(resources, needs, report) as engine:
        yield from engine.reduce(reader, reducer, segments)


def by_bricks(
    resources: Resources,
    needs: Needs,
    report: Listener,
    records: StepRecords | ArrayRecords,
    work: BrickWork[Result],
) -> Iterator[Result]:
    """What each brick of cells comes to, from its whole record, in their order."""
    with executor(resources, needs, report) as engine:
        yield from engine.by_bricks(records, work)
