"""The header of classic NetCDF files, as far as it tells how long the file must be.

The NetCDF library reads missing bytes at the end of such a file as zeros, which would be numbers.
Format: NetCDF Classic and 64-bit Offset File Formats (and CDF-5), Unidata.
"""

from __future__ import annotations

from pathlib import Path

SIZES = {1: 1, 2: 1, 3: 2, 4: 4, 5: 4, 6: 8, 7: 1, 8: 2, 9: 4, 10: 8, 11: 8}
FIRST_READ = 2**16


class _Reader:
    """Big-endian numbers one after the other; `long` counts have eight bytes in CDF-5."""

    def __init__(self, data: bytes, version: int) -> None:
        self.data = data
        self.at = 4
        self.count_size = 8 if version == 5 else 4
        self.offset_size = 4 if version == 1 else 8

    def number(self, size: int) -> int:
        part = self.data[self.at : self.at + size]
        if len(part) < size:
            raise OSError("the header ends too soon")
        self.at += size
        return int.from_bytes(part, "big")

    def count(self) -> int:
        return self.number(self.count_size)

    def skip(self, size: int) -> None:
        self.at += -(-size // 4) * 4

    def attributes(self) -> None:
        self.number(4)
        for _ in range(self.count()):
            self.skip(self.count())
            kind = self.number(4)
            self.skip(self.count() * SIZES.get(kind, 8))


def needed_size(path: Path) -> int:
    """The length in bytes that a whole file of this header has at least.

    Padding after the last value does not count, since some writers leave it out.
    """
    size = FIRST_READ
    while True:
        with path.open("rb") as file:
            data = file.read(size)
        try:
            return _needed_size(_Reader(data, data[3]))
        except OSError:
            if len(data) < size:
                raise
            size *= 16


def _needed_size(reader: _Reader) -> int:
    streaming = 2 ** (8 * reader.count_size) - 1
    records = reader.count()
    records = 0 if records == streaming else records
    reader.number(4)
    lengths = []
    for _ in range(reader.count()):
        reader.skip(reader.count())
        lengths.append(reader.count())
    reader.attributes()
    reader.number(4)
    fixed_end, record_ends, record_sizes = reader.at, [], []
    for _ in range(reader.count()):
        reader.skip(reader.count())
        shape = [lengths[reader.count()] for _ in range(reader.count())]
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
