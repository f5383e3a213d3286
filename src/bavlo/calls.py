"""How calls from Python are carried out: those of `bavlo.api`, `bavlo.run` and `bavlo.report`.

Nothing is printed. Doubts are Python warnings (`bavlo.BavloWarning`), errors are `bavlo.BavloError`
and name the keyword that is at fault. Calls from several threads do not disturb one another.
"""

from __future__ import annotations

import dataclasses
import os
import tempfile
import warnings
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import chdir, contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from bavlo.errors import BavloWarning, RequestError, nearest_word, worded
from bavlo.held import Array, FeatureList, as_held, holding
from bavlo.interface import Grid, Table, Trace
from bavlo.remembered import OPEN_FILES
from bavlo.request.filling import make_request
from bavlo.request.options import options_of
from bavlo.request.renamed import NOW
from bavlo.request.reporter import SilentReporter

if TYPE_CHECKING:
    from matplotlib.figure import Figure

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
BASE = "bavlo.core.stats.normals:parse_base"
Progress = Callable[[int, int], None]
PathLike = str | os.PathLike[str]


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


def report(
    *tables: Table | PathLike, out: PathLike, title: str | None = None, replace: bool = False
) -> Path:
    """One page that needs nothing else, of a study or of tables; its path.

    Parameters
    ----------
    tables
        A study file, or tables.
    out
        The page, an .html.
    title
        Its heading.
    replace
        Write over a file that is there.

    Raises
    ------
    BavloError
    """
    from bavlo.jobs.driver import make

    path, shown = Path(out), list(tables)
    with tempfile.TemporaryDirectory() as folder:
        for n, table in enumerate(shown):
            if isinstance(table, Table):  # as a file, which the page offers
                shown[n] = file = Path(folder) / f"table_{n + 1}.csv"
                table.write(file)
        with _request("report", shown, {"title": title}) as request:
            output = dataclasses.replace(request.output, out=(path,), replace=replace)
            make(dataclasses.replace(request, output=output), SilentReporter())
    return path


def run(  # noqa: PLR0913
    study: PathLike,
    *,
    only: str | Sequence[str] | None = None,
    check: bool = False,
    replace: bool = False,
    jobs: int | None = None,
    memory: str | int | None = None,
    progress: Progress | None = None,
) -> list[Outcome]:
    """Everything that a study file lists, and again only what changed.

    Parameters
    ----------
    study
        The study file; files in it are named from its own folder, which is the working folder of
        the process while it runs, for other threads too.
    only
        Only these results and those that they are made of.
    check
        Tell what would be made and why, and make nothing.
    replace
        Write over files of others.
    jobs, memory
        Workers, and most memory to use: the usable processors and 1GB.
    progress
        Called with how much is done and how much there is in all.

    Returns
    -------
    outcomes
        Of each result: name, state ("made", "up to date", "failed" or "not made"), why, seconds,
        summary and outputs. One failing result does not stop the others.

    Raises
    ------
    BavloError
        Where the study file cannot be read, or another run of it is under way.
    """
    from bavlo.jobs.ledger import StudyRun
    from bavlo.jobs.run import check_study, run_study
    from bavlo.request.study import read_study

    path = Path(study).expanduser()
    told = read_study(path)
    resources = make_request("series", _texts("series", [], {"jobs": jobs, "memory": memory})).run
    names = (only,) if isinstance(only, str) else tuple(only or ())
    wanted = StudyRun(told, path.stem, resources, names, replace)
    reporter = _Listener(progress)
    with chdir(path.parent), _closing_grids():
        outcomes = check_study(wanted) if check else run_study(wanted, reporter)
        found = [
            dataclasses.replace(
                each, why=worded(each.why), summary=tuple(map(worded, each.summary))
            )
            for each in outcomes
        ]
    reporter.tell()
    return found


def _taken(given: dict[str, Any], first: str) -> tuple[Any, dict[str, Any], Progress | None]:
    """What a function takes before its options, the options, and who hears of progress."""
    options = {**given, **given.get("unknown", {})}
    options.pop("unknown", None)
    return options.pop(first), options, options.pop("progress", None)


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
