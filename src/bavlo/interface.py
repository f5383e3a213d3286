"""What calls from Python give: tables, grids and traces."""

from __future__ import annotations

import html
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, Protocol, overload

import numpy as np

from bavlo.errors import RequestError, worded
from bavlo.held import Array
from bavlo.request.filling import make_request

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from bavlo.jobs.result import TableResult

SHOWN = 5  # first and last rows in a notebook
BOUNDS = ("start", "end")
IS_DAY = re.compile(r"\d{4}-\d\d-\d\d")
Layout = Literal["long", "by-time", "by-region"]
GridLike = str | Path | Array | Any


class GeoShapes(Protocol):
    """Regions that tell their outlines by the open protocol of that name."""

    @property
    def __geo_interface__(self) -> Mapping[str, Any]:
        """A FeatureCollection, in longitude and latitude."""


@dataclass(frozen=True, eq=False)
class Table:
    """A table with everything that goes with it.

    Attributes
    ----------
    title
        What the values are.
    summary
        What was made and what was left empty, in sentences.
    about
        Provenance as plain data.
    """

    _result: TableResult

    @property
    def title(self) -> str:
        """What the values are."""
        return self._result.title

    @property
    def summary(self) -> tuple[str, ...]:
        """What was made and what was left empty, in sentences."""
        return tuple(worded(line) for line in self._result.summary)

    @property
    def about(self) -> dict[str, Any]:
        """Provenance as plain data, the same as stands in or beside files."""
        return self._result.about

    @property
    def columns(self) -> list[str]:
        """Names of the columns; see the definitions in the docs."""
        return self._result.table.header

    @property
    def events(self) -> Table | None:
        """The table of events, where it was asked for with `events=True`."""
        events = self._result.events
        if events is None:
            return None
        return Table(replace(self._result, table=events, events=None))

    def __len__(self) -> int:
        return len(self._result.table)

    def __iter__(self) -> Iterator[dict[str, Any]]:
        """Its rows, each as a dict of columns and values."""
        for columns in self._result.table.chunks():
            yield from self._rows(columns)

    def _rows(self, columns: Sequence[np.ndarray]) -> Iterator[dict[str, Any]]:
        """Rows as dicts, from the columns of some of them."""
        for row in zip(*(column.tolist() for column in columns), strict=True):
            yield dict(zip(self.columns, row, strict=True))

    def __contains__(self, name: object) -> bool:
        """Whether it has a column of this name."""
        return name in self.columns

    def keys(self) -> list[str]:
        """Names of the columns, so that `dict(table)` has them all."""
        return self.columns

    @overload
    def __getitem__(self, name: str) -> np.ndarray: ...
    @overload
    def __getitem__(self, name: int) -> dict[str, Any]: ...
    @overload
    def __getitem__(self, name: slice) -> list[dict[str, Any]]: ...

    def __getitem__(self, name: str | int | slice) -> Any:
        """A column by its name, a row by its number, or the rows of a slice.

        A column is an array of one value a row: float64 with NaN for missing ones, or text.
        """
        if isinstance(name, str):
            if name not in self.columns:
                raise KeyError(name)
            return self._result.table.column(name)
        if isinstance(name, slice):
            numbers = range(len(self))[name]
            first, last = (min(numbers), max(numbers) + 1) if numbers else (0, 0)
            rows = list(self._rows(self._result.table.rows(first, last))) if numbers else []
            return [rows[n - first] for n in numbers]
        number = range(len(self))[name]
        return next(self._rows(self._result.table.rows(number, number + 1)))

    def __eq__(self, other: object) -> bool:
        """Whether both have the same columns with the same values; missing ones are the same."""
        if not isinstance(other, Table):
            return NotImplemented
        return self.columns == other.columns and all(
            np.array_equal(self[name], other[name], equal_nan=self[name].dtype.kind == "f")
            for name in self.columns
        )

    __hash__ = None  # type: ignore[assignment]

    def filter(self, **wanted: str | float | Sequence[str | float]) -> Table:
        """The rows that have the wanted values: `table.filter(region="Ombrel", period=["JJA"])`.

        Parameters
        ----------
        wanted
            A value, or several, by column.

        Raises
        ------
        RequestError
            Where there is no such column or value.
        """
        from bavlo.tables.group import filtered

        result = self._result
        for name, values in wanted.items():
            listed = [values] if isinstance(values, str | int | float) else list(values)
            result = replace(result, table=filtered(result.table, name, listed))
            if name == "region" and result.shapes is not None:
                result = replace(result, shapes=result.shapes.only(map(str, listed)))
        return Table(result)

    def __repr__(self) -> str:
        lines = "\n  ".join(self.summary[:3])
        return f"<bavlo.Table {self.title}\n  {lines}>"

    def _repr_html_(self) -> str:
        """The first and last rows, for notebooks."""
        table, count = self._result.table, len(self)
        numbers = [*range(min(SHOWN, count)), *range(max(count - SHOWN, SHOWN), count)]
        rows = [[column[0] for column in table.rows(n, n + 1)] for n in numbers]
        head = "".join(f"<th>{html.escape(name)}</th>" for name in self.columns)
        body = "".join(
            "<tr>" + "".join(f"<td>{html.escape(_shown(cell))}</td>" for cell in row) + "</tr>"
            for row in rows
        )
        caption = html.escape(f"{self.title}: {count:,} rows")
        return (
            f"<table><caption>{caption}</caption><thead><tr>{head}</tr></thead>"
            f"<tbody>{body}</tbody></table>"
        )

    def to_pandas(self, layout: Layout = "long") -> Any:
        """A pandas DataFrame: numbers as float64, dates as dates; provenance in `attrs`.

        Parameters
        ----------
        layout
            long: one value a row. by-time: periods down, as a PeriodIndex where they are calendar
            months, seasons or years; regions across. by-region: regions down, periods across.
        """
        try:
            import pandas
        except ImportError as error:
            what = "data frames need a further library"
            raise RequestError("", what, "pip install 'bavlo[pandas]'") from error
        from bavlo.tables.layouts import laid_out

        table = laid_out(self._result.table, layout)
        frame = pandas.DataFrame({name: table.column(name) for name in table.header})
        for name in BOUNDS:
            if name in frame and all(map(IS_DAY.fullmatch, frame[name])):
                frame[name] = pandas.to_datetime(frame[name])
        if layout == "by-time":
            frame = frame.set_index(_times_of(frame)).drop(columns=["period", *BOUNDS])
        elif layout == "by-region":
            frame = frame.set_index("region")
        frame.attrs["bavlo"] = self.about
        return frame

    def to_arrow(self) -> Any:
        """A pyarrow Table, as Parquet files hold it, with the provenance in its metadata."""
        from bavlo.tables.formats import Companions, format_of

        format_of(Path("table.parquet"))  # says which library is missing
        from bavlo.tables.parquet import as_arrow

        return as_arrow(self._result.table, Companions(self.about))

    def write(self, *paths: str | Path, layout: Layout = "long", overwrite: bool = False) -> None:
        """Write it to files, whose endings say the formats: all of them whole, or none.

        Parameters
        ----------
        layout
            long, by-time or by-region.
        overwrite
            Write over files that are there.

        Raises
        ------
        OutputError
        """
        from bavlo.jobs.writing import check_files, write_all

        given = {"grids": [], "out": [str(path) for path in paths], "layout": layout}
        request = make_request("series", {**given, "replace": overwrite})
        check_files(request)
        write_all(request, self._result)

    def plot(self, figure: str | None = None, **settings: Any) -> Figure:
        """A Matplotlib figure of it.

        Parameters
        ----------
        figure
            One of the sorts that `bavlo chart --help` lists; the usual one where None.
        """
        from bavlo.figures import draw
        from bavlo.tables.group import only_table

        table = only_table(self._result.table, "figure")
        return draw([table], self.title, figure, **{**self._result.drawing, **settings})


