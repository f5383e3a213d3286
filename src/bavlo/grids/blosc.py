"""Chunks of Zarr that Blosc compressed: their header is checked before the library inflates them.

The library believes the length that a chunk states and reads beyond the chunk's end where that is
wrong, which ends the program. Format: Blosc chunk format 1, header of 16 bytes.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable
from typing import Any

import numcodecs
import zarr
from numcodecs.blosc import Blosc
from zarr.codecs import BloscCodec

HEADER = struct.Struct("<4B3I")  # versions, flags, size of an item; bytes plain, of a block, here

MOST = 2**31 - 1  # bytes of a chunk, which the library holds in a signed number


def check_header(chunk: Any) -> None:
    """Refuse a chunk that is shorter than its header states.

    Raises
    ------
    ValueError
    """
    held = memoryview(chunk).nbytes
    if held < HEADER.size:
        raise ValueError(f"a chunk of {held} bytes is none of Blosc")
    *_, plain, block, stated = HEADER.unpack_from(memoryview(chunk).cast("B"))
    if not HEADER.size <= stated <= held:
        raise ValueError(f"a chunk states {stated} bytes and has {held}")
    if plain > MOST or (plain and not 0 < block <= plain):
        raise ValueError(f"a chunk states {plain} bytes in blocks of {block}")


class CheckedBlosc(Blosc):  # type: ignore[misc]
    """The codec of stores of version 2."""

    def decode(self, buf: Any, out: Any = None) -> Any:
        """Inflate a chunk whose header is sound."""
        check_header(buf)
        return super().decode(buf, out)


class CheckedBloscCodec(BloscCodec):
    """The codec of stores of version 3."""

    async def decode(self, chunks_and_specs: Iterable[tuple[Any, Any]]) -> Iterable[Any]:
        """Inflate chunks whose headers are sound."""
        chunks = list(chunks_and_specs)
        for chunk, _ in chunks:
            if chunk is not None:
                check_header(chunk.as_numpy_array())
        return await super().decode(chunks)


def use_checked_codecs() -> None:
    """Have the Zarr library inflate chunks of Blosc by the codecs above, which read the same."""
    numcodecs.register_codec(CheckedBlosc)
    zarr.registry.register_codec("blosc", CheckedBloscCodec)
    name = f"{CheckedBloscCodec.__module__}.{CheckedBloscCodec.__qualname__}"
    zarr.config.set({"codecs.blosc": name})
