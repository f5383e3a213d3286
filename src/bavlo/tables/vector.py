"""Tables as vector files: the regions as they were given, with a column for each period."""

from __future__ import annotations

import io
import json
import tempfile
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from bavlo.errors import InputError, OutputError, RequestError
from bavlo.tables.formats import Companions, Shapes, ending_of
from bavlo.tables.layouts import short_names, wide_values
from bavlo.tables.table import Table

MOST_COLUMNS = {".geojson": 65_000, ".gpkg": 1_990, ".shp.zip": 254}
DRIVERS = {".geojson": "GeoJSON", ".gpkg": "GPKG"}
SHAPEFILE = "ESRI Shapefile"
NAME_LENGTH = 10  # of a field of a shapefile
CLOCK = (1980, 1, 1, 0, 0, 0)  # of the parts of a zip


def write_file(table: Table, path: Path, companions: Companions) -> None:
    """Write the regions of a table with its values, a column a period and measure."""
    ending = ending_of(path)
    shapes = companions.shapes
    if shapes is None or "region" not in table.axes or "period" not in table.axes:
        raise RequestError(
            "out",
            f"{path}: a vector file holds regions with their values by period, and "
            + (
                "this table has no shapes" if shapes is None else f"this is a table of {table.name}"
            ),
            "give grids and ‹regions›, or use .csv, .xlsx or .parquet",
        )
    heads, values = wide_values(table, "region")
    taken = [name for name in shapes.fields if name not in heads]
    count = len(taken) + 1 + len(heads)
    if count > MOST_COLUMNS[ending]:
        raise OutputError(
            path,
            f"holds {MOST_COLUMNS[ending]:,} columns, and there would be {count:,}",
            "use .csv or .parquet, fewer periods with ‹during›, or .gpkg for up to 1,990",
        )
    own = {name: np.asarray(shapes.fields[name]) for name in taken}
    columns: dict[str, np.ndarray] = {"region": np.array(shapes.labels, object)} | {
        name: column for name, column in own.items() if name != "region"
    }
    columns |= {head: values[:, n] for n, head in enumerate(heads)}
    names = {name: name for name in columns}
    if ending == ".shp.zip":
        names = dict(short_names(list(columns), NAME_LENGTH))
    fields = {names[name]: column for name, column in columns.items()}
    about = {**companions.about, "columns": {names[head]: head for head in heads}}
    if ending == ".shp.zip":
        _zipped(path, companions.name or path.name, shapes, fields, about)
        return
    _write(path, shapes, fields, DRIVERS[ending], table.name)
    if ending == ".gpkg":
        _about_layer(path, about)
    else:
        _with_about(path, about)


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
        layer=layer if driver == "GPKG" else None,
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


def _with_about(path: Path, about: dict[str, Any]) -> None:
    """A further member of the collection, as GeoJSON allows."""
    text = path.read_text(encoding="utf-8")
    member = json.dumps(about, ensure_ascii=False)
    at = text.index('"features"')
    path.write_text(f'{text[:at]}"about": {member},\n{text[at:]}', encoding="utf-8")


def _zipped(
    path: Path, name: str, shapes: Shapes, fields: dict[str, np.ndarray], about: dict[str, Any]
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
            _put(out, "about.json", json.dumps(about, indent=1, ensure_ascii=False).encode())
        path.write_bytes(packed.getvalue())


def _put(out: zipfile.ZipFile, name: str, data: bytes) -> None:
    out.writestr(zipfile.ZipInfo(name, CLOCK), data, zipfile.ZIP_DEFLATED)


def recognises(path: Path) -> bool:
    """Vector files are regions."""
    return False


def about(path: Path) -> dict[str, Any] | None:
    """Not read back."""
    return None


def read(path: Path) -> Table:
    """Vector files hold values only, without what stands beside each in a table."""
    raise InputError(
        path,
        "holds regions with values, not a table with what stands beside each",
        "give the .csv, .xlsx, .parquet or .json of it",
    )
