"""The order in which states are merged, which no executor may change.

Within a segment of blocks states are merged one after the other. What segments leave open is merged
pair by pair; trees of 2**TREE_HEIGHT segments grow no further and are merged one after the other.
So the order of all additions follows from the plan, wherever they are done, and what is held at
once does not grow with the number of segments.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, Generic, TypeVar

from bavlo.core.reduce.protocol import Reducer

State = TypeVar("State")
Settled = TypeVar("Settled")

TREE_HEIGHT = 3


class InOrder(Generic[State, Settled]):
    """States of neighbouring blocks, merged one after the other.

    Attributes
    ----------
    rest
        What is still open; None where nothing is.
    """

    def __init__(self, reducer: Reducer[Any, State, Settled]) -> None:
        self.reducer = reducer
        self.rest: State | None = None

    def add(self, rest: State | None) -> Iterator[Settled]:
        """Take in what the next block left open; gives out what is settled by it."""
        if rest is None:
            return
        if self.rest is None:
            self.rest = rest
            return
        settled, self.rest = self.reducer.settle(self.reducer.merge(self.rest, rest))
        yield settled


class MergeTree(Generic[State]):
    """Merges neighbours pair by pair.

    Parameters
    ----------
    merge
        From two neighbours to one.
    height
        Height of a tree that grows no further: such trees are merged one after the other.
    """

    def __init__(self, merge: Callable[[State, State], State], height: int = TREE_HEIGHT) -> None:
        self.merge = merge
        self.height = height
        self._waiting: list[tuple[int, State]] = []

    def __bool__(self) -> bool:
        return bool(self._waiting)

    def add(self, state: State) -> None:
        """Take in the next state; trees of the same height become one."""
        height = 0
        while self._waiting and self._waiting[-1][0] == height:
            state = self.merge(self._waiting.pop()[1], state)
            height += height != self.height
        self._waiting.append((height, state))

    def close(self) -> State:
        """All states in one; the tree is empty afterwards."""
        _, state = self._waiting.pop()
        while self._waiting:
            state = self.merge(self._waiting.pop()[1], state)
        return state
