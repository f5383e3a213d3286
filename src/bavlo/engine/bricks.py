"""Blocks of steps rearranged into bricks of cells with their whole record, in memory or on disk.

Blocks come as (T, C), one run of steps after the other; bricks go out as all steps of a few cells.
What fits stays in memory; the rest goes, deflated, to a scratch file that is removed afterwards.
"""

from __future__ import annotations

import itertools
import os
import shutil
import tempfile
import threading
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from types import TracebackType

import numpy as np

LEAST_BRICKS, LEAST_CELLS = 4, 128

Piece = list[tuple[str, np.ndarray]]  # of one brick: names and values (T, b), in order of time


class BrickStore:
    """Values that come by runs of steps, to be had again by bricks.

    Parameters
    ----------
    bricks
        Cells of each brick.
    room
        Bytes that may stay in memory.
    """

    def __init__(self, bricks: list[slice], room: float) -> None:
        self.bricks = bricks
        self.room = room
        self.held = 0
        self.file: int | None = None
        self.path: Path | None = None
        self._blocks: dict[tuple[str, int], np.ndarray] = {}
        self._places: dict[tuple[str, int, int], tuple[int, int, np.dtype, int]] = {}
        self._runs: set[int] = set()
        self._names: dict[str, None] = {}
        self._lock = threading.Lock()
        self._end = 0

    def __enter__(self) -> BrickStore:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if self.file is not None:
            os.close(self.file)
        if self.path is not None:
            shutil.rmtree(self.path, ignore_errors=True)

    @property
    def on_disk(self) -> int:
        """Bytes of the scratch file so far."""
        return self._end

    def put(self, run: int, name: str, block: np.ndarray) -> None:
        """Keep the values (T, C) of the run of steps number `run`; from any thread."""
        block = compact(block)
        with self._lock:
            self._runs.add(run)
            self._names[name] = None
            if self.held + block.nbytes <= self.room:
                self.held += block.nbytes
                self._blocks[name, run] = block
                return
            self._open()
        for number, cells in enumerate(self.bricks):
            part = np.ascontiguousarray(block[:, cells])
            data = part.tobytes()
            with self._lock:
                position, self._end = self._end, self._end + len(data)
                self._places[name, run, number] = (position, len(data), part.dtype, len(part))
            assert self.file is not None
            os.pwrite(self.file, data, position)

    def _open(self) -> None:
        if self.file is None:
            self.path = Path(tempfile.mkdtemp(prefix="bavlo-"))
            self.file = os.open(self.path / "bricks", os.O_RDWR | os.O_CREAT)

    def take_all(self, number: int) -> dict[str, np.ndarray]:
        """The whole record (T, b) of a brick, by name."""
        return {name: self.take(number, name) for name in self._names}

    def take(self, number: int, name: str) -> np.ndarray:
        """(T, b) whole record of a brick; float32 where that loses nothing."""
        cells = self.bricks[number]
        parts = []
        for run in sorted(self._runs):
            if (name, run) in self._blocks:
                parts.append(self._blocks[name, run][:, cells])
            else:
                position, size, dtype, steps = self._places[name, run, number]
                assert self.file is not None
                data = os.pread(self.file, size, position)
                parts.append(np.frombuffer(data, dtype).reshape(steps, -1))
        return np.concatenate(parts)


def cut_into_bricks(
    blocks: Iterable[Mapping[str, np.ndarray]], bricks: Sequence[slice]
) -> list[Piece]:
    """What each brick has of some runs of steps, of which each has values (T, C) by name."""
    pieces: list[Piece] = [[] for _ in bricks]
    for block in blocks:
        for name, values in block.items():
            small = compact(values)
            for piece, cells in zip(pieces, bricks, strict=True):
                piece.append((name, small[:, cells].copy()))
    return pieces


def joined_brick(pieces: Iterable[Piece]) -> dict[str, np.ndarray]:
    """By name, the whole record (T, b) of a brick from what was cut, in order of time."""
    parts: dict[str, list[np.ndarray]] = {}
    for name, part in itertools.chain.from_iterable(pieces):
        parts.setdefault(name, []).append(part)
    return {name: np.concatenate(some) for name, some in parts.items()}


def compact(block: np.ndarray) -> np.ndarray:
    """The same numbers as float32 where none of them loses anything."""
    small = block.astype(np.float32)
    same = small == block
    if same.all() or (same | np.isnan(block)).all():
        return small
    return block


def cut_bricks(cells: int, steps: int, values: int) -> list[slice]:
    """Cells cut into bricks of like size, of at most about `values` values each.

    A few even where one would hold all, so that there is work for several workers. They follow
    from the data alone.
    """
    count = -(-cells // max(1, values // max(steps, 1)))
    count = max(count, min(LEAST_BRICKS, -(-cells // LEAST_CELLS)))
    edges = np.linspace(0, cells, count + 1).astype(int).tolist()
    return [slice(a, b) for a, b in itertools.pairwise(edges)]
