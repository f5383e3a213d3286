"""Loops that numba compiles, for the few jobs in which they save a quarter of the time or more.

They stand in files `*_kernels.py`, each beside the NumPy way that gives the same numbers without
them. Importing such a file loads numba, so only code that asked `in_use` does that. To load numba
and what it compiled before takes about a second, to compile all that a job needs up to half a
minute; what is compiled is kept in the cache, where nobody else can write.

Kept by measurement: percentiles of calendar days and their bootstrap (4.6 times as fast), and
spells.
"""

from __future__ import annotations

import atexit
import hashlib
import os
from collections.abc import Callable
from contextlib import suppress
from importlib import import_module
from importlib.util import find_spec
from pathlib import Path
from typing import Any, TypeVar, cast

from bavlo import kept
from bavlo.remembered import FACTS

SWITCH = "BAVLO_COMPILED"  # set to 0, NumPy makes everything
SIZE = 300 * 2**20  # bytes that numba takes, its compiler included
FOLDER, SEAL = "loops", "sha256"  # in the cache, and what tells that it is whole

Function = TypeVar("Function", bound=Callable[..., Any])

_wanted = False


def use() -> None:
    """Use compiled loops from now on: there is work that pays for it, and memory."""
    global _wanted
    _wanted = True


def in_use() -> bool:
    """Whether compiled loops are used."""
    return _wanted and os.environ.get(SWITCH) != "0" and find_spec("numba") is not None


def kernel(function: Function) -> Function:
    """A loop that is called from Python, kept once it is compiled for arguments of some types."""
    numba: Any = import_module("numba")
    folder = kept.folder() / FOLDER
    numba.config.CACHE_DIR = str(folder)  # read as the decorator is applied
    may_keep = FACTS.get(("loops", folder), lambda: _may_keep(folder))
    return cast(Function, numba.njit(cache=may_keep, nogil=True)(function))


def _may_keep(folder: Path) -> bool:
    """Whether loops may be kept in a folder, and run if they are there.

    Only where nobody else can write. All that is there is removed unless it is, to the last bit,
    what a run left at its end.
    """
    if not kept.is_private(folder):
        return False
    if _seal_of(folder) != _digest_of(folder):
        for path in _files_in(folder):
            path.unlink(missing_ok=True)
    atexit.register(_seal, folder)
    return True


def _files_in(folder: Path) -> list[Path]:
    return sorted(path for path in folder.rglob("*.nb?") if path.is_file())


def _digest_of(folder: Path) -> str:
    """SHA-256 of all loops in a folder, their names among them."""
    digest = hashlib.sha256()
    with suppress(OSError):  # of one that another run removes meanwhile: it fits none
        for path in _files_in(folder):
            content = path.read_bytes()
            digest.update(f"{path.relative_to(folder)} {len(content)} ".encode() + content)
    return digest.hexdigest()


def _seal_of(folder: Path) -> str:
    with suppress(OSError, UnicodeDecodeError):
        return (folder / SEAL).read_text()
    return ""


def _seal(folder: Path) -> None:
    """Say that the loops in a folder are as they should be."""
    draft = folder / f".{SEAL}.{os.getpid()}.part"
    with suppress(OSError):
        found = _digest_of(folder)
        if found != _seal_of(folder):
            draft.write_text(found)
            os.replace(draft, folder / SEAL)


def helper(function: Function) -> Function:
    """A function that kernels of its file call."""
    numba: Any = import_module("numba")
    return cast(Function, numba.njit(nogil=True)(function))
