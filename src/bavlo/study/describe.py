"""What is in a file, and what Bavlo would do with it."""

from __future__ import annotations

import csv
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import shapely

from bavlo.core.errors import BavloError, InputError
from bavlo.core.layout import CurvilinearLayout, GridLayout
from bavlo.core.measures import CellSample, OverlayIndex
from bavlo.core.overlay import ellipsoid_areas
from bavlo.core.points import point_overlay
from bavlo.core.projection import transformed_edges
from bavlo.core.regions import LONLAT, Regions, region_edges
from bavlo.core.timeaxis import iso_day, iso_days
from bavlo.core.units import AMOUNT, CLASS, COUNT, RATE, STATE, Variable, implausible, quantity
from bavlo.formats.grids import format_of, open_grid
from bavlo.formats.grids.source import CellSelection, GridSource, ReadOptions, where, whole
from bavlo.formats.regions import (
    RegionOptions,
    choose_label,
    is_region_file,
    label_candidates,
    read_regions,
    text_of,
    vector,
)
from bavlo.formats.regions.repair import repaired
from bavlo.study.job import no_unit_text, overlay_of, some_of

VALUES_READ = 60_000_000  # cells × steps that are looked at for missing values and the range
VALUES_AT_ONCE = 2_000_000
LAST_SHOWN = 4  # steps at a place


@dataclass(frozen=True)
class Description:
    """What is known about one or more files.

    Parameters
    ----------
    heading
        What is described.
    facts
        A word and a sentence each.
    doubts
        What a user should look at.
    """

    heading: str
    facts: tuple[tuple[str, str], ...]
    doubts: tuple[str, ...] = ()


def describe(
    paths: Sequence[Path],
    options: ReadOptions,
    regions: RegionOptions,
    at: tuple[float, float] | None = None,
) -> list[Description]:
    """Describe grids, regions and tables; files of one grid are described together.

    Parameters
    ----------
    at
        Longitude and latitude at which to tell the values of the grids.
    """
    missing = next((path for path in paths if not path.exists()), None)
    if missing is not None:
        raise InputError(missing, "there is no such file", "check the path")
    shapes = [path for path in paths if is_region_file(path) and not _is_table(path)]
    tables = [path for path in paths if _is_table(path)]
    grids = [path for path in paths if path not in shapes and path not in tables]
    unknown = next((path for path in grids if format_of(path) is None), None)
    if unknown is not None:
        raise InputError(
            unknown,
            "is neither a grid nor a region file that Bavlo reads",
            "give NetCDF, GeoTIFF, ASCII grid, Zarr or GRIB grids, or regions as GeoJSON, "
            "Shapefile, GeoPackage, KML, FlatGeobuf, GeoParquet or CSV",
        )
    told: list[Description] = []
    sources = [
        open_grid(group, replace(options, variable=name))
        for group, name in _grids_of(grids, options)
    ]
    told += [describe_grid(source, at) for source in sources]
    told += [describe_regions(path, regions) for path in shapes]
    told += [describe_table(path) for path in tables]
    told += [
        describe_overlay(source, path, regions)
        for source in _one_of_each_layout(sources)
        for path in shapes
        if regions.layer is not None or len(vector.layers(path)) == 1
    ]
    return told


def _with_label(path: Path, options: RegionOptions) -> RegionOptions:
    """The options with the first field that could name the regions, where several could."""
    if options.label is not None or options.merge_by is not None:
        return options
    candidates = label_candidates(vector.read(path, options.layer))
    return replace(options, label=candidates[0]) if len(candidates) > 1 else options


def _one_of_each_layout(sources: list[GridSource]) -> list[GridSource]:
    """Grids with different cells: regions lie on those of equal cells alike."""
    out: list[GridSource] = []
    for source in sources:
        if not any(source.layout.same_cells(other.layout) for other in out):
            out.append(source)
    return out


def _is_table(path: Path) -> bool:
    if path.suffix.lower() != ".csv" or not path.is_file():
        return False
    with path.open(encoding="utf-8-sig", errors="replace") as file:
        return file.readline().startswith("region,period,")


