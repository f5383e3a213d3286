"""How work is done: every number that decides by size, and what follows from it.

A job says what is computed. From the sizes of its grid and regions it is decided here in which
blocks of steps, bands of rows or bricks of cells that is done, what that takes in memory, and
whether compiled loops pay. `core/batches.py` has the one number that core needs for itself.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from bavlo.core.batches import AT_ONCE
from bavlo.core.reduce.protocol import Block
from bavlo.core.time.assignment import Assignment
from bavlo.engine.bricks import cut_bricks
from bavlo.engine.memory import use_loops
from bavlo.engine.protocol import Needs, Resources
from bavlo.engine.segments import Segment, common_assignment, plan_blocks, plan_segments

NUMBER = 8  # bytes of a float64

# Cells × steps of a block, cells × steps of a brick, cells of a band of written rows: 16 MB, with
# the copies below some 150 MB for each that is under way.
BLOCK_VALUES = 2**21
# Blocks from which a segment ends with a period, and from which it ends in any case; of counts
# fewer, so that no state holds too many periods.
SEGMENT_BLOCKS = {"values": (32, 128), "counts": (8, 16)}
# A step of so many cells is not read as a whole: its values alone would take 64 MB.
CELLS_OF_STEP = 2**23
# Rows and cells of a band that is read: tiles of rasters have as many rows, and are inflated once.
READ_ROWS, READ_CELLS = 512, 2**24
# Cells of a band where nothing is combined, and between two reference systems, where each has some
# five shared areas; rows of a band at least.
BAND_CELLS = {"steps": 2**23, "combined": BLOCK_VALUES, "two systems": 2**20}
BAND_ROWS = 8
# Copies of a block's values that a job holds: decoded, masked, filled, turned and so on. Estimates,
# against which bench/memory.py holds the peaks of resident memory.
COPIES = {
    "series": 8.0,
    "sorted cells": 8.0,  # ranks, orders, weights and their sums
    "class shares": 12.0,
    "grid": 6.0,
    "single steps": 3.0,
    "counts": 4.0,
    "regions' steps": 4.0,
    "read for bricks": 3.0,
    "brick": 12.0,
    "band": 2.0,  # the value and the stored number
    "band of tiles": 6.0,
    "rows of a band": 32.0,  # shares and areas of cells, values and their products
}
# Numbers of each cell that are kept of open periods: value, weight and cover, three times over;
# and of the counts of a condition.
KEPT_OF_CELL = {"periods": 9, "counts": 6}
# Share of `memory` that records may take before they go to a scratch file.
RECORDS_SHARE = 0.25
# Values from which loading compiled loops (a second) is less than they save.
LOOPS_PAY = {"calendar days": 2**21, "spells": 2**26}


class OnCluster:
    """How work is shared out to the workers of a cluster."""

    ahead = 3  # tasks of each worker's thread that are under way at once
    waiting = 32  # merged states that wait to be fetched
    fetched_bytes = 2**25  # of outcomes that are fetched together
    cut_values = 2**26  # cells × steps that are cut into bricks together, at most
    cut_runs = 16  # runs of steps that are cut, at least, so that there is work for all workers
    groups_of_thread = 6  # groups of bricks for each thread: few tasks that end at about one time


def blocks_of(assignments: Sequence[Assignment], cells: int) -> tuple[Block, ...]:
    """Runs of steps that are read and reduced together, cut where periods of any sort begin."""
    return tuple(plan_blocks(common_assignment(assignments), cells, BLOCK_VALUES))


def segments_of(
    assignments: Sequence[Assignment],
    blocks: Sequence[Block],
    what: str = "values",
    *,
    follows_spells: bool = False,
) -> tuple[Segment, ...]:
    """Blocks that are reduced in order in one place; `what` is a key of SEGMENT_BLOCKS."""
    sizes = SEGMENT_BLOCKS[what]
    return tuple(plan_segments(assignments, blocks, sizes, follows_spells=follows_spells))


def bricks_of(cells: int, steps: int) -> tuple[slice, ...]:
    """Cells whose whole record is worked on together."""
    return tuple(cut_bricks(cells, steps, BLOCK_VALUES))


def is_read_in_bands(cells: int) -> bool:
    """Whether a step of so many cells is too large to be read as a whole."""
    return cells >= CELLS_OF_STEP


def bands_of(first: int, last: int, width: int) -> list[Block]:
    """Bands of rows that begin at multiples of their height, so that tiles are read once."""
    rows = READ_ROWS
    while rows > 1 and rows * width > READ_CELLS:
        rows //= 2
    starts = range(first // rows * rows, last, rows)
    return [Block(max(start, first), min(start + rows, last)) for start in starts]


def band_height(shape: tuple[int, int], cells: int, chunk: int, what: str) -> int:
    """Written rows of a band: whole chunks of the file, or a share of one.

    Parameters
    ----------
    shape
        Rows and columns that are written.
    cells
        Cells that are read.
    chunk
        Rows of a chunk of the file that is written.
    what
        A key of BAND_CELLS.
    """
    rows, columns = shape
    count = -(-max(cells, rows * columns) // BAND_CELLS[what])
    if count <= 1:
        return rows
    fitting = -(-rows // count)
    return fitting // chunk * chunk if fitting >= chunk else max(fitting, BAND_ROWS)


def rows_beneath(width: int) -> int:
    """Written rows of a band, where the rows of the grid beneath are read in bands.

    Parameters
    ----------
    width
        Cells of a row of that grid.
    """
    return max(1, BLOCK_VALUES // width)


def longest(blocks: Sequence[Block]) -> int:
    """Steps of the longest block."""
    return max((block.last - block.first for block in blocks), default=0)


@dataclass(frozen=True)
class GroupSize:
    """What a group of measures works on besides the cells of a block.

    Parameters
    ----------
    by_cell
        Cells are combined before they are measured.
    sorts
        Cells are put in order.
    by_entry
        Each step takes two numbers of each shared cell.
    """

    by_cell: bool
    sorts: bool
    by_entry: bool


def needs_of_series(
    blocks: Sequence[Block],
    cells: tuple[int, int],
    entries: tuple[int, int],
    groups: Sequence[GroupSize],
    table: int,
    *,
    trees: bool,
) -> Needs:
    """What the blocks of a series take.

    Parameters
    ----------
    cells
        Used cells, and those of the windows that hold them.
    entries
        Shared cells of all regions, and of the one that has most.
    table
        Bytes of the table's numbers.
    trees
        Whether periods go on from segment to segment.
    """
    used, window = cells
    per_step = NUMBER * (2 * window + COPIES["series"] * used)
    sorting = max(AT_ONCE, entries[1]) * NUMBER * COPIES["sorted cells"]
    beside, kept = 0.0, float(table)
    for group in groups:
        if group.by_cell:
            kept += used * NUMBER * KEPT_OF_CELL["periods"] * (1 + trees) + sorting * group.sorts
        else:
            per_step += entries[0] * NUMBER * 2 * group.by_entry
            beside += sorting * group.sorts
    return Needs(longest(blocks) * per_step + beside, kept)


def needs_of_blocks(
    blocks: Sequence[Block], cells: int, what: str, kept: float = 0.0, names: int = 1
) -> Needs:
    """What blocks of several variables take; `what` is a key of COPIES."""
    return Needs(longest(blocks) * cells * NUMBER * COPIES[what] * names, kept)


def needs_of_grid(blocks: Sequence[Block], cells: int, periods: int, memory: int) -> Needs:
    """What the blocks of a grid take whose cells are combined over periods.

    Parameters
    ----------
    periods
        Those of which all values are kept, to be worked on by bricks; 0 where none are.
    memory
        That the run may take.
    """
    kept = float(cells * NUMBER * KEPT_OF_CELL["periods"])
    brick = 0
    if periods:
        kept += min(RECORDS_SHARE * memory, cells * periods * NUMBER)
        brick = min(BLOCK_VALUES, cells * periods)
    most = max(longest(blocks) * cells, brick)
    return Needs(most * NUMBER * COPIES["grid"], kept)


def needs_of_records(
    blocks: Sequence[Block],
    bricks: Sequence[slice],
    steps: int,
    names: int,
    table: int,
    memory: int,
) -> Needs:
    """What bricks of cells take, whose records are read by blocks.

    Parameters
    ----------
    steps
        Of a record.
    names
        Variables.
    table
        Bytes of the table's numbers.
    memory
        That the run may take.
    """
    cells = bricks[-1].stop
    room = RECORDS_SHARE * memory
    block = longest(blocks) * cells * NUMBER * COPIES["read for bricks"] * names
    brick = max(b.stop - b.start for b in bricks) * steps * NUMBER
    kept = table * 2 + min(room, steps * cells * NUMBER * names * 1.0)
    return Needs(max(block, brick * (COPIES["brick"] + names)), kept, room)


def needs_of_bands(rows: tuple[int, int], width: int, kept: float, *, tiled: bool) -> Needs:
    """What bands of the rows from the first to the last (excluded) take."""
    most = longest(bands_of(*rows, width))
    part = max(width, min(most * width, AT_ONCE // 2))
    copies = COPIES["band of tiles" if tiled else "band"]
    block = NUMBER * (most * width * copies + part * COPIES["rows of a band"])
    return Needs(block, kept, counted="rows")


def with_loops(run: Resources, needs: Needs, what: str, values: float) -> Needs:
    """The same with compiled loops where they pay; `what` is a key of LOOPS_PAY."""
    return use_loops(run, needs) if values >= LOOPS_PAY[what] else needs
