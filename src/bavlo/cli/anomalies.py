"""`bavlo anomalies`."""

from __future__ import annotations

from bavlo.cli.parsing import Parser
from bavlo.cli.tables import run_table, table_parser

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo anomalies "sorrel/rain_*.nc" --regions sorrel/watersheds.geojson --every season \\
      --during 2017-12..2018-11
  bavlo anomalies sorrel/rain_months.csv --score spi --window 1,3,12 --out spi.csv
"""


def parser() -> Parser:
    """The command line of `bavlo anomalies`."""
    return table_parser(
        "anomalies",
        "Value, normal, anomaly, percent of normal, score and rank of every period. From grids\n"
        "and regions, or from a table that `bavlo series` wrote.",
        EXAMPLES,
        "bavlo anomalies GRID… --regions FILE [options]\n"
        "       bavlo anomalies SERIES.csv [options]",
    )


def run(arguments: list[str]) -> int:
    """Run `bavlo anomalies`."""
    return run_table("anomalies", parser(), arguments)
