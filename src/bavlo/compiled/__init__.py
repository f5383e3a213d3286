"""Loops as machine code, where numba is installed: the same numbers to the last bit, sooner.

A kernel is a plain function on arrays in a file `*_kernels.py`. It does the additions and
comparisons of the NumPy way in the same order, and is compiled without contraction and without
fast-math. Work that pays for it, and has the memory, allows it; `BAVLO_COMPILED=0` does without.

Numba makes the machine code in a process of its own (`compiler`). It is kept (`machine_code`), so
that all later runs load it by llvmlite alone: 0.05 s and 50 MB, where numba takes 0.9 s and 130 MB.
"""

from bavlo.compiled.loops import (
    COMPILER_SIZE,
    SIZE,
    SWITCH,
    Loop,
    allow,
    at_hand,
    compiled,
    is_allowed,
    prepare,
)

__all__ = [
    "COMPILER_SIZE",
    "SIZE",
    "SWITCH",
    "Loop",
    "allow",
    "at_hand",
    "compiled",
    "is_allowed",
    "prepare",
]
