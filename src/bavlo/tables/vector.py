"""Tables as vector files: the regions as they were given, with a column for each period."""

from __future__ import annotations

import io
import json
import tempfile
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import orjson
import shapely

from bavlo.errors import InputError, RequestError
from bavlo.tables import csv as csv_table
from bavlo.tables import json as json_table
from bavlo.tables.csv import number_text
from bavlo.tables.formats import Companions, Shapes, ending_of
from bavlo.tables.group import AnyTable, parts_of
from bavlo.tables.layouts import short_names, wide
from bavlo.tables.placed import table_of_rows

ROWS = "rows"  # what the table is called that goes along
HEAD = 4096  # bytes in which GeoJSON says whether it has one
DRIVERS = {".geojson": "GeoJSON", ".gpkg": "GPKG"}
SHAPEFILE = "ESRI Shapefile"
NAME_LENGTH = 10  # of a field of a shapefile
CLOCK = (1980, 1, 1, 0, 0, 0)  # of the parts of a zip


def write_file(table: AnyTable, path: Path, companions: Companions) -> None:
    """Write the regions of a table with its values, a column a period and measure.

    The table itself goes along, one value a row, and is read back from there: in a GeoPackage as a
    layer without shapes, in a zipped Shapefile as a CSV, in GeoJSON as a further member.
    """
    ending = ending_of(path)
    shapes = companions.shapes
    axes = parts_of(table)[0].axes
    if shapes is None or "region" not in axes or "period" not in axes:
        raise RequestError(
            "out",
            f"{path}: a vector file holds regions with their values by period, and "
            + (
                "this table has no shapes" if shapes is None else f"this is a table of {table.name}"
            ),
            "give grids and ‹regions›, or use .csv, .xlsx or .parquet",
        )
    found = wide(table, "region")
    taken = [name for name in shapes.fields if name not in found.heads]
    own = {name: np.asarray(shapes.fields[name]) for name in taken}
    columns: dict[str, np.ndarray] = {"region": np.array(shapes.labels, object)} | {
        name: column for name, column in own.items() if name != "region"
    }
    columns |= {head: found.values[:, n] for n, head in enumerate(found.heads)}
    names = {name: name for name in columns}
    if ending == ".shp.zip":
        names = dict(short_names(list(columns), NAME_LENGTH))
    fields = {names[name]: column for name, column in columns.items()}
    about = {**companions.about, "columns": {names[head]: head for head in found.heads}}
    if shapely.has_z(shapes.geometry).any():
        about["heights"] = "left out of the shapes"
    if ending == ".shp.zip":
        _zipped(path, companions.name or path.name, shapes, fields, about, table)
        return
    _write(path, shapes, fields, DRIVERS[ending], table.name)
    if ending == ".gpkg":
        _table_layer(path, table)
        _about_layer(path, about)
    else:
        _with_members(path, table, about)


def _write(
    path: Path, shapes: Shapes, fields: dict[str, np.ndarray], driver: str, layer: str
) -> None:
    import pyogrio.raw

    geometry = shapely.force_2d(shapes.geometry)
    kinds = set(shapely.get_type_id(geometry).tolist())
    kind = "Point" if kinds == {0} else "Polygon" if kinds == {3} else "MultiPolygon"
    if kind == "MultiPolygon":
        geometry = np.array(
            [g if g.geom_type == "MultiPolygon" else shapely.multipolygons([g]) for g in geometry],
            object,
        )
    options: dict[str, Any] = {}
    if driver == "GeoJSON":  # by its standard in longitude and latitude
        options = {"RFC7946": "YES"}
    if driver == SHAPEFILE:
        options = {"encoding": "UTF-8"}
    pyogrio.raw.write(
        str(path),
        shapely.to_wkb(geometry),
        [_plain(column) for column in fields.values()],
        list(fields),
        geometry_type=kind,
        crs=shapes.crs,
        driver=driver,
        layer=layer if driver in ("GPKG", "GeoJSON") else None,
        **options,
    )


def _plain(column: np.ndarray) -> np.ndarray:
    """A column as the vector library writes it: text, whole numbers or floats."""
    if column.dtype.kind in "OUST":
        return np.array([None if v is None else str(v) for v in column.tolist()], object)
    return column


def _about_layer(path: Path, about: dict[str, Any]) -> None:
    """A layer of its own without shapes, with fixed clock fields."""
    import sqlite3

    import pyogrio.raw

    lines = json.dumps(about, indent=1, ensure_ascii=False).splitlines()
    pyogrio.raw.write(
        str(path),
        None,
        [np.arange(1, len(lines) + 1), np.array(lines, object)],
        ["line", "about"],
        driver="GPKG",
        layer="about",
        append=True,
        crs=None,
        geometry_type=None,
    )
    with sqlite3.connect(path) as data:
        data.execute("UPDATE gpkg_contents SET last_change = '2000-01-01T00:00:00.000Z'")
    data.close()


