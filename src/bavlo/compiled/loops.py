"""Kernels that are called as machine code."""

from __future__ import annotations

import os
import sys
import threading
from collections.abc import Callable
from importlib.util import find_spec
from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    from bavlo.compiled.machine_code import Function, MachineCode

SWITCH = "BAVLO_COMPILED"
SIZE = 80 * 2**20  # bytes that machine code, and what loads it, take
COMPILER_SIZE = 300 * 2**20  # bytes that the compiler's process may take
wanted = os.environ.get(SWITCH) != "0"
_allowed = False
_is_installed: bool | None = None
_lock = threading.Lock()
_loops: dict[Callable[..., Any], Loop] = {}


class Loop:
    """A kernel as machine code, of which there is one for all types of its arguments.

    Arguments are arrays, without gaps and in the byte order of the machine, and numbers. What it
    gives back is a number or nothing.
    """

    def __init__(self, kernel: Callable[..., Any]) -> None:
        from bavlo.compiled.machine_code import address_of

        self.kernel = kernel
        self._address_of = address_of
        self._ready: dict[tuple[Any, ...], Function] = {}
        self._by_numba: Callable[..., Any] | None = None

    def __call__(self, *arguments: Any) -> Any:
        """Call it, once it was loaded or compiled for arguments of these types.

        Raises
        ------
        TypeError
            Where an array has gaps, or the byte order of another machine.
        """
        if self._by_numba is not None:
            return self._by_numba(*arguments)
        types: list[Any] = []
        numbers: list[float] = []
        interfaces = []
        for each in arguments:
            if isinstance(each, np.ndarray):
                if not (each.flags.c_contiguous and each.dtype.isnative):
                    raise TypeError(f"{self.kernel.__name__} takes arrays without gaps")
                types.append((each.dtype.num, each.ndim))
                interfaces.append(each.__array_struct__)
                numbers.append(self._address_of(interfaces[-1], None))
            else:
                types.append(type(each))
                numbers.append(each)
        key = tuple(types)
        function = self._ready.get(key)
        if function is None:
            function = self._load(key, arguments)
            if function is None:
                return self(*arguments)
        return function(*numbers)

    @property
    def is_ready(self) -> bool:
        """Whether it was called before, with arguments of some types."""
        return bool(self._ready) or self._by_numba is not None

    def _load(self, key: tuple[Any, ...], arguments: tuple[Any, ...]) -> Function | None:
        """What is called for arguments of some types; None where only numba itself gives it."""
        from bavlo.compiled import machine_code
        from bavlo.compiled.compiler import by_numba

        with _lock:
            if key in self._ready or self._by_numba is not None:
                return self._ready.get(key)
            types = tuple(machine_code.type_of(each) for each in arguments)
            code = _machine_code(self.kernel, types)
            if code is None:
                self._by_numba = by_numba(self.kernel)
                return None
            self._ready[key] = function = machine_code.load(code)
            return function


def _machine_code(kernel: Callable[..., Any], types: tuple[str, ...]) -> MachineCode | None:
    """What a kernel was compiled to, now or before; None where it cannot be."""
    from bavlo.compiled import machine_code
    from bavlo.compiled.compiler import COMPILER

    try:
        entry = machine_code.entry_of(kernel, types)
    except OSError:
        return None
    code = machine_code.kept(entry)
    if code is None:
        code = COMPILER.machine_code(kernel, types)
        if code is not None:
            machine_code.keep(entry, code)
    return code


def allow() -> None:
    """Say that there is work that pays for loading machine code, and memory for it."""
    global _allowed
    _allowed = True


def is_allowed() -> bool:
    """Whether there is such work."""
    return _allowed


def compiled(kernel: Callable[..., Any]) -> Loop | None:
    """A kernel as machine code; None where numba is not there, not allowed or not wanted."""
    global _is_installed
    if not _allowed or not wanted:
        return None
    if _is_installed is None:
        _is_installed = all(find_spec(name) is not None for name in ("numba", "llvmlite"))
        _is_installed = _is_installed and sys.maxsize > 2**32  # addresses take eight bytes
    if not _is_installed:
        return None
    loop = _loops.get(kernel)
    if loop is None:
        loop = _loops.setdefault(kernel, Loop(kernel))
    return loop


def at_hand(kernel: Callable[..., Any]) -> Loop | None:
    """The same, but only if it was called before: nobody waits for it."""
    loop = compiled(kernel)
    return loop if loop is not None and loop.is_ready else None


def prepare(warm_up: Callable[[], None]) -> None:
    """Load or compile loops by calling each once; the compiler is let go then.

    Parameters
    ----------
    warm_up
        Calls those that the work needs, with arrays of its types.
    """
    from bavlo.compiled.compiler import COMPILER

    allow()
    try:
        warm_up()
    finally:
        COMPILER.close()
