"""ASCII grids held against their own headers, which the raster library does not do.

It reads words and torn numbers as 0 or as what their first digits say.
"""

from __future__ import annotations

import re

import numpy as np

HEADER = re.compile(rb"\s*([A-Za-z_]+)[ \t]+(\S+)[ \t]*(?:\r\n|\r|\n)")
NUMBER = rb"[+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eEdD][+-]?[0-9]+)?"
NO_NUMBER = re.compile(rb"(?<!\S)(?!(?:" + NUMBER + rb"|[+-]?(?i:nan|inf))(?!\S))\S+")
SPACE = np.isin(np.arange(256), list(b" \t\r\n\f\v"))


def check(content: bytes | bytearray) -> None:
    """Hold an ASCII grid against its header.

    Raises
    ------
    ValueError
        Where a token is no number, or there are not as many as rows times columns.
    """
    head: dict[bytes, bytes] = {}
    start = 0
    while found := HEADER.match(content, start):
        head[found.group(1).lower()] = found.group(2)
        start = found.end()
    try:
        rows, columns = int(head[b"nrows"]), int(head[b"ncols"])
        for key, value in head.items():
            if key not in (b"nrows", b"ncols", b"byteorder"):
                float(value)
    except (KeyError, ValueError) as error:
        raise ValueError(f"its header is not that of an ASCII grid: {error}") from error
    wrong = NO_NUMBER.search(content, start)
    if wrong is not None:
        line = content.count(b"\n", 0, wrong.start()) + 1
        text = wrong.group()[:20].decode("ascii", "backslashreplace")
        raise ValueError(f"'{text}' in line {line} is no number")
    space = SPACE[np.frombuffer(content, np.uint8, offset=start)]
    count = int((space[:-1] & ~space[1:]).sum()) + int(space.size > 0 and not space[0])
    if count != rows * columns:
        raise ValueError(f"it has {count} numbers for {rows} × {columns} cells")
