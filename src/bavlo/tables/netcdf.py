"""Tables as CF-1.11 time series: a station for each region, with its outline, a variable a measure.

Discrete sampling geometries (chapter 9, the orthogonal form of timeSeries), geometry containers for
the outlines (section 7.5), and bounds of the periods, or climatology bounds (sections 7.1 and 7.4).
"""

from __future__ import annotations

import itertools
import json
import re
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from bavlo.core.time.axis import DAY, to_instant
from bavlo.core.time.periods import spans_of_year
from bavlo.core.values.combine import MAX, MEAN, MIN, TOTAL
from bavlo.errors import InputError, RequestError
from bavlo.grids.guards import check_sound
from bavlo.tables.formats import Companions, Shapes
from bavlo.tables.group import TELLING, AnyTable, TableGroup, group, parts_of
from bavlo.tables.layouts import names_along
from bavlo.tables.schema import TableSchema, schema_by_axes
from bavlo.tables.table import Column, Table

SINCE = "days since 1970-01-01"
CELL_METHODS = {TOTAL: "sum", MEAN: "mean", MIN: "minimum", MAX: "maximum"}
ALONG = ("region", "period")  # axes that are dimensions; all others have variables of their own
LEAP_SECONDS = ("standard", "gregorian", "proleptic_gregorian")  # calendars that could have some
OF_VALUES = ("value", "normal", "std", "anomaly")  # columns that the cell methods are of
CYCLES = ("year", "season", "month", "dekad", "pentad")  # whose normals have climatology bounds
WITHOUT_UNIT = ("rank", "1", "")


def write_file(table: AnyTable, path: Path, companions: Companions) -> None:
    """Write the numbers of a table as variables over regions and periods.

    Each part of a group has a dimension of periods of its own. What is no number stands in the
    attribute `table`, from which the table is read back.
    """
    import netCDF4

    parts = parts_of(table)
    if not set(ALONG) <= set(parts[0].axes):
        raise RequestError(
            "out",
            f"{path}: NetCDF holds values by region and period, and this is a table of "
            f"{table.name}",
            "use .csv, .xlsx or .parquet",
        )
    regions = parts[0].labels("region")
    with netCDF4.Dataset(path, "w") as data:
        data.Conventions = "CF-1.11"
        data.featureType = "timeSeries"
        data.title = table.name
        data.bavlo = companions.about_text
        data.createDimension("region", len(regions))
        _text(data, "region_name", "region", regions, "name of the region")
        data["region_name"].cf_role = "timeseries_id"
        _outlines(data, companions.shapes, regions)
        used: set[str] = set()
        held = []
        for part, ending in zip(parts, _endings(table), strict=True):
            held.append(_write_part(data, part, ending, used))
        data.table = json.dumps({"name": table.name, "parts": held}, ensure_ascii=False)


def _endings(table: AnyTable) -> list[str]:
    """What tells the names of each part's variables apart; empty for one part."""
    parts = parts_of(table)
    if not isinstance(table, TableGroup):
        return [""]
    telling = [name for name in TELLING if len(table.different(name)) > 1]
    words = ["_".join(str(part.labels(name)[0]) for name in telling) for part in parts]
    return ["_" + re.sub(r"\W+", "_", word).strip("_") for word in words]


