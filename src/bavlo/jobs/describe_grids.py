"""What is in a grid, and what Bavlo would do with it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import shapely

from bavlo.core.reduce.protocol import Block
from bavlo.core.space.layout import GridLayout
from bavlo.core.space.points import point_overlay
from bavlo.core.space.regions import LONLAT, Regions
from bavlo.core.time.axis import iso_day, iso_days
from bavlo.core.values.kinds import (
    ACCUMULATED,
    AMOUNT,
    CLASS,
    COUNT,
    NOT_TOLD,
    RATE,
    STATE,
    Quantity,
    Variable,
    implausible,
    quantity,
)
from bavlo.core.values.missing import perhaps_text
from bavlo.engine import choices
from bavlo.errors import public
from bavlo.grids.cells import CellSelection, WholeRows
from bavlo.grids.source import GridSource, is_climatology, where
from bavlo.jobs.accumulations import accumulated_text, differenced
from bavlo.jobs.missing import look_for_marks, squares
from bavlo.jobs.opening import named_codes, no_unit_text
from bavlo.jobs.wording import counted, some_of
from bavlo.request.reporter import SilentReporter


@dataclass(frozen=True)
class Description:
    """What is known about one or more files.

    Parameters
    ----------
    heading
        What is described.
    facts
        A word and a sentence each.
    doubts
        What a user should look at.
    """

    heading: str
    facts: tuple[tuple[str, str], ...]
    doubts: tuple[str, ...] = ()


FILES_READ = 200  # of which values are looked at; opening each takes longer than reading it
VALUES_READ = 60_000_000  # cells × steps that are looked at for missing values and the range
LAST_SHOWN = 4  # steps at a place
CODES_TEXT = (
    "whole numbers without unit: zones to give as ‹regions›, or classes to measure with "
    "‹measure shares›"
)


def describe_grid(source: GridSource, at: tuple[float, float] | None = None) -> Description:
    """Variable, unit, kind, steps, cells, missing share and range of a grid."""
    variable = source.variable
    doubts: list[str] = list(source.notes)
    source = _settled(source, doubts)
    what = quantity(source.variable, where(source))
    if not variable.unit and what.kind == STATE:
        doubts.append(no_unit_text(variable))
    facts = [
        ("variable", _variable_text(variable)),
        ("kind", _kind_text(source)),
        ("cells", _cells_text(source.layout)),
        ("steps", _steps_text(source, doubts)),
        ("values", _values_text(source, doubts)),
    ]
    if _whole_codes(source, what.kind):
        facts.append(("codes", CODES_TEXT))
    if variable.flags:
        shown = some_of([f"{code} {meaning}" for code, meaning in variable.flags], 12)
        facts.append(("classes", shown))
    if at is not None:
        facts.append(("there", _there_text(source, at)))
    if source.time is not None and not is_climatology(source) and what.kind != NOT_TOLD:
        facts.append(("series", _series_text(source, what)))
    names = [public(str(file.path)) for file in source.files]
    heading = names[0] if len(names) == 1 else f"{names[0]} … {names[-1]} ({len(names)} files)"
    return Description(heading, tuple(facts), tuple(doubts))


def _settled(source: GridSource, doubts: list[str]) -> GridSource:
    """A grid as commands take it: marks of no data found, running totals as differences."""
    what = quantity(source.variable, where(source))
    looked = look_for_marks(source, what)
    source = looked.source
    doubts.extend(looked.certain)
    doubts.extend("; ".join(perhaps_text(value)) for value in looked.doubtful)
    if what.kind == ACCUMULATED:
        source = differenced(source, SilentReporter())
        what = quantity(source.variable, where(source))
    elif question := accumulated_text(source, what):
        doubts.append("; ".join(question))
    return named_codes(source, what)


def _steps_text(source: GridSource, doubts: list[str]) -> str:
    """Its steps; gaps between them are doubts."""
    if is_climatology(source):
        count = 0 if source.time is None else len(source.time)
        return f"{count} periods of the year: normals, not a time series"
    if source.time is None:
        return "no time axis; every cell has one value"
    gaps = source.time.gaps()
    if gaps.size:
        first = _gap_text(source, gaps[0])
        doubts.append(f"{counted(gaps.size, 'gap')} in time, the first {first}")
    return _time_text(source)


def _series_text(source: GridSource, what: Quantity) -> str:
    """What `series` makes of it unless asked otherwise."""
    combine = {AMOUNT: "total", RATE: "total"}.get(what.kind, "mean")
    unit = what.total_unit if combine == "total" else source.variable.unit or "no unit"
    return (
        f"by default the area-weighted mean of each region, and the {combine} of each period "
        f"in {unit}"
    )


def _whole_codes(source: GridSource, kind: str) -> bool:
    """Whether a grid without time or unit holds few whole numbers only; large ones by a sample."""
    if source.time is not None or source.variable.unit or kind not in (STATE, NOT_TOLD):
        return False
    ny, nx = source.layout.shape
    parts = (
        squares(source)
        if choices.is_read_in_bands(ny * nx)
        else [WholeRows((ny, nx), slice(0, ny))]
    )
    values = np.concatenate([source.read(0, 1, cells)[0] for cells in parts])
    valid = values[~np.isnan(values)]
    return (
        bool(valid.size) and bool((valid == np.rint(valid)).all()) and np.unique(valid).size < 5000
    )


def _there_text(source: GridSource, at: tuple[float, float]) -> str:
    """The values of the cell that holds a place."""
    point = Regions(("place",), np.array([shapely.Point(at)]), LONLAT)
    shared = point_overlay(point, source.layout)
    location = f"at {at[0]:g}, {at[1]:g}"
    if not shared.cells.size:
        return f"{location} the grid has no cell"
    cells = CellSelection(shared.shape, shared.cells)
    unit = source.variable.unit
    if source.time is None:
        value = source.read(0, 1, cells)[0, 0]
        meaning = dict(source.variable.flags).get(int(value), "") if value == value else ""
        return " ".join(part for part in (f"{location}: {value:.6g}", unit, meaning) if part)
    steps = len(source.time)
    values = np.concatenate(
        [source.read(n, min(n + 5000, steps), cells)[:, 0] for n in range(0, steps, 5000)]
    )
    valid = values[~np.isnan(values)]
    if not valid.size:
        return f"{location} all values are missing"
    days = iso_days(source.time.start[-LAST_SHOWN:], source.time.calendar)
    last = ", ".join(
        f"{day} {value:.6g}" for day, value in zip(days, values[-LAST_SHOWN:], strict=True)
    )
    return (
        f"{location}: {valid.min():.6g} to {valid.max():.6g} {unit}, mean {valid.mean():.6g}, "
        f"{steps - valid.size} of {steps} steps missing; last {last}"
    )


def _variable_text(variable: Variable) -> str:
    parts = [
        f"{variable.name} in {variable.unit}" if variable.unit else f"{variable.name}, without unit"
    ]
    if variable.long_name:
        parts.append(f"“{variable.long_name}”")
    if variable.standard_name:
        parts.append(f"standard name {variable.standard_name}")
    if variable.cell_methods:
        parts.append(f"cell methods “{variable.cell_methods}”")
    return ", ".join(parts)


def _kind_text(source: GridSource) -> str:
    what = quantity(source.variable, where(source))
    does = {
        AMOUNT: "steps are added up",
        RATE: "steps are multiplied by their length and added up",
        COUNT: "a number in each cell, to be added up with ‹measure sum›",
        NOT_TOLD: "steps are combined once ‹kind amount› or ‹kind state› says so",
        CLASS: "codes that are never averaged; use ‹measure shares› or majority",
    }.get(what.kind, "steps are averaged, weighted by their length")
    if what.kind == NOT_TOLD and not what.unit:
        does = "averaged or added up once ‹kind class›, ‹kind count› or ‹kind state› says so"
    elif source.time is None and what.kind in (AMOUNT, RATE, STATE, NOT_TOLD):
        does = "one value a cell, averaged over regions"
    told = what.why if what.kind == NOT_TOLD else f"told by {what.why}"
    return f"{what.kind} ({told}): {does}"


def _cells_text(layout: GridLayout) -> str:
    ny, nx = layout.shape
    x0, y0, x1, y1 = layout.extent
    width, height = layout.cell_size
    if layout.has_corners:
        return (
            f"{ny} rows × {nx} columns with corners of their own, about {width:.4g}° × "
            f"{height:.4g}°, longitude {x0:.6g} to {x1:.6g}, latitude {y0:.6g} to {y1:.6g}"
        )
    if layout.is_lonlat:
        middle = np.array([(ny // 2) * nx + nx // 2])
        area = float(layout.ellipsoid_areas(middle)[0])
        return (
            f"{ny} rows × {nx} columns of {height:.6g}° × {width:.6g}° (about {area:.4g} km²), "
            f"longitude {x0:.6g} to {x1:.6g}, latitude {y0:.6g} to {y1:.6g}"
        )
    return (
        f"{ny} rows × {nx} columns of {height:.6g} × {width:.6g} in {system_text(layout.crs)}, "
        f"x {x0:.8g} to {x1:.8g}, y {y0:.8g} to {y1:.8g}"
    )


def _time_text(source: GridSource) -> str:
    time = source.time
    assert time is not None
    first = iso_day(int(time.start[0]), time.calendar)
    last = iso_day(int(time.end[-1]) - 1, time.calendar)
    calendar = "" if time.is_gregorian else f", calendar {time.calendar}"
    gaps = "" if time.gaps().size else ", no gaps"
    return f"{len(time)} of one {time.step_name}, {first}..{last}{calendar}{gaps} ({time.how})"


def _gap_text(source: GridSource, step: int) -> str:
    time = source.time
    assert time is not None
    return (
        f"between {iso_day(int(time.end[step - 1]) - 1, time.calendar)} and "
        f"{iso_day(int(time.start[step]), time.calendar)}"
    )


def _values_text(source: GridSource, doubts: list[str]) -> str:
    """Range and missing share, from all values or from runs of steps spread over the time."""
    ny, nx = source.layout.shape
    count = ny * nx
    steps = 1 if source.time is None else len(source.time)
    most = max(1, VALUES_READ // count)
    run = min(steps, max(1, choices.BLOCK_VALUES // count))
    runs = -(-min(steps, most) // run)
    starts: Sequence[int] = range(0, steps, run)
    if len(source.files) > FILES_READ:
        run = 1
        starts = np.linspace(0, steps - 1, FILES_READ).astype(int).tolist()
    elif steps > most:
        starts = np.linspace(0, steps - run, runs).astype(int).tolist()
    seen = missing = never = 0
    low, high = np.inf, -np.inf
    known = np.zeros(steps, bool)  # steps with any value
    looked_at = np.zeros(steps, bool)
    for band in choices.bands_of(0, ny, nx) if choices.is_read_in_bands(count) else [Block(0, ny)]:
        cells = WholeRows((ny, nx), slice(band.first, band.last))
        always = np.ones(cells.size, bool)
        for start in dict.fromkeys(starts):
            own = slice(start, min(start + run, steps))
            block = source.read(own.start, own.stop, cells)
            absent = np.isnan(block)
            seen += block.size
            missing += int(absent.sum())
            always &= absent.all(axis=0)
            looked_at[own] = True
            known[own] |= ~absent.all(axis=1)
            if not absent.all():
                low = min(low, float(np.nanmin(block)))
                high = max(high, float(np.nanmax(block)))
        never += int(always.sum())
    empty = np.flatnonzero(looked_at & ~known).tolist()
    what = quantity(source.variable, where(source))
    if doubt := implausible(what, low, high, difference=source.variable.difference):
        doubts.append(doubt)
    if not np.isfinite(low):
        doubts.append("every value looked at is missing")
        return "all missing"
    looked = seen // count
    scope = "all values" if looked == steps else f"{looked} of {steps} steps, spread over time"
    constant = never / count
    share = missing / seen
    text = f"{low:.6g} to {high:.6g} {source.variable.unit}".rstrip() + f" ({scope})"
    if not missing:
        return text + ", none missing"
    text += f"; {share:.1%} missing"
    if constant:
        text += f", {constant:.1%} being cells that never have a value (such as the sea)"
    if empty and source.time is not None:
        first = iso_day(int(source.time.start[empty[0]]), source.time.calendar)
        doubts.append(
            f"{len(empty)} of the {looked} steps looked at have no value at all, the first {first}"
        )
    return text


def system_text(crs: str) -> str:
    """A reference system by its code or name."""
    if not crs or len(crs) < 30:
        return crs or "not named"
    import pyproj

    return str(pyproj.CRS.from_user_input(crs).name)
