"""The formats of grids, and how a file of each is recognised.

To add a format, write a module with a `GridFormat` named FORMAT and enter it in FORMATS. A module
is loaded when a file of its format is met.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path

from bavlo.errors import InputError, refused_by_system
from bavlo.files import check_regular
from bavlo.grids import urls
from bavlo.grids.source import GridFormat
from bavlo.held import content_of

HEAD = 16  # bytes by which files are recognised
HDF5 = b"\x89HDF\r\n\x1a\n"
DEFLATE, SHUFFLE, FLETCHER = 1, 2, 3  # HDF5's numbers of its filters
NETCDF = (b"CDF\x01", b"CDF\x02", b"CDF\x05", HDF5)
TIFF = (b"II*\x00", b"MM\x00*", b"II+\x00", b"MM\x00+")
GZIP, GRIB = b"\x1f\x8b", b"GRIB"
GRIB_ENDINGS = (".grb", ".grib", ".grb2", ".grib2", ".grb1", ".grib1")
ZARR_MARKS = (".zgroup", ".zmetadata", "zarr.json", ".zarray")
PACKED_RASTERS = (".tif.gz", ".tiff.gz", ".asc.gz")
NO_RASTERS = (".csv", ".txt", ".json", ".nc")
# Never let the raster library guess: vectors, databases and web services are not grids.
NOT_GRIDS = {
    "GPKG",
    "GRIB",
    "GeoJSON",
    "SQLite",
    "HTTP",
    "WMS",
    "WCS",
    "PDF",
    "netCDF",
    "HDF5",
    "HDF5Image",
    "Zarr",
    "PNG",
    "JPEG",
    "GIF",
    "BIGGIF",
    "VRT",
}


def _held(path: Path, head: bytes) -> bool:
    """What a call from Python holds, of which only grids are arrays or the bytes of files."""
    from bavlo.held import Array

    return isinstance(content_of(path), Array | bytes)


def _netcdf_at_url(path: Path, head: bytes) -> bool:
    """The URL of a NetCDF file."""
    return urls.url_of(path) is not None and head.startswith(NETCDF)


def _netcdf(path: Path, head: bytes) -> bool:
    return head.startswith(NETCDF)


def is_zarr(path: Path, head: bytes = b"") -> bool:
    """A folder, here or at a URL, with a mark of a store in it."""
    url = urls.url_of(path)
    if url is not None:
        return any(urls.exists(f"{url.rstrip('/')}/{mark}") for mark in ZARR_MARKS)
    return path.is_dir() and any((path / mark).exists() for mark in ZARR_MARKS)


def _grib(path: Path, head: bytes) -> bool:
    """By its first bytes, or by its ending where a bulletin's head comes first."""
    if head.startswith(GZIP):
        return Path(path.stem).suffix.lower() in GRIB_ENDINGS
    return head.startswith(GRIB) or (
        path.suffix.lower() in GRIB_ENDINGS and path.is_file() and not head.startswith(HDF5[:4])
    )


def _raster(path: Path, head: bytes) -> bool:
    """By its first bytes, else by what the raster library makes of it."""
    if head.startswith(TIFF) or head[:5].lower() == b"ncols":
        return True
    if head.startswith(GZIP):
        return path.name.lower().endswith(PACKED_RASTERS)
    if not head or not path.is_file() or path.suffix.lower() in NO_RASTERS:
        return False
    import rasterio
    from rasterio.errors import RasterioIOError

    try:
        with rasterio.open(path) as data:
            return data.driver not in NOT_GRIDS and data.count > 0
    except RasterioIOError:
        return False


@dataclass(frozen=True)
class FormatEntry:
    """A format of grids.

    Parameters
    ----------
    recognises
        Whether a file of this path, which begins with these bytes, is of the format.
    module
        Where its `GridFormat` is.
    """

    recognises: Callable[[Path, bytes], bool]
    module: str


# In this order a file is recognised.
FORMATS = (
    FormatEntry(_held, "bavlo.grids.formats.memory"),
    FormatEntry(_netcdf_at_url, "bavlo.grids.formats.remote"),
    FormatEntry(_netcdf, "bavlo.grids.formats.netcdf"),
    FormatEntry(is_zarr, "bavlo.grids.formats.zarr"),
    FormatEntry(_grib, "bavlo.grids.formats.grib"),
    FormatEntry(_raster, "bavlo.grids.formats.raster"),
)


def format_of(path: Path) -> GridFormat | None:
    """The format of a grid file, told by its content; None where it is none of them."""
    head = b""
    url = urls.url_of(path)
    if url is not None:
        head = urls.first_bytes(url)
    elif content_of(path) is None and not path.is_dir():
        check_regular(path)
        try:
            with path.open("rb") as file:
                head = file.read(HEAD)
        except OSError as error:
            raise refused_by_system(path, error) from error
    found = next((entry for entry in FORMATS if entry.recognises(path, head)), None)
    if found is None and url is not None and not head:
        raise InputError(url, "there is no such file", "check the address")
    if found is None:
        return None
    known: GridFormat = import_module(found.module).FORMAT
    return known
