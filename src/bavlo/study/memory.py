"""Keeping to --memory: how many units may be held at once."""

from __future__ import annotations

import resource
import sys
from collections.abc import Sequence
from pathlib import Path

from bavlo.core.errors import RequestError
from bavlo.core.partials import Unit
from bavlo.core.spatial import SORTED_AT_ONCE
from bavlo.study.job import Job
from bavlo.study.request import Request

MARGIN = 32 * 2**20  # what libraries still allocate once work begins
COPIES_OF_CELLS = 8  # decoded, masked, filled and turned copies of a unit's cells
COPIES_SORTED = 8  # ranks, orders, weights and their sums of cells that are sorted together
STORED_SIZE = 4  # bytes of a number that is kept as it is stored
KEPT_PER_CELL = 9  # value, weight and cover of a period's cells: open, arriving and merged


def in_use() -> int:
    """Resident memory of this process, in bytes; its peak where the system tells no more."""
    try:
        pages = int(Path("/proc/self/statm").read_text().split()[1])
        return pages * resource.getpagesize()
    except OSError:
        used = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    return used if sys.platform == "darwin" else used * 1024


def size_text(size: float) -> str:
    """A size in MB or GB."""
    return f"{size / 2**30:.1f}GB" if size >= 2**30 else f"{size / 2**20:.0f}MB"


def fitting_jobs(job: Job, units: Sequence[Unit], table_size: int) -> int:
    """How many units can be held at once within `--memory`.

    Raises
    ------
    RequestError
        Where not even one can; it names the least that is enough.
    """
    steps = max((part.last - part.first for unit in units for part in unit.each), default=0)
    as_stored = max((unit.last - unit.first for unit in units if unit.parts), default=0)
    sorting = max(SORTED_AT_ONCE, int(job.overlay.entries.max(initial=0))) * 8 * COPIES_SORTED
    window = sum(w.shape[0] * w.shape[1] for w in job.cells.windows)
    per_step = window * 8 * 2 + job.cells.cells.size * 8 * COPIES_OF_CELLS
    kept = 0
    beside = 0
    for each in job.passes:
        sorts = any(measure.percent is not None for measure in each.measures)
        if each.order == "region":
            others = any(not m.linear and m.percent is None for m in each.measures)
            per_step += job.overlay.index.size * 8 * 2 * others
            beside += sorting * sorts
        else:
            kept += job.cells.cells.size * 8 * KEPT_PER_CELL + sorting * sorts
    beside += as_stored * window * STORED_SIZE
    return fitting(job.request, steps * per_step + beside, table_size + kept)


def fitting(request: Request, unit_size: float, kept: float) -> int:
    """How many units of a size can be held at once, beside what is kept all the time.

    Raises
    ------
    RequestError
        Where not even one can; it names the least that is enough.
    """
    base = in_use() + MARGIN + kept
    fit = int((request.memory - base) // unit_size) if unit_size else request.jobs
    if fit < 1:
        least = size_text(1.02 * (base + unit_size))
        raise RequestError(
            "--memory", f"{size_text(request.memory)} is too little", f"this job needs {least}"
        )
    return min(request.jobs, fit)
