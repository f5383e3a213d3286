"""Percentiles by their names, as p90 and p99.5."""

from __future__ import annotations

import re

from bavlo.errors import RequestError

NAME = re.compile(r"p(\d{1,3}(?:\.\d+)?)")


def percent_in(name: str, field: str) -> float | None:
    """The percent that a name such as p90 stands for; None for any other name.

    Raises
    ------
    RequestError
        Where it is a share, as p0.9, which would be less than the first percentile.

    Examples
    --------
    >>> percent_in("p99.5", "measure"), percent_in("mean", "measure")
    (99.5, None)
    """
    match = NAME.fullmatch(name)
    if match is None or float(match[1]) > 100:
        return None
    percent = float(match[1])
    if 0 < percent < 1:
        raise RequestError(
            field,
            f"'{name}' would be the {percent:g}th percentile of a hundred",
            f"percentiles go from p0 to p100: write p{100 * percent:g}",
        )
    return percent
