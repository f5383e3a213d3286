"""Blocks and bricks computed by the threads of this process."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, TypeVar

from bavlo.core.reduce.merging import InOrder, MergeTree
from bavlo.core.reduce.protocol import Block, Reducer
from bavlo.engine.bricks import BrickStore
from bavlo.engine.memory import size_text
from bavlo.engine.protocol import ArrayRecords, BrickWork, OnProgress, Reader, StepRecords
from bavlo.engine.segments import Segment

if TYPE_CHECKING:
    from concurrent.futures import Future

Task = TypeVar("Task")
Outcome = TypeVar("Outcome")
Content = TypeVar("Content")
State = TypeVar("State")
Settled = TypeVar("Settled")
Result = TypeVar("Result")


def in_order(
    work: Callable[[Task], Outcome],
    tasks: Sequence[Task],
    jobs: int,
) -> Iterator[Outcome]:
    """Do every task in threads and give out the outcomes in the order of the tasks.

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
    from concurrent.futures import ThreadPoolExecutor

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


@dataclass(frozen=True, eq=False)
class Threads:
    """An executor in this process: blocks side by side, merged here.

    Parameters
    ----------
    jobs
        Blocks or bricks that are under way at once.
    room
        Bytes of records that may stay in memory.
    """

    jobs: int
    room: float
    on_progress: OnProgress
    on_note: Callable[[str], None]

    def reduce(
        self,
        reader: Reader[Content],
        reducer: Reducer[Content, State, Settled],
        segments: Sequence[Segment],
    ) -> Iterator[Settled]:
        """Reduce all blocks; gives out what is settled as soon as it is."""
        blocks = [block for segment in segments for block in segment.blocks]
        merged: list[Settled] = []

        def reduce_block(block: Block) -> list[tuple[Settled, State | None]]:
            return [reducer.settle(state) for state in reducer.update(block, reader.read(block))]

        def merge(earlier: State | None, later: State | None) -> State | None:
            if earlier is None or later is None:
                return later if earlier is None else earlier
            settled, rest = reducer.settle(reducer.merge(earlier, later))
            merged.append(settled)
            return rest

        def close() -> None:
            rest = tree.close()
            if rest is not None:
                merged.append(reducer.close(rest))

        tree: MergeTree[State | None] = MergeTree(merge)
        outcomes = in_order(reduce_block, blocks, self.jobs)
        for segment in segments:
            run: InOrder[State, Settled] = InOrder(reducer)
            for block in segment.blocks:
                for settled, rest in next(outcomes):
                    yield settled
                    yield from run.add(rest)
                self.on_progress(block.last - blocks[0].first, blocks[-1].last - blocks[0].first)
            if segment.is_open:
                tree.add(run.rest)
                if segment.ends_chain:
                    close()
            yield from merged
            merged.clear()
        if tree:
            close()
        yield from merged

    def by_bricks(
        self, records: StepRecords | ArrayRecords, work: BrickWork[Result]
    ) -> Iterator[Result]:
        """The results of all bricks, in their order; records are read once before."""
        if isinstance(records, ArrayRecords):
            yield from self._of_arrays(records, work)
        else:
            yield from self._of_steps(records, work)

    def _of_arrays(self, records: ArrayRecords, work: BrickWork[Result]) -> Iterator[Result]:
        def whole(number: int) -> Result:
            cells = work.bricks[number]
            return work.compute(number, {n: v[:, cells] for n, v in records.values.items()})

        bricks = range(len(work.bricks))
        for number, result in enumerate(in_order(whole, bricks, self.jobs)):
            yield result
            self.on_progress(number + 1, len(work.bricks))

    def _of_steps(self, records: StepRecords, work: BrickWork[Result]) -> Iterator[Result]:
        blocks, reader = records.blocks, records.reader
        steps = blocks[-1].last - blocks[0].first
        with BrickStore(list(work.bricks), self.room) as store:

            def fetch(numbered: tuple[int, Block]) -> Block:
                number, block = numbered
                for name, values in reader.read(block).items():
                    store.put(number, name, values)
                return block

            numbered = list(enumerate(blocks))
            for block in in_order(fetch, numbered, self.jobs):
                self.on_progress(block.last - blocks[0].first, 2 * steps)
            if store.on_disk:
                self.on_note(f"{size_text(store.on_disk)} of records went to a scratch file")

            def whole(number: int) -> Result:
                return work.compute(number, store.take_all(number))

            bricks = range(len(work.bricks))
            for number, result in enumerate(in_order(whole, bricks, self.jobs)):
                yield result
                self.on_progress(steps + steps * (number + 1) // len(bricks), 2 * steps)