def _write_part(data: Any, table: Table, ending: str, used: set[str]) -> dict[str, Any]:
    """Write one part; what stands in the attribute `table` of it."""
    period, along = f"period{ending}", ("region", f"period{ending}")
    data.createDimension(period, table.axes["period"])
    _text(data, f"period_name{ending}", period, table.labels("period"), "name of the period")
    time = _time(data, table, ending)
    coordinates = f"region_name period_name{ending}" + (f" {time}" if time else "")
    has_combine = "combine" in table.header
    held: dict[str, list[Any]] = {}
    for name, column, values, attributes in _variables(table, ending, used):
        stored = data.createVariable(name, "f8", along, zlib=True, complevel=4, fill_value=np.nan)
        stored.setncatts({**attributes, "coordinates": coordinates})
        if "geometry" in data.variables:
            stored.geometry = "geometry"
            stored.grid_mapping = "crs"
        method = CELL_METHODS.get(table.labels("combine")[0]) if has_combine else None
        if time and method and column in OF_VALUES:
            within = " within years time: mean over years" if "base" in table.header else ""
            stored.cell_methods = f"{time}: {method}{within}"
        stored[:] = values
        held.setdefault(column, []).append(name)
    return {
        "axes": table.axes,
        "columns": [
            {"name": c.name, "axes": c.axes}
            | ({"text": _sparse(c.values)} if c.is_text else {"variables": held[c.name]})
            for c in table.columns
        ],
        "kept": None
        if table.kept is None
        else {"axes": table.kept.axes, "rows": table.kept.values.ravel().tolist()},
    }


def _sparse(values: np.ndarray) -> Any:
    """Texts as a list, or, where most are empty, by their number."""
    flat = values.ravel().tolist()
    known = {str(n): text for n, text in enumerate(flat) if text}
    return flat if len(known) * 2 > len(flat) else known


def _text(data: Any, name: str, dimension: str, texts: list[str], long_name: str) -> None:
    variable = data.createVariable(name, str, (dimension,))
    variable.long_name = long_name
    for n, text in enumerate(texts):
        variable[n] = text


def _time(data: Any, table: Table, ending: str) -> str:
    """Times of the periods with their bounds, where they have dates; the variable's name."""
    calendar = table.labels("calendar")[0] if "calendar" in table.header else "standard"
    is_normal = "start" not in table.header
    edges = _of_base(table, calendar) if is_normal else _of_dates(table, calendar)
    if edges is None:
        return ""
    if "bounds" not in data.dimensions:
        data.createDimension("bounds", 2)
    period = f"period{ending}"
    time = data.createVariable(f"time{ending}", "f8", (period,))
    time.units, time.calendar = SINCE, calendar
    if calendar in LEAP_SECONDS:
        time.units_metadata = "leap_seconds: none"
    time.standard_name, time.axis = "time", "T"
    name = ("climatology_bounds" if is_normal else "time_bounds") + ending
    time.setncattr("climatology" if is_normal else "bounds", name)
    time[:] = edges[:, 0] if is_normal else edges.mean(axis=1)
    data.createVariable(name, "f8", (period, "bounds"))[:] = edges
    return f"time{ending}"


def _of_dates(table: Table, calendar: str) -> np.ndarray | None:
    """(P, 2) bounds of periods with dates, days since 1970; None where they have none."""
    starts = _days(table.along("start", "period"), calendar)
    ends = _days(table.along("end", "period"), calendar)
    return None if starts is None or ends is None else np.stack([starts, ends + 1], axis=1)


def _of_base(table: Table, calendar: str) -> np.ndarray | None:
    """(P, 2) climatology bounds of normals: from the first of their periods to the last."""
    if "base" not in table.header:
        return None
    base = re.fullmatch(r"(\d{4})\.\.(\d{4})", table.labels("base")[0])
    if base is None:  # the change from one base to another
        return None
    years = [int(year) for year in base.groups()]
    known: list[dict[str, tuple[int, int]]] = []
    for year in years:
        spans: dict[str, tuple[int, int]] = {}
        for kind in CYCLES:
            for around in (year - 1, year):  # DJF ends in the year that it belongs to
                for _, cycle, start, end in spans_of_year(kind, calendar, around):
                    spans[cycle] = (start, end)
        known.append(spans)
    cycles = table.labels("period")
    if not set(cycles) <= known[0].keys():
        return None
    bounds = [(known[0][cycle][0] / DAY, known[1][cycle][1] / DAY) for cycle in cycles]
    return np.array(bounds)


def _days(texts: list[str], calendar: str) -> np.ndarray | None:
    """Days since 1970 of ISO dates; None where they are no days."""
    if not all(re.fullmatch(r"\d{4}-\d\d-\d\d", text) for text in texts):
        return None
    days = [to_instant(calendar, *map(int, text.split("-"))) / DAY for text in texts]
    return np.array(days)