def describe_table(path: Path) -> Description:
    """Rows, regions, periods and variables of a table that Bavlo wrote."""
    with path.open(encoding="utf-8-sig", newline="") as file:
        rows = list(csv.DictReader(file))

    def different(name: str) -> list[str]:
        return list(dict.fromkeys(row[name] for row in rows if row.get(name)))

    facts = [
        ("table", f"{len(rows)} rows with the columns {', '.join(rows[0]) if rows else 'none'}"),
        ("regions", f"{len(different('region'))}: {some_of(different('region'), 4)}"),
        ("periods", f"{len(different('period'))}: {some_of(different('period'), 4)}"),
        (
            "values",
            f"{', '.join(different('variable'))} ({', '.join(different('measure'))}) in "
            f"{', '.join(different('unit'))}; "
            f"{sum(not row.get('value') for row in rows)} rows without a value",
        ),
    ]
    return Description(str(path), tuple(facts))


def describe_overlay(source: GridSource, path: Path, options: RegionOptions) -> Description:
    """How regions lie on the cells of a grid: what each touches, what is small or outside."""
    heading = f"{path.name} on the cells of {where(source)}"
    try:
        regions = read_regions(path, _with_label(path, options)).regions
    except InputError as error:
        return Description(heading, (), (str(error),))
    shared = overlay_of(regions, source.layout, "cell")
    entries = shared.entries
    outside = shared.outside()
    facts = [
        (
            "cells",
            f"{shared.cells.size} of {shared.shape[0] * shared.shape[1]} used; a region touches "
            f"{int(entries.min())} to {int(entries.max())}, {np.median(entries):g} in the middle",
        )
    ]
    doubts = []

    def names(which: np.ndarray) -> str:
        return some_of([regions.labels[i] for i in np.flatnonzero(which)])

    covered = np.zeros(len(regions))
    owner = np.repeat(np.arange(len(regions)), entries)
    np.add.at(covered, owner, shared.fraction)
    small = (covered < 1) & (entries > 0) & ~getattr(regions, "are_points", False)
    if small.any():
        facts.append(("small", f"smaller than a cell: {names(small)}"))
    if (entries == 0).any():
        doubts.append(f"wholly outside the grid: {names(entries == 0)}")
    partly = (entries > 0) & (outside > 1e-6)
    if partly.any():
        doubts.append(f"partly outside the grid: {names(partly)}")
    cells = CellSelection(shared.shape, shared.cells)
    if shared.cells.size:
        block = source.read(0, 1, cells)
        share = CellSample(OverlayIndex(shared), block).area_valid[0]
        gaps = (entries > 0) & (share < 1 - 1e-6) & (outside <= 1e-6)
        if gaps.any():
            worst = int(np.argmin(np.where(gaps, share, 2)))
            doubts.append(
                f"partly over cells without data in the first step: {names(gaps)}; least in "
                f"{regions.labels[worst]}, of which {share[worst]:.0%} has data"
            )
    return Description(heading, tuple(facts), tuple(doubts))


def _grids_of(paths: list[Path], options: ReadOptions) -> list[tuple[list[Path], str]]:
    """Files that hold the same variables, together; one entry for each variable."""
    variable = options.variable
    groups: dict[tuple[str, ...], list[Path]] = {}
    for path in paths:
        found = format_of(path)
        assert found is not None
        names = tuple(v.name for v in found.variables(path, options))
        if not names:
            raise InputError(path, "holds no variable on rows and columns with coordinates")
        if variable is not None and variable not in names:
            raise InputError(path, f"has no variable '{variable}'", f"it has: {', '.join(names)}")
        groups.setdefault(names, []).append(path)
    out: list[tuple[list[Path], str]] = []
    for names, group in groups.items():
        out.extend((group, name) for name in names if variable in (None, name))
    return out


