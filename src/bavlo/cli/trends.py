"""`bavlo trends`."""

from __future__ import annotations

from bavlo.cli.parsing import Parser
from bavlo.cli.tables import run_table, table_parser

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo trends "sorrel/tmax_*.nc" --regions sorrel/watersheds.geojson --every season
  bavlo trends sorrel/rain_years.csv --autocorrelation hamed-rao --out trends.csv \\
      --out trends.png
"""


def parser() -> Parser:
    """The command line of `bavlo trends`."""
    return table_parser(
        "trends",
        "Slope a decade, its confidence interval and its significance, by region and period of\n"
        "the year. From grids and regions, or from a table of series or extremes.",
        EXAMPLES,
        "bavlo trends GRID… --regions FILE [options]\n       bavlo trends TABLE [options]",
    )


def run(arguments: list[str]) -> int:
    """Run `bavlo trends`."""
    return run_table("trends", parser(), arguments)
