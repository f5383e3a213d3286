"""Grids: one variable on (time, y, x), from one or many files."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from pathlib import Path

from bavlo.core.values.kinds import NOT_TOLD, Variable, quantity
from bavlo.errors import BavloError, InputError, known_words
from bavlo.files import DAMAGE, unreadable
from bavlo.grids.formats import HDF5, format_of
from bavlo.grids.guards import FOLLOW, check_inside
from bavlo.grids.join import grouped, in_time, join
from bavlo.grids.source import GridFile, GridFormat, GridSource, ReadOptions
from bavlo.grids.tiles import mosaic
from bavlo.grids.urls import BY_URL, url_of
from bavlo.remembered import INDEXES, stamp_of

# Names of what stands beside a variable: numbers of observations, errors, flags.
ASIDE = re.compile(
    r"(?i)(stn|station|number of|n_?obs|count|error|uncert|quality|flag|mask|std|weight|\bqc)"
)
# How files begin that look like grids, or stand where one was meant, and are not read.
NOT_READ: tuple[tuple[tuple[bytes, ...], str, str], ...] = (
    ((b"<vrtdataset",), "is a VRT, which only names other files", "give those files themselves"),
    ((b"<!doctype html", b"<html"), "is a web page, as of a login or an error", "fetch it again"),
    ((b"\x0e\x03\x13\x01",), "is HDF4, which Bavlo does not read", "convert it to NetCDF first"),
    ((b"bufr",), "holds messages of stations (BUFR), no grid", "write them as a table first"),
    ((b"\x89png", b"\xff\xd8\xff", b"gif8", b"%pdf"), "is a picture, no grid", "give its data"),
    ((b"7z\xbc\xaf", b"rar!", b"\xfd7zxz", b"bzh"), "is packed", "unpack it first"),
)
LONGEST_HEAD = 64  # bytes, with blanks before what tells
# Ways in which a folder of files is told to be one grid without opening each of them.
MANY = 2


def open_grid(paths: Sequence[Path], options: ReadOptions = ReadOptions()) -> GridSource:  # noqa: B008
    """Open one grid in one or many files; one that was opened just now, and is as it was, at once.

    Parameters
    ----------
    paths
        In any order; files of one layout are joined in time, others are tiles.
    options
        What the user says about them.
    """
    if not all(url_of(path) is None and path.is_file() for path in paths):
        return _opened_anew(paths, options)  # their stamps would not tell of every change
    key = "grid", tuple(map(stamp_of, paths)), options
    found: GridSource = INDEXES.get(key, lambda: _opened_anew(paths, options))
    return found


def _opened_anew(paths: Sequence[Path], options: ReadOptions) -> GridSource:
    first_format = _format(paths[0])
    name = _choose(paths[0], first_format.variables(paths[0], options), options)
    first = first_format.open_file(paths[0], name, options)
    if first_format.named_by_file and len(paths) > MANY:
        from bavlo.grids.formats.raster import opened_by_names

        trusted = opened_by_names(paths, first, options)
        if trusted is not None:
            return join(trusted, options)
    _check_inside(paths[0])
    files: list[GridFile] = [first]
    named_by_files = first_format.named_by_file
    for path in paths[1:]:
        _check_inside(path)
        module = _format(path)
        named_by_files = named_by_files or module.named_by_file
        found = [v.name for v in module.variables(path, options)]
        # Rasters are named by their files, which may differ (a tile, a date).
        wanted = found[0] if module.named_by_file and len(found) == 1 else name
        if wanted not in found:
            raise InputError(
                path,
                f"has no variable '{name}' as {paths[0].name} has",
                f"it has: {', '.join(found) or 'none'}",
            )
        files.append(module.open_file(path, wanted, options))
    if named_by_files:
        from bavlo.grids.formats.raster import dated_by_names

        files = dated_by_names(files, options)
    if options.resample_tiles and len({file.layout.crs for file in files}) > 1:
        return mosaic([in_time(group, options) for group in grouped(files)])
    return join(files, options)


def _check_inside(path: Path) -> None:
    """Refuse HDF5 files that reach into others, where that is not allowed on this machine."""
    if os.environ.get(FOLLOW) == "1" or url_of(path) is not None or not path.is_file():
        return
    with path.open("rb") as file:
        is_hdf5 = file.read(8) == HDF5
    if is_hdf5:
        try:
            check_inside(path)
        except DAMAGE as error:
            raise unreadable(path, error) from error


def _format(path: Path) -> GridFormat:
    found = format_of(path)
    if found is None and url_of(path) is not None:
        raise InputError(
            url_of(path), "is no grid that Bavlo reads by URL", f"give {BY_URL}, or fetch it first"
        )
    if found is None:
        raise InputError(path, *why_unread(path))
    return found


def why_unread(path: Path) -> tuple[str, str]:
    """What a file is that no format reads, and what can be done with it."""
    with path.open("rb") as file:
        head = file.read(LONGEST_HEAD).lstrip().lower()
    for beginnings, what, remedy in NOT_READ:
        if head.startswith(beginnings):
            return what, remedy
    if not head:
        return "is empty", "fetch it again"
    return (
        "is no grid that Bavlo reads",
        "give NetCDF, GeoTIFF, ASCII grid, Zarr or GRIB; tables of values go with compare, "
        "normals, anomalies and trends",
    )


def _choose(path: Path, found: Sequence[Variable], options: ReadOptions) -> str:
    """The variable that is meant: as chosen, as the grid is called, or the only one."""
    names, wanted = [v.name for v in found], options.variable
    if wanted is None and len(names) == 1:
        return names[0]
    if wanted is None and options.called in names:
        return str(options.called)
    if wanted is None:
        listed = "; ".join(_in_words(variable) for variable in found)
        raise InputError(
            path,
            f"holds several variables: {listed}",
            f"choose one, as ‹variable {_likely(found)}›",
        )
    if wanted not in names:
        raise InputError(path, f"has no variable '{wanted}'", known_words(wanted, names))
    return wanted


def _in_words(variable: Variable) -> str:
    """Name, long name, unit and kind of a variable: `pre (mm/month, rate)`."""
    try:
        kind = quantity(variable, "").kind
    except BavloError:  # a unit that cannot be read leaves it open
        kind = NOT_TOLD
    title = f"“{variable.long_name}”, " if variable.long_name else ""
    return f"{variable.name} ({title}{variable.unit or 'no unit'}, {kind})"


def _likely(found: Sequence[Variable]) -> str:
    """The variable that is most likely meant: the first that is no count, error or flag."""
    aside = [v for v in found if not ASIDE.search(f"{v.name} {v.long_name}") and v.unit]
    return (aside or list(found))[0].name
