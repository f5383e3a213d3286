"""`bavlo series`."""

from __future__ import annotations

from bavlo.cli.parsing import Parser
from bavlo.cli.tables import run_table, table_parser

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo series "sorrel/rain_*.nc" --regions sorrel/watersheds.geojson --every month
  bavlo series "sorrel/tmax_*.nc" --regions sorrel/districts.zip --label name --every year \\
      --measure mean,p90 --unit degC --out tmax.csv --out tmax.png
"""


def parser() -> Parser:
    """The command line of `bavlo series`."""
    return table_parser(
        "series",
        "Values by region and period, from grids and regions.",
        EXAMPLES,
        "bavlo series GRID… --regions FILE [options]",
    )


def run(arguments: list[str]) -> int:
    """Run `bavlo series`."""
    return run_table("series", parser(), arguments)
