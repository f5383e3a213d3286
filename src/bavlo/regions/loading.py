"""How the vector library is loaded: without data frame libraries that it would bring along."""

from __future__ import annotations

import sys
from typing import Any

FRAMES = {"pandas", "geopandas", "pyarrow"}
_alone = False


def nobody_needs_frames() -> None:
    """Say that this process is the program itself, in which nobody else needs data frames."""
    global _alone
    _alone = True


def vector_library() -> Any:
    """The vector library, with the part of it that reads and writes arrays.

    In the program itself data frame libraries are hidden from it while it loads. It would load
    those that it finds, and they take a second and are of no use here.
    """
    hidden = FRAMES - sys.modules.keys() if _alone and "pyogrio" not in sys.modules else set()
    sys.modules.update(dict.fromkeys(hidden))  # type: ignore[arg-type]
    try:
        import pyogrio
        import pyogrio.raw
    finally:
        for name in hidden:
            del sys.modules[name]
    return pyogrio
