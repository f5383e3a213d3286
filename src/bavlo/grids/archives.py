"""Zip and tar archives of grids, unpacked into a folder that is gone when the program ends."""

from __future__ import annotations

import atexit
import gzip
import os
import shutil
import tarfile
import tempfile
import zipfile
from collections.abc import Callable
from pathlib import Path, PurePath

from bavlo.errors import SHOWN_AS, InputError, public
from bavlo.files import DAMAGE, unreadable
from bavlo.remembered import Stamp, stamp_of

# Files that are packed one by one; packed rasters are read as they are.
PACKED = (".nc.gz", ".nc4.gz", ".grb.gz", ".grib.gz", ".grb2.gz", ".grib2.gz")
TAR = (".tar", ".tar.gz", ".tgz", ".tar.bz2", ".tbz2", ".tar.xz", ".txz")
OF_REGIONS = (".shp", ".gpkg", ".geojson", ".kml", ".gml", ".fgb")  # what zipped regions hold

_unpacked: dict[Stamp, Path] = {}  # folders by the archive


def is_archive(path: Path) -> bool:
    """Whether a file is an archive by its name, and not one of regions."""
    name = path.name.lower()
    if not name.endswith((".zip", *TAR, *PACKED)) or not path.is_file():
        return False
    if not name.endswith(".zip"):
        return True
    try:
        with zipfile.ZipFile(path) as archive:
            names = archive.namelist()
    except DAMAGE as error:
        raise unreadable(path, error) from error
    return not any(each.lower().endswith(OF_REGIONS) or ".gdb/" in each.lower() for each in names)


def unpacked(path: Path) -> Path:
    """The folder with what an archive holds; in what is said it has the name of the archive.

    Raises
    ------
    InputError
        Where it is damaged or encrypted, leads out of its folder, or there is no room for it.
    """
    stamp = stamp_of(path)
    if stamp not in _unpacked:
        folder = Path(tempfile.mkdtemp(prefix="bavlo-"))
        atexit.register(shutil.rmtree, folder, ignore_errors=True)
        (folder / path.name).mkdir()
        try:
            if path.name.lower().endswith(".zip"):
                _unpack_zip(path, folder / path.name)
            elif path.name.lower().endswith(PACKED):
                with gzip.open(path) as packed, (folder / path.name / path.stem).open("wb") as out:
                    shutil.copyfileobj(packed, out)
            else:
                _unpack_tar(path, folder / path.name)
        except (tarfile.TarError, *DAMAGE) as error:
            raise _refused(path, error) from error
        when = path.stat().st_mtime_ns  # so that the same archive gives the same files
        for each in folder.rglob("*"):
            os.utime(each, ns=(when, when))
        parent = "" if path.parent == Path() else public(f"{path.parent}{os.sep}")
        SHOWN_AS[f"{folder}{os.sep}"] = parent
        _unpacked[stamp] = folder / path.name
    return _unpacked[stamp]


def within(path: Path) -> Path | None:
    """The file that a path through an archive leads to, `rain.zip/2013.nc`; None for others."""
    archive = next((parent for parent in path.parents if is_archive(parent)), None)
    if archive is None:
        return None
    found = unpacked(archive) / path.relative_to(archive)
    return found if found.exists() else within(found)


def is_there(path: Path) -> bool:
    """Whether there is such a file, or an archive that it would be in."""
    return path.exists() or any(map(is_archive, path.parents))


def archive_of(path: Path) -> Path | None:
    """The archive that a file was unpacked from; None for any other file."""
    found = (Path(stamp[0]) for stamp, folder in _unpacked.items() if path.is_relative_to(folder))
    return next(found, None)


def _unpack_zip(path: Path, folder: Path) -> None:
    with zipfile.ZipFile(path) as archive:
        _check_room(path, sum(each.file_size for each in archive.infolist()), folder)
        archive.extractall(folder)  # which never leaves its folder


def _unpack_tar(path: Path, folder: Path) -> None:
    with tarfile.open(path) as archive:
        _check_room(path, sum(each.size for each in archive), folder)
        archive.extractall(folder, filter="data")


def _check_room(path: Path, size: int, folder: Path) -> None:
    free = shutil.disk_usage(folder.parent).free
    if size > free:
        raise InputError(
            path,
            f"unpacks to {size / 2**30:.1f} GB, and {folder.parent.parent} has "
            f"{free / 2**30:.1f} GB free",
            "unpack it yourself, or set TMPDIR to a folder with more room",
        )


def _refused(path: Path, error: Exception) -> InputError:
    if isinstance(error, tarfile.FilterError):
        return InputError(path, f"leads out of its folder ({error})", "unpack it with care")
    if isinstance(error, RuntimeError) and "encrypted" in str(error):
        return InputError(path, "is encrypted", "unpack it first")
    return unreadable(path, error)


# What stands beside grids and is none: notes, checksums, pictures, and what belongs to others.
BESIDE = frozenset(
    """.txt .md .rst .pdf .html .htm .xml .log .ini .db .url .lnk .docx .md5 .sha1 .sha256 .idx .inv
    .ctl .ovr .msk .aux .rrd .hdr .prj .wld .tfw .tifw .jgw .pgw .qml .sld .lyr .clr .vrt .png .jpg
    .jpeg .gif .dbf .shx .sbn .sbx .qix .cpg .bak .lock""".split()
)
UNFINISHED = (".part", ".tmp", ".crdownload", ".filepart")  # downloads
BESIDE_NAMES = frozenset(("readme", "license", "changelog", "md5sums", "sha256sums", "checksums"))


def files_below(folder: Path, is_store: Callable[[Path], bool]) -> list[Path]:
    """The files of a folder and those within it, by name; stores are folders that count as files.

    Hidden ones are left out, and folders that a link leads back to.
    """

    def below(inner: Path, outer: tuple[Path, ...]) -> list[Path]:
        if is_store(inner):
            return [inner]
        found: list[Path] = []
        for each in sorted(inner.iterdir()):
            if each.name.startswith((".", "~$", "__MACOSX")) or each.resolve() in outer:
                continue
            found += below(each, (*outer, each.resolve())) if each.is_dir() else [each]
        return found

    return below(folder, (folder.resolve(),))


def stands_beside(path: PurePath) -> bool:
    """Whether the name of a file says that it goes with others; its content may say otherwise."""
    return path.suffix.lower() in BESIDE or path.name.lower() in BESIDE_NAMES


def is_unfinished(path: PurePath) -> bool:
    """Whether the name of a file says that it is not whole yet, whatever its content is."""
    return path.suffix.lower() in UNFINISHED
