"""GRIB files, editions 1 and 2, by ecCodes; a field is a step of a variable."""

from __future__ import annotations

import hashlib
import json
from collections import defaultdict
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import ClassVar

import numpy as np

from bavlo import kept
from bavlo.core.space.layout import GridLayout
from bavlo.core.time.axis import HOUR
from bavlo.core.values.kinds import RATE, Variable
from bavlo.core.values.units import depth_factor
from bavlo.errors import BavloError, InputError, refused_by_system
from bavlo.files import DAMAGE, unreadable
from bavlo.grids.cells import CellSelection
from bavlo.grids.formats.cf import DAILY_MEANS, STEP_TYPES
from bavlo.grids.formats.grib_layouts import ValueOrder, cells_of
from bavlo.grids.formats.grib_messages import (
    Header,
    Messages,
    damaged,
    library,
    one_field,
    scan,
)
from bavlo.grids.formats.packing import Packing, with_missing
from bavlo.grids.levels import chosen_levels, level_text
from bavlo.grids.source import RawTimes, ReadOptions
from bavlo.remembered import INDEXES

NO_DATA = 1e36  # what the library is told to put where there is no data
CALENDAR = "standard"
WORTH_KEEPING = 2**22  # bytes of a file from which its index is kept between runs
INDEX_FORMAT = "1"  # another number makes all older indexes useless
ARRAYS = ("offset", "length", "part", "header", "reference", "begin", "end")
HEADERS = "headers"
INTERVALS = ("accum", "avg", "max", "min", "diff")
MONTHLY_TYPES = ("avgad", "avgas", "avgid", "avgia", "avgd", "avgua", "avgfc")


