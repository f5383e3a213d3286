"""What is kept between runs as plain arrays: overlays, indexes and loops that took long to make.

An entry is written beside and then renamed, so that runs at the same time cannot harm one another,
and read back with its checksums; what is damaged is made anew.
"""

from __future__ import annotations

import hashlib
import os
import struct
import sys
import threading
import zipfile
import zlib
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path

import numpy as np
from isal import isal_zlib

OVERLAY, INDEX, LOOP = ".overlay.npz", ".grib-index.npz", ".loop.npz"  # endings of entries
MEANING = {OVERLAY: "overlays", INDEX: "indexes of GRIB messages", LOOP: "compiled loops"}
DIGEST = "entry_checksum"  # beside the arrays of an entry
MOST_SIZE = 2 * 2**30  # bytes of all entries; the ones not used for longest go first
DAMAGE = (
    OSError,
    RuntimeError,
    ValueError,
    KeyError,
    EOFError,
    NotImplementedError,
    SyntaxError,
    zipfile.BadZipFile,
    zlib.error,
    struct.error,
)


def folder() -> Path:
    """Where entries are kept: BAVLO_CACHE, else the platform's place for caches."""
    own = os.environ.get("BAVLO_CACHE")
    if own:
        return Path(own)
    if sys.platform == "darwin":
        return Path.home() / "Library" / "Caches" / "bavlo"
    if sys.platform == "win32":
        return Path(os.environ.get("LOCALAPPDATA", str(Path.home()))) / "bavlo" / "cache"
    return Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "bavlo"


def load(path: Path, names: Sequence[str]) -> dict[str, np.ndarray] | None:
    """The arrays of an entry; None where there is none, or it is damaged."""
    try:
        with np.load(path, allow_pickle=False) as data:
            parts = {name: data[name] for name in data.files}
        if parts.pop(DIGEST).tobytes() != _digest(path, parts):
            return None
        os.utime(path)
        return {name: parts[name] for name in names}
    except DAMAGE:
        return None


def _digest(path: Path, arrays: Mapping[str, np.ndarray]) -> bytes:
    """SHA-256 of an entry's name and of the checksums of all that is in it.

    Of 32 MB these take 8 ms and a SHA-256 would take 80 ms; the archive has a CRC-32 of its own.
    """
    digest = hashlib.sha256(path.name.encode())
    for name, array in sorted(arrays.items()):
        content = np.ascontiguousarray(array)
        checks = isal_zlib.crc32(content), isal_zlib.adler32(content)
        digest.update(repr((name, array.dtype.str, array.shape, *checks)).encode())
    return digest.digest()


def keep(path: Path, arrays: Mapping[str, np.ndarray], *, make_room: bool = True) -> None:
    """Keep an entry; a cache that cannot be written is no reason to fail.

    Parameters
    ----------
    make_room
        Let go of what has not been used for longest where there is too much.
    """
    draft = path.with_name(f".{path.name}.{os.getpid()}.{threading.get_ident()}.part")
    try:
        own = {name: np.asarray(array) for name, array in arrays.items()}
        own[DIGEST] = np.frombuffer(_digest(path, own), np.uint8)
        path.parent.mkdir(parents=True, exist_ok=True)
        with draft.open("wb") as file:
            np.savez(file, **own)  # type: ignore[arg-type]
        os.replace(draft, path)
        if make_room:
            _make_room(path)
    except OSError:
        with suppress(OSError):
            draft.unlink()


def entries() -> list[Path]:
    """All entries, the one used last at the end."""
    try:
        found = [path for path in folder().iterdir() if path.name.endswith(tuple(MEANING))]
    except OSError:
        return []
    return sorted(found, key=lambda path: path.stat().st_mtime)


def _make_room(newest: Path) -> None:
    size = 0
    for path in reversed(entries()):
        size += path.stat().st_size
        if size > MOST_SIZE and path != newest:
            path.unlink(missing_ok=True)


def clear() -> tuple[int, int]:
    """Remove all entries; how many there were, and their bytes."""
    count = size = 0
    for path in entries():
        size += path.stat().st_size
        path.unlink(missing_ok=True)
        count += 1
    return count, size
