"""NetCDF files by URL (https, s3, …), of which only the needed byte ranges are fetched."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from bavlo.files import DAMAGE
from bavlo.grids import cf, cf_format, remote_classic
from bavlo.grids.classic import is_classic
from bavlo.grids.container import Container, Stored
from bavlo.grids.hdf5 import variable
from bavlo.grids.urls import first_bytes, hdf5, url_of


@contextmanager
def container(path: Path) -> Iterator[Container]:
    """The variables of a file."""
    url = url_of(path)
    if url is not None and is_classic(first_bytes(url)):
        try:
            yield remote_classic.container(url)
        except DAMAGE as error:
            raise cf.unreadable(path, error) from error
        return
    with hdf5(path) as file:
        found: dict[str, Stored] = {}

        def note(name: str, item: Any) -> None:
            import h5py

            if isinstance(item, h5py.Dataset):
                found.update(variable(name, item, by_chunks=True))

        file.visititems(note)
        yield Container(found)


FORMAT = cf_format.ContainerFormat(container)
