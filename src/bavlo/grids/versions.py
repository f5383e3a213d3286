"""Versions of one variable that complete each other, such as early and final ones of a record."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from bavlo.core.values.kinds import Variable
from bavlo.errors import InputError
from bavlo.grids import cf
from bavlo.grids.cfgrid import CFGrid
from bavlo.grids.source import CellSelection, OfFile

# Names of dimensions whose parts complete each other.
VERSIONS = re.compile(r"^(expver|exp_?ver(sion)?|version|experiment_?version)$", re.IGNORECASE)


class VersionsGrid(OfFile):
    """Versions of one variable that complete each other, as one.

    Parameters
    ----------
    parts
        One for each version; where two of them have data, these must be the same.
    dimension, names
        What tells them apart.
    """

    def __init__(self, parts: Sequence[CFGrid], dimension: str, names: Sequence[str]) -> None:
        self.parts, self.dimension, self.names = tuple(parts), dimension, tuple(names)
        self.inner = self.parts[0]

    @property
    def variable(self) -> Variable:
        """As the file describes it."""
        return replace(self.inner.variable, level="")

    def packed(self, packing: cf.Packing) -> VersionsGrid:
        """The same with another understanding of its stored numbers."""
        parts = [part.packed(packing) for part in self.parts]
        return VersionsGrid(parts, self.dimension, self.names)

    @property
    def notes(self) -> tuple[str, ...]:
        """What the reader noticed."""
        listed = " and ".join(self.names)
        return (*self.inner.notes, f"{self.dimension} {listed} put together")

    def read(
        self, first: int, last: int, cells: CellSelection, into: np.ndarray | None = None
    ) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64, NaN for no data.

        They go `into` an array of that shape where one is given.

        Raises
        ------
        InputError
            Where two versions have different data.
        """
        block = self.inner.read(first, last, cells, into)
        for part, name in zip(self.parts[1:], self.names[1:], strict=True):
            other = part.read(first, last, cells)
            known = ~np.isnan(other)
            if (known & ~np.isnan(block) & (block != other)).any():
                raise InputError(
                    self.path,
                    f"has values of {self.dimension} {self.names[0]} and {name} that differ where "
                    "both have data",
                    f"choose one with ‹level {self.dimension}={name}›",
                )
            np.copyto(block, other, where=known)
        return block
