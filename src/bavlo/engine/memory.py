"""Keeping to a limit of memory: how many units may be held at once."""

from __future__ import annotations

import contextlib
import ctypes
import gc
import resource
import sys
from collections.abc import Callable
from pathlib import Path

from bavlo.compiled import COMPILER_SIZE, SIZE, allow, prepare
from bavlo.engine.needs import Needs
from bavlo.engine.protocol import Resources
from bavlo.errors import RequestError

MARGIN = 32 * 2**20  # what libraries still allocate once work begins


def in_use() -> int:
    """Resident memory of this process, in bytes; its peak where the system tells no more."""
    try:
        pages = int(Path("/proc/self/statm").read_text().split()[1])
        return pages * resource.getpagesize()
    except OSError:
        used = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        return used if sys.platform == "darwin" else used * 1024


def give_back() -> None:
    """Give memory that nothing uses any more back to the system, so that it is not in use.

    After a result of a study that is a fifth of what the process holds.
    """
    gc.collect()
    with contextlib.suppress(OSError, AttributeError):  # only the GNU library has it
        ctypes.CDLL(None).malloc_trim(0)


def size_text(size: float) -> str:
    """A size in MB or GB."""
    return f"{size / 2**30:.1f}GB" if size >= 2**30 else f"{size / 2**20:.0f}MB"


def load_where_it_fits(
    run: Resources, needs: Needs, warm_up: Callable[[], None], jobs: int = 1
) -> None:
    """Load compiled loops that pay for it: here where there is room for that, else by workers.

    Parameters
    ----------
    warm_up
        Calls each of them once, now, so that what that takes counts as taken when workers are
        counted.
    """
    if run.cluster is not None:
        allow()  # they have memory of their own, and are told
    elif has_room_for_loops(run.memory, needs, jobs):
        prepare(warm_up)


def has_room_for_loops(memory: int, needs: Needs, jobs: int = 1) -> bool:
    """Whether a memory suffices for compiled loops beside what so many workers need."""
    loops = 0 if "llvmlite" in sys.modules else SIZE
    taken = in_use() + MARGIN
    beside = taken + COMPILER_SIZE  # before anything else is held
    return max(beside, taken + loops + needs.kept + 1.02 * needs.unit * jobs) < memory


def fitting_jobs(jobs: int, memory: int, needs: Needs) -> int:
    """How many units can be held at once, at most `jobs`.

    Raises
    ------
    RequestError
        Where not even one can; it names the least that is enough.
    """
    base = in_use() + MARGIN + needs.kept
    fit = int((memory - base) // needs.unit) if needs.unit else jobs
    if fit < 1:
        least = size_text(1.02 * (base + needs.unit))
        raise RequestError(
            "memory", f"{size_text(memory)} is too little", f"this job needs {least}"
        )
    return min(jobs, fit)