def _outlines(data: Any, shapes: Shapes | None, labels: list[str]) -> None:
    """A geometry container with the outlines of the regions, or their points."""
    if shapes is None or list(shapes.labels) != labels:
        return
    import pyproj

    crs = pyproj.CRS.from_user_input(shapes.crs)
    points_only = set(shapely.get_type_id(shapes.geometry).tolist()) == {0}
    container = data.createVariable("geometry", "i4", ())
    container.geometry_type = "point" if points_only else "polygon"
    container.node_coordinates = "node_x node_y"
    system = data.createVariable("crs", "i4", ())
    system.setncatts(crs.to_cf())
    container.grid_mapping = "crs"
    if points_only:
        x, y = shapely.get_coordinates(shapes.geometry).T
        dimension = "region"
    else:
        parts, region = shapely.get_parts(shapes.geometry, return_index=True)
        rings, part = shapely.get_rings(parts, return_index=True)
        nodes, ring = shapely.get_coordinates(rings, return_index=True)
        x, y = nodes.T
        interior = np.diff(part, prepend=-1) == 0
        of_regions = np.bincount(region[part[ring]], minlength=len(labels))
        for name, dim, values, words in (
            ("node_count", "region", of_regions, "nodes of each region"),
            ("part_node_count", "part", np.bincount(ring, minlength=len(rings)), "of each ring"),
            ("interior_ring", "part", interior.astype(np.int32), "1 for a hole"),
        ):
            if dim not in data.dimensions:
                data.createDimension(dim, values.size)
            stored = data.createVariable(name, "i4", (dim,))
            stored.long_name = words
            stored[:] = values
            container.setncattr(name, name)
        dimension = "node"
        data.createDimension(dimension, x.size)
    geographic = crs.is_geographic
    for axis, values, standard, unit in (
        ("x", x, "longitude", "degrees_east"),
        ("y", y, "latitude", "degrees_north"),
    ):
        node = data.createVariable(f"node_{axis}", "f8", (dimension,))
        node.axis = axis.upper()
        node.standard_name = standard if geographic else f"projection_{axis}_coordinate"
        node.units = unit if geographic else "m"
        node[:] = values


def _variables(
    table: Table, ending: str, used: set[str]
) -> list[tuple[str, str, np.ndarray, dict[str, str]]]:
    """Name, column, (R, P) values and attributes of every number of a table."""
    schema = schema_by_axes(table)
    others = [axis for axis in table.axes if axis not in ALONG]
    parts = [names_along(table, schema, axis) for axis in others]
    out: list[tuple[str, str, np.ndarray, dict[str, str]]] = []
    for place, names in zip(
        itertools.product(*(range(len(p)) for p in parts)), itertools.product(*parts), strict=True
    ):
        at = dict(zip(others, place, strict=True))
        for column in table.columns:
            if column.is_text:
                continue
            extra = [axis for axis in column.axes if axis in others]
            if any(at[axis] for axis in others if axis not in extra):
                continue  # the same along an axis: once
            full = np.moveaxis(
                table.full(column.name), [list(table.axes).index(a) for a in ALONG], (0, 1)
            )
            values = full.reshape(*full.shape[:2], -1)[:, :, _flat(place, full.shape[2:])]
            said = [n for n, axis in zip(names, others, strict=True) if axis in extra]
            name = _name(table, column.name, said, ending, used)
            out.append(
                (name, column.name, values, _attributes(table, schema, column.name, at, said))
            )
    return out


def _flat(place: tuple[int, ...], shape: tuple[int, ...]) -> int:
    """The number of a place along axes that are laid out as one."""
    return int(np.ravel_multi_index(place, shape)) if place else 0