@dataclass(frozen=True, eq=False)
class GribGrid:
    """The fields of one variable, level and member of a file.

    Parameters
    ----------
    offset, length, part : (T,) int64
        Where the message of each step lies, and which of its fields it is.
    order
        How its values fill rows and columns.
    """

    path: Path
    variable: Variable
    layout: GridLayout
    times: RawTimes | None
    offset: np.ndarray
    length: np.ndarray
    part: np.ndarray
    order: ValueOrder
    packing: Packing
    notes: tuple[str, ...] = ()
    step_chunk: int = 1
    needs_rechunking: ClassVar[bool] = False
    is_raster: ClassVar[bool] = False

    @property
    def dtype(self) -> np.dtype:
        """Type of the decoded numbers."""
        return np.dtype(np.float64)

    @property
    def stored(self) -> np.dtype | None:
        """Type of the stored numbers: none, since they are packed."""
        return None

    def packed(self, packing: Packing) -> GribGrid:
        """The same with another understanding of its numbers."""
        return replace(self, packing=packing)

    def read(
        self, first: int, last: int, cells: CellSelection, into: np.ndarray | None = None
    ) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64, NaN for no data.

        They go `into` an array of that shape where one is given. The library decodes in as many
        threads as call this.
        """
        alone = into is None and last - first == 1
        block = into
        if block is None and not alone:
            block = np.empty((last - first, cells.size))
        try:
            with self.path.open("rb") as file:
                for n in range(first, last):
                    file.seek(int(self.offset[n]))
                    message = one_field(file.read(int(self.length[n])), int(self.part[n]))
                    field = self._decoded(message, int(self.offset[n]))
                    if block is None:
                        return self._taken(field, cells)
                    block[n - first] = self._taken(field, cells)[0]
        except DAMAGE as error:
            raise unreadable(self.path, error) from error
        assert block is not None
        return block

    def _taken(self, field: np.ndarray, cells: CellSelection) -> np.ndarray:
        """(1, C) values of the wanted cells; without a copy where they are all of a field."""
        if len(cells.windows) == 1:
            window = cells.windows[0]
            inside = field[window.rows, window.columns].reshape(1, -1)
            found = window.subset.taken(inside)
            if isinstance(window.subset.position, slice):
                return self._known(found)
        return self._known(field.reshape(1, -1)[:, cells.cells])

    def _known(self, values: np.ndarray) -> np.ndarray:
        """Values of this very field, with those that mean no data as NaN."""
        absent = self.packing.absent(values)
        if absent is not None:
            values[absent] = np.nan
        return values

    def _decoded(self, message: bytes, offset: int) -> np.ndarray:
        """(ny, nx) values of a message, NaN for no data."""
        codes = library(self.path)
        try:
            handle = codes.codes_new_from_message(message)
            try:
                codes.codes_set(handle, "missingValue", NO_DATA)
                values = codes.codes_get_values(handle)
                missing = bool(codes.codes_get(handle, "bitmapPresent"))
            finally:
                codes.codes_release(handle)
            if missing:
                values[values == NO_DATA] = np.nan
            return self.order.placed(values)
        except (codes.CodesInternalError, ValueError) as error:
            raise damaged(self.path, offset, str(error)) from error


def _index(path: Path, size: int, changed: int) -> Messages:
    """The messages of a file as it is now; those of large files are kept between runs."""
    if size < WORTH_KEEPING:
        return scan(path)
    content = f"{INDEX_FORMAT} {path.resolve()} {size} {changed}"
    entry = kept.folder() / f"{hashlib.sha256(content.encode()).hexdigest()}{kept.INDEX}"
    found = kept.load(entry, (*ARRAYS, HEADERS))
    if found is not None:
        headers = json.loads(found.pop(HEADERS).tobytes())
        return Messages(tuple(Header(**each) for each in headers), **found)
    made = scan(path)
    text = json.dumps([asdict(header) for header in made.headers]).encode()
    arrays = {name: getattr(made, name) for name in ARRAYS}
    kept.keep(entry, arrays | {HEADERS: np.frombuffer(text, np.uint8)})
    return made


def messages_of(path: Path) -> Messages:
    """The messages of a file; found once as long as it does not change."""
    try:
        status = path.stat()
    except OSError as error:
        raise refused_by_system(path, error) from error
    library(path)
    if path.suffix.lower() == ".gz":
        raise InputError(path, "is compressed GRIB", "unpack it first, as with gunzip")
    size, changed = status.st_size, status.st_mtime_ns
    found: Messages = INDEXES.get(
        ("GRIB", str(path), size, changed), lambda: _index(path, size, changed)
    )
    return found


Group = tuple[str, str, str, str]  # name, sort of level, step type and grid


def groups_of(found: Messages) -> dict[str, list[int]]:
    """Headers of each variable, by a name that tells it from the others of the file."""
    by_group: dict[Group, list[int]] = defaultdict(list)
    for n, header in enumerate(found.headers):
        key = header.name, header.level_type, header.step_type, header.grid
        by_group[key].append(n)
    named: dict[str, list[int]] = {}
    for group, headers in by_group.items():
        like = [other for other in by_group if other[0] == group[0]]
        name = group[0]
        for part in (1, 2):
            if len({other[part] for other in like}) > 1:
                name += f"_{group[part]}"
        grids = list(dict.fromkeys(other[3] for other in like))
        if len(grids) > 1:
            name += f"_grid{grids.index(group[3]) + 1}"
        named[name] = headers
    return named


def described(name: str, header: Header) -> Variable:
    """A variable in CF terms."""
    unit, kind, evidence = header.unit, "", ""
    if header.step_type == DAILY_MEANS and unit and depth_factor(unit) is not None:
        unit, kind, evidence = f"{unit} day-1", RATE, "step type avgad, means of daily totals"
    return Variable(
        name,
        unit,
        header.standard_name,
        header.long_name,
        STEP_TYPES.get(header.step_type, ""),
        kind=kind,
        kind_evidence=evidence,
    )


class GribFormat:
    """GRIB, whatever its edition."""

    named_by_file = False

    def variables(self, path: Path, options: ReadOptions) -> list[Variable]:
        """The variables of a file."""
        found = messages_of(path)
        return [described(name, found.headers[own[0]]) for name, own in groups_of(found).items()]

    def open_file(self, path: Path, variable: str, options: ReadOptions) -> GribGrid:
        """The fields of one variable."""
        found = messages_of(path)
        groups = groups_of(found)
        if variable not in groups:
            raise InputError(path, f"has no variable '{variable}'")
        chosen, level = _chosen(path, variable, found, groups[variable], options)
        fields = found.take(chosen)
        layout, order = _cells(path, fields)
        header = found.headers[int(fields.header[0])]
        packing = with_missing(Packing(), np.dtype(np.float64), options.missing, path)
        return GribGrid(
            path,
            replace(described(variable, header), level=level),
            layout,
            _times(fields, header.step_type),
            fields.offset,
            fields.length,
            fields.part,
            order,
            packing,
        )


FORMAT = GribFormat()


def _chosen(
    path: Path, variable: str, found: Messages, headers: list[int], options: ReadOptions
) -> tuple[np.ndarray, str]:
    """Fields of the wanted level, member and lead, in order of time; and which these are."""
    inside = np.isin(found.header, headers)
    levels = np.array([header.level for header in found.headers])[found.header]
    members = np.array([header.member for header in found.headers])[found.header]
    leads = (found.end - found.reference) / HOUR
    dimensions = {
        "level": np.unique(levels[inside]),
        "member": np.unique(members[inside]),
    }
    # Fields of one time by runs that began at different times need a lead; else each has one.
    marks = np.stack([levels, members, found.end])[:, inside]
    if np.unique(marks, axis=1).shape[1] < inside.sum() or _names_lead(options):
        dimensions["lead"] = np.unique(leads[inside])
    listed = {name: values.tolist() for name, values in dimensions.items()}
    positions = chosen_levels(path, variable, listed, options.level)
    for name, values in (("level", levels), ("member", members), ("lead", leads)):
        if name in positions:
            inside &= values == dimensions[name][positions[name]]
    chosen = np.flatnonzero(inside)
    if not chosen.size:
        raise InputError(
            path, f"has no field of {variable} with these values", "choose another value of ‹level›"
        )
    in_time = chosen[np.argsort(found.end[chosen], kind="stable")]
    return in_time, level_text(listed, positions)


def _names_lead(options: ReadOptions) -> bool:
    return any(text.startswith("lead=") for text in options.level)


def _cells(path: Path, fields: Messages) -> tuple[GridLayout, ValueOrder]:
    """The cells of some fields of one grid."""
    codes = library(path)
    with path.open("rb") as file:
        file.seek(int(fields.offset[0]))
        message = one_field(file.read(int(fields.length[0])), int(fields.part[0]))
    try:
        handle = codes.codes_new_from_message(message)
        try:
            return cells_of(path, codes, handle)
        finally:
            codes.codes_release(handle)
    except BavloError:
        raise
    except (codes.CodesInternalError, *DAMAGE) as error:
        raise damaged(path, int(fields.offset[0]), str(error)) from error


def _times(fields: Messages, step_type: str) -> RawTimes:
    """The steps: intervals where the fields are about such, else points in time."""
    if step_type in MONTHLY_TYPES:
        return RawTimes(fields.reference, None, CALENDAR)
    bounds = None
    if step_type in INTERVALS and (fields.end > fields.begin).all():
        bounds = np.column_stack([fields.begin, fields.end])
    return RawTimes(fields.end, bounds, CALENDAR)
