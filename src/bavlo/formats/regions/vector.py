"""Vector files: whatever pyogrio reads (Shapefile, GeoJSON, GeoPackage, …)."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from bavlo.core.errors import InputError

ENDINGS = (".geojson", ".json", ".shp", ".zip", ".gpkg", ".kml", ".fgb", ".gml", ".parquet")


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
    """

    geometry: np.ndarray
    fields: dict[str, np.ndarray]
    crs: str
    driver: str
    layer: str


def layers(path: Path) -> list[str]:
    """Names of the layers of a file."""
    import pyogrio

    try:
        return [str(name) for name, kind in pyogrio.list_layers(path) if kind is not None]
    except pyogrio.errors.DataSourceError as error:
        raise _unreadable(path, error) from error


def read(path: Path, layer: str | None = None) -> Features:
    """Read one layer of a vector file.

    Parameters
    ----------
    layer
        Needed where the file has more than one.
    """
    import pyogrio
    import pyogrio.raw

    names = layers(path)
    if not names:
        raise InputError(path, "has no layer with geometry", "give a file of polygons")
    if layer is None and len(names) > 1:
        raise InputError(path, f"has several layers: {', '.join(names)}", "choose with --layer")
    if layer is not None and layer not in names:
        raise InputError(path, f"has no layer '{layer}'", f"it has: {', '.join(names)}")
    chosen = layer or names[0]
    try:
        info = pyogrio.read_info(path, layer=chosen)
        meta, _, wkb, columns = pyogrio.raw.read(path, layer=chosen, force_2d=True)
    except (pyogrio.errors.DataSourceError, pyogrio.errors.DataLayerError) as error:
        raise _unreadable(path, error) from error
    except (ValueError, RuntimeError, UnicodeDecodeError) as error:
        raise _unreadable(path, error) from error
    fields: dict[str, np.ndarray] = {
        str(name): np.asarray(column) for name, column in zip(meta["fields"], columns, strict=True)
    }
    geometry = shapely.from_wkb(wkb, on_invalid="fix") if wkb is not None else np.array([])
    return Features(np.asarray(geometry), fields, meta.get("crs") or "", info["driver"], chosen)


def write(path: Path, features: Features, geometry_type: str, **options: Any) -> None:
    """Write one layer; the driver and the reference system are those of the features."""
    import pyogrio.raw

    pyogrio.raw.write(
        path,
        shapely.to_wkb(features.geometry),
        list(features.fields.values()),
        list(features.fields),
        geometry_type=geometry_type,
        crs=features.crs,
        driver=features.driver,
        layer=features.layer or None,
        **options,
    )


def _unreadable(path: Path, error: Exception) -> InputError:
    reason = " ".join(str(error).split()).split("; It might help")[0]
    return InputError(path, f"cannot be read as regions ({reason})", "give a vector file")
