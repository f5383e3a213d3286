"""Grids that are read from others: by formulas, as differences, or from another column on."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import ClassVar

import numpy as np

from bavlo.core.space.layout import GridLayout, rolled
from bavlo.core.time.axis import DAY, PERIOD, TimeAxis, iso_minute
from bavlo.core.values.accumulation import ROUNDING, TOGETHER, Differences
from bavlo.core.values.formula import Formula, derived_variable, evaluate
from bavlo.core.values.kinds import Variable
from bavlo.errors import InputError
from bavlo.grids.cells import CellSelection
from bavlo.grids.source import GridFile, GridSource, JoinedGrid, OfSource, files_of, where


@dataclass(frozen=True, eq=False)
class Aligned:
    """Grids of the same cells on the steps that all of them have.

    Parameters
    ----------
    sources
        By name.
    time
        The common steps; None for grids without time.
    steps : by name, (T,) int64
        The number of each common step in that grid.
    left_out
        Steps that not all of them have.
    """

    sources: Mapping[str, GridSource]
    layout: GridLayout
    time: TimeAxis | None
    steps: Mapping[str, np.ndarray]
    left_out: int

    def read(self, first: int, last: int, cells: CellSelection) -> dict[str, np.ndarray]:
        """Values of the common steps `first` to `last` (excluded) of every grid, (T, C) each."""
        return {
            name: read_steps(source, self.steps[name][first:last], cells)
            for name, source in self.sources.items()
        }


def read_steps(source: GridSource, steps: np.ndarray, cells: CellSelection) -> np.ndarray:
    """(T, C) values of ascending steps, run by run."""
    breaks = np.flatnonzero(np.diff(steps) != 1) + 1
    runs = [run for run in np.split(steps, breaks) if run.size]
    blocks = [source.read(int(run[0]), int(run[-1]) + 1, cells) for run in runs]
    if len(blocks) == 1:
        return blocks[0]
    return np.concatenate(blocks) if blocks else np.empty((0, cells.size))


def align(sources: Mapping[str, GridSource]) -> Aligned:
    """Bring grids onto their common steps; their cells must be the same."""
    first_name, first = next(iter(sources.items()))
    for name, source in sources.items():
        if not first.layout.same_cells(source.layout):
            raise InputError(
                where(source),
                f"{name} has other cells than {first_name}",
                "bring both onto the same cells first, or use ‹make_on region›",
            )
        if (source.time is None) != (first.time is None):
            raise InputError(
                where(source), f"only one of {name} and {first_name} has a time axis", ""
            )
    if first.time is None:
        steps = {name: np.zeros(1, np.int64) for name in sources}
        return Aligned(sources, first.layout, None, steps, 0)
    times = {name: source.time for name, source in sources.items() if source.time is not None}
    common: np.ndarray | None = None
    for name, time in times.items():
        if time.calendar != first.time.calendar:
            raise InputError(
                where(sources[name]),
                f"{name} has the calendar {time.calendar}, {first_name} {first.time.calendar}",
                "give grids of one calendar",
            )
        keys = _middles(time)
        common = keys if common is None else np.intersect1d(common, keys)
    assert common is not None
    if not common.size:
        raise InputError(
            where(first), f"{' and '.join(sources)} have no step in common", "check their dates"
        )
    steps = {name: np.searchsorted(_middles(time), common) for name, time in times.items()}
    most = max(len(time) for time in times.values())
    return Aligned(
        sources,
        first.layout,
        first.time.take(steps[first_name]),
        steps,
        most - common.size,
    )


def _middles(time: TimeAxis) -> np.ndarray:
    """What tells that two steps are the same: the day for daily steps, else the middle."""
    middle = time.start + time.duration // 2
    return np.asarray(middle // DAY if time.length == DAY else middle)


@dataclass(frozen=True, eq=False)
class DerivedGrid:
    """A grid made by a formula.

    Parameters
    ----------
    formula
        How it is made.
    aligned
        The grids that it is made from.
    said
        Its kind where somebody says it.
    """

    formula: Formula
    aligned: Aligned
    said: str = ""
    notes: tuple[str, ...] = ()
    tiles: ClassVar[tuple[JoinedGrid, ...]] = ()
    reads_rows: ClassVar[bool] = False

    @property
    def how_combined(self) -> str:
        """How the grids that it is made from were combined."""
        texts = dict.fromkeys(source.how_combined for source in self.aligned.sources.values())
        return ", ".join(filter(None, texts))

    @cached_property
    def variables(self) -> dict[str, Variable]:
        """Those of the grids that it is made from."""
        return {name: source.variable for name, source in self.aligned.sources.items()}

    @cached_property
    def variable(self) -> Variable:
        """Its unit and what tells its kind follow from the formula."""
        is_combined = self.time is not None and self.time.length == PERIOD
        made = derived_variable(self.formula, self.variables, is_combined=is_combined)
        return replace(made, kind=self.said, kind_evidence="said so") if self.said else made

    @cached_property
    def files(self) -> tuple[GridFile, ...]:
        """All files behind it."""
        return tuple(file for source in self.aligned.sources.values() for file in source.files)

    @property
    def layout(self) -> GridLayout:
        """The cells of all grids in it."""
        return self.aligned.layout

    @property
    def time(self) -> TimeAxis | None:
        """The common steps."""
        return self.aligned.time

    @property
    def step_chunk(self) -> int:
        """Steps that are stored together."""
        return max(source.step_chunk for source in self.aligned.sources.values())

    def read(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64."""
        blocks = self.aligned.read(first, last, cells)
        return np.asarray(evaluate(self.formula.term, self.variables, blocks))


