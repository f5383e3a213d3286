"""What a sample of its values tells of a grid: marks of no data that its files do not declare."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import groupby
from typing import Any, cast

import numpy as np

from bavlo.core.values.kinds import CLASS, STATE, Quantity
from bavlo.core.values.missing import (
    Mark,
    certain_text,
    count_marks,
    find_marks,
    has_negative,
    impossible,
    is_apart,
    perhaps_text,
    usual_marks,
)
from bavlo.engine import choices
from bavlo.errors import InputError
from bavlo.grids.cells import CellSelection, whole
from bavlo.grids.formats.packing import Packing, limits_of_values
from bavlo.grids.formats.rechunk import chunked_files
from bavlo.grids.source import GridFile, GridSource, JoinedGrid, where
from bavlo.grids.urls import url_of
from bavlo.jobs.reading import single_steps
from bavlo.request.reporter import Reporter

STEPS_LOOKED_AT = 9
MOST_CODES = 64  # different whole numbers that may be class codes
SQUARES, SIDE = 4, 128  # squares in each direction, and cells along their sides
# Where chunks hold many steps, each step inflates all of them, so fewer are looked at.
SMALL_SIDE = 16
LARGE_CHUNK = 2**25  # bytes of a chunk, of whose file only one place is looked at
RUNS_LOOKED_AT = 3
MOSTLY_OUTSIDE, MOSTLY_INSIDE = 0.5, 0.95  # shares of a sample within a valid range


@dataclass(frozen=True, eq=False)
class Inspection:
    """What was found in a sample of a grid.

    Parameters
    ----------
    marks
        By type of the stored numbers.
    low, high
        Range of all other values; (inf, -inf) where there are none.
    looked_at
        How many values, missing ones included.
    """

    marks: dict[np.dtype, list[Mark]]
    low: float
    high: float
    looked_at: int

    @property
    def all_marks(self) -> list[Mark]:
        """Those of all types."""
        return [mark for marks in self.marks.values() for mark in marks]


def squares(source: GridSource) -> Iterator[CellSelection]:
    """The cells of a step that are looked at: all of them, or squares spread over a large grid.

    They come together where each step is stored by itself, so that it is inflated once for all;
    of very large ones those of one row of squares do, so that not all tiles are inflated.
    """
    shape = source.layout.shape
    side = SIDE if source.step_chunk == 1 else SMALL_SIDE
    if shape[0] * shape[1] <= SQUARES**2 * side**2 * (2 if side == SIDE else 1):
        yield whole(shape)
        return
    rows, columns = (_starts(size, side) for size in shape)
    if source.step_chunk > 1:
        groups = [([row], [column]) for row in rows for column in columns]
    elif choices.is_read_in_bands(shape[0] * shape[1]):
        groups = [([row], columns) for row in rows]
    else:
        groups = [(rows, columns)]
    for some_rows, some_columns in groups:
        row = _covered(some_rows, side, shape[0])
        column = _covered(some_columns, side, shape[1])
        yield CellSelection(shape, (row[:, None] * shape[1] + column).ravel())


def _starts(size: int, side: int) -> list[int]:
    """Where squares begin along an axis, on multiples of their side."""
    starts = np.linspace(0, max(size - side, 0), SQUARES) // side * side
    return [int(start) for start in np.unique(starts)]


def _covered(starts: list[int], side: int, size: int) -> np.ndarray:
    """Rows or columns of squares that begin there, ascending."""
    return np.unique(np.concatenate([np.arange(n, min(n + side, size)) for n in starts]))


def _steps_looked_at(source: JoinedGrid) -> list[int]:
    """Steps spread over the record; in a few runs where chunks hold many of them.

    A mark that is met in other steps stops the run. By URL none are looked at, since only what is
    asked for travels.
    """
    steps = 1 if source.time is None else len(source.time)
    if url_of(source.files[0].path) is not None:
        return []
    if source.step_chunk == 1:
        return [int(n) for n in np.unique(np.linspace(0, steps - 1, STEPS_LOOKED_AT).astype(int))]
    # A chunk so large takes a second to inflate: those that others look at too must do.
    large = any(file.chunk_size > LARGE_CHUNK for file in chunked_files(source))
    count = 1 if large else RUNS_LOOKED_AT
    length = STEPS_LOOKED_AT // count
    runs = np.linspace(0, max(steps - length, 0), count).astype(int)
    if source.step_chunk >= length:  # each in one chunk
        ends = (runs // source.step_chunk + 1) * source.step_chunk
        runs = np.minimum(runs, ends - length)
    chosen = np.unique(np.minimum(runs[:, None] + np.arange(length), steps - 1))
    return [int(step) for step in chosen]


def inspect(source: JoinedGrid, what: Quantity, jobs: int = 1) -> Inspection:
    """Look for marks in steps spread over the record, some of them read at once."""
    by_packing: dict[tuple[np.dtype, Packing], list[int]] = defaultdict(list)
    for step in _steps_looked_at(source):
        file = source.files[source.file_of[step]]
        by_packing[_stored_type(file), file.packing].append(step)
    areas = list(squares(source))
    found: dict[np.dtype, dict[float, Mark]] = defaultdict(dict)
    low, high, looked_at = np.inf, -np.inf, 0
    for (dtype, packing), own in by_packing.items():
        stored, values = marks_read(source, dtype, packing)
        # All of a chunk of several steps before the next, so that it is inflated once; the first
        # one last, since others look at the first steps after this.
        runs = [list(run) for _, run in groupby(own, lambda n: n // source.step_chunk)]
        parts = [(n, cells) for run in runs[::-1] for cells in areas for n in run]
        sampled = count_marks(single_steps(source, parts, jobs), values)
        looked_at += sampled.looked_at
        for mark in find_marks(what, sampled, stored, values):
            earlier = found[dtype].get(mark.stored)
            count = mark.count + (earlier.count if earlier else 0)
            found[dtype][mark.stored] = replace(mark, count=count)
        low, high = min(low, sampled.low), max(high, sampled.high)
    marks = {dtype: list(marks.values()) for dtype, marks in found.items()}
    return Inspection(marks, low, high, looked_at)


def _stored_type(file: GridFile) -> np.dtype:
    """Type of a file's numbers as they are meant, unsigned where it says so."""
    return file.packing.as_stored(np.zeros(1, file.dtype)).dtype.newbyteorder("=")


