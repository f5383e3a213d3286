"""From a table and regions, or a grid, to what a map shows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import shapely

from bavlo.core.errors import InputError, RequestError
from bavlo.core.layout import CurvilinearLayout, GridLayout
from bavlo.core.periods import STATIC_LABEL, step_periods
from bavlo.core.projection import same_system
from bavlo.core.regions import LONLAT, Regions
from bavlo.core.table import Table
from bavlo.core.timeaxis import DAY, iso_day, iso_days
from bavlo.figures.maps import GridWindow, MapContent
from bavlo.formats.grids import format_of, open_grid
from bavlo.formats.grids.source import GridSource, ReadOptions, is_climatology, where, whole
from bavlo.formats.regions import RegionOptions, read_regions
from bavlo.formats.tables import csv
from bavlo.study.job import some_of
from bavlo.study.listener import Listener

# What is shown of a table, and whether it lies about zero.
USUAL = {"anomalies": "anomaly"}
ABOUT_ZERO = ("anomaly", "score", "slope")
UNITS = {
    "percent_of_normal": "%",
    "score": "1",
    "rank": "rank",
    "area_valid": "1",
    "years": "years",
}
FIXED = ("region", "period")


@dataclass(frozen=True, eq=False)
class MapRequest:
    """What a map is to show.

    Parameters
    ----------
    paths
        A table, or the files of a grid.
    regions
        Polygons; needed with a table.
    column, periods, pick
        Which column and periods of a table, and which place on its other axes by column.
    beneath
        A grid to draw under the regions.
    """

    paths: tuple[Path, ...]
    regions: Path | None
    region_reading: RegionOptions
    reading: ReadOptions
    column: str | None = None
    periods: tuple[str, ...] = ()
    pick: tuple[tuple[str, str], ...] = ()
    beneath: Path | None = None
    title: str | None = None


def map_content(request: MapRequest, listener: Listener) -> MapContent:
    """Gather what a map shows; a table is told from a grid by what is in the file."""
    if len(request.paths) == 1 and format_of(request.paths[0]) is None:
        return _of_table(request, listener)
    return _of_grid(request, listener)


def _of_table(request: MapRequest, listener: Listener) -> MapContent:
    table = csv.read(request.paths[0])
    if request.regions is None:
        raise RequestError("--regions", "a map of a table needs its regions", "name their file")
    for name, value in request.pick:
        table = table.where(name, value)
    odd = [axis for axis, size in table.axes.items() if size > 1 and axis not in FIXED]
    if odd:
        raise RequestError(
            "--pick",
            f"the table has several {odd[0]}s: {some_of(_texts(table, odd[0]))}",
            f"choose one, as --pick {odd[0]}={_texts(table, odd[0])[0]}",
        )
    column = request.column or USUAL.get(table.name, "value")
    numbers = [c.name for c in table.columns if not c.is_text]
    if column not in numbers:
        raise RequestError(
            "--column", f"the table has no {column}", f"it has: {', '.join(numbers)}"
        )
    shape = table.axes["region"], table.axes["period"]
    values = table.full(column).reshape(shape)
    place = _periods(request.periods, table.labels("period"), values, listener)
    regions = read_regions(request.regions, request.region_reading).regions
    polygons = _polygons(request.regions, regions)
    known = {name: n for n, name in enumerate(table.labels("region"))}
    missing = [name for name in polygons.labels if name not in known]
    if len(missing) == len(polygons):
        raise InputError(
            request.regions,
            f"none of its regions is in the table: it has {some_of(polygons.labels)}, the table "
            f"{some_of(list(known))}",
            "name the field with --label",
        )
    if missing:
        listener.warn(f"{request.regions}: not in the table: {some_of(missing)}")
    at = np.array([known.get(name, -1) for name in polygons.labels])
    shown = np.where(at >= 0, values[at][:, place].T, np.nan)
    beneath = None
    crs = LONLAT
    if request.beneath is not None:
        source = open_grid((request.beneath,), ReadOptions())
        beneath = _window(source, [0])
        crs = LONLAT if source.layout.is_lonlat else source.layout.crs
    labels = table.labels("period")
    names = [labels[n] for n in place]
    unit = UNITS.get(column) or table.labels("unit")[0]
    title = request.title or _title(table, column, names)
    return MapContent(
        title,
        unit,
        _between(table, place),
        names,
        _in_system(polygons, crs),
        polygons.labels,
        shown,
        beneath,
        crs == LONLAT,
        column in ABOUT_ZERO,
    )


def _texts(table: Table, axis: str) -> list[str]:
    return [f"{v:g}" if isinstance(v, float) else str(v) for v in table.labels(axis)]


def _periods(
    wanted: Sequence[str], labels: Sequence[str], values: np.ndarray, listener: Listener
) -> list[int]:
    if not wanted:
        there = np.flatnonzero(np.isfinite(values).any(axis=0))
        last = int(there[-1]) if there.size else len(labels) - 1
        if len(labels) > 1:
            listener.note(f"period {labels[last]}, the last with values; others by --period")
        return [last]
    if wanted == ("all",) and "all" not in labels:
        return list(range(len(labels)))
    unknown = [name for name in wanted if name not in labels]
    if unknown:
        raise RequestError(
            "--period", f"there is no period {unknown[0]}", f"there are: {some_of(list(labels))}"
        )
    return [list(labels).index(name) for name in wanted]


def _title(table: Table, column: str, names: Sequence[str]) -> str:
    words = {"percent_of_normal": "percent of normal", "value": ""}.get(column, column)
    parts = [str(text) for text in dict.fromkeys(table.labels("variable"))]
    for extra in ("condition", "count", "statistic", "class", "measure"):
        if extra in table.header and table.labels(extra)[0] not in ("", "mean"):
            parts.append(str(table.labels(extra)[0]))
    parts += [words] if words else []
    title = ", ".join(parts)
    return f"{title}: {names[0]}" if len(names) == 1 and names[0] != STATIC_LABEL else title


def _between(table: Table, place: Sequence[int]) -> str:
    words = []
    if "start" in table.header and table.labels("start")[0]:
        starts, ends = table.along("start", "period"), table.along("end", "period")
        if len(place) == 1:
            words.append(f"{starts[place[0]]}..{ends[place[0]]}")
    if "base" in table.header:
        words.append(f"base {table.labels('base')[0]}")
    return "   ·   ".join(words)


def _of_grid(request: MapRequest, listener: Listener) -> MapContent:
    source = open_grid(request.paths, request.reading)
    if isinstance(source.layout, CurvilinearLayout):
        raise InputError(where(source), "is on two-dimensional coordinates", "map its regions")
    labels = _labels(source)
    place = [len(labels) - 1]
    if request.periods:
        unknown = [p for p in request.periods if p not in labels and p != "all"]
        if unknown:
            raise RequestError(
                "--period", f"there is no step {unknown[0]}", f"there are: {some_of(labels)}"
            )
        place = [labels.index(p) for p in request.periods if p in labels] or list(
            range(len(labels))
        )
    elif len(labels) > 1:
        listener.note(f"step {labels[-1]}, the last; others by --period")
    shapes: np.ndarray | None = None
    names: tuple[str, ...] = ()
    crs = LONLAT if source.layout.is_lonlat else source.layout.crs
    if request.regions is not None:
        regions = read_regions(request.regions, request.region_reading).regions
        polygons = _polygons(request.regions, regions)
        shapes, names = _in_system(polygons, crs), polygons.labels
    variable = source.variable
    panels = [labels[n] for n in place]
    title = request.title or variable.title
    if request.title is None and len(panels) == 1 and panels[0]:
        title += f": {panels[0]}"
    about_zero = variable.difference or any(
        word in f"{variable.name} {variable.long_name}" for word in ("anomaly", "score")
    )
    return MapContent(
        title,
        variable.unit,
        where(source),
        panels,
        shapes,
        names,
        None,
        _window(source, place),
        crs == LONLAT,
        about_zero,
    )


def _labels(source: GridSource) -> list[str]:
    """Names of the steps: months of normals, else the periods that they are, else days."""
    time = source.time
    if time is None:
        return [""]
    days = iso_days(time.start, time.calendar)
    if is_climatology(source):
        return [day[5:7] if len(days) == 12 else day[5:] for day in days]
    if len(time) == 1 and not isinstance(time.length, str) and time.length > DAY:
        return [f"{days[0]}..{iso_day(int(time.end[0]) - 1, time.calendar)}"]
    return list(step_periods(time).labels)


def _window(source: GridSource, steps: Sequence[int]) -> GridWindow:
    layout: GridLayout = source.layout
    cells = whole(layout.shape)
    values = np.stack([source.read(n, n + 1, cells)[0].reshape(layout.shape) for n in steps])
    return GridWindow(layout.x_edges, layout.y_edges, values)


def _polygons(path: Path, regions: object) -> Regions:
    if not isinstance(regions, Regions) or regions.are_points:
        raise InputError(path, "holds no polygons", "a map needs areas")
    return regions


def _in_system(regions: Regions, crs: str) -> np.ndarray:
    """Polygons in the reference system of the map."""
    if same_system(regions.crs, crs):
        return regions.geometry
    import pyproj

    transformer = pyproj.Transformer.from_crs(regions.crs, crs, always_xy=True)

    def moved(points: np.ndarray) -> np.ndarray:
        return np.column_stack(transformer.transform(points[:, 0], points[:, 1]))

    return np.asarray(shapely.transform(regions.geometry, moved), object)
