"""Loops that are compiled where numba is installed: the same numbers to the last bit, sooner.

A kernel does the additions and comparisons of the NumPy way in the same order, without contraction
and without fast-math. Work that pays for it, and has the memory, allows it; what was
compiled is kept for the next time. `BAVLO_COMPILED=0` does without.
"""

from __future__ import annotations

import os
import sys
import threading
from collections.abc import Callable
from contextlib import suppress
from types import FunctionType
from typing import Any

SWITCH = "BAVLO_COMPILED"
SIZE = 200 * 2**20  # bytes that numba and what it makes take
wanted = os.environ.get(SWITCH) != "0"
_allowed = False
_early: threading.Thread | None = None
_lock = threading.Lock()
_ready: dict[Callable[..., Any], Callable[..., Any] | None] = {}


def allow() -> None:
    """Say that there is work that pays for loading numba, and memory for it."""
    global _allowed
    _allowed = True


def is_allowed() -> bool:
    """Whether there is such work."""
    return _allowed


def load_early(warm_up: Callable[[], None]) -> None:
    """Begin to load and compile loops beside other work, which takes about as long.

    A program that ends meanwhile waits for it: the compiler must not be stopped halfway.

    Parameters
    ----------
    warm_up
        Loads and compiles them. Whoever needs them calls it again, and waits for what is not done.
    """

    def load() -> None:
        with suppress(OSError):  # which then meets whoever reads the file
            warm_up()

    global _early
    _early = threading.Thread(target=load, name="bavlo-loops")
    _early.start()


def is_loading() -> bool:
    """Whether loops are being loaded beside other work, which may do without them until then."""
    return _early is not None and _early.is_alive()


def is_loaded() -> bool:
    """Whether numba takes its memory already."""
    with _lock:
        return "numba" in sys.modules


def compiled(kernel: Callable[..., Any]) -> Callable[..., Any] | None:
    """A kernel as machine code; None where numba is not there, not allowed or not wanted."""
    if not _allowed or not wanted:
        return None
    if kernel not in _ready:
        with _lock:  # numba is not loaded by two threads at once
            if kernel not in _ready:
                _ready[kernel] = _compiled(kernel)
    return _ready[kernel]


def at_hand(kernel: Callable[..., Any]) -> Callable[..., Any] | None:
    """The same, but only if it was compiled already: nobody waits for it."""
    return _ready.get(kernel) if _allowed and wanted else None


def _compiled(kernel: Callable[..., Any]) -> Callable[..., Any] | None:
    try:
        import numba
    except ImportError:
        return None
    return _with_what_it_calls(kernel, numba.njit)


def _with_what_it_calls(kernel: Callable[..., Any], njit: Callable[..., Any]) -> Callable[..., Any]:
    """A kernel compiled together with the functions of its module that it calls."""
    assert isinstance(kernel, FunctionType)
    called = {
        name: _with_what_it_calls(function, njit)
        for name in kernel.__code__.co_names
        if isinstance(function := kernel.__globals__.get(name), FunctionType)
        and function.__module__ == kernel.__module__
    }
    own = FunctionType(kernel.__code__, {**kernel.__globals__, **called}, kernel.__name__)
    own.__module__, own.__qualname__ = kernel.__module__, kernel.__qualname__
    ready: Callable[..., Any]
    try:
        ready = njit(nogil=True, cache=True, fastmath=False)(own)
    except RuntimeError:  # no folder that what was compiled could be kept in
        ready = njit(nogil=True, fastmath=False)(own)
    return ready
