"""Inflating: the one place where deflated bytes of chunks, tiles and scratch files are undone."""

from __future__ import annotations

import zlib

import numpy as np

from bavlo.compiled import at_hand, compiled
from bavlo.grids.fast.inflate_kernels import holds_member

MEMBER = b"\x1f\x8b\x08"  # with which each member of a gzip file begins (RFC 1952)
GZIP = 16 + zlib.MAX_WBITS  # how zlib is asked for gzip's header and checksum


def inflate(data: bytes | bytearray | memoryview, most: int) -> bytes | bytearray:
    """The bytes that were deflated into a zlib stream, whose checksum is checked.

    Without the interpreter's lock, and half as long again as fast as the common inflaters on the
    shuffled numbers of grids.

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
        return deflate.zlib_decompress(data, most)
    except deflate.DeflateError as error:
        raise zlib.error("a deflated block is damaged") from error


def _may_hold_more(content: bytes) -> bool:
    """Whether the beginning of a member stands anywhere but at the beginning.

    Thrice as fast as `bytes.find`, and without the interpreter's lock; by a compiled loop where it
    is at hand, ten times as fast again.
    """
    holds = at_hand(holds_member)
    if holds is not None:
        return bool(holds(np.frombuffer(content, np.uint8)))
    for first in (0, 1):
        pairs = np.frombuffer(content, "<u2", (len(content) - first) // 2, first)
        found = np.flatnonzero(pairs == int.from_bytes(MEMBER[:2], "little")) * 2 + first
        if any(at and content.startswith(MEMBER, at) for at in found.tolist()):
            return True
    return False


def warm_up() -> None:
    """Load and compile what looks for members, where that is allowed."""
    holds = compiled(holds_member)
    if holds is not None:
        holds(np.frombuffer(MEMBER, np.uint8))


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
    from isal import isal_zlib

    size = int.from_bytes(content[-4:], "little")  # of a file of one member, as nearly all are
    if 0 < size <= most and not _may_hold_more(content):
        try:
            found: bytearray = deflate.gzip_decompress(content, size)
            return found
        except deflate.DeflateError:
            pass  # of several members, or damaged: looked at more closely
    parts: list[bytes] = []
    left = most
    while content:
        member = isal_zlib.decompressobj(wbits=GZIP)
        try:
            parts.append(member.decompress(content, left + 1))
        except isal_zlib.error as error:  # type: ignore[misc]
            raise zlib.error(str(error)) from error
        left -= len(parts[-1])
        if left < 0:
            raise OverflowError(f"it holds more than {most} bytes")
        if not member.eof:
            raise EOFError("it ends before its end was marked")
        content = member.unused_data.lstrip(b"\0")
    return parts[0] if len(parts) == 1 else b"".join(parts)