@dataclass(frozen=True, eq=False)
class DifferencedGrid(OfSource):
    """The differences of the accumulated values of another grid.

    Parameters
    ----------
    source
        With the accumulated values.
    steps
        Which of its steps are subtracted from which.
    variable
        As that of the source, but an amount of each step.
    may_fall
        By how much an accumulation may fall: by rounding, and by what goes the other way.
    """

    source: GridSource
    steps: Differences
    variable: Variable
    may_fall: float
    notes: tuple[str, ...] = ()

    @property
    def time(self) -> TimeAxis:
        """What each difference covers."""
        return self.steps.time

    def read(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64.

        Raises
        ------
        InputError
            Where most cells fall at a step at which no accumulation begins.
        """
        later, earlier = self.steps.later[first:last], self.steps.earlier[first:last]
        needed = np.unique(np.concatenate([later, earlier[earlier >= 0]]))
        values = read_steps(self.source, needed, cells)
        block = values[np.searchsorted(needed, later)]
        goes_on = np.flatnonzero(earlier >= 0)
        before = values[np.searchsorted(needed, earlier[goes_on])]
        block[goes_on] -= before
        slack = np.maximum(np.abs(np.nan_to_num(before)) * ROUNDING, self.may_fall * 1.01)
        # Counted upward or downward, a beginning brings it nearer to 0.
        fell = np.abs(values[np.searchsorted(needed, later[goes_on])]) < np.abs(before) - slack
        wet = np.abs(before) > slack
        odd = np.flatnonzero(fell.sum(axis=1) > TOGETHER * np.maximum(wet.sum(axis=1), 1))
        if odd.size:
            step = first + int(goes_on[odd[0]])
            raise InputError(
                files_of(self.source, int(self.steps.later[step]), int(self.steps.later[step]) + 1),
                f"falls at {iso_minute(int(self.time.end[step]), self.time.calendar)}, where no "
                "accumulation begins by the rule of the others",
                "give the files of each run of the model by themselves, or bounds that tell when "
                "each value began",
            )
        return block


@dataclass(frozen=True, eq=False)
class RolledGrid(OfSource):
    """The same values, with columns from `first` on and then those before it.

    Parameters
    ----------
    source
        On longitude and latitude, all around.
    first
        The column that comes first.
    """

    source: GridSource
    first: int

    @cached_property
    def layout(self) -> GridLayout:
        """All cells, in the order of columns here."""
        return rolled(self.source.layout, self.first)

    def read(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64."""
        ny, nx = self.layout.shape
        row, column = np.divmod(cells.cells, nx)
        number = row * nx + (column + self.first) % nx
        order = np.argsort(number)
        block = np.empty((last - first, number.size))
        block[:, order] = self.source.read(first, last, CellSelection((ny, nx), number[order]))
        return block
