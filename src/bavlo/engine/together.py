"""Several results in one pass: their units are computed side by side, the earliest steps first.

Each result is made in a thread of its own. Whatever it does outside the two main loops it does in
turn, one result at a time; in the loops the units of all results share one set of threads, which
take the unit of the earliest steps next. So all results go through the record together, and what
a reader has inflated for one of them still lies there for the others. What is added to what does
not depend on any of this.
"""

from __future__ import annotations

import heapq
import itertools
import threading
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any, TypeVar

from bavlo.engine import memory as resident
from bavlo.engine.memory import MARGIN, fitting_jobs
from bavlo.engine.needs import Needs

Task = TypeVar("Task")
Outcome = TypeVar("Outcome")
Result = TypeVar("Result")


class StoppedTogether(Exception):
    """The pass was ended while a result was still being made."""


@dataclass(order=True)
class _Waiting:
    """A unit that waits for a thread."""

    first: int  # step
    number: int
    future: Future[Any] = field(compare=False)
    work: Callable[[], Any] = field(compare=False)


class OnePass:
    """Results that are made in one pass over what they read.

    Parameters
    ----------
    jobs
        Units that are computed at once, of all results together.
    memory
        Peak resident memory, bytes.
    lent
        Of it, what is lent to whoever keeps things for all results.
    give_back
        Called where that is needed for the results themselves; nothing may be kept from then on.
    """

    def __init__(
        self,
        jobs: int,
        memory: int,
        lent: int = 0,
        give_back: Callable[[], None] = lambda: None,
    ) -> None:
        self.jobs, self.memory = jobs, memory - lent
        self._lent, self._give_back = lent, give_back
        self.stopped = False
        self._turn = threading.Lock()
        self._changed = threading.Condition()
        self._waiting: list[_Waiting] = []
        self._number = itertools.count()
        self._opening = 0  # results that have not come to their first loop
        self._running = 0
        self._limit = jobs
        self._known: set[threading.Thread] = set()  # results that came to it, or are finished
        self._needs: dict[threading.Thread, Needs] = {}  # of results that are not finished
        self._base = 0.0  # memory before the first loop

    def run(self, works: Sequence[Callable[[], Result]]) -> list[Result]:
        """Do every piece of work in a thread of its own; what each returns, in their order.

        Work that raises ends the pass with what it raised.
        """
        futures: list[Future[Result]] = [Future() for _ in works]
        self._opening = len(works)
        members = [
            threading.Thread(target=self._member, args=pair, name=f"bavlo-result-{n}")
            for n, pair in enumerate(zip(works, futures, strict=True))
        ]
        crew = [threading.Thread(target=self._work, daemon=True) for _ in range(self.jobs)]
        try:
            for thread in (*members, *crew):
                thread.start()
            return [future.result() for future in futures]
        finally:
            with self._changed:
                self.stopped = True
                for waiting in self._waiting:
                    waiting.future.cancel()
                self._waiting.clear()
                self._changed.notify_all()
            for thread in (*members, *crew):
                if thread.ident is not None:
                    thread.join()

    def check(self) -> None:
        """End the work of this thread where the whole pass was ended.

        Raises
        ------
        StoppedTogether
        """
        if self.stopped:
            raise StoppedTogether

    @contextmanager
    def loop(self, needs: Needs) -> Iterator[None]:
        """While this lasts other results may go on; it begins when the memory holds this one too.

        Raises
        ------
        RequestError
            Where the memory does not hold it even alone.
        """
        me = threading.current_thread()
        self._turn.release()
        try:
            with self._changed:
                self._opened(me)
                while not self.stopped and not self._fits(me, needs):
                    self._changed.wait()
                self.check()
                self._needs[me] = needs
                self._limit = self._jobs()
                self._changed.notify_all()
            yield
        finally:
            self._turn.acquire()

    def submit(self, first: int, work: Callable[[Task], Outcome], task: Task) -> Future[Outcome]:
        """Let a thread do a task; those of the earliest steps come first."""
        future: Future[Outcome] = Future()
        with self._changed:
            self.check()
            number = next(self._number)
            heapq.heappush(self._waiting, _Waiting(first, number, future, lambda: work(task)))
            self._changed.notify_all()
        return future

    def _member(self, work: Callable[[], Result], future: Future[Result]) -> None:
        """The life of one result."""
        me = threading.current_thread()
        with self._turn:
            try:
                self.check()
                future.set_result(work())
            except BaseException as error:
                future.set_exception(error)
        with self._changed:
            self._opened(me)
            self._needs.pop(me, None)
            self._limit = self._jobs()
            self._changed.notify_all()

    def _opened(self, me: threading.Thread) -> None:
        """A result has come to its first loop, or needs none."""
        if me not in self._known:
            self._known.add(me)
            self._opening -= 1
            self._changed.notify_all()

    def _fits(self, me: threading.Thread, needs: Needs) -> bool:
        """Whether a result can be made beside those that are under way."""
        others = [own for one, own in self._needs.items() if one != me]
        if not others:
            self._base = resident.in_use()
            if self._room([needs]) < 1:
                self._take_back()
                fitting_jobs(self.jobs, self.memory, needs)
            return True
        return self._room([*others, needs]) >= 1

    def _take_back(self) -> None:
        """Use what was lent for the results themselves."""
        if self._lent:
            self._give_back()
            self.memory, self._lent = self.memory + self._lent, 0
            self._base = resident.in_use()

    def _jobs(self) -> int:
        """Units that are computed at once."""
        return max(1, min(self.jobs, self._room(list(self._needs.values()))))

    def _room(self, needs: Sequence[Needs]) -> int:
        """Units that can be held at once beside what results keep."""
        kept = sum(own.kept for own in needs)
        unit = max((own.unit for own in needs), default=0.0)
        left = self.memory - self._base - MARGIN - kept
        return int(left // unit) if unit else self.jobs

    def _work(self) -> None:
        """The life of one thread that computes units."""
        while True:
            with self._changed:
                while not self.stopped and (
                    not self._waiting or self._opening or self._running >= self._limit
                ):
                    self._changed.wait()
                if self.stopped:
                    return
                task = heapq.heappop(self._waiting)
                self._running += 1
            try:
                if task.future.set_running_or_notify_cancel():
                    try:
                        task.future.set_result(task.work())
                    except BaseException as error:
                        task.future.set_exception(error)
            finally:
                del task
                with self._changed:
                    self._running -= 1
                    self._changed.notify_all()
