"""What is in a file, and what Bavlo would do with it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import shapely

from bavlo.core.errors import BavloError, InputError
from bavlo.core.layout import GridLayout
from bavlo.core.overlay import sphere_areas
from bavlo.core.projection import transformed_edges
from bavlo.core.regions import LONLAT, Regions, region_edges
from bavlo.core.timeaxis import iso_day
from bavlo.core.units import AMOUNT, RATE, Variable, quantity
from bavlo.formats.grids import format_of, open_grid
from bavlo.formats.grids.source import GridSource, ReadOptions, where, whole
from bavlo.formats.regions import (
    choose_label,
    is_region_file,
    label_candidates,
    repaired,
    text_of,
    vector,
)

VALUES_READ = 60_000_000  # cells × steps that are looked at for missing values and the range
VALUES_AT_ONCE = 2_000_000


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


def describe(paths: Sequence[Path], options: ReadOptions) -> list[Description]:
    """Describe grids and regions; files of one grid are described together."""
    missing = next((path for path in paths if not path.exists()), None)
    if missing is not None:
        raise InputError(missing, "there is no such file", "check the path")
    grids = [path for path in paths if not path.is_dir() and format_of(path) is not None]
    others = [path for path in paths if path not in grids]
    unknown = next((path for path in others if not is_region_file(path)), None)
    if unknown is not None:
        raise InputError(
            unknown,
            "is neither a grid nor a region file that Bavlo reads",
            "give NetCDF grids, or regions as GeoJSON, Shapefile or GeoPackage",
        )
    told: list[Description] = []
    for group, name in _grids_of(grids, options):
        told.append(describe_grid(open_grid(group, replace(options, variable=name))))
    for path in others:
        told.append(describe_regions(path))
    return told


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


def describe_grid(source: GridSource) -> Description:
    """Variable, unit, kind, steps, cells, missing share and range of a grid."""
    variable, layout = source.variable, source.layout
    doubts: list[str] = list(source.notes)
    facts = [("variable", _variable_text(variable))]
    what = quantity(variable, where(source))
    facts.append(("kind", _kind_text(source)))
    if not variable.unit:
        doubts.append("the file gives no unit; Bavlo takes the values for a state")
    facts.append(("cells", _cells_text(layout)))
    if source.time is not None:
        facts.append(("steps", _time_text(source)))
        gaps = source.time.gaps()
        if gaps.size:
            doubts.append(f"{gaps.size} gap(s) in time, the first {_gap_text(source, gaps[0])}")
    else:
        facts.append(("steps", "no time axis; every cell has one value"))
    facts.append(("values", _values_text(source, doubts)))
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
    }.get(what.kind, "steps are averaged, weighted by their length")
    return f"{what.kind} (told by {what.why}): {does}"


def _cells_text(layout: GridLayout) -> str:
    ny, nx = layout.shape
    x0, y0, x1, y1 = layout.extent
    width, height = layout.cell_size
    if layout.is_lonlat:
        middle = np.array([(ny // 2) * nx + nx // 2])
        area = float(layout.ellipsoid_areas(middle)[0])
        return (
            f"{ny} rows × {nx} columns of {height:.6g}° × {width:.6g}° (about {area:.4g} km²), "
            f"longitude {x0:.6g} to {x1:.6g}, latitude {y0:.6g} to {y1:.6g}"
        )
    return (
        f"{ny} rows × {nx} columns of {height:.6g} × {width:.6g} in their reference system, "
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


def describe_regions(path: Path) -> Description:
    """Regions, label candidates, invalid shapes and reference system of a vector file."""
    told = vector.layers(path)
    if len(told) > 1:
        return Description(str(path), (("layers", f"{', '.join(told)}; choose with --layer"),))
    features = vector.read(path)
    count = features.geometry.size
    if not count:
        raise InputError(path, "holds no regions", "give a file with polygons in it")
    doubts: list[str] = []
    kinds = sorted({g.geom_type for g in features.geometry if g is not None})
    facts = [("regions", f"{count} ({features.driver}, {' and '.join(kinds)})")]
    facts.append(("fields", "; ".join(_field_text(n, v) for n, v in features.fields.items())))
    facts.append(("label", _label_text(path, features)))
    crs = features.crs or "not given; Bavlo would take longitude and latitude"
    facts.append(("system", crs))
    names = [str(n + 1) for n in range(count)]
    if candidates := label_candidates(features):
        names = text_of(features.fields[candidates[0]])
    try:
        geometry, repairs = repaired(path, names, features.geometry)
    except InputError as error:
        doubts.append(str(error))
    else:
        doubts.extend(repairs)
        facts.extend(
            _size_facts(
                Regions(tuple(map(str, range(count))), geometry, features.crs or LONLAT), names
            )
        )
        if not repairs:
            facts.append(("shapes", "all valid"))
    return Description(str(path), tuple(facts), tuple(doubts))


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

    edges = region_edges(regions.geometry)
    crs = pyproj.CRS.from_user_input(regions.crs)
    if not crs.is_geographic:
        transformer = pyproj.Transformer.from_crs(crs, LONLAT, always_xy=True)
        edges = transformed_edges(edges, transformer.transform, 1e-4, to_lonlat=True)
    areas = sphere_areas(edges)
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
