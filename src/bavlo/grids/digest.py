"""Digests of what is stored in files: they change when values do, and cost next to no reading.

Deflated chunks end with a checksum of their own (zlib's Adler-32, gzip's CRC-32), and so do chunks
with the Fletcher-32 filter: only those few bytes are read. Of all else the stored bytes are read,
and their CRC-32 is taken.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
from isal import isal_zlib

from bavlo.grids import urls
from bavlo.grids.fast import tiff
from bavlo.grids.source import GridFile

CHUNKS = "checksums of stored chunks"
BYTES = "CRC-32 of the stored bytes"
DEFLATE, FLETCHER = 1, 3  # HDF5's numbers of its filters
TAIL = 4  # bytes of a checksum
AT_ONCE = 2**22  # bytes
HDF5 = b"\x89HDF\r\n\x1a\n"
TIFF = (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")


def digest_of(file: GridFile) -> dict[str, str] | None:
    """A digest of what a file stores of its variable, and what it is made of.

    Returns
    -------
    digest
        None for what lies at a URL, which would travel for it.
    """
    path = file.path
    if urls.url_of(path) is not None:
        return None
    if path.is_dir():
        return _digest(_of_folder(path), BYTES)
    with path.open("rb") as opened:
        head = opened.read(8)
    if head == HDF5:
        found = _of_hdf5(path, file.variable.name)
        if found is not None:
            return _digest(found, CHUNKS)
    if head[:4] in TIFF:
        blocks = _of_tiff(path)
        if blocks is not None:
            return _digest(blocks, CHUNKS)
    return _digest([(0, path.stat().st_size, _crc(path))], BYTES)


def _digest(chunks: Iterable[tuple[int, int, int]], how: str) -> dict[str, str]:
    """SHA-256 of the offset, length and checksum of all chunks, in the order of their offsets."""
    listed = np.array(sorted(chunks), np.int64)
    return {"digest": hashlib.sha256(listed.tobytes()).hexdigest(), "digest_of": how}


def _crc(path: Path, first: int = 0, size: int | None = None) -> int:
    """CRC-32 of a run of bytes, read piece by piece."""
    found, left = 0, path.stat().st_size - first if size is None else size
    with path.open("rb") as file:
        file.seek(first)
        while left > 0 and (piece := file.read(min(AT_ONCE, left))):
            found = isal_zlib.crc32(piece, found)
            left -= len(piece)
    return int(found)


def _of_folder(path: Path) -> Iterator[tuple[int, int, int]]:
    """The files of a store, by their places in the order of their names."""
    files = sorted(p for p in path.rglob("*") if p.is_file())
    for n, each in enumerate(files):
        name = isal_zlib.crc32(each.relative_to(path).as_posix().encode())
        yield n, each.stat().st_size, _crc(each) ^ name


def _of_hdf5(path: Path, name: str) -> list[tuple[int, int, int]] | None:
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
        places: list[tuple[int, int, int]] = []

        def note(info: Any) -> None:
            places.append((info.byte_offset, info.size, info.filter_mask))

        dataset.id.chunk_iter(note)
        base = int(data.userblock_size)
    return [
        (base + offset, size, _checksum(path, file, base + offset, size, carries and not mask))
        for file in _descriptor(path)
        for offset, size, mask in places
    ]


def _of_tiff(path: Path) -> list[tuple[int, int, int]] | None:
    """The blocks of a deflated raster; None where it is stored otherwise."""
    with tiff.opened(path) as fetch:
        directory = tiff.read_directory(fetch)
        if directory is None:
            return None
        blocks = zip(directory.offsets, directory.sizes, strict=True)
        return [
            (offset, size, int.from_bytes(fetch(offset + size - TAIL, TAIL), "big"))
            for offset, size in blocks
            if size >= TAIL
        ]


def _descriptor(path: Path) -> Iterator[int]:
    """The file opened for reading at places."""
    file = os.open(path, os.O_RDONLY)
    try:
        yield file
    finally:
        os.close(file)


def _checksum(path: Path, file: int, offset: int, size: int, carries: bool) -> int:
    """That which a chunk carries at its end, else the CRC-32 of its bytes."""
    if carries and size >= TAIL:
        return int.from_bytes(os.pread(file, TAIL, offset + size - TAIL), "big")
    return _crc(path, offset, size)
