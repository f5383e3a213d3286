"""Files of shapes: whatever pyogrio reads, GeoParquet, and tables with shapes or coordinates.

A table is read row by row in `listed`.
"""

from __future__ import annotations

import contextlib
import json
import time
import warnings
import zipfile
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import quote

import numpy as np
import shapely

from bavlo.core.space.regions import LONLAT
from bavlo.errors import BavloWarning, InputError, known_words
from bavlo.files import DAMAGE, check_regular
from bavlo.held import FeatureList, content_of
from bavlo.regions.listed import has_places, read_listed
from bavlo.regions.loading import vector_library
from bavlo.regions.shapefile import lacks_index, with_index
from bavlo.regions.text_encoding import doubt_of
from bavlo.sheets import arrow_table, columns_of, read_sheets


@dataclass(frozen=True, eq=False)
class Features:
    """The features of one layer, as they are in the file.

    Parameters
    ----------
    geometry : (N,) object array
        Shapely geometries; None where the file has none.
    fields
        Attribute columns by name.
    crs
        Reference system, or empty where the file does not say.
    driver
        What kind of file it is.
    layer
        Name of the layer.
    notes
        What was mended in reading.
    """

    geometry: np.ndarray
    fields: dict[str, np.ndarray]
    crs: str
    driver: str
    layer: str
    notes: tuple[str, ...] = ()


ARROW = (".parquet", ".geoparquet", ".feather", ".arrow")
TEXTS = (".csv", ".tsv", ".txt", ".dat")
ROWS = (*TEXTS, ".xlsx", ".xlsm", *ARROW)  # tables, of which each row is a region
ENDINGS = (
    ".geojson", ".json", ".topojson", ".shp", ".zip", ".shz", ".gpkg", ".gdb", ".kml", ".kmz",
    ".fgb", ".gml", ".csv", ".tsv", ".xlsx", ".xlsm", *ARROW,
)  # fmt: skip
POINTER, HEAD = b"<OGRVRTDataSource", 4096  # how a file begins that is a virtual layer
SHAPEFILE = "Shapefile"
LONGEST_QUERY, STEPS_OF_QUERY = 20, 100_000  # seconds, and steps after which these are looked at
LARGEST_LISTED = 2**25  # bytes of a GeoJSON file whose features are counted
LARGE, MOST_GROWTH = 2**27, 200  # bytes of a member, and of one byte that is stored
PACKED = (".shp", ".gpkg", ".geojson", ".topojson", ".fgb", ".kml", ".gml")  # within a zip


def layers(path: Path) -> list[str]:
    """Names of the layers with geometry; one for files that have no layers."""
    if path.suffix.lower() in ROWS and not path.is_dir():
        sheets = read_sheets(path) if path.suffix.lower() in (".xlsx", ".xlsm") else ()
        return [sheet.name for sheet in sheets if has_places(sheet)] or [path.stem]
    check_regular(path)
    if not path.is_dir():  # as file geodatabases and folders of Shapefiles are
        with path.open("rb") as file:
            if POINTER in file.read(HEAD):
                raise InputError(path, "only points to other files", "give those")
        _check_zip(path)
    packed = packed_files(path)
    if packed or lacks_index(path):
        return list(packed) or [path.stem]
    pyogrio = vector_library()
    try:
        return [str(name) for name, kind in pyogrio.list_layers(path) if kind is not None]
    except (pyogrio.errors.DataSourceError, RuntimeError, ValueError) as error:
        raise _unreadable(path, error) from error


def packed_files(path: Path) -> dict[str, str]:
    """Files of shapes within a zip that lie in folders, as the library reads them, by layer name.

    None where the library finds them by itself.
    """
    if path.suffix.lower() not in (".zip", ".shz") or path.is_dir():
        return {}
    with zipfile.ZipFile(path) as packed:
        names = [n for n in packed.namelist() if n.lower().endswith(PACKED)]
    inside = [n for n in names if not n.startswith(("__MACOSX", ".")) and "/." not in n]
    if not any("/" in name for name in inside):
        return {}
    return {Path(name).stem: f"/vsizip/{path.resolve()}/{name}" for name in inside}


def _check_directory(path: Path, packed: zipfile.ZipFile) -> None:
    """Refuse an archive whose members grow beyond all measure, before any is unpacked."""
    for member in packed.infolist():
        grows = member.file_size > MOST_GROWTH * max(member.compress_size, 1)
        if grows and member.file_size > LARGE:
            raise InputError(
                path,
                f"holds {member.filename}, which would grow from {member.compress_size / 1e6:.0f} "
                f"to {member.file_size / 1e6:.0f} MB",
                "unpack it first, if that is what it should hold",
            )


