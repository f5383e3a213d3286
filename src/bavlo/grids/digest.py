"""Digests of what is stored in files: they change when values do, and cost next to no reading.

Deflated chunks end with a checksum of their own (zlib's Adler-32, gzip's CRC-32), and so do chunks
with the Fletcher-32 filter: only those few bytes are read. Of all else the stored bytes are read,
and their CRC-32 is taken.
"""

from __future__ import annotations

import hashlib
import itertools
import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from threading import Thread
from typing import Any

import deflate
import numpy as np

from bavlo.core.batches import AT_ONCE
from bavlo.errors import BavloError
from bavlo.files import DAMAGE, unreadable
from bavlo.grids import urls
from bavlo.grids.formats import DEFLATE, FLETCHER, HDF5
from bavlo.grids.formats.stored import ChunkTable, chunk_table
from bavlo.grids.source import GridFile
from bavlo.held import Array, content_of
from bavlo.remembered import FACTS, stamp_of

CHUNKS = "checksums of stored chunks"
BYTES = "CRC-32 of the stored bytes"
TAIL = 4  # bytes of a checksum
OF_FILE, OF_STEPS, OF_BYTES = "digest", "digests of steps", "CRC-32"  # what is remembered


def remembered() -> dict[str, list[Any]]:
    """All digests that were taken, as plain data."""
    digests = [[list(key[1:]), digest] for key, digest in FACTS.items(OF_FILE)]
    steps = [[list(key[1:]), found.tolist()] for key, found in FACTS.items(OF_STEPS)]
    return {"digests": digests, "steps": steps}


def remember(told: Mapping[str, Any]) -> None:
    """Take over digests that an earlier run took."""
    with suppress(ValueError, TypeError, OverflowError):  # damaged: they are taken again
        known = {tuple(stamp): dict(digest) for stamp, digest in told.get("digests", ())}
        steps = {tuple(stamp): np.array(s, np.int64) for stamp, s in told.get("steps", ())}
        for about, found in ((OF_FILE, known), (OF_STEPS, steps)):
            for stamp, digest in found.items():
                FACTS.put((about, *stamp), digest)


def _remembering(about: str, file: GridFile, take: Callable[[], Any]) -> Any:
    """What is known of a file that has not changed, else what is taken now."""
    return FACTS.get((about, file.variable.name, *stamp_of(file.path)), take)


def step_digests(file: GridFile, count: int) -> np.ndarray | None:
    """(T,) int64 digests of what is stored of each step; None for what lies at a URL.

    Steps that are stored together share one; where the format does not tell, all of the file do.
    """
    if urls.url_of(file.path) is not None or file.path.is_dir():
        return None

    def take() -> np.ndarray:
        try:
            found = _of_hdf5_steps(file.path, file.variable.name, count)
        except DAMAGE as error:
            raise unreadable(file.path, error) from error
        if found is None:
            whole = digest_of(file) or {"digest": "0"}
            found = np.full(count, _number(whole["digest"]))
        return found

    found: np.ndarray = _remembering(OF_STEPS, file, take)
    return found


def _number(digest: str) -> int:
    return int.from_bytes(bytes.fromhex(digest[:16].zfill(16)), "big", signed=True)


def _of_hdf5_steps(path: Path, name: str, count: int) -> np.ndarray | None:
    """Digests of the steps of a variable in chunks along its first dimension, which is time."""
    with path.open("rb") as opened:
        if opened.read(8) != HDF5:
            return None
    import h5py

    with h5py.File(path, "r", locking=False) as data:
        if name not in data or data[name].chunks is None or data[name].shape[0] != count:
            return None
        dataset = data[name]
        plist = dataset.id.get_create_plist()
        filters = [plist.get_filter(n)[0] for n in range(plist.get_nfilters())]
        carries = bool(filters) and filters[-1] in (DEFLATE, FLETCHER)
        height, base = dataset.chunks[0], int(data.userblock_size)
        table = chunk_table(dataset)
    checks = _checks(path, base, table, carries)
    rows = np.column_stack([table.first, table.size, checks])
    rows = rows[np.lexsort(table.first.T[::-1])]
    begins = np.flatnonzero(np.diff(rows[:, 0], prepend=-1)).tolist()
    out = np.zeros(count, np.int64)
    for begin, end in itertools.pairwise([*begins, len(rows)]):
        step = int(rows[begin, 0])
        chunks = np.ascontiguousarray(rows[begin:end, 1:])
        out[step : step + height] = _number(hashlib.sha256(chunks.tobytes()).hexdigest())
    return out


def take_ahead(files: Sequence[GridFile]) -> None:
    """Read files that carry no checksums while other work goes on, where the first is such a one.

    Of a file that is read in 1.2 GB a second this hides a seventh of the time. Of files by URL the
    sizes are asked for, which stand for digests. The threads touch no library that minds being left
    alone at the end of the program.
    """
    remote = [url for f in files if (url := urls.url_of(f.path)) is not None]
    if remote:
        urls.ask_sizes_ahead(remote)
    local = [f for f in files if urls.url_of(f.path) is None and f.path.is_file()]
    with suppress(*DAMAGE):
        if not local or _carries_checksums(local[0]):
            return

    def take() -> None:
        with suppress(OSError, BavloError):  # read again, it is raised where it is expected
            for file in local:
                _crc_of_whole(file)

    Thread(target=take, name="digests", daemon=True).start()


