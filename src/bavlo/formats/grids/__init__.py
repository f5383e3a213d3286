"""Grids: one variable on (time, y, x), from one or many files.

To add a format, write a module with `recognises`, `variables` and `open_file` and name it in
FORMATS.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path
from types import ModuleType

import numpy as np

from bavlo.core.errors import InputError
from bavlo.core.steps import time_axis
from bavlo.core.timeaxis import TimeAxis, iso_day
from bavlo.formats.grids import netcdf
from bavlo.formats.grids.source import GridFile, GridSource, RawTimes

FORMATS: tuple[ModuleType, ...] = (netcdf,)


def format_of(path: Path) -> ModuleType | None:
    """The format of a grid file, told by its content; None where it is none of them."""
    try:
        with path.open("rb") as file:
            head = file.read(16)
    except IsADirectoryError:
        head = b""
    except OSError as error:
        raise InputError(path, f"cannot be opened ({error.strerror})") from error
    return next((f for f in FORMATS if f.recognises(path, head)), None)


def open_grid(
    paths: Sequence[Path], variable: str | None = None, stamp: str | None = None
) -> GridSource:
    """Open one grid in one or many files.

    Parameters
    ----------
    variable
        Needed where the files have more than one.
    stamp
        What time stamps mark (start, middle, end), where the file leaves it open.
    """
    formats = []
    for path in paths:
        found = format_of(path)
        if found is None:
            raise InputError(path, "is no grid that Bavlo reads", "give a NetCDF file")
        formats.append(found)
    name = _choose(paths[0], formats[0].variables(paths[0]), variable)
    files = [f.open_file(path, name) for f, path in zip(formats, paths, strict=True)]
    first = files[0]
    for file in files[1:]:
        if not first.layout.same_cells(file.layout):
            raise InputError(
                file.path,
                f"has other cells than {first.path.name}",
                "give files of one grid only",
            )
        if file.variable.unit != first.variable.unit:
            raise InputError(
                file.path,
                f"has the unit '{file.variable.unit}', {first.path.name} '{first.variable.unit}'",
                "give files of one grid only",
            )
        if (file.times is None) != (first.times is None):
            raise InputError(file.path, f"has no time axis as {first.path.name} has, or one more")
    notes = tuple(dict.fromkeys(note for file in files for note in file.notes))
    if first.times is None:
        if len(files) > 1:
            raise InputError(files[1].path, "has no time axis to join it by", "give one file")
        none = np.zeros(1, np.int64)
        return GridSource((first,), first.layout, first.variable, None, none, none, notes)
    return _joined(files, notes, stamp)


def _choose(path: Path, found: Iterable[object], wanted: str | None) -> str:
    names = [v.name for v in found]  # type: ignore[attr-defined]
    if not names:
        raise InputError(
            path,
            "holds no variable on rows and columns with coordinates",
            "look at it with `bavlo describe`",
        )
    if wanted is None and len(names) == 1:
        return str(names[0])
    if wanted is None:
        raise InputError(
            path, f"holds several variables: {', '.join(names)}", "choose one with --variable"
        )
    if wanted not in names:
        raise InputError(path, f"has no variable '{wanted}'", f"it has: {', '.join(names)}")
    return wanted


def _joined(files: list[GridFile], notes: tuple[str, ...], stamp: str | None) -> GridSource:
    """Files in order of time as one grid."""
    times = [f.times for f in files if f.times is not None]
    calendars = {t.calendar for t in times}
    if len(calendars) > 1:
        raise InputError(
            files[1].path, f"another calendar than before: {' and '.join(sorted(calendars))}"
        )
    if not all(t.stamps.size for t in times):
        empty = next(f for f in files if f.times is not None and not f.times.stamps.size)
        raise InputError(empty.path, "has a time axis without steps", "leave it out")
    stamps = np.concatenate([t.stamps for t in times])
    file_of = np.repeat(np.arange(len(files)), [t.stamps.size for t in times])
    step_in = np.concatenate([np.arange(t.stamps.size) for t in times])
    order = np.argsort(stamps, kind="stable")
    twice = np.flatnonzero(np.diff(stamps[order]) == 0)
    if twice.size:
        a, b = (files[file_of[order[twice[0] + n]]].path for n in (0, 1))
        day = iso_day(int(stamps[order[twice[0]]]), times[0].calendar)
        what = f"has the step {day} twice" if a == b else f"has the step {day}, as {a.name} has"
        raise InputError(b, what, "leave one of them out")
    bounds = None
    if all(t.bounds is not None for t in times):
        bounds = np.concatenate([t.bounds for t in times if t.bounds is not None])[order]
    raw = RawTimes(stamps[order], bounds, times[0].calendar)
    axis: TimeAxis = time_axis(raw.stamps, raw.bounds, raw.calendar, stamp)
    first = files[0]
    return GridSource(
        tuple(files), first.layout, first.variable, axis, file_of[order], step_in[order], notes
    )
