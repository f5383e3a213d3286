"""Shapefiles that have lost the index of their shapes."""

from __future__ import annotations

import shutil
import tempfile
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from bavlo.errors import BavloWarning
from bavlo.regions.loading import vector_library

RESTORE = "SHAPE_RESTORE_SHX"  # has the library make the index anew, beside the file


def lacks_index(path: Path) -> bool:
    """Whether a file is a Shapefile without its `.shx`."""
    if path.suffix.lower() != ".shp" or not path.is_file():
        return False
    return not any(other.suffix.lower() == ".shx" for other in path.parent.glob(f"{path.stem}.*"))


@contextmanager
def with_index(path: Path) -> Iterator[Path]:
    """A Shapefile that has its index: itself, or a copy for which the library makes one.

    The folder of the user stays as it is.
    """
    if not lacks_index(path):
        yield path
        return
    warnings.warn(
        f"{path}: has no .shx beside it; its index is made anew", BavloWarning, stacklevel=3
    )
    options = vector_library()
    with tempfile.TemporaryDirectory(prefix="bavlo-shapes-") as folder:
        for other in path.parent.glob(f"{path.stem}.*"):
            shutil.copy(other, folder)
        options.set_gdal_config_options({RESTORE: "YES"})
        try:
            yield Path(folder) / path.name
        finally:
            options.set_gdal_config_options({RESTORE: None})
