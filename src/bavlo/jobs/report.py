"""Tables, or all that a study makes, as one page for people who have no Bavlo."""

from __future__ import annotations

import base64
import json
import os
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from bavlo import __version__
from bavlo.errors import BavloError, InputError
from bavlo.figures import draw
from bavlo.figures.page import (
    Download,
    Page,
    PageFigure,
    PageTable,
    Section,
    inline_picture,
    inline_svg,
    render,
)
from bavlo.figures.titles import title_of
from bavlo.jobs.findings import findings, in_words, map_in_words
from bavlo.jobs.wording import counted, row_count
from bavlo.request.filling import make_request
from bavlo.request.recorded import folder_of, given_of, request_of
from bavlo.request.reporter import SilentReporter
from bavlo.request.request import Request
from bavlo.request.study import Study, read_study
from bavlo.tables.formats import about_of, beside, ending_of, is_table, read_table
from bavlo.tables.group import AnyTable, parts_of
from bavlo.tables.meanings import meanings_of
from bavlo.tables.schema import schema_by_axes
from bavlo.tables.table import Table

OF_REGIONS = ("regions", "label", "layer")  # options that say which regions a map shows
MOST_ROWS = 2000
MOST_WITHIN = 10 * 2**20  # bytes of all downloads that the page holds
TYPES = {
    ".csv": "text/csv",
    ".json": "application/json",
    ".geojson": "application/geo+json",
    ".xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
}
PICTURES = {".png": "image/png", ".svg": "image/svg+xml"}
OTHER_TYPE = "application/octet-stream"
MAPPED = ("series", "anomalies", "extremes", "trends", "normals")


@dataclass(frozen=True, eq=False)
class ReportItem:
    """A table of a page.

    Parameters
    ----------
    files
        All that may be taken along: the table in each of its formats.
    """

    title: str
    path: Path
    files: tuple[Path, ...]


def page_of(request: Request) -> str:
    """The page as HTML.

    Raises
    ------
    InputError
        Where a file is no table and no study, or a study's tables have not been made.
    """
    paths = [path for grid in request.grids.arguments for path in grid.paths]
    if len(paths) == 1 and paths[0].suffix == ".toml":
        study = read_study(paths[0])
        items = list(_of_study(study, paths[0]))
        title, about = study.title, study.about
    else:
        items = [_of_table(path) for path in paths]
        title, about = " and ".join(dict.fromkeys(item.title for item in items)), ""
    out = request.output.out[0]
    room = _Room(out, MOST_WITHIN)
    sections = [_section(n, item, room) for n, item in enumerate(items, 1)]
    return render(Page(request.figure.title or title, about, sections, __version__))


def _of_study(study: Study, path: Path) -> Iterator[ReportItem]:
    """The tables that a study has made, and maps and charts that are results by themselves."""
    folder = path.parent / study.folder
    found = False
    for result in study.results:
        files = [folder / out for out in result.outputs if ending_of(Path(out))]
        there = [file for file in files if file.exists()]
        tables = [file for file in there if is_table(file)]
        pictures = [folder / out for out in result.outputs if Path(out).suffix in PICTURES]
        shown = tables or [file for file in pictures if file.exists()]
        if shown:
            found = True
            yield ReportItem(result.name, shown[0], tuple(there or shown))
    if not found:
        raise InputError(path, "none of its tables has been made", f"`bavlo run {path}` first")


def _of_table(path: Path) -> ReportItem:
    if not is_table(path):
        raise InputError(path, "is no table that Bavlo wrote", "give tables, or one study file")
    return ReportItem(title_of(parts_of(read_table(path))[0]), path, (path,))


@dataclass(eq=False)
class _Room:
    """How much a page may still hold of its downloads."""

    out: Path
    left: int

    def download(self, path: Path) -> Download:
        """A file within the page as long as there is room, else a link from where the page is."""
        size = path.stat().st_size
        words = f"{size / 1e6:.1f} MB" if size >= 1e6 else f"{max(size / 1e3, 0.1):.1f} kB"
        if size > self.left:
            link = Path(os.path.relpath(path, self.out.parent)).as_posix()
            return Download(path.name, link, words, within=False)
        self.left -= size
        kind = TYPES.get(path.suffix.lower(), OTHER_TYPE)
        data = base64.b64encode(path.read_bytes()).decode("ascii")
        return Download(path.name, f"data:{kind};base64,{data}", words, within=True)


def _section(number: int, item: ReportItem, room: _Room) -> Section:
    """What is said of one table."""
    key = f"s{number}"
    if item.path.suffix in PICTURES:
        return _picture(key, item, room)
    table = read_table(item.path)
    parts = parts_of(table)
    main = parts[-1]
    about = about_of(item.path) or {}
    told: list[str] = []
    more = 0
    for part in parts:
        lines, others = findings(part)
        told += [line for line in lines if line not in told]
        more += others
    figures, notes = _figures(key, item, table, main, about)
    return Section(
        key,
        item.title,
        _in_short(item, table, main, about),
        tuple(told),
        more,
        tuple(figures),
        _rows(table, main),
        tuple(room.download(path) for path in item.files),
        tuple(meanings_of(table)),
        json.dumps(about, indent=2, ensure_ascii=False),
        tuple(notes),
    )


def _picture(key: str, item: ReportItem, room: _Room) -> Section:
    """What is said of a map or chart that is a result by itself."""
    try:
        about = json.loads(beside(item.path).read_text(encoding="utf-8"))
    except (OSError, ValueError):
        about = {}
    words = _words_of_picture(item, about)
    figure = inline_picture(item.path.read_bytes(), PICTURES[item.path.suffix], words)
    files = tuple(room.download(path) for path in item.files)
    told = json.dumps(about, indent=2, ensure_ascii=False)
    return Section(key, item.title, words, (), 0, (figure,), None, files, (), told)


