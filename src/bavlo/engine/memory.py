"""Keeping to a limit of memory: how many blocks may be held at once."""

from __future__ import annotations

import contextlib
import ctypes
import gc
import resource
import sys
from pathlib import Path

from bavlo import compiled
from bavlo.engine.protocol import Needs, Resources
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


def use_loops(run: Resources, needs: Needs) -> Needs:
    """Use compiled loops for work that pays for them, where there is memory for both.

    Returns
    -------
    needs
        With what the loops take.
    """
    if run.cluster is not None:  # workers have memory of their own, and are told
        compiled.use()
        return needs
    if in_use() + MARGIN + compiled.SIZE + needs.kept + 1.02 * needs.block >= run.memory:
        return needs
    compiled.use()
    return needs.beside(Needs(0.0, compiled.SIZE * compiled.in_use()))


def fitting_jobs(jobs: int, memory: int, needs: Needs) -> int:
    """How many blocks can be held at once, at most `jobs`.

    Raises
    ------
    RequestError
        Where not even one can; it names the least that is enough.
    """
    base = in_use() + MARGIN + needs.kept
    fit = int((memory - base) // needs.block) if needs.block else jobs
    if fit < 1:
        least = size_text(1.02 * (base + needs.block))
        raise RequestError(
            "memory", f"{size_text(memory)} is too little", f"this job needs {least}"
        )
    return min(jobs, fit)
