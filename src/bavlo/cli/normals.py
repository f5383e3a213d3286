"""`bavlo normals`."""

from __future__ import annotations

from bavlo.cli.parsing import Parser
from bavlo.cli.tables import run_table, table_parser

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo normals sorrel/rain_months.csv
  bavlo normals "sorrel/tmax_*.nc" --regions sorrel/districts.zip --label name --every season \\
      --unit degC --base 1991..2020 --statistic mean,p10,p90
"""


def parser() -> Parser:
    """The command line of `bavlo normals`."""
    return table_parser(
        "normals",
        "The climatology: what is usual in each region and period of the year, over the base\n"
        "years. From grids and regions, or from a table that `bavlo series` wrote.",
        EXAMPLES,
        "bavlo normals GRID… --regions FILE [options]\n       bavlo normals SERIES.csv [options]",
    )


def run(arguments: list[str]) -> int:
    """Run `bavlo normals`."""
    return run_table("normals", parser(), arguments)
