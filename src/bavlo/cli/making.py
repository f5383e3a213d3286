"""The commands that make a table, a grid, a figure or a page: read, make, write or preview."""

from __future__ import annotations

import sys
import time
from typing import TYPE_CHECKING, NamedTuple

from bavlo.cli.parsing import Parser, add_options
from bavlo.errors import RequestError

if TYPE_CHECKING:
    from bavlo.jobs.driver import Made
    from bavlo.jobs.result import TableResult
    from bavlo.request.request import OutputRequest, Request

MOST_LINES = 24
ON_DEMO_DATA = "examples on the demo data (made by `bavlo demo`):\n"


class Operands(NamedTuple):
    """What a command is given besides options: a word for it, its help, and how many."""

    metavar: str
    help: str
    number: str = "*"


GRIDS = Operands(
    "GRID",
    "a file, a quoted pattern, a folder or a URL; several are one grid, or several grids as "
    "NAME=PATH",
)


class Entry(NamedTuple):
    """What the help of a command says."""

    description: str
    usage: str
    examples: str
    operands: Operands = GRIDS


COMMANDS = {
    "series": Entry(
        "Values by region and period, from grids and regions.",
        "bavlo series GRID… --regions FILE [options]",
        """\
  bavlo series "sorrel/rain_*.nc" --regions sorrel/watersheds.geojson --every month
  bavlo series "sorrel/tmax_*.nc" --regions sorrel/districts.zip --label name --every year \\
      --measure mean,p90 --unit degC --out tmax.csv --out tmax.png
""",
    ),
    "normals": Entry(
        "The climatology: what is usual in each region and period of the year, over the base\n"
        "years. From grids and regions, or from a table that `bavlo series` wrote.",
        "bavlo normals GRID… --regions FILE [options]\n       bavlo normals SERIES.csv [options]",
        """\
  bavlo normals sorrel/rain_months.csv
  bavlo normals "sorrel/tmax_*.nc" --regions sorrel/districts.zip --label name --every season \\
      --unit degC --base 1991..2020 --statistic mean,p10,p90
""",
    ),
    "anomalies": Entry(
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
    "extremes": Entry(
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
    "trends": Entry(
        "Slope a decade, its confidence interval and its significance, by region and period of\n"
        "the year. From grids and regions, or from a table of series or extremes.",
        "bavlo trends GRID… --regions FILE [options]\n       bavlo trends TABLE [options]",
        """\
  bavlo trends "sorrel/tmax_*.nc" --regions sorrel/watersheds.geojson --every season
  bavlo trends sorrel/rain_years.csv --method hamed-rao --out trends.csv \\
      --out trends.png
""",
    ),
    "compare": Entry(
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
    "grid": Entry(
        "A grid again: files joined, cut to regions, brought onto other cells,\n"
        "combined over periods, as values, normals or anomalies. Written as CF NetCDF (.nc) or\n"
        "cloud-optimised GeoTIFF (.tif, a band for each period).",
        "bavlo grid GRID… --out FILE [options]",
        """\
  bavlo grid "sorrel/rain_*.nc" --every season --as anomaly --during 2018-06..2018-08 \\
      --regions sorrel/watersheds.geojson --out wet.tif
  bavlo grid tmax=sorrel/tmax_1991-2000.nc tmin=sorrel/tmin_1991-2000.nc \\
      --make "tmean = (tmax + tmin) / 2" --every month --unit degC --out tmean.nc
""",
    ),
    "chart": Entry(
        "A figure of a table that Bavlo wrote.",
        "bavlo chart TABLE.csv… --out FILE [options]",
        """\
  bavlo chart sorrel/rain_years.csv --figure totals --base 1991..2020 --out rain.svg
  bavlo chart sorrel/rain_months.csv --figure years --only "Upper *" --out years.png
""",
        Operands("TABLE.csv", "what a command wrote with --out", "+"),
    ),
    "map": Entry(
        "A map: regions coloured by a column of a table, or the cells of a grid.",
        "bavlo map TABLE.csv --regions FILE --out FILE [options]\n"
        "       bavlo map GRID… --out FILE [options]",
        """\
  bavlo map sorrel/rain_years.csv --regions sorrel/watersheds.geojson --period 2007 --out wet.png
  bavlo map sorrel/people.tif --regions sorrel/watersheds.geojson --classes quantile --out p.svg
""",
        Operands("FILE", "a table, or the files of a grid", "+"),
    ),
    "report": Entry(
        "Tables, or all that a study has made, as one page that needs nothing else:\n"
        "what stands out in words, maps and charts, tables that sort and filter, the data to take\n"
        "along, what the columns mean and where every number comes from.",
        "bavlo report STUDY.toml|TABLE… --out page.html [options]",
        """\
  bavlo report sorrel/study.toml --out page.html
  bavlo report sorrel/rain_years.csv sorrel/warming.csv --title "Rain and heat" --out page.html
""",
        Operands("STUDY.toml|TABLE", "a study file, or tables", "+"),
    ),
}


def parser(command: str) -> Parser:
    """The command line of a command."""
    own, epilog = COMMANDS[command], ""
    if command == "chart":
        from bavlo.figures import DRAWINGS

        figures = (f"  {d.name:8} {d.meaning} ({', '.join(d.tables)})" for d in DRAWINGS.values())
        epilog = "figures, the first that suits a table being its usual one:\n"
        epilog += "\n".join(figures) + "\n\n"
    options = Parser(
        command,
        description=own.description,
        epilog=epilog + ON_DEMO_DATA + own.examples,
        usage=own.usage,
    )
    metavar, words, number = own.operands
    options.add_argument("grids", metavar=metavar, nargs=number, help=words)
    add_options(options, command)
    if command == "extremes":
        options.add_argument(
            "--list", action="store_true", help="explain every index and count in a line"
        )
    return options


def run(command: str, arguments: list[str]) -> int:
    """Make what a command line asks for, and bring it where it was asked for."""
    if command == "extremes" and "--list" in arguments:
        from bavlo.cli.topics import indices_and_counts

        print(indices_and_counts())
        return 0
    if command == "chart" and any(text.partition("=")[0] == "--kind" for text in arguments):
        raise RequestError("", "--kind is what the values of a grid are", "say --figure NAME")
    given = parser(command).read(arguments)
    if command == "grid" and not given["out"]:
        raise RequestError("out", "no file was named", "give a .nc or .tif")
    from bavlo.cli.screen import Screen, shown
    from bavlo.jobs.driver import make
    from bavlo.request.filling import make_request

    request = make_request(command, given)
    began, quiet = time.monotonic(), given.get("quiet", False)
    screen = Screen(quiet=quiet, verbose=given.get("verbose", command == "map"))
    try:
        made = make(request, screen, in_words=given.get("describe", False))
    finally:
        screen.close()
    for line in made.words:
        print(shown(line))
    if made.table is not None:
        _show(made.table, request.output)
    if not quiet:
        _tell(made, request, time.monotonic() - began)
    screen.finish()
    return 0


def _show(result: TableResult, output: OutputRequest) -> None:
    """The whole table as CSV or JSON, where that is asked for; some of it, where no file is."""
    from bavlo.cli.screen import shown
    from bavlo.tables.layouts import laid_out

    if not output.format:
        if not output.out:
            from bavlo.cli.preview import preview

            rows = preview(laid_out(result.table, output.layout))
            print(f"{shown(result.title)}\n\n{rows}\n")
        return
    from bavlo.cli.endings import for_data
    from bavlo.tables import csv, json
    from bavlo.tables.formats import Companions

    table = laid_out(result.table, output.layout)
    if output.format == "csv":
        csv.write(table, for_data())
    else:
        json.write(table, for_data(), Companions(result.about))


def _tell(made: Made, request: Request, seconds: float) -> None:
    """What was computed, in how many seconds, and what was written."""
    from bavlo.cli.screen import shown
    from bavlo.tables.formats import beside

    output = request.output
    words = sys.stderr if output.format else sys.stdout
    took = "" if made.table is None else f", in {seconds:.1f} s"
    for n, line in enumerate(made.summary[:MOST_LINES]):
        print(shown(line) + (took if n == 0 else ""), file=words)
    if len(made.summary) > MOST_LINES:
        print(f"… and {len(made.summary) - MOST_LINES} more regions", file=words)
    for path in made.written:
        where = beside(path).name if beside(path).exists() else "it"
        about = "" if request.command == "report" else f", and how it came to be in {where}"
        print(shown(f"wrote {path}{about}"), file=words)
    if made.table is not None and not (output.out or output.format):
        print("write it all with --out FILE.csv, draw it with --out FILE.png", file=words)