def _name(table: Table, column: str, said: list[str], ending: str, used: set[str]) -> str:
    """A name of letters, digits and underscores that no other variable has."""
    first = table.labels("variable")[0] if "variable" in table.header else table.name
    base = first if column == "value" else column
    plain = re.sub(r"\W+", "_", "_".join([base, *said])).strip("_")
    if column == "value":
        ending = ending.removeprefix("_" + re.sub(r"\W+", "_", first))
    plain = (plain if plain[:1].isalpha() else f"v_{plain}") + ending
    name, n = plain, 2
    while name in used or name in ALONG:
        name, n = f"{plain}_{n}", n + 1
    used.add(name)
    return name


def _attributes(
    table: Table, schema: TableSchema, column: str, at: dict[str, int], said: list[str]
) -> dict[str, str]:
    own = schema.column(column)
    unit = own.unit if own is not None else ""
    if not unit and "unit" in table.header and column in _in_own_unit(schema):
        texts = table.columns[table.header.index("unit")]
        unit = str(texts.values[tuple(at[a] for a in texts.axes if a in at)])
    words = " ".join([column.replace("_", " "), *said])
    return {"long_name": words, "units": "1" if unit in WITHOUT_UNIT else unit}


def _in_own_unit(schema: TableSchema) -> set[str]:
    """Columns in the unit of their row; numbers of steps and years have none."""
    counts = {"steps", "steps_expected", "years", "rank", "ranked_of", "n", "window"}
    return {c.name for c in schema.columns if not c.unit and c.name not in counts}


def _opened(path: Path) -> Any:
    """A file that the library may open."""
    import netCDF4

    check_sound(path)
    return netCDF4.Dataset(path)


def recognises(path: Path) -> bool:
    """Whether a file holds such a table; any other NetCDF file is a grid."""
    try:
        with _opened(path) as data:
            return {"table", "bavlo"} <= set(data.ncattrs())
    except (OSError, InputError):
        return False


def about(path: Path) -> dict[str, Any] | None:
    """The provenance in the attributes; None where it is not there."""
    with _opened(path) as data:
        text = getattr(data, "bavlo", None)
    return None if text is None else dict(json.loads(text))


def read(path: Path) -> AnyTable:
    """A table that was written as NetCDF, with its axes."""
    try:
        with _opened(path) as data:
            held = json.loads(data.table)
            return group([_read_part(data, held["name"], part) for part in held["parts"]])
    except (OSError, ValueError, KeyError, IndexError, AttributeError) as error:
        raise InputError(path, f"cannot be read as a table ({error})", "give another") from error


def _read_part(data: Any, name: str, part: Any) -> Table:
    axes = {str(axis): int(size) for axis, size in part["axes"].items()}
    columns = []
    for each in part["columns"]:
        own = tuple(each["axes"])
        shape = tuple(axes[axis] for axis in own)
        if "text" in each:
            values = np.full(int(np.prod(shape)), "", object)
            texts = each["text"]
            for n, text in texts.items() if isinstance(texts, dict) else enumerate(texts):
                values[int(n)] = str(text)
            columns.append(Column(each["name"], own, values.reshape(shape)))
            continue
        columns.append(Column(each["name"], own, _numbers(data, each["variables"], own, shape)))
    kept = part["kept"]
    if kept is not None:
        shape = tuple(axes[axis] for axis in kept["axes"])
        kept = Column("", tuple(kept["axes"]), np.reshape(kept["rows"], shape))
    return Table(name, axes, tuple(columns), kept)


def _numbers(
    data: Any, names: list[str], own: tuple[str, ...], shape: tuple[int, ...]
) -> np.ndarray:
    """A column from its variables (region, period), one for each place of the other axes."""
    stacked = []
    for name in names:
        data[name].set_auto_maskandscale(False)
        values = np.asarray(data[name][:], np.float64)
        at = tuple(slice(None) if axis in own else 0 for axis in ALONG)
        stacked.append(values[at])
    others = [axis for axis in own if axis not in ALONG]
    along = [axis for axis in ALONG if axis in own]
    sizes = dict(zip(own, shape, strict=True))
    full = np.stack(stacked).reshape([sizes[axis] for axis in (*others, *along)])
    order = [(*others, *along).index(axis) for axis in own]
    return np.asarray(full.transpose(order))
