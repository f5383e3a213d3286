"""What the commands that give a table have in common: read, compute, write or preview."""

from __future__ import annotations

import sys
import time

from bavlo.cli.endings import for_data
from bavlo.cli.parsing import Parser, add_options
from bavlo.cli.preview import preview
from bavlo.cli.screen import Screen, shown
from bavlo.plan.writing import check, wanted_files, write_all
from bavlo.tables.formats import Companions, beside, holds_about
from bavlo.tables.layouts import laid_out

MOST_LINES = 24


def table_parser(command: str, description: str, examples: str, usage: str) -> Parser:
    """A command line with the options of a command that gives a table."""
    options = Parser(command, description=description, epilog=examples, usage=usage)
    options.add_argument(
        "grids",
        metavar="GRID",
        nargs="*",
        help="a file, a quoted pattern, a folder or a URL; several are one grid, or several grids "
        "as NAME=PATH",
    )
    add_options(options, command)
    return options


def run_table(command: str, parser: Parser, arguments: list[str]) -> int:
    """Make the table of a command and bring it where it was asked for."""
    given = parser.read(arguments)
    from bavlo.commands.tables import table_of
    from bavlo.request.filling import make_request

    request = make_request(command, given)
    check(request)
    began = time.monotonic()
    screen = Screen(quiet=given["quiet"], verbose=given["verbose"])
    try:
        result = table_of(request, screen)
    finally:
        screen.close()
    output = request.output
    words = sys.stdout
    if output.format == "csv":
        from bavlo.tables import csv

        csv.write(laid_out(result.table, output.layout), for_data())
        words = sys.stderr
    if output.format == "json":
        from bavlo.tables import json

        companions = Companions(result.about)
        json.write(laid_out(result.table, output.layout), for_data(), companions)
        words = sys.stderr
    if wanted_files(request):
        screen.stage("writing")
        write_all(request, result)
    preview_only = not output.out and not output.format
    if preview_only:
        print(f"{shown(result.title)}\n\n{preview(laid_out(result.table, output.layout))}\n")
    if not given["quiet"]:
        took = f", in {time.monotonic() - began:.1f} s"
        for n, line in enumerate(result.summary[:MOST_LINES]):
            print(shown(line) + (took if n == 0 else ""), file=words)
        if len(result.summary) > MOST_LINES:
            print(f"… and {len(result.summary) - MOST_LINES} more regions", file=words)
        for path in wanted_files(request):
            where = "it" if holds_about(path) else beside(path).name
            print(shown(f"wrote {path}, and how it came to be in {where}"), file=words)
        if preview_only:
            print("write it all with --out FILE.csv, draw it with --out FILE.png", file=words)
    screen.finish()
    return 0
