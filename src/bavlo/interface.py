"""What the functions of `bavlo.api` give and how they are carried out.

Nothing is printed. Doubts are Python warnings (`bavlo.BavloWarning`), errors are `bavlo.BavloError`
and name the keyword that is at fault. Calls from several threads do not disturb one another.
"""

from __future__ import annotations

import html
import os
import re
import tempfile
import warnings
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, Protocol, overload

import numpy as np

from bavlo.errors import BavloWarning, RequestError, nearest_word, worded
from bavlo.held import Array, FeatureList, as_held, holding
from bavlo.remembered import OPEN_FILES
from bavlo.request.filling import make_request
from bavlo.request.options import options_of
from bavlo.request.renamed import NOW
from bavlo.request.reporter import SilentReporter

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from bavlo.jobs.result import TableResult
    from bavlo.jobs.run import Outcome
    from bavlo.request.request import Request

# Options of the command line that calls do without, and what to do instead.
ON_COMMAND_LINE = {
    "out": "write what it gives, as table.write(path) or figure.savefig(path)",
    "format": "write what it gives, as table.write(path)",
    "replace": "say table.write(path, overwrite=True)",
    "layout": "say table.write(path, layout=…) or table.to_pandas(layout)",
    "quiet": "nothing is printed",
    "verbose": "nothing is printed; table.about tells every choice",
    "describe": "figures are given, not described",
}
SHOWN = 5  # first and last rows in a notebook
BASE = "bavlo.core.stats.normals:parse_base"
BOUNDS = ("start", "end")
IS_DAY = re.compile(r"\d{4}-\d\d-\d\d")
Layout = Literal["long", "by-time", "by-region"]
Progress = Callable[[int, int], None]
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
            lists = [column.tolist() for column in columns]
            for row in zip(*lists, strict=True):
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
            return [self[n] for n in range(*name.indices(len(self)))]
        number = range(len(self))[name]
        row = self._result.table.rows(number, number + 1)
        return {key: column.tolist()[0] for key, column in zip(self.columns, row, strict=True)}

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


# What the functions of `bavlo.api` do; each is given its arguments by their names.


def describe_call(given: dict[str, Any]) -> list[dict[str, Any]]:
    """What is in files: a mapping for each grid or file."""
    files, options, _ = _taken(given, "files")
    from bavlo.jobs.describe import describe as describe_files
    from bavlo.request.parse import expand

    request = make_request("describe", _texts("describe", [str(f) for f in files], options))
    paths = [path for file in files for path in expand(str(file))]
    reading = request.grids.reading, request.regions.reading, request.grids.at
    with _closing_grids():
        found = describe_files(paths, *reading)
    return [
        {"what": one.heading, **{word: worded(text) for word, text in one.facts},
         "look_at": [worded(text) for text in one.doubts]}
        for one in found
    ]  # fmt: skip


def table_call(command: str, given: dict[str, Any]) -> Table:
    """The table that a command makes."""
    grids, options, progress = _taken(given, "grids")
    from bavlo.jobs.driver import table_of

    with _request(command, grids, options) as request:
        reporter = _Listener(progress)
        result = table_of(request, reporter)
        reporter.tell()
    return Table(result)


def grid_call(given: dict[str, Any]) -> Grid:
    """The grid that `bavlo grid` makes."""
    grids, options, progress = _taken(given, "grids")
    from bavlo.grids.writing import grid_writer
    from bavlo.jobs.grid import grid as make_grid

    with _request("grid", grids, options) as request, tempfile.TemporaryDirectory() as folder:
        reporter = _Listener(progress)
        result = make_grid(request, reporter)
        path = Path(folder) / "grid.nc"
        with grid_writer(path, ".nc", result.output) as writer:
            summary = result.write([writer])
        reporter.tell()
        return Grid(tuple(worded(line) for line in summary), result.about, path.read_bytes())


def chart_call(given: dict[str, Any]) -> Figure:
    """The figure of one table or several."""
    tables, options, _ = _taken(given, "tables")
    from bavlo.figures.style import on_page
    from bavlo.jobs.chart import chart as make_chart

    with _request("chart", tables, options) as request:
        shown = request.figure
        with on_page(shown.size, apart=shown.panels == "own"):
            return make_chart(request).draw()