def _words_of_picture(item: ReportItem, about: Mapping[str, Any]) -> str:
    """What a map or chart shows, from the request that made it."""
    from bavlo.jobs.chart import chart
    from bavlo.jobs.map import map_content

    asked = about.get("request", {})
    try:
        request = request_of(asked, folder_of(asked, item.path))
        if request.command == "map":
            return map_in_words(map_content(request, SilentReporter()))
        return f"{chart(request).title}."
    except (BavloError, KeyError, StopIteration):  # what it was made of is not there any more
        return f"As bavlo {asked.get('command', 'chart')} drew it."


def _in_short(item: ReportItem, table: AnyTable, main: Table, about: Mapping[str, Any]) -> str:
    """What a table holds and how it was made, in a sentence or two."""
    regions = len(dict.fromkeys(map(str, main.labels("region"))))
    text = f"{title_of(main)}: {row_count(table)}, {counted(regions, 'region')}"
    if "period" in main.header:
        labels = main.labels("period")
        text += f", {labels[0]}" + (f" to {labels[-1]}" if len(labels) > 1 else "")
    command = about.get("request", {}).get("command")
    text += f". Made by bavlo {command}" if command else ". How it was made is not recorded"
    return f"{text}; in full: {item.path.name}."


def _figures(
    key: str, item: ReportItem, table: AnyTable, main: Table, about: Mapping[str, Any]
) -> tuple[list[PageFigure], list[str]]:
    """A map and a chart, as far as the table has them, and why one is not there."""
    found: list[PageFigure] = []
    notes: list[str] = []
    words = in_words(main)
    drawn = _map(item.path, table, main, about)
    if drawn is not None:
        figure, shown = drawn
        found.append(inline_svg(figure, f"{key}m", f"Map of {shown}. {words}"))
    if found and main.axes.get("period") == 1 and main.name != "trends":
        return found, notes  # a chart of one period would say no more
    try:
        found.append(inline_svg(draw([main], title_of(main)), f"{key}c", words))
    except (BavloError, ArithmeticError, ValueError, IndexError) as error:
        notes.append(f"There is no chart: {error}.")
    return found, notes


def _map(
    path: Path, table: AnyTable, main: Table, about: Mapping[str, Any]
) -> tuple[Any, str] | None:
    """A map of the last period; None where the regions are not there, or several numbers are."""
    asked = _with_regions(about)
    if main.name not in MAPPED or asked is None:
        return None
    from bavlo.figures.maps import draw_map
    from bavlo.jobs.map import map_content

    try:
        folder = folder_of({"regions": asked["regions"]}, path)
        _, recorded = given_of({**asked, "command": "map", "grids": []}, folder)
        given = {name: recorded[name] for name in OF_REGIONS if name in recorded}
        given["input-crs"] = [c for c in recorded.get("input-crs", ()) if c.startswith("regions=")]
        given |= {"grids": [str(path)], "pick": _first_picks(main)}
        content = map_content(make_request("map", given), SilentReporter(), table)
        return draw_map(content, "equal"), content.title
    except (BavloError, ArithmeticError, ValueError, IndexError):
        return None


def _with_regions(about: Mapping[str, Any]) -> Mapping[str, Any] | None:
    """The request that named the regions: of the table, or of one that it was made from."""
    asked: Mapping[str, Any] = about.get("request", {})
    if "regions" in asked:
        return asked
    for each in about.get("inputs", ()):
        found = _with_regions(each.get("about") or {})
        if found is not None:
            return found
    return None


def _first_picks(main: Table) -> list[str]:
    """What chooses the first number of each region and period."""
    picks = [f"every={main.labels('every')[0]}"] if "every" in main.header else []
    for axis, size in main.axes.items():
        if size > 1 and axis not in ("region", "period"):
            columns = schema_by_axes(main).columns_of(axis, main.header)
            for name in columns[:1]:
                value = main.labels(name)[0]
                picks.append(f"{name}={value:g}" if isinstance(value, float) else f"{name}={value}")
    return picks


def _rows(table: AnyTable, main: Table) -> PageTable:
    """All rows; where they are too many those of the longest periods, else of the last one."""
    shown: AnyTable = table
    left_out = ""
    if len(table) > MOST_ROWS:
        shown, left_out = main, f"Of {len(table):,} rows; the download has all."
    if len(shown) > MOST_ROWS and "period" in main.axes:
        shown = main.take("period", [main.axes["period"] - 1])
    columns = [(c.name, not c.is_text) for c in shown.columns]
    named = zip(shown.rows(0, MOST_ROWS), columns, strict=True)
    cells = [_cells(column, is_number) for column, (_, is_number) in named]

    caption = title_of(main)
    return PageTable(caption, tuple(columns), tuple(zip(*cells, strict=True)), left_out)


def _cells(column: np.ndarray, is_number: bool) -> Sequence[tuple[str, str]]:
    """The cells of a column: their text, and of numbers the full value."""
    if not is_number:
        return [(str(value), "") for value in column.tolist()]
    return [
        ("", "") if value != value else (_digits(value), repr(float(value)))
        for value in column.tolist()
    ]


def _digits(value: float) -> str:
    text = f"{value:.5g}"
    return f"{value:.0f}" if re.search(r"e\+0\d", text) else text
