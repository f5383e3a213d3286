"""Output files: all of them whole, or none."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING

from bavlo.errors import OutputError

if TYPE_CHECKING:
    from pathlib import Path


def check_outputs(paths: Sequence[Path], *, replace: bool) -> None:
    """Refuse outputs that cannot be written, before any work is done."""
    for path in paths:
        if path.is_dir():
            raise OutputError(path, "is a folder", "name a file")
        if not path.parent.is_dir():
            raise OutputError(path, f"there is no folder {path.parent}", "make it first")
        if not os.access(path.parent, os.W_OK):
            raise OutputError(path, f"the folder {path.parent} cannot be written to")
        if path.exists() and not replace:
            raise OutputError(path, "exists already", "use another name, or ‹replace›")
    twice = {path for path in paths if list(paths).count(path) > 1}
    if twice:
        raise OutputError(twice.pop(), "is named twice", "name each output once")


@contextmanager
def whole_files(paths: Sequence[Path]) -> Iterator[dict[Path, Path]]:
    """Where to write each output; they get their names together once all are written.

    An error or an interrupt leaves nothing behind, and files that were there as they were.
    """
    drafts = {path: path.with_name(f".{os.getpid()}.part.{path.name}") for path in paths}
    try:
        yield drafts
        for path, draft in drafts.items():
            os.replace(draft, path)
    except OSError as error:
        raise OutputError(
            error.filename or paths[0],
            f"cannot be written ({error.strerror})",
            "check the disk and its permissions",
        ) from error
    finally:
        for draft in drafts.values():
            draft.unlink(missing_ok=True)
