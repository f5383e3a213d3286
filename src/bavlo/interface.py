"""Bavlo from Python: one function a command, with the command line's options as keywords.

>>> import bavlo
>>> table = bavlo.series("rain_*.nc", regions="watersheds.geojson", every="month")  # doctest: +SKIP
>>> table.to_pandas()  # doctest: +SKIP

Nothing is printed. Doubts are Python warnings (`bavlo.BavloWarning`), errors are `bavlo.BavloError`
and name the keyword that is at fault. Calls from several threads do not disturb one another.
"""

from __future__ import annotations

import html
import json
import os
import re
import tempfile
import threading
import warnings
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np

from bavlo.arrays import IN_MEMORY, Array, as_array, write_array
from bavlo.errors import BavloWarning, RequestError, nearest_word, worded
from bavlo.remembered import OPEN_FILES
from bavlo.request.filling import make_request
from bavlo.request.options import options_of
from bavlo.request.reporter import SilentReporter

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from bavlo.jobs.result import TableResult
    from bavlo.request.request import Request

SHOWN = 5  # first and last rows in a notebook
BASE = "bavlo.core.stats.normals:parse_base"
IN_FILE = re.compile(r"\S*/(in_memory_\d+\.\w+)")
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

    def __getitem__(self, name: str) -> np.ndarray:
        """A column, one value a row: float64 with NaN for missing ones, or text."""
        if name not in self.columns:
            raise KeyError(name)
        return self._result.table.column(name)

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

    def to_pandas(self) -> Any:
        """A pandas DataFrame: numbers as float64, text as str; provenance in `attrs`."""
        try:
            import pandas
        except ImportError as error:
            what = "data frames need a further library"
            raise RequestError("", what, "pip install 'bavlo[pandas]'") from error
        frame = pandas.DataFrame({name: self[name] for name in self.columns})
        frame.attrs["bavlo"] = self.about
        return frame

    def to_arrow(self) -> Any:
        """A pyarrow Table, as Parquet files hold it, with the provenance in its metadata."""
        from bavlo.tables.formats import Companions, format_of

        format_of(Path("table.parquet"))  # says which library is missing
        from bavlo.tables.parquet import as_arrow

        return as_arrow(self._result.table, Companions(self.about))

    def write(self, *paths: str | Path, layout: str = "long", overwrite: bool = False) -> None:
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


def describe(*files: str | Path, **options: Any) -> list[dict[str, Any]]:
    """What is in files, and what Bavlo would do with them: a mapping for each grid or file."""
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


def series(*grids: GridLike, progress: Progress | None = None, **options: Any) -> Table:
    """Values by region and period.

    Parameters
    ----------
    grids
        Paths, patterns, `bavlo.Array` or labelled arrays; several grids as a mapping of names to
        these: `series({"rain": "rain_*.nc", "tmax": "tmax_*.nc"}, …)`.
    progress
        Called with steps done and steps in all.
    options
        As on the command line, with `_` for `-`: `regions`, `every`, `measure`, `during`, …
        `regions` may be anything with `__geo_interface__`.

    Raises
    ------
    BavloError
    """
    return _table("series", grids, options, progress)


def normals(*grids: GridLike, progress: Progress | None = None, **options: Any) -> Table:
    """The climatology, from grids and regions or a `Table` of series; see `series`."""
    return _table("normals", grids, options, progress)


def anomalies(*grids: GridLike, progress: Progress | None = None, **options: Any) -> Table:
    """Value, normal, anomaly, score and rank, from grids and regions or a `Table`; see `series`."""
    return _table("anomalies", grids, options, progress)


def extremes(*grids: GridLike, progress: Progress | None = None, **options: Any) -> Table:
    """Counts of conditions, indices or return levels; see `series`.

    With `events=True` the table has `events`.
    """
    return _table("extremes", grids, options, progress)


def trends(*grids: GridLike, progress: Progress | None = None, **options: Any) -> Table:
    """Slope, interval and significance, from grids and regions or a `Table`; see `series`."""
    return _table("trends", grids, options, progress)


def compare(*grids: GridLike, progress: Progress | None = None, **options: Any) -> Table:
    """How well sources agree: a mapping of names to grids or tables; see `series`."""
    return _table("compare", grids, options, progress)


def grid(*grids: GridLike, progress: Progress | None = None, **options: Any) -> Grid:
    """A grid again: joined, cut, on other cells, combined over periods; see `series`."""
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


def chart(*tables: Table | str | Path, **options: Any) -> Figure:
    """A Matplotlib figure of one table or several.

    Takes `figure`, `only`, `pick`, `base`, `title`, `size`, `panels`.
    """
    from bavlo.figures.style import on_page
    from bavlo.jobs.chart import chart as make_chart

    with _request("chart", tables, options) as request:
        shown = request.figure
        with on_page(shown.size, apart=shown.panels == "own"):
            return make_chart(request).draw()