def _table_layer(path: Path, table: AnyTable) -> None:
    """The rows of a table as a layer without shapes."""
    import pyogrio.raw

    for n, chunk in enumerate(table.chunks()):
        columns = [
            np.array(values.tolist(), object) if column.is_text else values
            for column, values in zip(table.columns, chunk, strict=True)
        ]
        pyogrio.raw.write(
            str(path),
            None,
            columns,
            table.header,
            field_mask=[np.isnan(c) if c.dtype.kind == "f" else c == "" for c in columns],
            driver="GPKG",
            layer=ROWS,
            append=True,
            crs=None,
            geometry_type=None,
            **({} if n else {"nan_as_null": True}),
        )


def _with_members(path: Path, table: AnyTable, about: dict[str, Any]) -> None:
    """Further members of the collection, as GeoJSON allows."""
    text = path.read_text(encoding="utf-8")
    rows = io.StringIO()
    json_table.write(table, rows, Companions())
    member = json.dumps(about, ensure_ascii=False)
    at = text.index('"features"')
    path.write_text(
        f'{text[:at]}"about": {member},\n"{ROWS}": {rows.getvalue()},\n{text[at:]}',
        encoding="utf-8",
    )


def _zipped(
    path: Path,
    name: str,
    shapes: Shapes,
    fields: dict[str, np.ndarray],
    about: dict[str, Any],
    table: AnyTable,
) -> None:
    with tempfile.TemporaryDirectory(prefix="bavlo-") as folder:
        stem = name.removesuffix(".zip").removesuffix(".shp")
        _write(Path(folder) / f"{stem}.shp", shapes, fields, SHAPEFILE, stem)
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as out:
            for part in sorted(Path(folder).iterdir()):
                data = part.read_bytes()
                if part.suffix == ".dbf":  # the day of its last change
                    data = data[:1] + bytes([100, 1, 1]) + data[4:]
                _put(out, part.name, data)
            rows = Path(folder) / "rows"
            csv_table.write_file(table, rows, Companions())
            _put(out, f"{ROWS}.csv", rows.read_bytes())
            _put(out, "about.json", json.dumps(about, indent=1, ensure_ascii=False).encode())
        path.write_bytes(packed.getvalue())


def _put(out: zipfile.ZipFile, name: str, data: bytes) -> None:
    out.writestr(zipfile.ZipInfo(name, CLOCK), data, zipfile.ZIP_DEFLATED)


def recognises(path: Path) -> bool:
    """Whether a table goes along with the regions of a file."""
    ending = ending_of(path)
    try:
        if ending == ".shp.zip":
            with zipfile.ZipFile(path) as packed:
                return f"{ROWS}.csv" in packed.namelist()
        if ending == ".gpkg":
            import pyogrio

            return ROWS in pyogrio.list_layers(path)[:, 0]
        with path.open(encoding="utf-8", errors="replace") as file:
            return '"about": {"bavlo"' in file.read(HEAD)
    except (OSError, ValueError, zipfile.BadZipFile):
        return False
    except RuntimeError:  # what the vector library calls a file that it cannot read
        return False


def about(path: Path) -> dict[str, Any] | None:
    """The provenance in the file; None where it is not there."""
    ending = ending_of(path)
    if ending == ".shp.zip":
        with zipfile.ZipFile(path) as packed:
            return dict(json.loads(packed.read("about.json")))
    if ending == ".gpkg":
        columns = _layer(path, "about")
        return dict(json.loads("\n".join(str(line) for line in columns["about"])))
    return dict(json.loads(path.read_text(encoding="utf-8"))["about"])


def read(path: Path) -> AnyTable:
    """The table that goes along with the regions of a file.

    Raises
    ------
    InputError
        Where none does.
    """
    ending = ending_of(path)
    if not recognises(path):
        raise InputError(
            path, "holds regions, and no table of values by period", "give one that Bavlo wrote"
        )
    if ending == ".gpkg":
        texts = {
            name: [_text_of(value) for value in values.tolist()]
            for name, values in _layer(path, ROWS).items()
        }
        return table_of_rows(path, texts)
    with tempfile.TemporaryDirectory(prefix="bavlo-") as folder:
        if ending == ".shp.zip":
            rows = Path(folder) / f"{ROWS}.csv"
            with zipfile.ZipFile(path) as packed:
                rows.write_bytes(packed.read(rows.name))
            return csv_table.read(rows)
        rows = Path(folder) / f"{ROWS}.json"
        held = orjson.loads(path.read_bytes())[ROWS]
        rows.write_bytes(orjson.dumps(held))
        return json_table.read(rows)


def _layer(path: Path, layer: str) -> dict[str, np.ndarray]:
    """The columns of a layer without shapes."""
    import pyogrio.raw

    found = pyogrio.raw.read(str(path), layer=layer, read_geometry=False)
    return dict(zip((str(name) for name in found[0]["fields"]), found[3], strict=True))


def _text_of(value: object) -> str:
    if value is None or value != value:
        return ""
    return number_text(value) if isinstance(value, float) else str(value)
