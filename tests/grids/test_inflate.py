"""Packed files are unpacked whole, each member with its checksum, and never without end."""

import gzip
import zlib
from unittest import mock

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo.compiled import allow
from bavlo.grids.fast import inflate
from bavlo.grids.fast.inflate import unpacked

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


@given(st.lists(st.sampled_from([b"\x1f", b"\x8b", b"\x08", b"\0"]), max_size=12))
def test_members_are_looked_for_alike_by_either_way(content):
    packed = b"".join([inflate.MEMBER, *content])
    with mock.patch.object(inflate, "at_hand", return_value=None):
        plainly = inflate._may_hold_more(packed)
    assert plainly == (packed.find(inflate.MEMBER, 1) > 0)
    allow()
    inflate.warm_up()
    assert inflate._may_hold_more(packed) == plainly


def test_what_is_cut_or_grows_beyond_measure_is_refused():
    packed = gzip.compress(bytes(MOST + 1))
    with pytest.raises(OverflowError):
        unpacked(packed, MOST)
    assert unpacked(packed, MOST + 1) == bytes(MOST + 1)
    for end in range(1, len(packed)):
        with pytest.raises((EOFError, zlib.error, OverflowError)):
            unpacked(packed[:end], MOST + 1)
