"""`bavlo series`."""

from __future__ import annotations

import sys

from bavlo.cli.parsing import Parser, add_options
from bavlo.cli.screen import Screen, preview
from bavlo.cli.writing import beside, check, write_all

OPTIONS = """
    regions layer label only merge-by region-crs names strict variable level input-unit scale
    offset dates prefer grid-crs stamp day-start utc-offset during every combine min-steps
    measure order weight weight-kind at-points min-area unit out format replace quiet verbose
    jobs memory
""".split()

DESCRIPTION = "Values by region and period, from grids and regions."

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo series "sorrel/rain_*.nc" --regions sorrel/watersheds.geojson --every month
  bavlo series "sorrel/tmax_*.nc" --regions sorrel/districts.zip --every year \\
      --measure mean,p90 --unit degC --out tmax.csv --out tmax.png
"""


def parser() -> Parser:
    """The command line of `bavlo series`."""
    made = Parser(
        "series",
        description=DESCRIPTION,
        epilog=EXAMPLES,
        usage="bavlo series GRID… --regions FILE [options]",
    )
    made.add_argument(
        "grids",
        metavar="GRID",
        nargs="*",
        help="a file, a quoted pattern or a folder; several are one grid",
    )
    add_options(made, OPTIONS)
    return made


def run(arguments: list[str]) -> int:
    """Run `bavlo series`."""
    given = parser().read(arguments)
    from bavlo.study.options import make_request

    request = make_request("series", given)
    check(request)
    screen = Screen(quiet=given["quiet"], verbose=given["verbose"])
    from bavlo.study.series import series

    try:
        result = series(request, screen)
    finally:
        screen.close()
    if request.format == "csv":
        from bavlo.formats.tables import csv

        csv.write(result.table, sys.stdout)
        words = sys.stderr
    elif request.outputs:
        write_all(request, result.table, result.title, result.about)
        words = sys.stdout
    else:
        print(f"{result.title}\n")
        print(preview(result.table))
        print()
        words = sys.stdout
    if not given["quiet"]:
        for line in result.summary:
            print(line, file=words)
        for path in request.outputs:
            print(f"wrote {path}, and how it came to be in {beside(path).name}", file=words)
        if not request.outputs and not request.format:
            print("write it all with --out FILE.csv, draw it with --out FILE.png", file=words)
    screen.finish()
    return 0
