"""Inflating: the one place where deflated bytes of chunks, tiles and scratch files are undone."""

from __future__ import annotations

import zlib

GZIP = 16 + zlib.MAX_WBITS  # how zlib is asked for gzip's header and checksum


def inflate(data: bytes | bytearray | memoryview, most: int) -> bytes:
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
    found, is_whole, _ = _member(data, most, zlib.MAX_WBITS)
    if not is_whole:
        raise zlib.error("a deflated block is damaged")
    return found


def unpacked(content: bytes, most: int) -> bytes:
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
    parts: list[bytes] = []
    left = most
    while content:
        part, is_whole, rest = _member(content, left, GZIP)
        left -= len(part)
        if left < 0:
            raise OverflowError(f"it holds more than {most} bytes")
        if not is_whole:
            raise EOFError("it ends before its end was marked")
        parts.append(part)
        content = rest.lstrip(b"\0")
    return parts[0] if len(parts) == 1 else b"".join(parts)


def _member(
    data: bytes | bytearray | memoryview, most: int, form: int
) -> tuple[bytes, bool, bytes]:
    """At most one byte more than `most` of a stream, whether that is all, and what follows it."""
    from isal import isal_zlib

    stream = isal_zlib.decompressobj(wbits=form)
    try:
        found = stream.decompress(data, most + 1)
    except isal_zlib.error as error:  # type: ignore[misc]
        raise zlib.error(str(error)) from error
    return found, stream.eof and len(found) <= most, stream.unused_data
