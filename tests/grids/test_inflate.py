"""Packed files are unpacked whole, each member with its checksum, and never without end."""

import gzip
import zlib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo.grids.formats.stored import inflate, unpacked

MOST = 10_000


@given(st.lists(st.binary(max_size=3000), min_size=1, max_size=3), st.sampled_from([1, 6, 9]))
def test_all_members_are_unpacked(parts, level):
    packed = b"".join(gzip.compress(part, level) for part in parts)
    assert unpacked(packed, MOST) == b"".join(parts) == gzip.decompress(packed)


@given(st.binary(min_size=1, max_size=500), st.data())
def test_a_damaged_byte_never_gives_other_bytes(content, data):
    packed = bytearray(gzip.compress(content))
    place = data.draw(st.integers(0, len(packed) - 1))
    packed[place] ^= data.draw(st.integers(1, 255))
    try:
        assert unpacked(bytes(packed), MOST) == content  # of the header, only dates and the like
    except (zlib.error, EOFError, OverflowError):
        assert place < 4 or place >= 9


def test_members_of_one_length_are_not_taken_for_one():
    packed = gzip.compress(b"x" * 1000) + gzip.compress(b"y" * 1000)
    assert unpacked(packed, MOST) == b"x" * 1000 + b"y" * 1000


def test_what_is_cut_or_grows_beyond_measure_is_refused():
    packed = gzip.compress(bytes(MOST + 1))
    with pytest.raises(OverflowError):
        unpacked(packed, MOST)
    assert unpacked(packed, MOST + 1) == bytes(MOST + 1)
    for end in range(1, len(packed)):
        with pytest.raises((EOFError, zlib.error, OverflowError)):
            unpacked(packed[:end], MOST + 1)


@given(st.binary(min_size=2, max_size=500), st.data())
def test_a_damaged_block_never_gives_other_bytes(content, data):
    block = bytearray(zlib.compress(content))
    assert inflate(bytes(block), len(content)) == content
    with pytest.raises(zlib.error):
        inflate(bytes(block), len(content) - 1)
    place = data.draw(st.integers(0, len(block) - 1))
    block[place] ^= data.draw(st.integers(1, 255))
    try:
        assert inflate(bytes(block), len(content)) == content  # of the header, only its level
    except zlib.error:
        return
    assert place < 2