def _check_zip(path: Path) -> None:
    """The vector library does not look at the checksums of a zipped file, so they are checked."""
    if path.suffix.lower() not in (".zip", ".shz", ".kmz"):
        return
    try:
        with zipfile.ZipFile(path) as packed:
            _check_directory(path, packed)
            bad = packed.testzip()
    except DAMAGE as error:
        raise _unreadable(path, error) from error
    if bad is not None:
        raise InputError(path, f"{bad} in it is damaged", "fetch the file again")


def _of_features(features: Sequence[Mapping[str, Any]]) -> Features:
    """Features in memory; a field that some lack is missing there."""
    geometry = np.full(len(features), None)
    for n, feature in enumerate(features):
        if feature.get("geometry") is not None:
            geometry[n] = shapely.geometry.shape(feature["geometry"])
    rows = [feature.get("properties") or {} for feature in features]
    fields = {}
    for name in dict.fromkeys(key for row in rows for key in row):
        values = [row.get(name) for row in rows]
        is_number = all(isinstance(v, int | float) and not isinstance(v, bool) for v in values)
        fields[str(name)] = np.array(values, None if is_number else object)
    return Features(geometry, fields, LONLAT, "GeoJSON", "features")


def read(path: Path, layer: str | None = None, encoding: str | None = None) -> Features:
    """Read one layer.

    Parameters
    ----------
    layer
        Needed where the file has more than one.
    encoding
        Of its text, where the file does not tell it or tells a wrong one.
    """
    held = content_of(path)
    if isinstance(held, FeatureList):
        return _of_features(held.features)
    names = layers(path)
    if not names:
        raise InputError(path, "has no layer with geometry", "give a file of polygons")
    if layer is None and len(names) > 1:
        raise InputError(path, f"has several layers: {', '.join(names)}", "choose with ‹layer›")
    if layer is not None and layer not in names:
        raise InputError(path, f"has no layer '{layer}'", known_words(layer, names))
    if path.suffix.lower() in ROWS and not path.is_dir():
        found = _by_rows(path, layer, encoding)
    else:
        with with_index(path) as whole:
            found = _by_pyogrio(whole, layer or names[0], encoding)
    listed = _listed_features(path)
    if listed is not None and len(found.geometry) < listed:
        raise InputError(
            path,
            f"lists {listed} features, of which only {len(found.geometry)} are any",
            "mend the others, or take them out",
        )
    return found


def _listed_features(path: Path) -> int | None:
    """How many features a GeoJSON collection lists, whatever they are; None of other files.

    The vector library leaves out without a word what is no feature.
    """
    if path.is_dir() or path.suffix.lower() not in (".geojson", ".json"):
        return None
    check_regular(path)
    try:
        if path.stat().st_size > LARGEST_LISTED:
            return None
        import orjson

        found = orjson.loads(path.read_bytes())
    except (OSError, ValueError):
        return None
    listed = found.get("features") if isinstance(found, dict) else None
    return len(listed) if isinstance(listed, list) else None


def _check_view(path: Path, layer: str, longest: float = LONGEST_QUERY) -> None:
    """Refuse a layer of a database that is a query without end.

    The library would go on with it, and hear of no interrupt meanwhile.
    """
    if path.suffix.lower() not in (".gpkg", ".sqlite") or path.is_dir():
        return
    import sqlite3

    end = time.monotonic() + longest
    try:
        with contextlib.closing(
            sqlite3.connect(f"file:{quote(str(path))}?mode=ro", uri=True)
        ) as db:
            db.set_progress_handler(lambda: time.monotonic() > end, STEPS_OF_QUERY)
            kind = "SELECT 1 FROM sqlite_master WHERE type = 'view' AND name = ?"
            if db.execute(kind, (layer,)).fetchone() is not None:
                name = layer.replace('"', '""')
                db.execute(f'SELECT count(*) FROM "{name}"').fetchone()
    except sqlite3.OperationalError as error:
        if "interrupted" in str(error):
            raise InputError(
                path,
                f"its layer {layer} is a query that takes longer than {longest} s",
                "write its result as a table",
            ) from error
    except sqlite3.Error:
        return  # the library says better what is wrong with the file


