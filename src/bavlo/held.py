"""What a call from Python holds in memory, under names that stand where paths of files do."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.errors import InputError

IN_MEMORY = "in memory"
TIMES = ("time", "t", "date")
ROWS, COLUMNS = ("lat", "latitude", "y"), ("lon", "longitude", "x")


@dataclass(frozen=True, eq=False)
class Array:
    """A grid in memory: values with their coordinates.

    Parameters
    ----------
    values : (T, ny, nx) or (ny, nx) array
        NaN where there is no data; anything with `__array__`.
    lat, lon : (ny,), (nx,) array
        Centres of the cells, degrees.
    time : (T,) datetime64 or None
        When each step is; None for a grid without time.
    name, unit
        Of the variable.
    attributes
        CF attributes such as `cell_methods` or `standard_name`, which tell the kind.
    """

    values: Any
    lat: Any
    lon: Any
    time: Any = None
    name: str = "values"
    unit: str = ""
    attributes: Mapping[str, Any] = field(default_factory=dict)

    @property
    def numbers(self) -> np.ndarray:
        """The values as a plain array, in which masked ones are missing."""
        if isinstance(self.values, np.ma.MaskedArray):
            return np.ma.filled(self.values.astype(np.float64), np.nan)
        return np.asarray(self.values)


@dataclass(frozen=True, eq=False)
class Frame:
    """A data frame: columns of one length by their names."""

    columns: Mapping[str, np.ndarray]


@dataclass(frozen=True, eq=False)
class FeatureList:
    """Features as GeoJSON has them, in longitude and latitude."""

    features: list[Mapping[str, Any]]


# Of the call that is under way in this thread.
_HELD: ContextVar[Mapping[str, Any] | None] = ContextVar("held", default=None)


@contextmanager
def holding() -> Iterator[Callable[[Any], str]]:
    """While this lasts, contents have the names that calling what is given returns."""
    held: dict[str, Any] = {}

    def hold(content: Any) -> str:
        name = f"{IN_MEMORY} {len(held) + 1}"
        held[name] = content
        return name

    before = _HELD.set(held)
    try:
        yield hold
    finally:
        _HELD.reset(before)


def content_of(path: Path | str) -> Any:
    """What is held under a name; None where that is a file."""
    held = _HELD.get()
    return None if held is None else held.get(str(path))


def as_held(given: Any) -> Array | Frame:
    """What a call may hold of another library: a data frame or a labelled array.

    A data frame has `columns` and their values by name, or `__arrow_c_stream__`; a labelled array
    has `dims`, `coords` and `__array__`.

    Raises
    ------
    InputError
        Where it has none of them, or not the coordinates of a grid.
    """
    if not hasattr(given, "dims"):
        names = getattr(given, "columns", ())
        if len(names) and all(isinstance(name, str) for name in names):
            return Frame({str(name): np.asarray(given[name]) for name in names})
        if hasattr(given, "__arrow_c_stream__"):
            try:
                import pyarrow
            except ImportError as error:
                what = "a data frame by its arrow stream needs a further library"
                raise InputError(IN_MEMORY, what, "pip install 'bavlo[parquet]'") from error
            table = pyarrow.table(given)
            return Frame({name: table[name].to_numpy() for name in table.column_names})
    return _as_array(given)


def _as_array(grid: Any) -> Array:
    """A labelled array."""
    dims = tuple(_texts(getattr(grid, "dims", ())))
    coords = getattr(grid, "coords", None)
    if not dims or coords is None or not hasattr(grid, "__array__"):
        raise InputError(
            IN_MEMORY, f"{type(grid).__name__} is no grid", "give a path, a bavlo.Array or a table"
        )
    named = {}
    for role, names in (("time", TIMES), ("lat", ROWS), ("lon", COLUMNS)):
        found = next((name for name in dims if name.lower() in names), None)
        if found is None and role != "time":
            raise InputError(IN_MEMORY, f"has no dimension {role}", f"it has: {', '.join(dims)}")
        named[role] = found
    order = [name for name in named.values() if name is not None]
    if set(order) != set(dims):
        raise InputError(IN_MEMORY, f"has dimensions {', '.join(dims)}", "choose of the others")
    values = np.transpose(np.asarray(grid), [dims.index(name) for name in order])
    attributes = dict(getattr(grid, "attrs", {}) or {})
    time = None if named["time"] is None else np.asarray(coords[named["time"]])
    return Array(
        values,
        np.asarray(coords[named["lat"]]),
        np.asarray(coords[named["lon"]]),
        time,
        str(getattr(grid, "name", None) or "values"),
        str(attributes.pop("units", "")),
        {key: value for key, value in attributes.items() if isinstance(value, str)},
    )


def _texts(values: Any) -> list[str]:
    """Names as texts."""
    return [str(value) for value in values]