def map(shown: Table | GridLike, **options: Any) -> Figure:  # as the command
    """A Matplotlib map of a table, with its `regions`, or of a grid."""
    from bavlo.figures.maps import draw_map
    from bavlo.figures.style import on_page
    from bavlo.jobs.map import map_content

    with _request("map", (shown,), options) as request:
        reporter = _Listener(None)
        content = map_content(request, reporter)
        reporter.tell()
        with on_page(request.figure.size):
            return draw_map(content, request.figure.classes)


def _table(
    command: str, grids: Sequence[Any], options: Mapping[str, Any], progress: Progress | None
) -> Table:
    from bavlo.jobs.driver import table_of

    with _request(command, grids, options) as request:
        reporter = _Listener(progress)
        result = table_of(request, reporter)
        reporter.tell()
    return Table(replace(result, about=_of_call(result.about)))


def _of_call(about: Any) -> Any:
    """Provenance without the folder and the clock of the call, where grids were in memory."""
    if isinstance(about, dict):
        in_memory = IN_FILE.search(str(about.get("file", ""))) is not None
        return {
            key: _of_call(value)
            for key, value in about.items()
            if not (in_memory and key in ("modified", "size"))
        }
    if isinstance(about, list):
        return [_of_call(each) for each in about]
    if isinstance(about, str) and (found := IN_FILE.search(about)):
        return about.replace(found.group(), found.group(1))
    return about


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
    """The request of a call; what is in memory lies in files while it lasts."""
    with tempfile.TemporaryDirectory(prefix="bavlo-") as folder, _closing_grids():
        files = _Files(Path(folder))
        options = dict(options)
        regions = options.get("regions")
        if regions is not None and not isinstance(regions, str | os.PathLike):
            options["regions"] = files.regions(regions)
        if options.get("events") is True:
            options["events"] = str(Path(folder) / "events.csv")
        yield make_request(command, _texts(command, files.grids(grids), options))


def _texts(command: str, grids: list[str], options: Mapping[str, Any]) -> dict[str, Any]:
    """Keywords as the texts that the command line would have."""
    known = {option.name.replace("-", "_"): option for option in options_of(command)}
    given: dict[str, Any] = {"grids": grids}
    for name, value in options.items():
        option = known.get(name.rstrip("_"))  # `except_` and `as_` are words of Python
        if option is None or option.name in ("out", "format", "quiet", "verbose", "replace"):
            raise RequestError(
                "",
                f"{command} has no {name}",
                nearest_word(name, known, f"see `bavlo {command} --help`"),
            )
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
            given[option.name] = texts if option.repeat else ",".join(texts)
        else:
            given[option.name] = [_text(value)] if option.repeat else _text(value)
    return given


def _text(value: Any) -> str:
    if isinstance(value, list | tuple):
        return ",".join(_text(each) for each in value)
    return repr(float(value)) if isinstance(value, float | np.floating) else str(value)


def _shown(cell: Any) -> str:
    if isinstance(cell, float):
        return "" if cell != cell else f"{cell:.5g}"
    return str(cell)


class _Files:
    """What is in memory as files in a folder of the call's own."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._count = 0
        self._lock = threading.Lock()

    def _path(self, ending: str) -> Path:
        with self._lock:
            self._count += 1
        return self.folder / f"{IN_MEMORY.replace(' ', '_')}_{self._count}{ending}"

    def grids(self, grids: Sequence[Any]) -> list[str]:
        """Grids and tables as arguments of the command line."""
        texts: list[str] = []
        for grid in grids:
            if isinstance(grid, Mapping):
                for name, value in grid.items():
                    several = value if isinstance(value, list | tuple) else [value]
                    texts += [f"{name}={self._file(each)}" for each in several]
            elif isinstance(grid, list | tuple):
                texts += [self._file(each) for each in grid]
            else:
                texts.append(self._file(grid))
        return texts

    def _file(self, grid: Any) -> str:
        if isinstance(grid, str | os.PathLike):
            return os.fspath(grid)
        if isinstance(grid, Table):
            path = self._path(".csv")
            grid.write(path)
            return str(path)
        if isinstance(grid, Grid):
            path = self._path(".nc")
            path.write_bytes(grid._data)
            return str(path)
        path = self._path(".nc")
        write_array(path, grid if isinstance(grid, Array) else as_array(grid))
        return str(path)

    def regions(self, regions: Any) -> str:
        """Regions as a GeoJSON file."""
        told = getattr(regions, "__geo_interface__", regions)
        if not isinstance(told, Mapping) or told.get("type") != "FeatureCollection":
            raise RequestError(
                "regions", "are neither a file nor a collection of features", "give either"
            )
        crs = getattr(regions, "crs", None)
        if crs is not None:
            import pyproj

            if not pyproj.CRS.from_user_input(crs).is_geographic:
                raise RequestError(
                    "regions", "are not in longitude and latitude", "bring them there first"
                )
        path = self._path(".geojson")
        path.write_text(json.dumps(told), encoding="utf-8")
        return str(path)