def _by_pyogrio(path: Path, layer: str, encoding: str | None) -> Features:
    pyogrio = vector_library()
    _check_view(path, layer)
    packed = packed_files(path) if path.suffix.lower() in (".zip", ".shz") else {}
    file, inner = (packed[layer], None) if layer in packed else (path, layer)
    try:
        info = pyogrio.read_info(file, layer=inner)
        doubt = ""
        if info["driver"] == _shapefile_driver() and encoding is None:
            place = path / f"{layer}.shp" if path.is_dir() else path
            encoding, doubt = doubt_of(place)
        if doubt:
            warnings.warn(f"{path}: {doubt}", BavloWarning, stacklevel=2)
        with warnings.catch_warnings(record=True) as said:
            warnings.simplefilter("always")
            meta, _, wkb, columns = pyogrio.raw.read(
                file, layer=inner, force_2d=True, encoding=encoding
            )
        with np.errstate(invalid="ignore"):  # places that are none are refused by name later
            geometry = shapely.from_wkb(wkb, on_invalid="fix") if wkb is not None else np.array([])
    except (
        pyogrio.errors.DataSourceError,
        pyogrio.errors.DataLayerError,
        shapely.errors.ShapelyError,
        NameError,  # the library's own, where it finds no text of a reference system
        RuntimeError,
        ValueError,
    ) as error:
        raise _unreadable(path, error) from error
    fields = {
        str(name): np.asarray(column) for name, column in zip(meta["fields"], columns, strict=True)
    }
    # The library tells of what it mended by itself, such as rings that were not closed.
    notes = dict.fromkeys(str(w.message).split(". To ")[0].lower() for w in said)
    driver = SHAPEFILE if info["driver"] == _shapefile_driver() else info["driver"]
    crs = meta.get("crs") or (LONLAT if driver == "TopoJSON" else "")  # fixed by its format
    return Features(np.asarray(geometry), fields, crs, driver, layer, tuple(notes))


def _by_geoarrow(path: Path) -> Features | None:
    """GeoParquet 1.0 and 1.1, and Feather alike: WKB in the primary column, system as PROJJSON.

    None where the file has no such metadata.
    """
    try:
        table = arrow_table(path)
        told = (table.schema.metadata or {}).get(b"geo")
        if told is None:
            return None
        about = json.loads(told)
        column = about["primary_column"]
        crs = about["columns"][column].get("crs", LONLAT)
        encoded = table.column(column).to_pylist()
        geometry = shapely.force_2d(shapely.from_wkb(encoded, on_invalid="fix"))
        fields = {name: values for name, values in columns_of(table).items() if name != column}
    except (KeyError, TypeError, AttributeError, json.JSONDecodeError):
        raise InputError(
            path, "its geo metadata is not that of GeoParquet", "write it anew"
        ) from None
    except InputError:
        raise
    except (*DAMAGE, shapely.errors.ShapelyError) as error:
        raise _unreadable(path, error) from error
    return Features(
        np.asarray(geometry, object),
        fields,
        json.dumps(crs) if isinstance(crs, dict) else (crs or ""),
        "GeoParquet",
        path.stem,
    )


def _by_rows(path: Path, layer: str | None, encoding: str | None) -> Features:
    """A table with shapes or coordinates; also a Parquet or Feather file of them."""
    if path.suffix.lower() in ARROW and (found := _by_geoarrow(path)) is not None:
        return found
    if path.suffix.lower() in TEXTS and not _ends_with_a_line(path):
        warnings.warn(
            f"{path}: its last line does not end; see that the file is whole",
            BavloWarning,
            stacklevel=2,
        )
    geometry, fields, crs = read_listed(path, layer, encoding)
    return Features(geometry, fields, crs, path.suffix[1:].upper(), layer or path.stem)


def _ends_with_a_line(path: Path) -> bool:
    with path.open("rb") as file:
        size = file.seek(0, 2)
        file.seek(max(0, size - 2))
        return file.read()[-1:] in (b"\n", b"\r", b"", b"\0")


def write(path: Path, features: Features, geometry_type: str, **options: Any) -> None:
    """Write one layer; the driver and the reference system are those of the features."""
    pyogrio = vector_library()
    driver = _shapefile_driver() if features.driver == SHAPEFILE else features.driver
    pyogrio.raw.write(
        path,
        shapely.to_wkb(features.geometry),
        list(features.fields.values()),
        list(features.fields),
        geometry_type=geometry_type,
        crs=features.crs,
        driver=driver,
        layer=features.layer or None,
        **options,
    )


def _shapefile_driver() -> str:
    """What the library calls its Shapefile driver."""
    return str(vector_library().detect_write_driver("regions.shp"))


def _unreadable(path: Path, error: Exception) -> InputError:
    if isinstance(error, UnicodeEncodeError):
        return InputError(path, "its name is not UTF-8", "rename it, or make a link to it")
    reason = " ".join(str(error).split()).split("; It might help")[0]
    if isinstance(error, NameError) or "missing , or ]" in reason or "CRS" in reason:
        beside = path.with_suffix(".prj")
        where = f"{beside.name} beside it" if beside.exists() else "its reference system"
        return InputError(path, f"{where} cannot be read ({reason})", "repair or remove that")
    return InputError(path, f"cannot be read as regions ({reason})", "give a vector file")
