"""Many files as one grid: joined in time, and in space where they are tiles."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, cast

import numpy as np

from bavlo.core.time.axis import SECOND, TimeAxis, iso_day, iso_minute
from bavlo.core.time.steps import BOUNDS_IN_FILE, overlapping, time_axis
from bavlo.core.values.kinds import ACCUMULATED, AMOUNT, quantity
from bavlo.core.values.units import same_unit
from bavlo.errors import InputError
from bavlo.grids.cells import whole
from bavlo.grids.reordered import in_order_of
from bavlo.grids.source import GridFile, GridSource, JoinedGrid, RawTimes, ReadOptions
from bavlo.grids.tiles import check_tiles, tiled


def join(files: Sequence[GridFile], options: ReadOptions) -> GridSource:
    """Files as one grid.

    Parameters
    ----------
    files
        In the order given; each set of cells among them is a tile.
    """
    first = files[0]
    for file in files[1:]:
        units = file.variable.unit, first.variable.unit
        if options.input_unit is None and not same_unit(*units):
            raise InputError(
                file.path,
                f"has the unit '{units[0]}', {first.path.name} '{units[1]}'",
                "give files of one grid, or the unit of all of them with ‹input_unit›",
            )
        if (file.times is None) != (first.times is None):
            more = "no time axis, which" if file.times is None else "a time axis, as opposed to"
            raise InputError(
                file.path, f"has {more} {first.path.name} has", "give files of one grid only"
            )
    groups = grouped(files)
    if len(groups) == 1:
        return in_time(groups[0], options)
    check_tiles(groups)
    return tiled([in_time(group, options) for group in groups])


def grouped(files: Sequence[GridFile]) -> list[list[GridFile]]:
    """Files with the same cells together, in the order given; cells in that of the first."""
    groups: list[list[GridFile]] = []
    for file in files:
        for group in groups:
            if file.layout is group[0].layout or group[0].layout.same_cells(file.layout):
                group.append(file)
                break
            reordered = in_order_of(file, group[0].layout)
            if reordered is not None:
                group.append(reordered)
                break
        else:
            groups.append([file])
    return groups


def in_time(files: list[GridFile], options: ReadOptions) -> JoinedGrid:
    """Files with the same cells, in order of time."""
    if len(files) > 1 and files[0].times is None:
        files = [_at_its_moment(file) for file in files]
    first = files[0]
    variable = first.variable
    if options.input_unit is not None:
        variable = replace(variable, unit=options.input_unit)
    if options.kind is not None:
        variable = replace(variable, kind=options.kind, kind_evidence="the request")
    notes = tuple(dict.fromkeys(note for file in files for note in file.notes))
    settings = (*options.scale, options.missing == ())
    if first.times is None:
        if len(files) > 1:
            raise InputError(
                files[1].path,
                f"has neither a time axis nor a date in its name, and the cells of {first.path}",
                "give one file, or say where dates stand with ‹dates rain_%Y%m%d›, in folders with "
                "‹dates %Y/%m/rain_%d›",
            )
        none = np.zeros(1, np.int64)
        return JoinedGrid((first,), first.layout, variable, None, none, none, notes, *settings)
    is_total = quantity(variable, first.path).kind == AMOUNT
    axis, file_of, step_in = _steps_in_order(files, options, is_total=is_total)
    kept = tuple(files), first.layout, variable
    return JoinedGrid(*kept, axis, file_of, step_in, notes, *settings)


def _at_its_moment(file: GridFile) -> GridFile:
    """A file without a time axis as the one step that a scalar coordinate of it tells."""
    moment = getattr(file, "moment", None)
    return file if moment is None else replace(cast(Any, file), times=moment)


def _steps_in_order(
    files: list[GridFile], options: ReadOptions, *, is_total: bool
) -> tuple[TimeAxis, np.ndarray, np.ndarray]:
    """The time axis of files that have one each; (T,) the file of each step, and its place there.

    Parameters
    ----------
    is_total
        Values are amounts, which are those up to their stamps where steps are shorter than a day.

    Raises
    ------
    InputError
        Where they have no common calendar, a file has no steps, or steps overlap.
    """
    times = [f.times for f in files if f.times is not None]
    _check_times(files, times)
    counts = [t.stamps.size for t in times]
    stamps = np.concatenate([t.stamps for t in times])
    file_of = np.repeat(np.arange(len(files)), counts)
    step_in = np.concatenate([np.arange(n) for n in counts])
    order = np.argsort(stamps, kind="stable")
    steps = _Steps(tuple(files), stamps, file_of, step_in, times[0].calendar)
    order = _without_repeats(steps, order, options)
    bounds = None
    if all(t.bounds is not None for t in times):
        bounds = np.concatenate([t.bounds for t in times if t.bounds is not None])[order]
    grows = options.kind == ACCUMULATED
    raw = RawTimes(
        stamps[order],
        bounds,
        times[0].calendar,
        accumulated=grows or is_total or all(t.accumulated for t in times),
        from_name=all(t.from_name for t in times),
    )
    axis = _axis(raw, options)
    overlap = overlapping(axis)
    if overlap is not None and not grows:
        raise _overlapping(files[int(file_of[order[overlap]])], axis, overlap)
    return axis, file_of[order], step_in[order]


def _check_times(files: Sequence[GridFile], times: Sequence[RawTimes]) -> None:
    """Refuse files of several calendars, or without steps."""
    odd = next((n for n, t in enumerate(times) if t.calendar != times[0].calendar), None)
    if odd is not None:
        raise InputError(
            files[odd].path,
            f"has the calendar {times[odd].calendar}, {files[0].path.name} {times[0].calendar}",
            "give files of one calendar",
        )
    empty = next((n for n, t in enumerate(times) if not t.stamps.size), None)
    if empty is not None:
        raise InputError(files[empty].path, "has a time axis without steps", "leave it out")


def _overlapping(file: GridFile, axis: TimeAxis, step: int) -> InputError:
    """What to say of a step that begins before the one before it ends."""
    one, other = (iso_minute(int(axis.start[n]), axis.calendar) for n in (step - 1, step))
    what = f"the one from {one} ends after the one from {other} begins"
    remedy = "repair the bounds, or leave them out of account with ‹stamp start› (or middle, end)"
    if axis.start[step] == axis.start[step - 1]:
        what = f"two of them begin {one}"
        remedy = "say ‹kind accumulated› if values grow from there, or ‹stamp end› to use no bounds"
    return InputError(file.path, f"has steps whose bounds overlap: {what}", remedy)


def _axis(raw: RawTimes, options: ReadOptions) -> TimeAxis:
    shift = options.utc_offset * 60 * SECOND
    bounds = None if raw.bounds is None else raw.bounds + shift
    axis = time_axis(
        raw.stamps + shift,
        bounds,
        raw.calendar,
        options.stamp,
        options.day_start,
        accumulated=raw.accumulated,
    )
    if raw.from_name and axis.how == BOUNDS_IN_FILE:
        axis = replace(axis, how="as their names tell")
    if shift:
        sign = "+" if shift > 0 else "-"
        hours, minutes = divmod(abs(options.utc_offset), 60)
        axis = replace(axis, how=f"{axis.how}, moved by {sign}{hours:02d}:{minutes:02d}")
    return axis


@dataclass(frozen=True, eq=False)
class _Steps:
    """The steps of all files.

    Parameters
    ----------
    stamps, file_of, step_in : (T,) int64
        Time stamp of each, number of its file, and its number in that file.
    """

    files: tuple[GridFile, ...]
    stamps: np.ndarray
    file_of: np.ndarray
    step_in: np.ndarray
    calendar: str

    def read(self, step: int) -> np.ndarray:
        """(1, C) values of all cells."""
        file, number = self.files[self.file_of[step]], int(self.step_in[step])
        return np.asarray(file.read(number, number + 1, whole(file.layout.shape)))


def _without_repeats(steps: _Steps, order: np.ndarray, options: ReadOptions) -> np.ndarray:
    """The order of steps without those that stand in two files.

    Two files may repeat each other; where they differ, `prefer` decides.
    """
    again = np.flatnonzero(np.diff(steps.stamps[order]) == 0) + 1
    if not again.size:
        return order
    drop = []
    for later in again.tolist():
        a, b = int(order[later - 1]), int(order[later])
        one, other = (steps.files[steps.file_of[n]] for n in (a, b))
        if options.prefer is None and not np.array_equal(
            steps.read(a), steps.read(b), equal_nan=True
        ):
            raise _repeated(one, other, iso_day(int(steps.stamps[a]), steps.calendar))
        drop.append(later - 1 if options.prefer == "last" else later)
        if options.prefer != "last":
            order[later] = a  # a third repeat is compared with the first again
    return np.delete(order, drop)


def _repeated(one: GridFile, other: GridFile, when: str) -> InputError:
    """What to say where a step stands twice with different values."""
    if one is other:
        what = f"has the step {when} twice"
    else:
        what = f"has the step {when}, as {one.path.name} has, with other values"
    if one is not other and any(f.times is not None and f.times.from_name for f in (one, other)):
        return InputError(
            other.path,
            f"is of {when} by its name, as {one.path.name} is, with other values",
            "say where the whole date stands in the names, as ‹dates rain_%Y-%m.{dekad}›; only "
            "files that are twice the same data are for ‹prefer›",
        )
    return InputError(other.path, what, "leave one of them out, or use ‹prefer› first or last")
