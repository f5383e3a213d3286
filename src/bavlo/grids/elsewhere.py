"""HDF5 files that are not safe to read: that reach into other files, or would crash the library.

External links, raw storage and virtual datasets can show what lies anywhere on the machine, so only
the file's own folder is followed unasked.
"""

from __future__ import annotations

import math
import os
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from bavlo.errors import InputError
from bavlo.grids.formats import FLETCHER, HDF5, SHUFFLE

CHECKSUM = 4  # bytes
HEAP, OBJECT = b"GCOL", 16  # how a collection of a global heap begins, bytes of a header in it
PART = 2**20  # bytes


def check_inside(path: Path) -> None:
    """Refuse a file that reaches beyond its own folder, or could not be read; see `check_chunks`.

    Raises
    ------
    InputError
        Which names the other file.
    """
    from h5py import h5f, h5p

    access = h5p.create(h5p.FILE_ACCESS)
    access.set_file_locking(False, False)
    data = h5f.open(os.fsencode(path), h5f.ACC_RDONLY, access)
    try:
        for found in _reached(data):
            if not isinstance(found, str):
                check_chunks(path, found)
            elif not _is_inside(path, found):
                raise InputError(
                    path,
                    f"keeps values in another file, {found}",
                    "use ‹follow› if that is meant",
                )
    finally:
        data.close()


def check_heaps(path: Path) -> None:
    """Refuse collections of a global heap with an object of no size, over which the library loops.

    Looked for where the library puts them: in the first and last part of the file. Format: HDF5
    File Format Specification 3.0, §III.E.

    Raises
    ------
    InputError
    """
    size = path.stat().st_size
    with path.open("rb") as file:
        parts = [file.read(PART)]
        if HDF5 not in parts[0]:  # which may begin after some bytes of the user's own
            return
        if size > PART:
            file.seek(max(PART, size - PART))
            parts.append(file.read())
    for part in parts:
        place = part.find(HEAP)
        while place >= 0:
            if not _ends(part[place:]):
                raise InputError(
                    path, "its global heap holds an object of no size", "fetch the file again"
                )
            place = part.find(HEAP, place + 1)


def _ends(collection: bytes) -> bool:
    """Whether going from object to object of a collection comes to an end."""
    if len(collection) < OBJECT or collection[4:8] != b"\x01\0\0\0":
        return True  # no collection, but bytes that look like the beginning of one
    (length,) = struct.unpack_from("<Q", collection, 8)
    place = OBJECT
    while place + OBJECT <= min(length, len(collection)):
        index, size = struct.unpack_from("<H6xQ", collection, place)
        step = (size if index == 0 else OBJECT + (size + 7) // 8 * 8) % 2**64
        if step == 0:
            return False
        place += step
    return True


def check_chunks(path: Path, dataset: Any) -> None:
    """Refuse chunks with the Fletcher-32 filter whose sizes cannot be.

    The HDF5 library takes the four bytes of the checksum off the size that the index tells without
    looking at it, and ends the program where it is less.

    Raises
    ------
    InputError
    """
    stored = dataset.get_create_plist()
    filters = [stored.get_filter(n)[0] for n in range(stored.get_nfilters())]
    if FLETCHER not in filters:
        return
    plain = math.prod(stored.get_chunk()) * dataset.dtype.itemsize + CHECKSUM
    length = path.stat().st_size

    def look(chunk: Any) -> None:
        least = plain if set(filters) <= {FLETCHER, SHUFFLE} else CHECKSUM + 1
        skipped = chunk.filter_mask >> filters.index(FLETCHER) & 1
        if not skipped and not least <= chunk.size <= length:
            raise InputError(
                path,
                f"a chunk of it cannot be of {chunk.size} bytes; the file is damaged",
                "fetch the file again",
            )

    dataset.chunk_iter(look)


def _is_inside(path: Path, other: str) -> bool:
    folder = path.resolve().parent
    target = Path(os.path.join(folder, other)).resolve()
    return other == "." or folder == target.parent or folder in target.parents


def _reached(group: Any) -> Iterator[Any]:
    """Names of the other files that a group and all in it reach into, and chunked datasets."""
    from h5py import h5d, h5l, h5o

    for name in group:
        link = group.links.get_info(name)
        if link.type == h5l.TYPE_EXTERNAL:
            yield os.fsdecode(group.links.get_val(name)[0])
        if link.type != h5l.TYPE_HARD:
            continue
        found = h5o.open(group, name)
        if isinstance(found, h5d.DatasetID):
            yield from _files_of(found)
            if found.get_create_plist().get_layout() == h5d.CHUNKED:
                yield found
        elif hasattr(found, "links"):
            yield from _reached(found)


def _files_of(dataset: Any) -> Iterator[str]:
    """Names of the files that a dataset keeps its values in, where they are others."""
    from h5py import h5d

    stored = dataset.get_create_plist()
    for n in range(stored.get_external_count()):
        yield os.fsdecode(stored.get_external(n)[0])
    if stored.get_layout() == h5d.VIRTUAL:
        for n in range(stored.get_virtual_count()):
            yield stored.get_virtual_filename(n)
