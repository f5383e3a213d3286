"""What the two main loops need: readers of blocks, records of bricks, and an executor.

`reduce` goes through blocks of steps in order of time, `by_bricks` through bricks of cells with
their whole record. An executor decides only where work is done and how much is under way at once;
what is added to what, and in which order, follows from the plan.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Protocol, TypeVar

import numpy as np

from bavlo.core.reduce.protocol import Block, Reducer
from bavlo.engine.segments import Segment

Values = TypeVar("Values", covariant=True)

State = TypeVar("State")

Settled = TypeVar("Settled")

Result = TypeVar("Result", covariant=True)

Content = TypeVar("Content")

Task = TypeVar("Task")

Outcome = TypeVar("Outcome")

OnProgress = Callable[[int, int], None]


@dataclass(frozen=True)
class Resources:
    """What a run may use; no number depends on it.

    Parameters
    ----------
    jobs
        Workers at once.
    memory
        Peak resident memory, bytes.
    cluster
        Address of a Dask scheduler, or `local` to start one here; None for threads.
    store
        Folder where values that no later step changes are kept from run to run; None for nowhere.
    """

    jobs: int
    memory: int
    cluster: str | None
    store: Path | None = None


@dataclass(frozen=True)
class Needs:
    """What work takes in memory, bytes.

    Parameters
    ----------
    block
        Each block, or brick, that is under way.
    kept
        What is kept all the time: results, open periods, records.
    room
        Of `kept`, what records may take before they go to a scratch file.
    counted
        What is counted while it is under way: steps or rows.
    """

    block: float
    kept: float
    room: float = 0.0
    counted: str = "steps"

    def beside(self, other: Needs) -> Needs:
        """What is enough for this work and another, whose blocks are not under way at once."""
        block, kept = max(self.block, other.block), self.kept + other.kept
        return replace(self, block=block, kept=kept, room=self.room + other.room)


class Listener(Protocol):
    """Hears of what is under way."""

    def progress(self, done: int, total: int, what: str = "steps") -> None:
        """So many of all of them are done."""

    def note(self, text: str) -> None:
        """What whoever asks for more words should know."""


class Reader(Protocol[Values]):
    """Reads the values of blocks; picklable, it opens its files where it is used."""

    def read(self, block: Block) -> Values:
        """The values of a block."""

    def files(self, first: int, last: int) -> str:
        """The files that hold the steps `first` to `last` (excluded), for messages."""


@dataclass(frozen=True, eq=False)
class StepRecords:
    """Records that stand in grids and are read by blocks of steps.

    Parameters
    ----------
    reader
        Gives values (T, C) of all variables, by name.
    blocks
        All of them, in order of time.
    """

    reader: Reader[Mapping[str, np.ndarray]]
    blocks: Sequence[Block]


@dataclass(frozen=True, eq=False)
class ArrayRecords:
    """Records (T, C) that are there already, by name; perhaps in a scratch file."""

    values: Mapping[str, np.ndarray]


class BrickWork(Protocol[Result]):
    """Work on cells with their whole record; picklable."""

    @property
    def bricks(self) -> Sequence[slice]:
        """The cells of each brick."""

    def compute(self, number: int, values: Mapping[str, np.ndarray]) -> Result:
        """The result of a brick, from its records (T, b) by name."""


class Executor(Protocol):
    """Where blocks and bricks are computed."""

    def reduce(
        self,
        reader: Reader[Content],
        reducer: Reducer[Content, State, Settled],
        segments: Sequence[Segment],
    ) -> Iterator[Settled]:
        """Reduce all blocks; gives out what is settled, sooner or later."""

    def by_bricks(
        self, records: StepRecords | ArrayRecords, work: BrickWork[Result]
    ) -> Iterator[Result]:
        """The results of all bricks, in their order."""


def not_needed(*_: Any) -> None:
    """For whoever wants to hear nothing."""
