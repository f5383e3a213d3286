"""Formats whose files hold variables on named dimensions, whatever library opens them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import cast

import numpy as np

from bavlo.core.values.kinds import Variable
from bavlo.errors import InputError
from bavlo.grids.formats.cf import (
    check_sizes,
    described,
    further_values,
    layout_of,
    raw_times,
    times_of,
)
from bavlo.grids.formats.cf_grid import AXES, VERSIONS, CFGrid, VersionsGrid
from bavlo.grids.formats.container import Container, Opener, Stored, axis_of, gridded
from bavlo.grids.formats.packing import packing_from, with_missing
from bavlo.grids.levels import chosen_levels, level_text, value_name
from bavlo.grids.source import GridFile, ReadOptions
from bavlo.remembered import INFLATED


@dataclass(frozen=True)
class ContainerFormat:
    """A format whose files hold variables on named dimensions, as CF has them.

    Parameters
    ----------
    opener
        Gives the variables of a file.
    """

    opener: Opener
    named_by_file = False

    def variables(self, path: Path, options: ReadOptions) -> list[Variable]:
        """The gridded variables of a file; those with a time axis where there are any.

        Raises
        ------
        InputError
            Where there are none, and what there is instead.
        """
        with self.opener(path) as container:
            found = [(v, "time" in order) for v, order in gridded(container)]
            if not found:
                raise InputError(path, *_not_gridded(container))
            timed = any(has_time for _, has_time in found)
            return [described(v) for v, has_time in found if has_time == timed]

    def open_file(self, path: Path, variable: str, options: ReadOptions) -> GridFile:
        """Read the metadata of one variable."""
        with self.opener(path) as container:
            for stored, axes in gridded(container):
                if stored.name == variable:
                    return self._open(path, container, stored, axes, options)
        raise InputError(path, f"has no gridded variable '{variable}'")

    def _open(
        self,
        path: Path,
        container: Container,
        stored: Stored,
        axes: tuple[str, ...],
        options: ReadOptions,
    ) -> GridFile:
        """One variable, its versions put together where none is chosen."""
        for dimension, axis, size in zip(stored.dimensions, axes, stored.shape, strict=True):
            chosen = any(text.startswith(f"{dimension}=") for text in options.level)
            if axis in AXES or size == 1 or not VERSIONS.match(dimension) or chosen:
                continue
            names = [value_name(v) for v in further_values(container, stored, dimension, size)]
            parts = [replace(options, level=(*options.level, f"{dimension}={n}")) for n in names]
            grids = [_grid_of(path, container, stored, axes, one, self.opener) for one in parts]
            return cast(GridFile, VersionsGrid(grids, dimension, names))
        return _grid_of(path, container, stored, axes, options, self.opener)


def _not_gridded(container: Container) -> tuple[str, str]:
    """What a file holds that has no variable on rows and columns, and what can be done with it."""
    largest = max(
        container.values(),
        key=lambda v: (not axis_of(v.name, v.attributes), len(v.shape), np.prod(v.shape)),
        default=None,
    )
    if largest is None:
        return "holds no grid: it has no variables", "give a file with a grid"
    sizes = dict(zip(largest.dimensions, largest.shape, strict=True))
    along = {
        axis_of(other.name, other.attributes): other.dimensions[0]
        for other in container.values()
        if len(other.dimensions) == 1 and other.dimensions[0] in sizes
    }
    shared = along.get("lon") if along.get("lon") == along.get("lat") else None
    if any(v.text("cf_role") == "mesh_topology" for v in container.values()):
        where = largest.text("location") or "element"
        size = sizes.get(shared or largest.dimensions[-1], 0)
        return (
            f"holds values on a mesh of {size} {where}s, not on rows and columns",
            "interpolate it to rows and columns first",
        )
    if shared is not None and along.get("time") == shared:
        return (
            f"holds {sizes[shared]} values along a track, not on rows and columns",
            "grid it first, or write it as a table of observations",
        )
    if shared is not None:
        return (
            f"holds values at {sizes[shared]} stations or cells of a mesh, not on rows and columns",
            "write stations as a table with the columns station, date and value, and cells of a "
            "mesh on rows and columns",
        )
    lost = [name for name in sizes if name not in container and name not in along.values()]
    return (
        f"holds no grid: {largest.name} has no coordinates along {', '.join(lost or sizes)}",
        "add coordinate variables of longitude and latitude to the file",
    )


def _grid_of(
    path: Path,
    container: Container,
    variable: Stored,
    axes: tuple[str, ...],
    options: ReadOptions,
    opener: Opener,
) -> CFGrid:
    """One variable, of a chosen level where it has several."""
    assert variable.dtype is not None
    further = {
        dimension: further_values(container, variable, dimension, size)
        for dimension, axis, size in zip(variable.dimensions, axes, variable.shape, strict=True)
        if axis not in AXES
    }
    levels = chosen_levels(path, variable.name, further, options.level)
    order = tuple(
        axis if axis in AXES else levels[dimension]
        for dimension, axis in zip(variable.dimensions, axes, strict=True)
    )
    check_sizes(path, container, variable)
    times, notes = None, list[str]()
    if "time" in axes:
        times = times_of(path, container, variable, variable.dimensions[axes.index("time")])
        if times.unwritten:
            notes.append(f"{path.name}: {times.unwritten} steps at its end have no time: left out")
    moment = None if times else container.moment_of(variable)
    stored_chunks = variable.chunks
    if stored_chunks is None:
        stored_chunks = tuple(
            1 if axis == "time" else n for axis, n in zip(axes, variable.shape, strict=True)
        )
    packing = packing_from(variable.attributes, variable.dtype, variable.default_fill)
    packing = with_missing(packing, variable.dtype, options.missing, path)
    return CFGrid(
        path,
        replace(described(variable), level=level_text(further, levels)),
        layout_of(path, container, variable, axes),
        times,
        packing,
        order,
        stored_chunks,
        opener,
        tuple(notes),
        keeps_slabs=axes[0] == "time" and _keeps_slabs(variable, stored_chunks),
        dtype=variable.dtype.newbyteorder("="),
        is_hdf5=variable.is_hdf5 and variable.chunks is not None,
        moment=None if moment is None else raw_times(path, container, variable, moment),
    )


def _size(variable: Stored) -> int:
    """Bytes of a variable, inflated."""
    item = 0 if variable.dtype is None else variable.dtype.itemsize
    return int(np.prod(variable.shape, dtype=np.int64)) * item


def _keeps_slabs(variable: Stored, stored_chunks: tuple[int, ...]) -> bool:
    """Whether all chunks of some steps can be kept, so that each is inflated once."""
    if not variable.is_hdf5 or variable.chunks is None:
        return False
    slab = stored_chunks[0] * (_size(variable) // max(variable.shape[0], 1))
    # With room for those of another variable, which are read in turn.
    return stored_chunks[0] == 1 or 2 * slab <= (INFLATED.most_bytes or 0)