def marks_read(
    source: JoinedGrid, dtype: np.dtype, packing: Packing
) -> tuple[np.ndarray, np.ndarray]:
    """(M,) usual marks that are not declared, as they are stored and as they read."""
    stored = usual_marks(dtype)
    values = replace(packing, unsigned=False, watched=()).decode(stored) * source.scale
    values = values + source.offset
    known = ~np.isnan(values)
    return stored[known], values[known]


def inspected(source: GridSource, what: Quantity, report: Reporter, jobs: int = 1) -> GridSource:
    """The same grid, with what means no data taken for missing though no file declares it.

    Raises
    ------
    InputError
        Where a number may be a value or mean no data.
    """
    looked = look_for_marks(source, what, jobs)
    if looked.doubtful:
        raise InputError(where(source), *perhaps_text(looked.doubtful[0]))
    for text in looked.certain:
        report.warn(f"{where(source)}: {text}")
    return looked.source


@dataclass(frozen=True, eq=False)
class LookedAt:
    """A grid in which marks of no data were looked for.

    Parameters
    ----------
    source
        With marks that it cannot have as values taken for missing.
    certain
        What to say of these.
    doubtful
        Numbers that may be values or mean no data.
    """

    source: GridSource
    certain: tuple[str, ...] = ()
    doubtful: tuple[float, ...] = ()


def look_for_marks(source: GridSource, what: Quantity, jobs: int = 1) -> LookedAt:
    """Look for marks of no data in a grid, or in all tiles of one."""
    tiles, certain, doubtful = [], [], []
    for tile in source.tiles:
        if what.kind == CLASS or tile.takes_all:
            return LookedAt(source)
        tile, limits = _limits_judged(tile)
        found = inspect(tile, what, jobs)
        files, extent = _marked(tile, what, found), (found.low, found.high)
        tiles.append(replace(tile, files=files, looked_at=extent))
        marks = found.all_marks
        certain += [*limits, *(certain_text(m, found.looked_at) for m in marks if m.is_certain)]
        doubtful += [mark.value for mark in marks if not mark.is_certain]
    if len(tiles) == 1:
        source = tiles[0]
    elif tiles:
        source = replace(cast(Any, source), tiles=tuple(tiles))
    return LookedAt(source, tuple(dict.fromkeys(certain)), tuple(dict.fromkeys(doubtful)))


