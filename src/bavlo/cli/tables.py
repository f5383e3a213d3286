"""What the commands that give a table have in common: read, compute, write or preview."""

from __future__ import annotations

import sys
import time
from typing import NamedTuple

from bavlo.cli.endings import for_data
from bavlo.cli.parsing import Parser, add_options
from bavlo.cli.preview import preview
from bavlo.cli.screen import Screen, shown
from bavlo.jobs.writing import check, wanted_files, write_all
from bavlo.tables.formats import Companions, beside, holds_about
from bavlo.tables.layouts import laid_out

MOST_LINES = 24
ON_DEMO_DATA = "examples on the demo data (made by `bavlo demo`):\n"


class TableCommand(NamedTuple):
    """What the help of a command that gives a table says."""

    description: str
    usage: str
    examples: str


TABLE_COMMANDS = {
    "series": TableCommand(
        "Values by region and period, from grids and regions.",
        "bavlo series GRID… --regions FILE [options]",
        """\
  bavlo series "sorrel/rain_*.nc" --regions sorrel/watersheds.geojson --every month
  bavlo series "sorrel/tmax_*.nc" --regions sorrel/districts.zip --label name --every year \\
      --measure mean,p90 --unit degC --out tmax.csv --out tmax.png
""",
    ),
    "normals": TableCommand(
        "The climatology: what is usual in each region and period of the year, over the base\n"
        "years. From grids and regions, or from a table that `bavlo series` wrote.",
        "bavlo normals GRID… --regions FILE [options]\n       bavlo normals SERIES.csv [options]",
        """\
  bavlo normals sorrel/rain_months.csv
  bavlo normals "sorrel/tmax_*.nc" --regions sorrel/districts.zip --label name --every season \\
      --unit degC --base 1991..2020 --statistic mean,p10,p90
""",
    ),
    "anomalies": TableCommand(
        "Value, normal, anomaly, percent of normal, score and rank of every period. From grids\n"
        "and regions, or from a table that `bavlo series` wrote.",
        "bavlo anomalies GRID… --regions FILE [options]\n"
        "       bavlo anomalies SERIES.csv [options]",
        """\
  bavlo anomalies "sorrel/rain_*.nc" --regions sorrel/watersheds.geojson --every season \\
      --during 2017-12..2018-11
  bavlo anomalies sorrel/rain_months.csv --score spi --window 1,3,12 --out spi.csv
""",
    ),
    "extremes": TableCommand(
        "Counts of conditions, ETCCDI indices, events and return levels by region and period.",
        "bavlo extremes GRID… --regions FILE --when CONDITION [options]\n"
        "       bavlo extremes GRID… --regions FILE --index NAME,… [options]\n"
        "       bavlo extremes GRID… --regions FILE --return-levels 2,10,50 [options]\n"
        "       bavlo extremes --list",
        """\
  bavlo extremes "sorrel/rain_*.nc" --regions sorrel/watersheds.geojson --when "rain >= 20 mm" \\
      --count days,longest --every year
  bavlo extremes "tmax=sorrel/tmax_*.nc" "tmin=sorrel/tmin_*.nc" --regions sorrel/districts.zip \\
      --label name --index TX90p,WSDI,TR --test-on region --out indices.csv
""",
    ),
    "trends": TableCommand(
        "Slope a decade, its confidence interval and its significance, by region and period of\n"
        "the year. From grids and regions, or from a table of series or extremes.",
        "bavlo trends GRID… --regions FILE [options]\n       bavlo trends TABLE [options]",
        """\
  bavlo trends "sorrel/tmax_*.nc" --regions sorrel/watersheds.geojson --every season
  bavlo trends sorrel/rain_years.csv --autocorrelation hamed-rao --out trends.csv \\
      --out trends.png
""",
    ),
    "compare": TableCommand(
        "Bias, errors and correlation between sources: tables by region and period, or named\n"
        "grids and regions. A source may also be a CSV of your own observations.",
        "bavlo compare A=TABLE B=TABLE… [options]\n"
        "       bavlo compare A=GRID B=GRID… --regions FILE [options]",
        """\
  bavlo compare "gauge=sorrel/rain_*.nc" sat=sorrel/satellite_rain.nc \\
      --regions sorrel/watersheds.geojson --every month --out agreement.csv --out agreement.png
  bavlo compare a=sorrel/rain_months.csv b=sorrel/satellite_months.csv --spread
""",
    ),
}


def parser(command: str) -> Parser:
    """The command line of a command that gives a table."""
    own = TABLE_COMMANDS[command]
    options = Parser(
        command,
        description=own.description,
        epilog=ON_DEMO_DATA + own.examples,
        usage=own.usage,
    )
    options.add_argument(
        "grids",
        metavar="GRID",
        nargs="*",
        help="a file, a quoted pattern, a folder or a URL; several are one grid, or several grids "
        "as NAME=PATH",
    )
    add_options(options, command)
    if command == "extremes":
        options.add_argument(
            "--list", action="store_true", help="explain every index and count in a line"
        )
    return options


def run(command: str, arguments: list[str]) -> int:
    """Make the table of a command and bring it where it was asked for."""
    if command == "extremes" and "--list" in arguments:
        from bavlo.cli.topics import indices_and_counts

        print(indices_and_counts())
        return 0
    given = parser(command).read(arguments)
    from bavlo.jobs.driver import table_of
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
