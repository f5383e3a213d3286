"""From a table and regions, or a grid, to what a map shows."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
import shapely

from bavlo.core.space.layout import GridLayout
from bavlo.core.space.projection import same_system
from bavlo.core.space.regions import LONLAT, Regions
from bavlo.core.space.resampling import MAJORITY
from bavlo.core.space.seam import beside, first_column, side_by_side
from bavlo.core.time.axis import DAY, iso_day, iso_days
from bavlo.core.time.periods import step_periods
from bavlo.core.values.kinds import quantity
from bavlo.errors import InputError, RequestError, known_words
from bavlo.figures.map_content import GridWindow, MapContent
from bavlo.figures.style import (
    class_colour,
    counts_heat,
    neutral_of,
    neutral_of_words,
    shown_unit,
)
from bavlo.figures.titles import MONTHS, map_title, span_in_words
from bavlo.figures.trends import is_significant
from bavlo.grids.cells import whole
from bavlo.grids.derived import RolledGrid
from bavlo.grids.formats import format_of
from bavlo.grids.open import open_grid
from bavlo.grids.source import GridSource, ReadOptions, is_climatology, where
from bavlo.jobs.missing import inspected
from bavlo.jobs.provenance import classes_of
from bavlo.jobs.wording import some_of
from bavlo.request.reporter import Reporter
from bavlo.request.request import RegionRequest, Request
from bavlo.tables.formats import about_of, is_table, read_table
from bavlo.tables.group import AnyTable, only_table
from bavlo.tables.schema import schema_by_axes
from bavlo.tables.table import Table

FIXED = ("region", "period")
ALL = "all"


def map_content(request: Request, report: Reporter, table: AnyTable | None = None) -> MapContent:
    """Gather what a map shows; a table is told from a grid by what is in the file.

    Parameters
    ----------
    table
        What the file holds, where it was read already.
    """
    paths = request.grids.arguments[0].paths
    if len(paths) == 1 and (format_of(paths[0]) is None or is_table(paths[0])):
        return _of_table(request, report, table)
    return _of_grid(request, report)


def _of_table(request: Request, report: Reporter, table: AnyTable | None) -> MapContent:
    if not request.regions.regions:
        raise RequestError("regions", "a map of a table needs its regions", "name their file")
    table = _picked(request, table)
    schema = schema_by_axes(table)
    column = request.figure.column or schema.shown
    numbers = [c.name for c in table.columns if not c.is_text]
    if column not in numbers:
        raise RequestError("column", f"the table has no {column}", known_words(column, numbers))
    labels = table.labels("period")
    values = table.full(column).reshape(table.axes["region"], table.axes["period"])
    chosen = _periods(request.figure.period, labels, values, report)
    polygons, rows = _polygons_of_rows(request.regions, table.labels("region"), report)
    shown = np.where(rows >= 0, values[rows][:, chosen].T, np.nan)
    beneath = None
    crs = LONLAT
    outlines = _in_system(polygons, crs)
    if request.figure.beneath is not None:
        source = open_grid((request.figure.beneath,), ReadOptions())
        crs = LONLAT if source.layout.is_lonlat else source.layout.crs
        source, outlines = _together(source, _in_system(polygons, crs))
        beneath = _window(source, [0])
    names = [labels[n] for n in chosen]
    shown_column = schema.column(column)
    own_unit = shown_column.unit if shown_column is not None else ""
    return MapContent(
        request.figure.title or map_title(table, column, chosen),
        own_unit or table.labels("unit")[0],
        _between(table, chosen),
        names,
        outlines,
        polygons.labels,
        shown,
        beneath,
        crs == LONLAT,
        neutral_of(table, column),
        hatched=_in_doubt(table, rows, chosen),
        hatched_means="not significant",
        mark=request.figure.mark,
        held=rows >= 0,
        heat=counts_heat(table),
        categories=_class_names(request, table),
        scaled=values[rows[rows >= 0]] if request.figure.classes_of == ALL else None,
    )


def _in_doubt(table: Table, rows: np.ndarray, chosen: Sequence[int]) -> np.ndarray | None:
    """(P, R) bool trends that are not significant; None of any other table."""
    if table.name != "trends":
        return None
    shape = (table.axes["region"], table.axes["period"])
    doubt = ~is_significant(table).reshape(shape)
    return np.asarray(np.where(rows >= 0, doubt[rows][:, chosen].T, False))


def _picked(request: Request, whole: AnyTable | None) -> Table:
    """The table as far as it is picked, which must leave regions and periods alone."""
    found = read_table(request.grids.arguments[0].paths[0]) if whole is None else whole
    for name, value in request.figure.pick:
        found = found.where(name, value)
    table = only_table(found, "pick")
    odd = [axis for axis, size in table.axes.items() if size > 1 and axis not in FIXED]
    if odd:
        raise RequestError(
            "pick",
            f"the table has several {odd[0]}s: {some_of(_texts(table, odd[0]))}",
            f"choose one, as ‹pick {odd[0]}={_texts(table, odd[0])[0]}›",
        )
    return table


def _polygons_of_rows(
    request: RegionRequest, labels: Sequence[str], report: Reporter
) -> tuple[Regions, np.ndarray]:
    """The regions that are drawn, and the row of each in the table, -1 for none."""
    read = request.read()
    polygons = _polygons(read.path, read.regions)
    known = {name: n for n, name in enumerate(labels)}
    missing = [name for name in polygons.labels if name not in known]
    if len(missing) == len(polygons):
        raise InputError(
            read.path,
            f"none of its regions is in the table: it has {some_of(polygons.labels)}, the table "
            f"{some_of(list(known))}",
            "name the field with ‹label›",
        )
    if missing:
        report.warn(f"{request.regions}: not in the table: {some_of(missing)}")
    return polygons, np.array([known.get(name, -1) for name in polygons.labels])


def _texts(table: Table, axis: str) -> list[str]:
    return [f"{v:g}" if isinstance(v, float) else str(v) for v in table.labels(axis)]


def _periods(
    wanted: Sequence[str], labels: Sequence[str], values: np.ndarray, report: Reporter
) -> list[int]:
    if not wanted:
        valid = np.flatnonzero(np.isfinite(values).any(axis=0))
        last = int(valid[-1]) if valid.size else len(labels) - 1
        if len(labels) > 1:
            report.note(f"period {labels[last]}, the last with values; others by ‹period›")
        return [last]
    if wanted == ("all",) and "all" not in labels:
        return list(range(len(labels)))
    unknown = [name for name in wanted if name not in labels]
    if unknown:
        hint = known_words(unknown[0], labels, "there are")
        raise RequestError("period", f"there is no period {unknown[0]}", hint)
    return [list(labels).index(name) for name in wanted]


def _between(table: Table, chosen: Sequence[int]) -> str:
    words = []
    if "start" in table.header and table.labels("start")[0]:
        starts, ends = table.along("start", "period"), table.along("end", "period")
        if len(chosen) == 1:
            words.append(f"{starts[chosen[0]]}..{ends[chosen[0]]}")
    if "base" in table.header:
        words.append(f"base {table.labels('base')[0]}")
    return "   ·   ".join(words)


def _of_grid(request: Request, report: Reporter) -> MapContent:
    source = open_grid(request.grids.arguments[0].paths, request.grids.reading)
    source = inspected(source, quantity(source.variable, where(source)), report)
    if source.layout.has_corners:
        raise InputError(where(source), "is on two-dimensional coordinates", "map its regions")
    labels = _labels(source)
    chosen = [len(labels) - 1]
    if request.figure.period:
        unknown = [p for p in request.figure.period if p not in labels and p != "all"]
        if unknown:
            raise RequestError(
                "period", f"there is no step {unknown[0]}", f"there are: {some_of(labels)}"
            )
        chosen = [labels.index(p) for p in request.figure.period if p in labels] or list(
            range(len(labels))
        )
    elif len(labels) > 1:
        report.note(f"step {labels[-1]}, the last; others by ‹period›")
    shapes: np.ndarray | None = None
    names: tuple[str, ...] = ()
    crs = LONLAT if source.layout.is_lonlat else source.layout.crs
    if request.regions.regions:
        read = request.regions.read()
        polygons = _polygons(read.path, read.regions)
        source, shapes = _together(source, _in_system(polygons, crs))
        names = polygons.labels
    variable = source.variable
    panels = [labels[n] for n in chosen]
    title = request.figure.title or variable.title
    if request.figure.title is None:
        when = _in_words(source, chosen[0]) if len(panels) == 1 else ""
        title = ", ".join(filter(None, (title, when, shown_unit(variable.unit))))
        title = title[:1].upper() + title[1:]
    neutral = neutral_of_words(f"{variable.name} {variable.long_name}")
    if neutral is None and variable.difference:
        neutral = 0.0
    return MapContent(
        title,
        variable.unit,
        Path(where(source)).name,
        panels,
        shapes,
        names,
        None,
        _window(source, chosen),
        crs == LONLAT,
        neutral,
        tuple((code, name, colour) for code, name, colour in classes_of(variable)),
        mark=request.figure.mark,
        scaled=_range_of_all(source, request.figure.classes)
        if request.figure.classes_of == ALL
        else None,
    )


def _range_of_all(source: GridSource, classes: str) -> np.ndarray:
    """The lowest and highest value of all steps of a grid, read step by step."""
    if classes == "quantile":
        raise RequestError(
            "classes_of",
            "quantiles of all steps of a grid would need them all at once",
            "use ‹classes equal›, or give limits such as 0,50,100",
        )
    cells = whole(source.layout.shape)
    low, high = np.inf, -np.inf
    for n in range(1 if source.time is None else len(source.time)):
        values = source.read(n, n + 1, cells)
        low, high = np.nanmin(values, initial=low), np.nanmax(values, initial=high)
    return np.array([low, high])


def _class_names(request: Request, table: Table) -> tuple[tuple[int, str, str], ...]:
    """Classes of a table whose values are class codes; the provenance has their names."""
    if "measure" not in table.header or set(table.labels("measure")) != {MAJORITY}:
        return ()
    about = about_of(request.grids.arguments[0].paths[0]) or {}
    told = about.get("grid", {}).get("classes") or [
        [code, f"{code:g}", class_colour(n)]
        for n, code in enumerate(np.unique(table.full("value")[np.isfinite(table.full("value"))]))
    ]
    return tuple((int(code), str(name), str(colour)) for code, name, colour in told)


def _labels(source: GridSource) -> list[str]:
    """Names of the steps: months of normals, else the periods that they are, else days."""
    time = source.time
    if time is None:
        return [""]
    days = iso_days(time.start, time.calendar)
    if is_climatology(source) and len(time) == 1:
        return [""]
    if is_climatology(source):
        return [day[5:7] if len(days) == 12 else day[5:] for day in days]
    if len(time) == 1 and not isinstance(time.length, str) and time.length > DAY:
        return [f"{days[0]}..{iso_day(int(time.end[0]) - 1, time.calendar)}"]
    return list(step_periods(time).labels)


def _in_words(source: GridSource, step: int) -> str:
    """A step in words: its days, the month of a climatology, or the hour that it is of."""
    time = source.time
    label = _labels(source)[step]
    if time is None or is_climatology(source):
        return MONTHS[int(label) - 1] if label.isdigit() and len(label) == 2 else label
    if time.duration[step] < DAY:
        return label
    ends = iso_days(np.array([time.start[step], time.end[step] - 1]), time.calendar)
    return span_in_words(ends[0], ends[1])


def _window(source: GridSource, steps: Sequence[int]) -> GridWindow:
    layout: GridLayout = source.layout
    cells = whole(layout.shape)
    values = np.stack([source.read(n, n + 1, cells)[0].reshape(layout.shape) for n in steps])
    return GridWindow(layout.x_edges, layout.y_edges, values)


def _polygons(path: Path, regions: object) -> Regions:
    if not isinstance(regions, Regions):
        raise InputError(path, "holds codes of zones, not outlines", "a map needs areas or points")
    return regions


def _in_system(regions: Regions, crs: str) -> np.ndarray:
    """Polygons in the reference system of the map."""
    if same_system(regions.crs, crs):
        return side_by_side(regions.geometry) if crs == LONLAT else regions.geometry
    import pyproj

    transformer = pyproj.Transformer.from_crs(regions.crs, crs, always_xy=True)

    def moved(points: np.ndarray) -> np.ndarray:
        return np.column_stack(transformer.transform(points[:, 0], points[:, 1]))

    found = np.asarray(shapely.transform(regions.geometry, moved), object)
    return side_by_side(found) if crs == LONLAT else found


def _together(source: GridSource, outlines: np.ndarray) -> tuple[GridSource, np.ndarray]:
    """A grid and outlines in one turn of longitudes, no seam of the grid among the outlines."""
    first = first_column(source.layout, outlines)
    if first:
        source = RolledGrid(source, first)
    return source, beside(source.layout, outlines)