def _limits_judged(source: JoinedGrid) -> tuple[JoinedGrid, tuple[str, ...]]:
    """A grid whose valid range is understood as that of values where it only makes sense so.

    By CF it is one of stored numbers, and so the libraries write it, but many who give it mean the
    values. Where it would leave out most of a sample, and hardly anything as a range of values, it
    is one of these.
    """
    packing, dtype = source.files[0].packing, source.files[0].dtype
    bounded = packing.lowest is not None or packing.highest is not None
    steps = _steps_looked_at(source)
    if packing.is_plain or not bounded or dtype.kind not in "iu" or not steps:
        return source, ()
    free = replace(packing, lowest=None, highest=None)
    opened = replace(source, files=tuple(file.packed(free) for file in source.files))
    areas = next(squares(source))
    values = np.concatenate([opened.read(n, n + 1, areas).ravel() for n in steps[:2]])
    values = values[~np.isnan(values)]
    if not values.size:
        return source, ()
    low, high = packing.lowest, packing.highest
    ends = [None if n is None else float(free.decode(np.array([n]))[0]) for n in (low, high)]
    ends = ends if (packing.scale or 1.0) > 0 else ends[::-1]
    inside = [_share_inside(values, *ends), _share_inside(values, low, high)]
    if inside[0] > MOSTLY_OUTSIDE or inside[1] < MOSTLY_INSIDE:
        return source, ()
    meant = limits_of_values(packing, dtype)
    text = (
        "its valid range is taken as one of values, since as one of stored numbers it would leave "
        f"out {1 - inside[0]:.0%} of those looked at"
    )
    return replace(source, files=tuple(file.packed(meant) for file in source.files)), (text,)


def _share_inside(values: np.ndarray, low: float | None, high: float | None) -> float:
    inside = np.ones(values.shape, bool)
    if low is not None:
        inside &= values >= low
    if high is not None:
        inside &= values <= high
    return float(inside.mean())


def _marked(source: JoinedGrid, what: Quantity, found: Inspection) -> tuple[GridFile, ...]:
    """The files, with certain marks taken for missing and the others watched for."""
    packings: dict[tuple[np.dtype, Packing], Packing] = {}
    files = []
    for file in source.files:
        dtype = _stored_type(file)
        key = dtype, file.packing
        if key not in packings:
            marks = tuple(m.stored for m in found.marks.get(dtype, ()) if m.is_certain)
            stored, values = marks_read(source, dtype, file.packing)
            odd = impossible(what, values, below_zero=has_negative(found.low, found.high))
            watched = tuple(float(n) for n in stored[odd & ~np.isin(stored, marks)])
            packings[key] = replace(
                file.packing, marks=(*file.packing.marks, *marks), watched=watched
            )
        files.append(file.packed(replace(packings[key], where=str(file.path))))
    return tuple(files)


def holds_codes(source: GridSource, what: Quantity) -> bool:
    """Whether a grid may hold class codes: a few whole numbers, stored as such, without unit."""
    variable = source.variable
    if what.kind != STATE or variable.unit or variable.kind or url_of(source.files[0].path):
        return False
    if not all(file.dtype.kind in "iu" and file.packing.is_plain for file in source.files):
        return False
    steps = 1 if source.time is None else len(source.time)
    areas = list(squares(source))
    found = np.zeros(0)
    for step in dict.fromkeys((0, steps // 2, steps - 1)):
        for cells in areas:
            block = source.read(step, step + 1, cells)
            found = np.union1d(found, block[~np.isnan(block)])
            if found.size > MOST_CODES:
                return False
    return bool(found.size)


def check_range(source: GridSource, low: float, high: float) -> None:
    """Ask about a mark that no sample held and that turned out to be the end of the range.

    Parameters
    ----------
    low, high
        Of all values that were read.

    Raises
    ------
    InputError
    """
    for tile in source.tiles:
        if tile.looked_at is None:
            continue
        for dtype, packing in {(_stored_type(f), f.packing): None for f in tile.files}:
            _, values = marks_read(tile, dtype, packing)
            for value in (low, high):
                if value in values and is_apart(value, *tile.looked_at):
                    raise InputError(where(source), *perhaps_text(value))