def map_call(given: dict[str, Any]) -> Figure:
    """The map of a table or a grid."""
    shown, options, _ = _taken(given, "shown")
    from bavlo.figures.maps import draw_map
    from bavlo.figures.style import on_page
    from bavlo.jobs.map import map_content

    with _request("map", (shown,), options) as request:
        reporter = _Listener(None)
        content = map_content(request, reporter)
        reporter.tell()
        with on_page(request.figure.size):
            return draw_map(content, request.figure.classes)


def trace_call(given: dict[str, Any]) -> Trace:
    """How one number of a table came to be."""
    table, options, _ = _taken(given, "table")
    from bavlo.jobs.trace import trace as trace_number

    with _request("trace", (table,), options) as request:
        reporter = _Listener(None)
        found = trace_number(request, reporter)
        reporter.tell()
    row = {k: v.item() if isinstance(v, np.generic) else v for k, v in found.row.items()}
    return Trace(Table(found.result), found.came_back, found.differences, row)


def report_call(given: dict[str, Any]) -> Path:
    """The page of a study or of tables, written to a file."""
    from bavlo.jobs.driver import make

    out, tables = Path(given["out"]), list(given["tables"])
    with tempfile.TemporaryDirectory() as folder:
        for n, table in enumerate(tables):
            if isinstance(table, Table):  # as a file, which the page offers
                tables[n] = Path(folder) / f"table_{n + 1}.csv"
                table.write(tables[n])
        with _request("report", tables, {"title": given["title"]}) as request:
            output = replace(request.output, out=(out,), replace=given["replace"])
            make(replace(request, output=output), SilentReporter())
    return out


def run_call(settings: dict[str, Any]) -> list[Outcome]:
    """What a run of a study made, result by result."""
    import contextlib

    from bavlo.jobs.ledger import StudyRun
    from bavlo.jobs.run import check_study, run_study
    from bavlo.request.study import read_study

    path = Path(settings["study"]).expanduser()
    told = read_study(path)
    given = {name: settings[name] for name in ("jobs", "memory")}
    resources = make_request("series", _texts("series", [], given)).run
    only = settings["only"] or ()
    names = (only,) if isinstance(only, str) else tuple(only)
    run = StudyRun(told, path.stem, resources, names, bool(settings["replace"]))
    reporter = _Listener(settings["progress"])
    with contextlib.chdir(path.parent), _closing_grids():
        outcomes = check_study(run) if settings["check"] else run_study(run, reporter)
        found = [
            replace(each, why=worded(each.why), summary=tuple(map(worded, each.summary)))
            for each in outcomes
        ]
    reporter.tell()
    return found


def _taken(given: dict[str, Any], first: str) -> tuple[Any, dict[str, Any], Progress | None]:
    """What a function takes before its options, the options, and who hears of progress."""
    options = {**given, **given.get("unknown", {})}
    options.pop("unknown", None)
    return options.pop(first), options, options.pop("progress", None)


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
        # Quarters are counted from the one that ends last in a calendar year's turn: DJF is Q1.
        quarter = {0: "Q-DEC", 1: "Q-OCT", 2: "Q-NOV"}[ends[0].month % 3]
        frequency = {1: "M", 3: quarter, 12: f"Y-{ends[0]:%b}".upper()}.get(months[0])
        if frequency is not None:
            return pandas.PeriodIndex(ends, freq=frequency, name="period")
    if (starts == ends).all():
        return pandas.PeriodIndex(starts, freq="D", name="period")
    return pandas.Index(frame["period"], name="period")


class _Listener(SilentReporter):
    """Passes progress on, and turns doubts into Python warnings at the end."""

    def __init__(self, progress: Progress | None) -> None:
        super().__init__()
        self._progress = progress

    def progress(self, done: int, total: int, what: str = "steps") -> None:
        if self._progress is not None:
            self._progress(done, total)

    def tell(self) -> None:
        """Warn of each doubt once."""
        for text in dict.fromkeys(self.warnings):
            warnings.warn(worded(text), BavloWarning, stacklevel=4)


@contextmanager
def _closing_grids() -> Iterator[None]:
    """Close the grids that a call has opened, so that the caller may write them anew."""
    try:
        yield
    finally:
        OPEN_FILES.clear()


