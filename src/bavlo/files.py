"""What a path leads to, before it is opened."""

from __future__ import annotations

import re
import stat
import struct
import zipfile
import zlib
from pathlib import Path

from bavlo.errors import InputError, refused_by_system

PROBED = 2**16  # bytes
NUMBER = re.compile(r"[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?|[+-]?inf|nan")
# What libraries raise in the middle of damaged files.
DAMAGE = (
    OSError,
    RuntimeError,
    IndexError,
    ValueError,
    TypeError,
    KeyError,
    AttributeError,
    OverflowError,
    AssertionError,
    ArithmeticError,
    MemoryError,
    EOFError,
    SyntaxError,
    SystemError,  # of libraries that are asked for sizes below zero
    zlib.error,
    struct.error,
    zipfile.BadZipFile,
)


def number_in(text: str) -> float:
    """A number in the spelling that text files have: ASCII digits, a point, an exponent.

    Raises
    ------
    ValueError
        Where the text is none, such as one with other digits or with marks between them, which
        Python's own reading would take.

    Examples
    --------
    >>> number_in("-1.5e3")
    -1500.0
    """
    if not NUMBER.fullmatch(text.strip()):
        raise ValueError(f"'{text}' is no number")
    return float(text)


def check_regular(path: Path) -> None:
    """Refuse pipes and devices, which could be read forever; what is not there passes.

    Raises
    ------
    InputError
    """
    try:
        mode = path.stat().st_mode
    except FileNotFoundError:
        return
    except OSError as error:
        raise refused_by_system(path, error) from error
    if not (stat.S_ISREG(mode) or stat.S_ISDIR(mode)):
        raise InputError(path, "is a pipe or a device", "write it to a file first")


def refused_writing(path: Path) -> OSError | None:
    """Why nothing more can be added to a file that is being written; None where it can.

    Libraries have many words for a disk that is full, a quota or a limit of size, and the system's
    own are lost on the way.
    """
    if path.is_dir():
        return None
    try:
        with path.open("ab") as file:
            file.write(bytes(PROBED))
    except OSError as error:
        return error
    return None
