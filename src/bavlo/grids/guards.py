"""What is looked for in a file before a library reads it, since the library does not.

Each guard stands for something that was met: without it the library reads zeros that are not
there, ends the program, goes on forever, or shows what lies elsewhere on the machine.
"""

from __future__ import annotations

import math
import os
import struct
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

from bavlo.errors import InputError
from bavlo.grids.formats import FLETCHER, HDF5, SHUFFLE
from bavlo.grids.formats.classic import is_classic, read_header

FOLLOW = "BAVLO_FOLLOW"  # environment variable; 1 where files may keep values anywhere

CHECKSUM = 4  # bytes
HEAP, OBJECT = b"GCOL", 16  # how a collection of a global heap begins, bytes of a header in it
PART = 2**20  # bytes
BLOSC = struct.Struct("<4B3I")  # versions, flags, size of an item; bytes plain, of a block, here
LONGEST_CHUNK = 2**31 - 1  # bytes, which the library holds in a signed number


def check_sound(path: Path) -> None:
    """Refuse what the NetCDF library would loop over, or read as zeros, before it opens it.

    Raises
    ------
    InputError, OSError
    """
    check_heaps(path)
    check_whole(path)


def check_inside(path: Path) -> None:
    """Refuse an HDF5 file that reaches beyond its own folder, or with chunks of no possible size.

    External links, raw storage and virtual datasets can show what lies anywhere on the machine, so
    only the file's own folder is followed unasked.

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
                    f"set {FOLLOW}=1 in the environment if that is meant",
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


def check_whole(path: Path) -> None:
    """Refuse a classic file that is shorter than its header states; others are left alone.

    The NetCDF library reads the missing bytes at its end as zeros, and makes room for as many
    dimensions as a header states, which can end the program.

    Raises
    ------
    OSError
    """
    with path.open("rb") as file:
        if not is_classic(file.read(4)):
            return

        def read(size: int) -> bytes:
            file.seek(0)
            return file.read(size)

        size = path.stat().st_size
        needed = read_header(read, size).needed_size
    if size < needed:
        raise OSError(f"{size} of {needed} bytes are there")


def check_blosc(chunk: Any) -> None:
    """Refuse a chunk that Blosc compressed and that is shorter than its header states.

    The library believes the header and reads beyond the chunk's end. Format: Blosc chunk format 1.

    Raises
    ------
    ValueError
    """
    held = memoryview(chunk).nbytes
    if held < BLOSC.size:
        raise ValueError(f"a chunk of {held} bytes is none of Blosc")
    *_, plain, block, stated = BLOSC.unpack_from(memoryview(chunk).cast("B"))
    if not BLOSC.size <= stated <= held:
        raise ValueError(f"a chunk states {stated} bytes and has {held}")
    if plain > LONGEST_CHUNK or (plain and not 0 < block <= plain):
        raise ValueError(f"a chunk states {plain} bytes in blocks of {block}")


def use_checked_codecs() -> None:
    """Have the Zarr library inflate chunks of Blosc by codecs that look at their headers first."""
    import numcodecs
    import zarr
    from numcodecs.blosc import Blosc
    from zarr.codecs import BloscCodec

    class CheckedBlosc(Blosc):  # type: ignore[misc]
        """The codec of stores of version 2."""

        def decode(self, buf: Any, out: Any = None) -> Any:
            """Inflate a chunk whose header is sound."""
            check_blosc(buf)
            return super().decode(buf, out)

    class CheckedBloscCodec(BloscCodec):
        """The codec of stores of version 3."""

        async def decode(self, chunks_and_specs: Iterable[tuple[Any, Any]]) -> Iterable[Any]:
            """Inflate chunks whose headers are sound."""
            chunks = list(chunks_and_specs)
            for chunk, _ in chunks:
                if chunk is not None:
                    check_blosc(chunk.as_numpy_array())
            return await super().decode(chunks)

    numcodecs.register_codec(CheckedBlosc)
    zarr.registry.register_codec("blosc", CheckedBloscCodec)
    name = f"{CheckedBloscCodec.__module__}.{CheckedBloscCodec.__qualname__}"
    zarr.config.set({"codecs.blosc": name})
