"""Where the chunks of a file lie and how their bytes are inflated."""

from __future__ import annotations

import zlib
from array import array
from dataclasses import dataclass
from typing import Any

import numpy as np

MEMBER = b"\x1f\x8b\x08"  # with which each member of a gzip file begins (RFC 1952)
GZIP = 16 + zlib.MAX_WBITS  # how zlib is asked for gzip's header and checksum


def inflate(data: bytes | bytearray | memoryview, most: int) -> bytes | bytearray:
    """The bytes that were deflated into a zlib stream, whose checksum is checked.

    Without the interpreter's lock, in half of the time of the standard library.

    Parameters
    ----------
    most
        The number of bytes that come out at most.

    Raises
    ------
    zlib.error
        Where the stream is damaged or holds more than that.
    """
    import deflate

    try:
        found: bytearray = deflate.zlib_decompress(data, most)
    except deflate.DeflateError as error:
        raise zlib.error("a deflated block is damaged") from error
    return found


def unpacked(content: bytes, most: int) -> bytes | bytearray:
    """What a gzip file holds, member by member, each with its checksum held against it.

    Parameters
    ----------
    most
        Bytes that it may hold.

    Raises
    ------
    OverflowError
        Where it holds more; nothing beyond is unpacked.
    zlib.error, EOFError
        Where it is damaged, or ends too early.
    """
    import deflate

    size = int.from_bytes(content[-4:], "little")  # of a file of one member, as nearly all are
    if 0 < size <= most and content.find(MEMBER, 1) < 0:
        try:
            found: bytearray = deflate.gzip_decompress(content, size)
            return found
        except deflate.DeflateError:
            pass  # of several members, or damaged: looked at more closely
    parts: list[bytes] = []
    left = most
    while content:
        member = zlib.decompressobj(wbits=GZIP)
        parts.append(member.decompress(content, left + 1))
        left -= len(parts[-1])
        if left < 0:
            raise OverflowError(f"it holds more than {most} bytes")
        if not member.eof:
            raise EOFError("it ends before its end was marked")
        content = member.unused_data.lstrip(b"\0")
    return parts[0] if len(parts) == 1 else b"".join(parts)


@dataclass(frozen=True, eq=False)
class ChunkTable:
    """The N chunks of a variable of D dimensions that were written, in the library's order.

    Parameters
    ----------
    first : (N, D) int64
        The first number of each chunk along every dimension.
    offset : (N,) int64
        Where each begins, in bytes after the file's user block.
    size : (N,) int64
        Bytes, as they are stored.
    mask : (N,) int64
        Filters that were left out, one bit each.
    """

    first: np.ndarray
    offset: np.ndarray
    size: np.ndarray
    mask: np.ndarray


def chunk_table(dataset: Any) -> ChunkTable:
    """Read the table of a chunked h5py dataset: 3 µs for each chunk, 48 bytes where D is 3.

    Raises
    ------
    OSError
        Where a chunk cannot be in any file.
    """
    numbers = array("q")
    extend = numbers.extend

    def note(info: Any) -> None:
        extend((*info.chunk_offset, info.byte_offset, info.size, info.filter_mask))

    try:
        dataset.id.chunk_iter(note)
    except OverflowError as error:
        raise OSError("a chunk lies beyond the end of the file") from error
    rank = len(dataset.shape)
    rows = np.frombuffer(numbers, np.int64).reshape(-1, rank + 3)
    return ChunkTable(rows[:, :rank], *rows[:, rank:].T)
