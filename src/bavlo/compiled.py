"""Loops that numba compiles, for the few jobs in which they save a quarter of the time or more.

They stand in files `*_kernels.py`, each beside the NumPy way that gives the same numbers without
them. Importing such a file loads numba, so only code that asked `in_use` does that. To load numba
and what it compiled before takes about a second, to compile all that a job needs up to half a
minute; what is compiled is kept in the cache, where nobody else can write.

Kept by measurement: percentiles of calendar days and their bootstrap (4.6 times as fast), spells,
and areas of class codes.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from importlib import import_module
from importlib.util import find_spec
from typing import Any, TypeVar, cast

from bavlo import kept

SWITCH = "BAVLO_COMPILED"  # set to 0, NumPy makes everything
SIZE = 350 * 2**20  # bytes that numba takes, its compiler included
FOLDER = "loops"  # in the cache

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
    is_private = kept.is_private(folder)
    numba.config.CACHE_DIR = str(folder)  # read as the decorator is applied
    return cast(Function, numba.njit(cache=is_private, nogil=True)(function))


def helper(function: Function) -> Function:
    """A function that kernels of its file call."""
    numba: Any = import_module("numba")
    return cast(Function, numba.njit(nogil=True)(function))
