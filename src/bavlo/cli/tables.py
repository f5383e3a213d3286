"""What the commands that give a table have in common: read, compute, write or preview."""

from __future__ import annotations

import sys
from collections.abc import Callable
from typing import Any

from bavlo.cli.parsing import Parser, add_options
from bavlo.cli.screen import Screen, preview
from bavlo.cli.writing import beside, check, wanted_files, write_all

GRID_OPTIONS = """
    regions layer label only merge-by region-crs names strict make variable level input-unit
    scale offset dates prefer grid-crs stamp day-start utc-offset during every year-start combine
    min-steps complete
    measure order weight weight-kind at-points min-area unit out format replace quiet verbose
    jobs memory cluster
""".split()
MOST_LINES = 24


def table_parser(
    command: str, description: str, examples: str, usage: str, more: str = "", without: str = ""
) -> Parser:
    """A command line with the options of all table commands, some of its own, without others."""
    made = Parser(command, description=description, epilog=examples, usage=usage)
    made.add_argument(
        "grids",
        metavar="GRID",
        nargs="*",
        help="a file, a quoted pattern, a folder or a URL; several are one grid, or several grids "
        "as NAME=PATH",
    )
    left_out = without.split()
    add_options(made, more.split() + [name for name in GRID_OPTIONS if name not in left_out])
    return made


def run_table(
    command: str, parser: Parser, arguments: list[str], compute: Callable[[Any, Any], Any]
) -> int:
    """Make a table and bring it where it was asked for.

    Parameters
    ----------
    compute
        From request and listener to a result with table, title, summary and about; perhaps with
        a table of events and settings for the chart beside it.
    """
    given = parser.read(arguments)
    from bavlo.study.options import make_request

    request = make_request(command, given)
    check(request)
    screen = Screen(quiet=given["quiet"], verbose=given["verbose"])
    try:
        made = compute(request, screen)
    finally:
        screen.close()
    result, events, drawing = made if isinstance(made, tuple) else (made, None, {})
    words = sys.stdout
    if request.format == "csv":
        from bavlo.formats.tables import csv

        csv.write(result.table, sys.stdout)
        words = sys.stderr
    if request.outputs or events is not None:
        write_all(request, result, events, drawing)
    if not request.outputs and not request.format:
        print(f"{result.title}\n\n{preview(result.table)}\n")
    if not given["quiet"]:
        for line in result.summary[:MOST_LINES]:
            print(line, file=words)
        if len(result.summary) > MOST_LINES:
            print(f"… and {len(result.summary) - MOST_LINES} more regions", file=words)
        for path in wanted_files(request):
            print(f"wrote {path}, and how it came to be in {beside(path).name}", file=words)
        if not request.outputs and not request.format:
            print("write it all with --out FILE.csv, draw it with --out FILE.png", file=words)
    screen.finish()
    return 0
