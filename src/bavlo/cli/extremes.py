"""`bavlo extremes`."""

from __future__ import annotations

from bavlo.cli.parsing import Parser
from bavlo.cli.tables import run_table, table_parser

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo extremes "sorrel/rain_*.nc" --regions sorrel/watersheds.geojson --when "rain >= 20 mm" \\
      --count days,longest --every year
  bavlo extremes "tmax=sorrel/tmax_*.nc" "tmin=sorrel/tmin_*.nc" --regions sorrel/districts.zip \\
      --label name --index TX90p,WSDI,TR --test-on region --out indices.csv
"""


def parser() -> Parser:
    """The command line of `bavlo extremes`."""
    options = table_parser(
        "extremes",
        "Counts of conditions, ETCCDI indices, events and return levels by region and period.",
        EXAMPLES,
        "bavlo extremes GRID… --regions FILE --when CONDITION [options]\n"
        "       bavlo extremes GRID… --regions FILE --index NAME,… [options]\n"
        "       bavlo extremes GRID… --regions FILE --return-levels 2,10,50 [options]\n"
        "       bavlo extremes --list",
    )
    options.add_argument(
        "--list", action="store_true", help="explain every index and count in a line"
    )
    return options


def run(arguments: list[str]) -> int:
    """Run `bavlo extremes`."""
    if "--list" in arguments:
        print(_listed())
        return 0
    return run_table("extremes", parser(), arguments)


def _listed() -> str:
    """Every index with its unit, periods and definition, and every count."""
    import textwrap

    from bavlo.core.conditions.counts import COUNTS
    from bavlo.core.conditions.indices import INDICES

    lines = ["ETCCDI indices (Zhang et al. 2011; RR rain, TX and TN highest and lowest, TG mean):"]
    for index in INDICES.values():
        head = f"  {index.name:8} {index.unit:9} {'/'.join(index.periods):11} "
        lines.append(
            textwrap.fill(
                f"{index.title}: {index.definition}",
                100,
                initial_indent=head,
                subsequent_indent=" " * len(head),
            )
        )
    lines += ["", "counts of --when:"]
    lines += [f"  {name:8} {count.meaning}" for name, count in COUNTS.items()]
    return "\n".join(lines)
