"""What is kept between runs as plain arrays: overlays, indexes and loops that took long to make.

An entry is written beside and then renamed, so that runs at the same time cannot harm one another.
It is believed only where nobody else can have written it and its digest fits; else it is made anew.
"""

from __future__ import annotations

import hashlib
import io
import os
import stat
import sys
import threading
import warnings
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path

import numpy as np

from bavlo.errors import BavloWarning

OVERLAY, INDEX, LOOP = ".overlay.npz", ".grib-index.npz", ".nbc"  # endings of entries
MEANING = {OVERLAY: "overlays", INDEX: "indexes of GRIB messages", LOOP: "compiled loops"}
DIGEST_SIZE = 32  # bytes before the arrays of an entry
MOST_SIZE = 2 * 2**30  # bytes of all entries; the ones not used for longest go first

_said: set[str] = set()  # folders of which it was said that nothing is kept there


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
    """The arrays of an entry; None where there is none, or it is damaged or not one's own."""
    content = _content(path)
    if content is None or content[:DIGEST_SIZE] != _digest(path, content[DIGEST_SIZE:]):
        return None
    try:
        with np.load(io.BytesIO(content[DIGEST_SIZE:]), allow_pickle=False) as data:
            found = {name: data[name] for name in names}
        os.utime(path)
    except (OSError, KeyError, ValueError):  # of another version
        return None
    return found


def _content(path: Path) -> bytes | None:
    """The bytes of an entry that nobody else can have written."""
    if not is_private(path.parent):
        return None
    try:
        flags = os.O_RDONLY | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_BINARY", 0)
        with open(os.open(path, flags), "rb") as file:
            status = os.fstat(file.fileno())
            own = stat.S_ISREG(status.st_mode) and _is_own(status, stat.S_IWGRP | stat.S_IWOTH)
            return file.read() if own else None
    except OSError:
        return None


def _digest(path: Path, content: bytes) -> bytes:
    """SHA-256 of an entry's name and of all that is in it."""
    return hashlib.sha256(path.name.encode() + b"\0" + content).digest()


def is_private(folder: Path) -> bool:
    """Whether nobody else can write into a folder, which is made where it is not there.

    It must be the user's own with mode 0700, and no folder above it one in which others may put
    another in its place. Where it is not, that is said once, and nothing is kept there.
    """
    try:
        folder.mkdir(mode=stat.S_IRWXU, parents=True, exist_ok=True)
        status = folder.lstat()
        private = stat.S_ISDIR(status.st_mode) and _is_own(status, stat.S_IRWXG | stat.S_IRWXO)
        private = private and all(_is_safe(above.stat()) for above in folder.absolute().parents)
    except OSError:
        return False
    if not private and str(folder) not in _said:
        _said.add(str(folder))
        warnings.warn(
            f"{folder}: is open to others, so nothing is kept there or believed; chmod 700 it, or "
            "name another folder",
            BavloWarning,
            stacklevel=2,
        )
    return private


def _is_own(status: os.stat_result, forbidden: int) -> bool:
    if not hasattr(os, "getuid"):  # where modes mean nothing
        return True
    return status.st_uid == os.getuid() and not status.st_mode & forbidden


def _is_safe(status: os.stat_result) -> bool:
    """Whether only its owner, the user or the system's, can move what is in a folder."""
    if not hasattr(os, "getuid") or status.st_mode & stat.S_ISVTX:
        return True
    trusted = status.st_uid in (os.getuid(), 0)
    return trusted and not status.st_mode & (stat.S_IWGRP | stat.S_IWOTH)


def keep(path: Path, arrays: Mapping[str, np.ndarray], *, make_room: bool = True) -> None:
    """Keep an entry; a cache that cannot be written is no reason to fail.

    Parameters
    ----------
    make_room
        Let go of what has not been used for longest where there is too much.
    """
    if not is_private(path.parent):
        return
    draft = path.with_name(f".{path.name}.{os.getpid()}.{threading.get_ident()}.part")
    body = io.BytesIO()
    np.savez(body, **{name: np.asarray(array) for name, array in arrays.items()})  # type: ignore[arg-type]
    try:
        flags = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | getattr(os, "O_NOFOLLOW", 0)
        with open(os.open(draft, flags | getattr(os, "O_BINARY", 0), 0o600), "wb") as file:
            file.write(_digest(path, body.getvalue()) + body.getvalue())
        os.replace(draft, path)
        if make_room:
            _make_room(path)
    except OSError:
        with suppress(OSError):
            draft.unlink()


def entries() -> list[Path]:
    """All entries, the one used last at the end."""
    try:
        found = [path for path in folder().rglob("*") if path.name.endswith(tuple(MEANING))]
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