@dataclass(frozen=True, eq=False)
class Grid:
    """A grid that was made, in a file of its own until it is written elsewhere.

    Attributes
    ----------
    summary
        What was made, in sentences.
    """

    summary: tuple[str, ...]
    about: dict[str, Any]
    _data: bytes

    def write(self, path: str | Path, *, overwrite: bool = False) -> None:
        """Write it as CF NetCDF."""
        from bavlo.files import whole_files
        from bavlo.jobs.writing import check_endings, check_outputs

        path = Path(path)
        check_endings([path], (".nc",))
        check_outputs([path], replace=overwrite)
        with whole_files([path], replace=overwrite) as drafts:
            drafts[path].write_bytes(self._data)

    def arrays(self) -> dict[str, np.ndarray]:
        """Values (T, ny, nx) or (ny, nx) of each variable, and coordinates, by their names."""
        import netCDF4

        with netCDF4.Dataset("memory.nc", memory=self._data) as data:
            return {
                name: np.ma.filled(variable[...], np.nan)
                if variable.dtype is not str and np.dtype(variable.dtype).kind == "f"
                else np.asarray(variable[...])
                for name, variable in data.variables.items()
            }


@dataclass(frozen=True, eq=False)
class Trace:
    """How one number of a table came to be.

    Attributes
    ----------
    lines
        What went into it, a row each: files, rules, steps and cells, told apart by `part`.
    reproduced
        Whether the recorded request gives the recorded numbers again, to the last digit.
    differences
        Of those that it does not: column, recorded number, number found now.
    row
        The row of the table.
    """

    lines: Table
    reproduced: bool
    differences: tuple[tuple[str, float, float], ...]
    row: dict[str, Any]

    @property
    def steps(self) -> Table:
        """The steps that went into it."""
        return self.lines.filter(part="step")

    @property
    def cells(self) -> Table:
        """The cells that went into it, with shared area, weight and value."""
        return self.lines.filter(part="cell")

    def plot(self) -> Figure:
        """A Matplotlib figure of the region and its cells."""
        return self.lines.plot()


def _times_of(frame: Any) -> Any:
    """The periods of a data frame as a PeriodIndex where they are of the calendar, else labels."""
    import pandas

    if "start" not in frame or frame["start"].dtype.kind != "M":
        return pandas.Index(frame["period"], name="period")
    starts = pandas.DatetimeIndex(frame["start"])
    ends = pandas.DatetimeIndex(frame["end"])
    months = (ends.year - starts.year) * 12 + ends.month - starts.month + 1
    whole = (starts.day == 1) & ends.is_month_end
    if len(frame) and whole.all() and len(set(months)) == 1:
        # DJF, MAM, JJA and SON are Q1 to Q4 of years that end in November.
        quarter = {0: "Q-DEC", 1: "Q-OCT", 2: "Q-NOV"}[ends[0].month % 3]
        frequency = {1: "M", 3: quarter, 12: f"Y-{ends[0]:%b}".upper()}.get(months[0])
        if frequency is not None:
            return pandas.PeriodIndex(ends, freq=frequency, name="period")
    if (starts == ends).all():
        return pandas.PeriodIndex(starts, freq="D", name="period")
    return pandas.Index(frame["period"], name="period")


def _shown(cell: Any) -> str:
    if isinstance(cell, float):
        return "" if cell != cell else f"{cell:.5g}"
    return str(cell)
