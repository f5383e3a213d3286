"""`bavlo compare`."""

from __future__ import annotations

from bavlo.cli.parsing import Parser
from bavlo.cli.tables import run_table, table_parser

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo compare "gauge=sorrel/rain_*.nc" sat=sorrel/satellite_rain.nc \\
      --regions sorrel/watersheds.geojson --every month --out agreement.csv --out agreement.png
  bavlo compare a=sorrel/rain_months.csv b=sorrel/satellite_months.csv --spread
"""


def parser() -> Parser:
    """The command line of `bavlo compare`."""
    return table_parser(
        "compare",
        "Bias, errors and correlation between sources: tables by region and period, or named\n"
        "grids and regions. A source may also be a CSV of your own observations.",
        EXAMPLES,
        "bavlo compare A=TABLE B=TABLE… [options]\n"
        "       bavlo compare A=GRID B=GRID… --regions FILE [options]",
    )


def run(arguments: list[str]) -> int:
    """Run `bavlo compare`."""
    return run_table("compare", parser(), arguments)
