"""What is in files, and what Bavlo would do with them."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.core.stats.cell_sample import CellSample, OverlayIndex
from bavlo.errors import InputError, known_words, public
from bavlo.grids.cells import CellSelection
from bavlo.grids.formats import format_of
from bavlo.grids.levels import LevelsLeftOpen
from bavlo.grids.open import open_grid, why_unread
from bavlo.grids.source import GridSource, ReadOptions, where
from bavlo.grids.urls import url_of
from bavlo.jobs.describe_grids import FILES_READ, Description, describe_grid
from bavlo.jobs.describe_regions import describe_regions
from bavlo.jobs.observed_series import periods_of_labels
from bavlo.jobs.regions import overlay_of
from bavlo.jobs.wording import some_of
from bavlo.regions import vector
from bavlo.regions.read import RegionOptions, is_region_file, label_candidates, read_regions
from bavlo.tables.formats import about_of, is_table, read_table
from bavlo.tables.observed import ObservedOptions, looks_observed, read_observed

# Sorts of files that are no grids.
TABLE, OBSERVED, REGIONS = ("",), ("", ""), ("", "", "")
_SAMPLED = "{} of {} looked at for what they hold, spread evenly"


def describe(
    paths: Sequence[Path],
    options: ReadOptions,
    regions: RegionOptions,
    at: tuple[float, float] | None = None,
    columns: Mapping[str, str] = {},
) -> list[Description]:
    """Describe grids, regions and tables; files of one grid are described together.

    Parameters
    ----------
    at
        Longitude and latitude at which to tell the values of the grids.
    columns
        Columns of tables of others, by what they are.
    """
    missing = next((p for p in paths if url_of(p) is None and not p.exists()), None)
    if missing is not None:
        raise InputError(missing, "there is no such file", "check the path")
    sorts = _by_sort(paths, options)
    tables, observed, shapes = (sorts.pop(sort, []) for sort in (TABLE, OBSERVED, REGIONS))
    found: list[Description] = []
    sources: list[GridSource] = []
    for names, group in sorts.items():
        for name in names:
            if options.variable not in (None, name):
                continue
            source, doubts = _first_level(group, replace(options, variable=name))
            sources.append(source)
            one = describe_grid(source, at)
            facts = [("files", _SAMPLED.format(FILES_READ, len(group)))][: len(group) > FILES_READ]
            found.append(replace(one, facts=(*facts, *one.facts), doubts=(*doubts, *one.doubts)))
    found += [describe_regions(path, regions) for path in shapes]
    found += [describe_table(path) for path in tables]
    found += [describe_observed(path, options, regions, columns) for path in observed]
    found += [
        describe_overlay(source, path, regions)
        for source in _one_of_each_layout(sources)
        for path in shapes
        if regions.layer is not None or len(vector.layers(path)) == 1
    ]
    return found


def _first_level(paths: Sequence[Path], options: ReadOptions) -> tuple[GridSource, tuple[str, ...]]:
    """A grid, at the first value of each further dimension where none is chosen; what to say."""
    try:
        return open_grid(paths, options), ()
    except LevelsLeftOpen as error:
        source = open_grid(paths, replace(options, level=error.first))
        first = ", ".join(error.first)
        return source, (f"{error.what}; {error.remedy}; here at {first}",)


def _with_label(path: Path, options: RegionOptions) -> RegionOptions:
    """The options with the first field that could name the regions, where several could."""
    if options.label is not None or options.merge_by is not None:
        return options
    candidates = label_candidates(vector.read(path, options.layer, options.encoding))
    return replace(options, label=candidates[0]) if len(candidates) > 1 else options


def _one_of_each_layout(sources: list[GridSource]) -> list[GridSource]:
    """Grids with different cells: regions lie on those of equal cells alike."""
    out: list[GridSource] = []
    for source in sources:
        if not any(source.layout.same_cells(other.layout) for other in out):
            out.append(source)
    return out


def describe_table(path: Path) -> Description:
    """Rows, regions, periods and variables of a table that Bavlo wrote."""
    table = read_table(path)

    def different(name: str) -> list[str]:
        if name not in table.header:
            return []
        found = table.column(name).tolist()
        return [v if isinstance(v, str) else f"{v:g}" for v in dict.fromkeys(found) if v != ""]

    facts = [
        ("table", f"{len(table)} rows with the columns {', '.join(table.header)}"),
        ("regions", f"{len(different('region'))}: {some_of(different('region'), 4)}"),
    ]
    for word, column in (("periods", "period"), ("tested", "condition"), ("years", "years")):
        if different(column):
            facts.append((word, f"{len(different(column))}: {some_of(different(column), 4)}"))
    found = different("measure") or different("count")
    values = ", ".join(different("variable")) + (f" ({', '.join(found)})" if found else "")
    values += f" in {', '.join(different('unit'))}"
    if "value" in table.header:
        empty = int(np.isnan(table.column("value")).sum())
        values += f"; {empty} rows without a value"
    facts.append(("values", values))
    made = about_of(path)
    if made is not None:
        facts.append(("made by", _made_text(made)))
    return Description(public(str(path)), tuple(facts))


def describe_observed(
    path: Path, options: ReadOptions, regions: RegionOptions, columns: Mapping[str, str]
) -> Description:
    """What was understood of a table of others: dates, values, unit, stations, gaps and marks."""
    found = read_observed(
        path,
        ObservedOptions(columns, options.variable, options.dates, regions.layer, regions.encoding),
    )
    unit = options.input_unit or found.unit
    missing = int(np.isnan(found.values).sum())
    periods = periods_of_labels(path, found)
    gaps = len(periods) - len(found.dates)
    span = f"{len(found.dates)} {found.every}s, {found.dates[0]} to {found.dates[-1]}"
    facts = [
        ("read as", found.understood),
        ("regions", f"{len(found.regions)}: {some_of(list(found.regions), 4)}"),
        ("periods", span + (f"; {gaps} between them are not there" if gaps else "")),
    ]
    values = f"{found.variable} in {unit}" if unit else found.variable
    if missing < found.values.size:
        values += f", {np.nanmin(found.values):g} to {np.nanmax(found.values):g}"
    facts.append(("values", f"{values}; {missing} of {found.values.size} values are missing"))
    if found.marks:
        marks = ", ".join(f"'{text}' ({count})" for text, count in found.marks)
        facts.append(("no data", marks))
    if found.traces:
        facts.append(("traces", f"{found.traces}, which are 0"))
    doubts = [] if unit else [f"names no unit of {found.variable}; say it with ‹input_unit mm›"]
    if found.left_out:
        doubts.append(f"left out {found.left_out}")
    return Description(public(str(path)), tuple(facts), tuple(doubts))


def _made_text(about: dict[str, Any]) -> str:
    """How a table came to be, in words: version, command, what was asked, from which files."""
    request = dict(about.get("request", {}))
    command = request.pop("command", "?")
    request.pop("grids", None)
    asked = ", ".join(f"{name} {_plain(value)}" for name, value in request.items())
    files = [str(each.get("file", "?")) for each in about.get("inputs", [])]
    text = f"bavlo {about.get('bavlo', '?')} {command}" + (f" with {asked}" if asked else "")
    return f"{text}; from {some_of(files)}" if files else text


def _plain(value: object) -> str:
    return ",".join(map(str, value)) if isinstance(value, list) else str(value)


def describe_overlay(source: GridSource, path: Path, options: RegionOptions) -> Description:
    """How regions lie on the cells of a grid: what each touches, what is small or outside."""
    heading = f"{path.name} on the cells of {where(source)}"
    try:
        regions = read_regions(path, _with_label(path, options)).regions
    except InputError as error:
        return Description(heading, (), (f"{error.what}; {error.remedy}",))
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


def _by_sort(paths: Sequence[Path], options: ReadOptions) -> dict[tuple[str, ...], list[Path]]:
    """Files by their sort; of very many that are called alike an even sample is looked at."""
    alike: dict[tuple[str, str], list[Path]] = {}
    for path in paths:
        letters = "".join(itertools.takewhile(lambda c: not c.isdigit(), path.name))
        alike.setdefault((letters, path.suffix.lower()), []).append(path)
    out: dict[tuple[str, ...], list[Path]] = {}
    for group in alike.values():
        sample = group[:: -(-len(group) // FILES_READ)]
        found = {path: _sort_of(path, options) for path in sample}
        is_one = len(set(found.values())) == 1
        for path in group:
            sort = found[sample[0]] if is_one else found.get(path) or _sort_of(path, options)
            out.setdefault(sort, []).append(path)
    return out


def _sort_of(path: Path, options: ReadOptions) -> tuple[str, ...]:
    """TABLE, OBSERVED, REGIONS, or the names of the variables of a grid.

    Raises
    ------
    InputError
        Where it is none of them, or a grid without the variable that is wanted.
    """
    if is_table(path):
        return TABLE
    if url_of(path) is None and looks_observed(path):
        return OBSERVED
    if url_of(path) is None and is_region_file(path):
        return REGIONS
    grid = format_of(path)
    if grid is None:
        what, remedy = why_unread(path)
        if what == "is no grid that Bavlo reads":
            what = "is neither a grid, nor regions or a table that Bavlo reads"
            remedy = (
                "give NetCDF, GeoTIFF, ASCII grid, Zarr or GRIB grids, regions as GeoJSON, "
                "Shapefile, GeoPackage, KML, FlatGeobuf, GeoParquet or CSV, or a table with dates"
            )
        raise InputError(path, what, remedy)
    names = tuple(variable.name for variable in grid.variables(path, options))
    if options.variable is not None and options.variable not in names:
        raise InputError(
            path, f"has no variable '{options.variable}'", known_words(options.variable, names)
        )
    return names
