"""Overlays that took long to compute, kept between runs as plain arrays.

An entry is found by the content of the grid layout and of the regions, never by names or dates.
It is written beside and then renamed, so that runs at the same time cannot harm one another, and
read back with its checksums; what is damaged is computed anew.
"""

from __future__ import annotations

import hashlib
import os
import struct
import sys
import threading
import time
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from bavlo.core.space.layout import CurvilinearLayout, GridLayout
from bavlo.core.space.overlay import Overlay
from bavlo.core.space.regions import Regions

FORMAT = "1"  # of the entries; another number makes all older ones useless
ENDING = ".overlay.npz"
WORTH = 0.3  # seconds that an overlay must take to be kept
MOST_SIZE = 2 * 2**30  # bytes of all entries; the ones not used for longest go first
DAMAGE = (
    OSError,
    ValueError,
    KeyError,
    EOFError,
    NotImplementedError,
    SyntaxError,
    zipfile.BadZipFile,
    zlib.error,
    struct.error,
)
PARTS = ("shape", "cells", "indptr", "index", "fraction", "weight", "region_weight")


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


def key_of(regions: Regions, layout: GridLayout) -> str:
    """SHA-256 of everything that the overlay depends on."""
    digest = hashlib.sha256(FORMAT.encode())
    digest.update(repr((layout.crs, layout.shape, regions.crs, len(regions))).encode())
    edges = (layout.x_edges, layout.y_edges)
    if isinstance(layout, CurvilinearLayout):
        edges = (layout.lon, layout.lat)
    for array in edges:
        digest.update(np.ascontiguousarray(array, np.float64).tobytes())
    types, points, offsets = shapely.to_ragged_array(regions.geometry)
    digest.update(repr(types).encode())
    for array in (points, *offsets):
        digest.update(np.ascontiguousarray(array).tobytes())
    return digest.hexdigest()


def cached(regions: Regions, layout: GridLayout, compute: Callable[[], Overlay]) -> Overlay:
    """The overlay from the cache, or computed and kept where that is worth it."""
    try:
        key = key_of(regions, layout)
    except (ValueError, AttributeError):  # shapes of several kinds have no one layout
        return compute()
    path = folder() / f"{key}{ENDING}"
    found = _read(path)
    if found is not None:
        return found
    began = time.perf_counter()
    computed = compute()
    if time.perf_counter() - began >= WORTH:
        _write(path, computed)
    return computed


def _read(path: Path) -> Overlay | None:
    """An entry, None where there is none or it is not sound."""
    try:
        with np.load(path, allow_pickle=False) as data:
            parts = {name: data[name] for name in PARTS}  # reading checks the checksum
        os.utime(path)
    except DAMAGE:
        return None
    shape = tuple(int(n) for n in parts.pop("shape"))
    sound = (
        len(shape) == 2
        and parts["index"].size == parts["fraction"].size == parts["weight"].size
        and parts["indptr"].size == parts["region_weight"].size + 1
        and (np.diff(parts["indptr"]) >= 0).all()
        and parts["indptr"][-1] == parts["index"].size
    )
    return Overlay((shape[0], shape[1]), **parts) if sound else None


def _write(path: Path, computed: Overlay) -> None:
    """Keep an entry; a cache that cannot be written is no reason to fail."""
    draft = path.with_name(f".{path.name}.{os.getpid()}.{threading.get_ident()}.part")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with draft.open("wb") as file:
            parts: dict[str, Any] = {name: np.asarray(getattr(computed, name)) for name in PARTS}
            np.savez(file, **parts)
        os.replace(draft, path)
        _make_room(path)
    except OSError:
        draft.unlink(missing_ok=True)


def entries() -> list[Path]:
    """All entries, the one used last at the end."""
    try:
        found = [path for path in folder().iterdir() if path.name.endswith(ENDING)]
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
