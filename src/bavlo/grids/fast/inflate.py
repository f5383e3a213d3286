"""Inflating: the one place where deflated bytes of chunks, blocks and packed files are undone."""

from __future__ import annotations

import zlib

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
