"""Units of work on this machine: results come back in order, whatever the number of workers."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TypeVar

Task = TypeVar("Task")
Outcome = TypeVar("Outcome")


def run(work: Callable[[Task], Outcome], tasks: Sequence[Task], jobs: int) -> Iterator[Outcome]:
    """Do every task and give out the outcomes in the order of the tasks.

    Parameters
    ----------
    jobs
        How many tasks are under way or waiting to be fetched at once.
    """
    if jobs <= 1 or len(tasks) <= 1:
        for task in tasks:
            yield work(task)
        return
    with ThreadPoolExecutor(jobs, thread_name_prefix="bavlo") as pool:
        under_way: deque[Future[Outcome]] = deque()
        try:
            for task in tasks:
                under_way.append(pool.submit(work, task))
                if len(under_way) >= jobs:
                    yield under_way.popleft().result()
            while under_way:
                yield under_way.popleft().result()
        finally:
            for future in under_way:
                future.cancel()
