"""Units of work on this machine: results come back in order, whatever the number of workers."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, TypeVar

from bavlo.core.stretches import Stretch
from bavlo.engine.work import StretchWork

Task = TypeVar("Task")
Outcome = TypeVar("Outcome")


def run(work: Callable[[Task], Outcome], tasks: Sequence[Task], jobs: int) -> Iterator[Outcome]:
    """Do every task and give out the outcomes in the order of the tasks.

    Parameters
    ----------
    jobs
        How many tasks are under way at once. As many again wait or have been done, so that no
        worker stands idle while an outcome is taken in.
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
                if len(under_way) >= 2 * jobs:
                    yield under_way.popleft().result()
            while under_way:
                yield under_way.popleft().result()
        finally:
            for future in under_way:
                future.cancel()


class Here:
    """Stretches computed by the threads of this process: units side by side, merged in order.

    Parameters
    ----------
    told
        Told of every step that is reached.
    """

    tree_height = 0  # one after the other, so that little is held
    waiting = 0

    def __init__(self, work: StretchWork, jobs: int, told: Callable[[int], None]) -> None:
        self.work = work
        self.jobs = jobs
        self.told = told

    def stretches(self, stretches: Sequence[Stretch]) -> Iterator[tuple[Stretch, Any, Any]]:
        """What was made of each stretch, and what the work has finished of it, in their order."""
        units = [unit for stretch in stretches for unit in stretch.units]
        outcomes = run(self.work.each, units, self.jobs)
        for stretch in stretches:
            fold = self.work.begin(stretch)
            for unit in stretch.units:
                fold.add(next(outcomes))
                self.told(unit.last)
            made = fold.close()
            yield stretch, made, self.work.finished(made)

    def call(self, name: str, *arguments: Any) -> Any:
        """Let the work do something with what was made."""
        return getattr(self.work, name)(*arguments)

    def get(self, made: Any) -> Any:
        """What was made, where it is wanted."""
        return made
