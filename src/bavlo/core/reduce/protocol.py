"""What the main loop needs of a reducer, and the blocks of work that it is fed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Generic, Protocol, TypeVar

ValuesT = TypeVar("ValuesT", contravariant=True)
StateT = TypeVar("StateT")
SettledT = TypeVar("SettledT", covariant=True)

One = TypeVar("One")

ENOUGH = 1e-9  # rounding that a share of steps or of an area may lack


@dataclass(frozen=True)
class Block:
    """A block of work: a run of steps on the used cells.

    Parameters
    ----------
    first, last
        Steps, the last excluded.
    """

    first: int
    last: int


class Reducer(Protocol[ValuesT, StateT, SettledT]):
    """From the values of blocks to results, by states that merge in order of time.

    A reducer is picklable and keeps nothing between calls, so that blocks may be computed anywhere.
    """

    def update(self, block: Block, values: ValuesT) -> Sequence[StateT]:
        """The state of one block by itself."""

    def merge(self, earlier: StateT, later: StateT) -> StateT:
        """The state of two neighbouring runs of steps together."""

    def settle(self, state: StateT) -> tuple[SettledT, StateT | None]:
        """What no other step can change any more, and the rest; None where nothing is left."""

    def close(self, state: StateT) -> SettledT:
        """All that is left of a state after which no step follows."""


class EachAlone(Generic[One]):
    """What reducers share whose blocks give results by themselves: nothing goes on to the next."""

    def merge(self, earlier: list[One], later: list[One]) -> list[One]:
        """Those of both."""
        return earlier + later

    def settle(self, state: list[One]) -> tuple[list[One], None]:
        """All of them."""
        return state, None

    def close(self, state: list[One]) -> list[One]:
        """All of them."""
        return state
