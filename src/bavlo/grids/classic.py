"""The header of classic NetCDF files, as far as it tells how long the file must be.

The NetCDF library reads missing bytes at the end of such a file as zeros, which would be numbers,
and makes room for as many dimensions as a header states, which can end the program.
Format: NetCDF Classic and 64-bit Offset File Formats (and CDF-5), Unidata.
"""

from __future__ import annotations

from pathlib import Path

SIZES = {1: 1, 2: 1, 3: 2, 4: 4, 5: 4, 6: 8, 7: 1, 8: 2, 9: 4, 10: 8, 11: 8}
FIRST_READ, MOST_READ = 2**16, 2**28
LEAST_ITEM = 8  # bytes of a dimension, an attribute or a variable in a header
MAGIC, VERSIONS = b"CDF", (1, 2, 5)


class _Reader:
    """Big-endian numbers one after the other; `long` counts have eight bytes in CDF-5."""

    def __init__(self, data: bytes, file_size: int) -> None:
        self.data = data
        self.file_size = file_size
        self.at = 4
        version = data[3]
        self.count_size = 8 if version == 5 else 4
        self.offset_size = 4 if version == 1 else 8

    def number(self, size: int) -> int:
        part = self.data[self.at : self.at + size]
        if len(part) < size:
            raise EOFError
        self.at += size
        return int.from_bytes(part, "big")

    def count(self) -> int:
        return self.number(self.count_size)

    def items(self) -> range:
        """A list's items, of which there cannot be more than the file has room for."""
        found = self.count()
        if found * LEAST_ITEM > self.file_size:
            raise OSError(f"its header states {found:,} items in a list")
        return range(found)

    def skip(self, size: int) -> None:
        self.at += -(-size // 4) * 4

    def attributes(self) -> None:
        self.number(4)
        for _ in self.items():
            self.skip(self.count())
            kind = self.number(4)
            self.skip(self.count() * SIZES.get(kind, 8))


def check_whole(path: Path) -> None:
    """Refuse a classic file that is shorter than its header states; others are left alone.

    Raises
    ------
    OSError
    """
    with path.open("rb") as file:
        start = file.read(4)
    if len(start) < 4 or start[:3] != MAGIC or start[3] not in VERSIONS:
        return
    size, needed = path.stat().st_size, needed_size(path)
    if size < needed:
        raise OSError(f"{size} of {needed} bytes are there")


def needed_size(path: Path) -> int:
    """The length in bytes that a whole file of this header has at least.

    Padding after the last value does not count, since some writers leave it out.

    Raises
    ------
    OSError
        Where the header ends too soon, or cannot be one.
    """
    size = FIRST_READ
    while True:
        with path.open("rb") as file:
            data = file.read(size)
        try:
            return _needed_size(_Reader(data, path.stat().st_size))
        except EOFError:
            if len(data) < size or size > MOST_READ:
                raise OSError("the header ends too soon") from None
            size *= 16


def _needed_size(reader: _Reader) -> int:
    streaming = 2 ** (8 * reader.count_size) - 1
    records = reader.count()
    records = 0 if records == streaming else records
    reader.number(4)
    lengths = []
    for _ in reader.items():
        reader.skip(reader.count())
        lengths.append(reader.count())
    reader.attributes()
    reader.number(4)
    fixed_end, record_ends, record_sizes = reader.at, [], []
    for _ in reader.items():
        reader.skip(reader.count())
        shape = [lengths[reader.count()] for _ in reader.items()]
        reader.attributes()
        size = SIZES.get(reader.number(4), 8)
        reader.count()
        begin = reader.number(reader.offset_size)
        is_record = bool(shape) and shape[0] == 0
        for length in shape[1:] if is_record else shape:
            size *= length
        if is_record:
            record_ends.append(begin + size)
            record_sizes.append(size)
        else:
            fixed_end = max(fixed_end, begin + size)
    if not record_sizes or not records:
        return fixed_end
    padded = [-(-size // 4) * 4 for size in record_sizes]
    stride = record_sizes[0] if len(record_sizes) == 1 else sum(padded)
    return max(fixed_end, max(record_ends) + (records - 1) * stride)