@contextmanager
def _request(command: str, grids: Sequence[Any], options: Mapping[str, Any]) -> Iterator[Request]:
    """The request of a call, which holds what is in memory while this lasts."""
    with holding() as hold, _closing_grids():
        options = {n: hold(v) if isinstance(v, Array) else v for n, v in options.items()}
        regions = options.get("regions")
        if isinstance(regions, list | tuple) and _are_places(regions):
            options["regions"] = [_text(place) for place in regions]
        elif regions is not None and not isinstance(regions, str | os.PathLike):
            options["regions"] = hold(FeatureList(_features_of(regions)))
        if options.get("events") is True:
            options["events"] = "events.csv"  # which is not written, but given as a table
        yield make_request(command, _texts(command, _arguments(grids, hold), options))


def _arguments(grids: Sequence[Any], hold: Callable[[Any], str]) -> list[str]:
    """Grids and tables as arguments of the command line."""

    def named(content: Any) -> str:
        if isinstance(content, str | os.PathLike):
            return os.fspath(content)
        if isinstance(content, Table):
            from bavlo.tables.formats import HeldTable

            return hold(HeldTable(content._result.table, content.about))
        if isinstance(content, Grid):
            return hold(content._data)
        return hold(content if isinstance(content, Array) else as_held(content))

    texts: list[str] = []
    for grid in grids:
        for name, value in grid.items() if isinstance(grid, Mapping) else [("", grid)]:
            several = value if isinstance(value, list | tuple) else [value]
            texts += [f"{name}={named(each)}" if name else named(each) for each in several]
    return texts


def _features_of(regions: Any) -> list[Any]:
    """The features of regions that are in longitude and latitude."""
    crs = getattr(regions, "crs", None)
    if crs is not None:
        import pyproj

        if not pyproj.CRS.from_user_input(crs).is_geographic:
            raise RequestError(
                "regions", "are not in longitude and latitude", "bring them there first"
            )
    return _features(regions)


def _are_places(regions: Sequence[Any]) -> bool:
    """Whether regions are pairs of longitude and latitude."""
    pairs = [pair for pair in regions if isinstance(pair, list | tuple) and len(pair) == 2]
    return bool(pairs) and len(pairs) == len(regions)


def _features(told: Any) -> list[Any]:
    """The features of a collection, a feature, a geometry, or of a list of them."""
    told = getattr(told, "__geo_interface__", told)
    if isinstance(told, list | tuple):
        return [feature for each in told for feature in _features(each)]
    if not isinstance(told, Mapping) or "type" not in told:
        raise RequestError(
            "regions", "are neither a file nor features nor places", "give one of these"
        )
    if told["type"] == "FeatureCollection":
        return list(told["features"])
    if told["type"] == "Feature":
        return [told]
    return [{"type": "Feature", "properties": {}, "geometry": told}]


def _texts(command: str, grids: list[str], options: Mapping[str, Any]) -> dict[str, Any]:
    """Keywords as the texts that the command line would have."""
    known = {option.name.replace("-", "_"): option for option in options_of(command)}
    given: dict[str, Any] = {"grids": grids}
    for name, value in options.items():
        option = known.get(name.rstrip("_"))  # `except_` and `as_` are words of Python
        if option is None or option.name in ON_COMMAND_LINE:
            raise RequestError("", f"{command} has no {name}", _instead(command, name, known))
        if value is None or value is False:
            continue
        if not option.value:
            given[option.name] = True
        elif isinstance(value, Mapping):
            given[option.name] = [f"{key}={_text(each)}" for key, each in value.items()]
        elif isinstance(value, list | tuple) and option.parse == BASE:
            given[option.name] = "..".join(_text(each) for each in value)
        elif isinstance(value, list | tuple):
            texts = [_text(each) for each in value]
            alone = option.repeat and not option.by_grid
            joined = ",".join(texts)
            given[option.name] = texts if alone else [joined] if option.repeat else joined
        else:
            given[option.name] = [_text(value)] if option.repeat else _text(value)
    return given


def _instead(command: str, name: str, known: Mapping[str, Any]) -> str:
    """What to do instead of giving a keyword that there is not."""
    if name.replace("_", "-") in NOW:
        return NOW[name.replace("_", "-")]
    if name in ON_COMMAND_LINE:
        return ON_COMMAND_LINE[name]
    names = [each for each in known if each not in ON_COMMAND_LINE]
    return nearest_word(name, names, f"see help(bavlo.{command})")


def _text(value: Any) -> str:
    if isinstance(value, list | tuple):
        return ",".join(_text(each) for each in value)
    return repr(float(value)) if isinstance(value, float | np.floating) else str(value)


def _shown(cell: Any) -> str:
    if isinstance(cell, float):
        return "" if cell != cell else f"{cell:.5g}"
    return str(cell)