def describe_grid(source: GridSource, at: tuple[float, float] | None = None) -> Description:
    """Variable, unit, kind, steps, cells, missing share and range of a grid."""
    variable, layout = source.variable, source.layout
    doubts: list[str] = list(source.notes)
    facts = [("variable", _variable_text(variable))]
    what = quantity(variable, where(source))
    facts.append(("kind", _kind_text(source)))
    if not variable.unit and what.kind == STATE:
        doubts.append(no_unit_text(variable))
    facts.append(("cells", _cells_text(layout)))
    if source.time is not None:
        facts.append(("steps", _time_text(source)))
        gaps = source.time.gaps()
        if gaps.size:
            doubts.append(f"{gaps.size} gap(s) in time, the first {_gap_text(source, gaps[0])}")
    else:
        facts.append(("steps", "no time axis; every cell has one value"))
    facts.append(("values", _values_text(source, doubts)))
    if _whole_codes(source, what.kind):
        facts.append(
            (
                "codes",
                "whole numbers without unit: zones to give as --regions, or classes to "
                "measure with --measure shares",
            )
        )
    if variable.flags:
        shown = some_of([f"{code} {meaning}" for code, meaning in variable.flags], 12)
        facts.append(("classes", shown))
    if at is not None:
        facts.append(("there", _there_text(source, at)))
    if source.time is not None:
        combine = {AMOUNT: "total", RATE: "total"}.get(what.kind, "mean")
        unit = what.total_unit if combine == "total" else variable.unit or "no unit"
        facts.append(
            (
                "series",
                f"by default the area-weighted mean of each region, and the {combine} of each "
                f"period in {unit}",
            )
        )
    names = [str(file.path) for file in source.files]
    heading = names[0] if len(names) == 1 else f"{names[0]} … {names[-1]} ({len(names)} files)"
    return Description(heading, tuple(facts), tuple(doubts))


def _whole_codes(source: GridSource, kind: str) -> bool:
    """Whether a grid without time or unit holds a few whole numbers only."""
    if source.time is not None or source.variable.unit or kind != STATE:
        return False
    values = source.read(0, 1, whole(source.layout.shape))
    there = values[~np.isnan(values)]
    return (
        bool(there.size) and bool((there == np.rint(there)).all()) and np.unique(there).size < 5000
    )


def _there_text(source: GridSource, at: tuple[float, float]) -> str:
    """The values of the cell that holds a place."""
    place = Regions(("place",), np.array([shapely.Point(at)]), LONLAT)
    shared = point_overlay(place, source.layout, "cell")
    here = f"at {at[0]:g}, {at[1]:g}"
    if not shared.cells.size:
        return f"{here} the grid has no cell"
    cells = CellSelection(shared.shape, shared.cells)
    unit = source.variable.unit
    if source.time is None:
        value = source.read(0, 1, cells)[0, 0]
        meaning = dict(source.variable.flags).get(int(value), "") if value == value else ""
        return " ".join(part for part in (f"{here}: {value:.6g}", unit, meaning) if part)
    steps = len(source.time)
    values = np.concatenate(
        [source.read(n, min(n + 5000, steps), cells)[:, 0] for n in range(0, steps, 5000)]
    )
    there = values[~np.isnan(values)]
    if not there.size:
        return f"{here} all values are missing"
    days = iso_days(source.time.start[-LAST_SHOWN:], source.time.calendar)
    last = ", ".join(
        f"{day} {value:.6g}" for day, value in zip(days, values[-LAST_SHOWN:], strict=True)
    )
    return (
        f"{here}: {there.min():.6g} to {there.max():.6g} {unit}, mean {there.mean():.6g}, "
        f"{steps - there.size} of {steps} steps missing; last {last}"
    )


def _variable_text(variable: Variable) -> str:
    parts = [
        f"{variable.name} in {variable.unit}" if variable.unit else f"{variable.name}, without unit"
    ]
    if variable.long_name:
        parts.append(f"“{variable.long_name}”")
    if variable.standard_name:
        parts.append(f"standard name {variable.standard_name}")
    if variable.cell_methods:
        parts.append(f"cell methods “{variable.cell_methods}”")
    return ", ".join(parts)


