"""HDF5 files that keep their values in other files: external links, raw storage, virtual datasets.

Such a file can show what lies anywhere on the machine, so only its own folder is followed unasked.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from bavlo.errors import InputError


def check_inside(path: Path) -> None:
    """Refuse a file that reaches beyond its own folder.

    Raises
    ------
    InputError
        Which names the other file.
    """
    import h5py

    with h5py.File(path, "r", locking=False) as data:
        for other in _reached(data.id):
            if not _is_inside(path, other):
                raise InputError(
                    path,
                    f"keeps values in another file, {other}",
                    "use ‹follow› if that is meant",
                )


def _is_inside(path: Path, other: str) -> bool:
    folder = path.resolve().parent
    target = Path(os.path.join(folder, other)).resolve()
    return other == "." or folder == target.parent or folder in target.parents


def _reached(group: Any) -> Iterator[str]:
    """Names of the other files that a group and all in it reach into."""
    from h5py import h5d, h5l, h5o

    for name in group:
        link = group.links.get_info(name)
        if link.type == h5l.TYPE_EXTERNAL:
            yield os.fsdecode(group.links.get_val(name)[0])
        if link.type != h5l.TYPE_HARD:
            continue
        found = h5o.open(group, name)
        if isinstance(found, h5d.DatasetID):
            yield from _files_of(found)
        elif hasattr(found, "links"):
            yield from _reached(found)


def _files_of(dataset: Any) -> Iterator[str]:
    """Names of the files that a dataset keeps its values in, where they are others."""
    from h5py import h5d

    stored = dataset.get_create_plist()
    for n in range(stored.get_external_count()):
        yield os.fsdecode(stored.get_external(n)[0])
    if stored.get_layout() == h5d.VIRTUAL:
        for n in range(stored.get_virtual_count()):
            yield stored.get_virtual_filename(n)