def _carries_checksums(file: GridFile) -> bool:
    """Whether a file does; its digest is known after that."""
    found = _checksums(file)
    if found is not None:
        _remembering(OF_FILE, file, lambda: _digest(found, CHUNKS))
    return found is not None


def _crc_of_whole(file: GridFile) -> int:
    found: int = _remembering(OF_BYTES, file, lambda: _crc(file.path))
    return found


def digest_of(file: GridFile) -> dict[str, str] | None:
    """A digest of what a file stores of its variable, and what it is made of.

    A file of which the file system tells the same as before is not read again.

    Returns
    -------
    digest
        None for what lies at a URL, which would travel for it.
    """
    path = file.path
    if urls.url_of(path) is not None:
        return None
    held = content_of(path)
    if held is not None:
        return {"digest": _of_values(held), "digest_of": "the values"}
    try:
        if path.is_dir():
            return _digest(np.array(list(_of_folder(path)), np.int64).reshape(-1, 3), BYTES)
        found: dict[str, str] = _remembering(OF_FILE, file, lambda: _of_file(file))
    except DAMAGE as error:
        raise unreadable(path, error) from error
    return found


def _of_values(held: Array | bytes) -> str:
    """SHA-256 of values in memory, one step after the other."""
    digest = hashlib.sha256(held if isinstance(held, bytes) else b"")
    for step in () if isinstance(held, bytes) else held.numbers:
        digest.update(np.ascontiguousarray(step).tobytes())
    return digest.hexdigest()


def _of_file(file: GridFile) -> dict[str, str]:
    found = _checksums(file)
    if found is not None:
        return _digest(found, CHUNKS)
    whole = 0, file.path.stat().st_size, _crc_of_whole(file)
    return _digest(np.array([whole], np.int64), BYTES)


def _checksums(file: GridFile) -> np.ndarray | None:
    """(N, 3) offset, length and checksum of stored chunks; None where all must be read."""
    for opened in _descriptor(file.path):
        head = _read_at(opened, 0, 8)
    return _of_hdf5(file.path, file.variable.name) if head == HDF5 else None


def _digest(chunks: np.ndarray, how: str) -> dict[str, str]:
    """SHA-256 of the offset, length and checksum of all chunks, in the order of their offsets.

    Parameters
    ----------
    chunks : (N, 3) int64
    """
    listed = np.ascontiguousarray(chunks[np.lexsort(chunks.T[::-1])])
    return {"digest": hashlib.sha256(listed.tobytes()).hexdigest(), "digest_of": how}


def _crc(path: Path, first: int = 0, size: int | None = None) -> int:
    """CRC-32 of a run of bytes, read piece by piece into one buffer that the cache holds."""
    found, left = 0, path.stat().st_size - first if size is None else size
    with (
        path.open("rb", buffering=0) as file,
        memoryview(bytearray(max(min(AT_ONCE, left), 0))) as piece,
    ):
        file.seek(first)
        while left > 0 and (count := file.readinto(piece[:left])):
            found = deflate.crc32(piece[:count], found)
            left -= count
    return int(found)


def _of_folder(path: Path) -> Iterator[tuple[int, int, int]]:
    """The files of a store, by their places in the order of their names."""
    files = sorted(p for p in path.rglob("*") if p.is_file())
    for n, each in enumerate(files):
        name = deflate.crc32(each.relative_to(path).as_posix().encode())
        yield n, each.stat().st_size, _crc(each) ^ name


def _of_hdf5(path: Path, name: str) -> np.ndarray | None:
    """The chunks of a variable; None where it is not stored in chunks."""
    import h5py

    with h5py.File(path, "r", locking=False) as data:
        if name not in data or not isinstance(data[name], h5py.Dataset):
            return None
        dataset = data[name]
        plist = dataset.id.get_create_plist()
        if dataset.chunks is None or plist.get_external_count():
            return None
        filters = [plist.get_filter(n)[0] for n in range(plist.get_nfilters())]
        carries = bool(filters) and filters[-1] in (DEFLATE, FLETCHER)
        table, base = chunk_table(dataset), int(data.userblock_size)
    checks = _checks(path, base, table, carries)
    return np.column_stack([base + table.offset, table.size, checks])


def _checks(path: Path, base: int, table: ChunkTable, carries: bool) -> np.ndarray:
    """(N,) int64 that which each chunk carries at its end, else the CRC-32 of its bytes.

    Parameters
    ----------
    base
        Bytes of the user block before everything else.
    carries
        Chunks end with a checksum, where no filter was left out.
    """
    own = carries & (table.mask == 0) & (table.size >= TAIL)
    found = np.zeros(table.size.size, np.int64)
    ends = base + table.offset[own] + table.size[own] - TAIL
    for file in _descriptor(path):
        tails = [os.pread(file, TAIL, place) for place in ends.tolist()]
        if any(len(tail) < TAIL for tail in tails):
            raise OSError("a chunk lies beyond the end of the file")
        found[own] = np.frombuffer(b"".join(tails), ">u4")
    for n in np.flatnonzero(~own).tolist():
        found[n] = _crc(path, base + int(table.offset[n]), int(table.size[n]))
    return found


def _read_at(file: int, place: int, size: int) -> bytes:
    return os.pread(file, size, place)


def _descriptor(path: Path) -> Iterator[int]:
    """The file opened for reading at places."""
    file = os.open(path, os.O_RDONLY)
    try:
        yield file
    finally:
        os.close(file)