def _kind_text(source: GridSource) -> str:
    what = quantity(source.variable, where(source))
    does = {
        AMOUNT: "steps are added up",
        RATE: "steps are multiplied by their length and added up",
        COUNT: "a number in each cell, to be added up with --measure sum",
        CLASS: "codes that are never averaged; use --measure shares or majority",
    }.get(what.kind, "steps are averaged, weighted by their length")
    if source.time is None and what.kind in (AMOUNT, RATE, STATE):
        does = "one value a cell, averaged over regions"
    return f"{what.kind} (told by {what.why}): {does}"


def _cells_text(layout: GridLayout) -> str:
    ny, nx = layout.shape
    x0, y0, x1, y1 = layout.extent
    width, height = layout.cell_size
    if isinstance(layout, CurvilinearLayout):
        return (
            f"{ny} rows × {nx} columns with corners of their own, about {width:.4g}° × "
            f"{height:.4g}°, longitude {x0:.6g} to {x1:.6g}, latitude {y0:.6g} to {y1:.6g}"
        )
    if layout.is_lonlat:
        middle = np.array([(ny // 2) * nx + nx // 2])
        area = float(layout.ellipsoid_areas(middle)[0])
        return (
            f"{ny} rows × {nx} columns of {height:.6g}° × {width:.6g}° (about {area:.4g} km²), "
            f"longitude {x0:.6g} to {x1:.6g}, latitude {y0:.6g} to {y1:.6g}"
        )
    return (
        f"{ny} rows × {nx} columns of {height:.6g} × {width:.6g} in {_system_text(layout.crs)}, "
        f"x {x0:.8g} to {x1:.8g}, y {y0:.8g} to {y1:.8g}"
    )


def _time_text(source: GridSource) -> str:
    time = source.time
    assert time is not None
    first = iso_day(int(time.start[0]), time.calendar)
    last = iso_day(int(time.end[-1]) - 1, time.calendar)
    calendar = "" if time.is_gregorian else f", calendar {time.calendar}"
    gaps = "" if time.gaps().size else ", no gaps"
    return f"{len(time)} of one {time.step_name}, {first}..{last}{calendar}{gaps} ({time.how})"


def _gap_text(source: GridSource, step: int) -> str:
    time = source.time
    assert time is not None
    return (
        f"between {iso_day(int(time.end[step - 1]) - 1, time.calendar)} and "
        f"{iso_day(int(time.start[step]), time.calendar)}"
    )


def _values_text(source: GridSource, doubts: list[str]) -> str:
    """Range and missing share, from all values or from runs of steps spread over the time."""
    cells = whole(source.layout.shape)
    steps = 1 if source.time is None else len(source.time)
    most = max(1, VALUES_READ // cells.cells.size)
    run = min(steps, max(1, VALUES_AT_ONCE // cells.cells.size))
    runs = -(-min(steps, most) // run)
    starts: Sequence[int] = range(0, steps, run)
    if steps > most:
        starts = np.linspace(0, steps - run, runs).astype(int).tolist()
    seen = missing = 0
    low, high = np.inf, -np.inf
    always = np.ones(cells.cells.size, bool)
    empty: list[int] = []
    for start in dict.fromkeys(starts):
        block = source.read(start, min(start + run, steps), cells)
        absent = np.isnan(block)
        seen += block.size
        missing += int(absent.sum())
        always &= absent.all(axis=0)
        empty.extend((start + np.flatnonzero(absent.all(axis=1))).tolist())
        if not absent.all():
            low = min(low, float(np.nanmin(block)))
            high = max(high, float(np.nanmax(block)))
    if doubt := implausible(quantity(source.variable, where(source)), low, high):
        doubts.append(doubt)
    if not np.isfinite(low):
        doubts.append("every value looked at is missing")
        return "all missing"
    looked = seen // cells.cells.size
    scope = "all values" if looked == steps else f"{looked} of {steps} steps, spread over time"
    constant = float(always.mean())
    share = missing / seen
    text = f"{low:.6g} to {high:.6g} {source.variable.unit}".rstrip() + f" ({scope})"
    if not missing:
        return text + ", none missing"
    text += f"; {share:.1%} missing"
    if constant:
        text += f", {constant:.1%} being cells that never have a value (such as the sea)"
    if empty and source.time is not None:
        first = iso_day(int(source.time.start[empty[0]]), source.time.calendar)
        doubts.append(
            f"{len(empty)} of the {looked} steps looked at have no value at all, the first {first}"
        )
    return text


def describe_regions(path: Path, options: RegionOptions) -> Description:
    """Regions, label candidates, invalid shapes and reference system of a vector file."""
    told = vector.layers(path)
    if len(told) > 1 and options.layer is None:
        return Description(str(path), (("layers", f"{', '.join(told)}; choose with --layer"),))
    features = vector.read(path, options.layer)
    count = features.geometry.size
    if not count:
        raise InputError(path, "holds no regions", "give a file with polygons in it")
    doubts: list[str] = []
    kinds = sorted({g.geom_type for g in features.geometry if g is not None})
    facts = [("regions", f"{count} ({features.driver}, {' and '.join(kinds)})")]
    facts.append(("fields", "; ".join(_field_text(n, v) for n, v in features.fields.items())))
    facts.append(("label", _label_text(path, features)))
    crs = options.region_crs or features.crs
    facts.append(("system", _system_text(crs)))
    if not crs:
        doubts.append("no reference system is named; give it with --region-crs")
    names = [str(n + 1) for n in range(count)]
    if candidates := label_candidates(features):
        names = text_of(features.fields[candidates[0]])
    try:
        geometry, repairs = repaired(path, names, features.geometry, lonlat=_degrees(crs))
    except InputError as error:
        doubts.append(str(error))
    else:
        doubts.extend(repairs)
        numbered = Regions(tuple(map(str, range(count))), geometry, crs or LONLAT)
        facts.extend(_size_facts(numbered, names))
        if not repairs:
            facts.append(("shapes", "all valid"))
    return Description(str(path), tuple(facts), tuple(doubts))


def _system_text(crs: str) -> str:
    if not crs or len(crs) < 30:
        return crs or "not named"
    import pyproj

    return str(pyproj.CRS.from_user_input(crs).name)


def _degrees(crs: str) -> bool:
    if crs in ("", LONLAT, "EPSG:4326"):
        return True
    import pyproj

    return bool(pyproj.CRS.from_user_input(crs).is_geographic)


def _field_text(name: str, values: np.ndarray) -> str:
    text = text_of(values)
    return f"{name} ({text[0]}{', …' if len(text) > 1 else ''})"


def _label_text(path: Path, features: vector.Features) -> str:
    try:
        field = choose_label(path, features, None)
    except BavloError as error:
        return f"{error.what}; {error.remedy}"
    if not field:
        return "no fields; regions are numbered from 1"
    return f"{field} names the regions: {', '.join(text_of(features.fields[field])[:4])}, …"


def _size_facts(regions: Regions, names: list[str]) -> list[tuple[str, str]]:
    """Extent in longitude and latitude, and smallest and largest region."""
    import pyproj

    if regions.are_points:
        x0, y0, x1, y1 = shapely.total_bounds(regions.geometry)
        return [("extent", f"x {x0:.6g} to {x1:.6g}, y {y0:.6g} to {y1:.6g}")]
    edges = region_edges(regions.geometry)
    crs = pyproj.CRS.from_user_input(regions.crs)
    if not crs.is_geographic:
        transformer = pyproj.Transformer.from_crs(crs, LONLAT, always_xy=True)
        edges = transformed_edges(edges, transformer.transform, 1e-4, to_lonlat=True)
    areas = ellipsoid_areas(edges)
    small, large = int(np.argmin(areas)), int(np.argmax(areas))
    extent = (
        f"longitude {min(edges.x0.min(), edges.x1.min()):.6g} to "
        f"{max(edges.x0.max(), edges.x1.max()):.6g}, latitude "
        f"{min(edges.y0.min(), edges.y1.min()):.6g} to {max(edges.y0.max(), edges.y1.max()):.6g}"
    )
    points = int(shapely.get_num_coordinates(regions.geometry).sum())
    return [
        ("extent", f"{extent}; {points} points"),
        (
            "areas",
            f"{areas.sum():.6g} km² in all; smallest {names[small]} ({areas[small]:.5g} km²), "
            f"largest {names[large]} ({areas[large]:.5g} km²)",
        ),
    ]
