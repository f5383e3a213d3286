"""`bavlo trends`."""

from __future__ import annotations

from typing import TYPE_CHECKING

from bavlo.cli.parsing import Parser
from bavlo.cli.screen import Screen
from bavlo.cli.tables import run_table, table_parser

if TYPE_CHECKING:
    from bavlo.plan.result import TableResult
    from bavlo.request.request import Request

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
    return run_table("trends", parser(), arguments, _compute)


def _compute(request: Request, screen: Screen) -> TableResult:
    from bavlo.commands.trends import trends_of_regions

    return trends_of_regions(request, screen)
