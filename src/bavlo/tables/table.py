"""Tables: columns over named axes, given out as rows in chunks."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from bavlo.errors import RequestError, known_words

ROWS_AT_ONCE = 25_000


@dataclass(frozen=True, eq=False)
class Column:
    """One column.

    Parameters
    ----------
    name
        As in the header.
    axes
        The axes that its values vary along, in the order of the table's.
    values : array of the length of each of its axes
        Text as an object array, or float64 with NaN for a missing value.
    """

    name: str
    axes: tuple[str, ...]
    values: np.ndarray

    @property
    def is_text(self) -> bool:
        """Whether it holds text rather than numbers."""
        return self.values.dtype.kind == "O"


def text_column(name: str, axes: tuple[str, ...], values: Sequence[str]) -> Column:
    """A column of text; without axes the one value holds for all rows."""
    array = np.empty(len(values), object)
    array[:] = values
    return Column(name, axes, array if axes else array.reshape(()))


@dataclass(frozen=True, eq=False)
class Table:
    """Columns over named axes; its rows run through the axes, the last one fastest.

    Parameters
    ----------
    name
        series, normals, …
    axes
        Length of each axis.
    columns
        In the order of the header.
    kept
        Along some axes, 1 where there are rows and 0 where there are none; None where there are
        everywhere.
    """

    name: str
    axes: dict[str, int]
    columns: tuple[Column, ...]
    kept: Column | None = None

    def __len__(self) -> int:
        if self._numbers is not None:
            return int(self._numbers.size)
        return int(np.prod(list(self.axes.values()), dtype=np.int64))

    @cached_property
    def _numbers(self) -> np.ndarray | None:
        """Where the rows stand among those that all axes together would make; None for all."""
        return None if self.kept is None else np.flatnonzero(self._along_all(self.kept))

    @property
    def header(self) -> list[str]:
        """Names of the columns."""
        return [column.name for column in self.columns]

    def _called(self, name: str) -> Column:
        found = next((column for column in self.columns if column.name == name), None)
        if found is None:
            raise RequestError(
                "", f"the table has no column {name}", "give it whole, as the command wrote it"
            )
        return found

    def rows(self, first: int, last: int) -> list[np.ndarray]:
        """Columns of the rows `first` to `last` (excluded), each as a flat array."""
        number = np.arange(first, min(last, len(self)))
        if self._numbers is not None:
            number = self._numbers[number]
        position = dict(
            zip(self.axes, np.unravel_index(number, tuple(self.axes.values())), strict=True)
        )
        out = []
        for column in self.columns:
            if column.axes:
                out.append(column.values[tuple(position[axis] for axis in column.axes)])
            else:
                out.append(np.broadcast_to(column.values, number.shape))
        return out

    def chunks(self) -> Iterator[list[np.ndarray]]:
        """All rows, ROWS_AT_ONCE at a time."""
        for first in range(0, len(self), ROWS_AT_ONCE):
            yield self.rows(first, first + ROWS_AT_ONCE)

    def take(self, axis: str, keep: np.ndarray | Sequence[int]) -> Table:
        """The table with only some places of an axis."""

        def taken(column: Column) -> Column:
            if axis not in column.axes:
                return column
            values = np.take(column.values, np.asarray(keep, int), column.axes.index(axis))
            return Column(column.name, column.axes, values)

        kept = None if self.kept is None else taken(self.kept)
        return Table(
            self.name, {**self.axes, axis: len(keep)}, tuple(map(taken, self.columns)), kept
        )

    def where(self, name: str, value: str) -> Table:
        """The table of one value of an axis, or of the rows that have it where it is no axis."""
        if name not in self.header:
            raise RequestError(
                "pick", f"the table has no column {name}", known_words(name, self.header)
            )
        axis = name if name in self.axes else "row"
        if axis not in self.axes:
            raise RequestError("pick", f"{name} does not divide the table", "choose another")
        texts = [f"{v:g}" if isinstance(v, float) else str(v) for v in self.along(name, axis)]
        keep = [n for n, text in enumerate(texts) if text == value]
        if not keep:
            known = known_words(value, dict.fromkeys(texts))
            raise RequestError("pick", f"{name} has no {value}", known)
        return self.take(axis, keep)

    def labels(self, name: str) -> list[str]:
        """The values of a column along its own axes only."""
        return list(self._called(name).values.ravel().tolist())

    def along(self, name: str, axis: str) -> list[str]:
        """A text column as one value for each place of an axis, the first where others vary."""
        column = self._called(name)
        first = column.values[tuple(slice(None) if own == axis else 0 for own in column.axes)]
        return list(np.broadcast_to(first, self.axes[axis]).tolist())

    def text_at(self, name: str, place: Mapping[str, int]) -> str:
        """A text at a place of some axes, the first where others vary; empty without column."""
        if name not in self.header:
            return ""
        column = self._called(name)
        return str(column.values[tuple(place.get(axis, 0) for axis in column.axes)])

    def full(self, name: str) -> np.ndarray:
        """One column along all axes, also where there are no rows."""
        column = self._called(name)
        return self._along_all(column).reshape(tuple(self.axes.values()))

    def column(self, name: str) -> np.ndarray:
        """One column with a value for every row."""
        values = self._along_all(self._called(name))
        return values if self._numbers is None else values[self._numbers]

    def _along_all(self, column: Column) -> np.ndarray:
        """A column with a value for every place of all axes, flat."""
        shape = [self.axes[axis] if axis in column.axes else 1 for axis in self.axes]
        return np.broadcast_to(column.values.reshape(shape), tuple(self.axes.values())).ravel()
