"""Output files that may be written."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import TYPE_CHECKING

from bavlo.errors import OutputError
from bavlo.plan.placing import check_name
from bavlo.tables.formats import FORMATS, beside, ending_of, holds_about
from bavlo.tables.layouts import BY_TIME, LONG

if TYPE_CHECKING:
    from pathlib import Path

    from bavlo.regions.read import RegionFile
    from bavlo.request.request import Request


def check_outputs(paths: Sequence[Path], *, replace: bool) -> None:
    """Refuse outputs that cannot be written, before any work is done."""
    for path in paths:
        if path.is_dir():
            raise OutputError(path, "is a folder", "name a file")
        if not path.parent.is_dir():
            raise OutputError(path, f"there is no folder {path.parent}", "make it first")
        if not os.access(path.parent, os.W_OK):
            raise OutputError(path, f"the folder {path.parent} cannot be written to")
        check_name(path)
        for one in (path,) if holds_about(path) else (path, beside(path)):
            if one.exists() and not replace:
                raise OutputError(one, "exists already", "use another name, or ‹replace›")
    twice = {path for path in paths if list(paths).count(path) > 1}
    if twice:
        raise OutputError(twice.pop(), "is named twice", "name each output once")


def check_columns(
    request: Request, regions: RegionFile, periods: Sequence[int], places: int
) -> None:
    """Refuse outputs with more columns than their format holds, before any value is computed.

    Parameters
    ----------
    periods
        How many there are of each grid and sort of periods.
    places
        Values of a region and period: measures, counts, windows, …

    Raises
    ------
    OutputError
        Which names the limit and a format that holds them.
    """
    for path in request.output.out:
        entry = FORMATS.get(ending_of(path))
        if entry is None or entry.most_columns is None:
            continue
        if entry.of_regions:
            columns = 1 + len(regions.fields) + sum(periods) * places
        elif request.output.layout == LONG:
            continue
        else:
            across = len(regions.regions) if request.output.layout == BY_TIME else sum(periods)
            columns = 3 + across
        if columns > entry.most_columns:
            raise OutputError(
                path,
                f"holds {entry.most_columns:,} columns, and there would be {columns:,}",
                "use .csv or .parquet in the long layout, or fewer periods with ‹during›",
            )
