"""`bavlo extremes`."""

from __future__ import annotations

from typing import Any

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
    made = table_parser(
        "extremes",
        "Counts of conditions, ETCCDI indices, events and return levels by region and period.",
        EXAMPLES,
        "bavlo extremes GRID… --regions FILE --when CONDITION [options]\n"
        "       bavlo extremes GRID… --regions FILE --index NAME,… [options]\n"
        "       bavlo extremes GRID… --regions FILE --return-levels 2,10,50 [options]\n"
        "       bavlo extremes --list",
        "when count index test-on spell-edge events area-share wet-day no-bootstrap return-levels "
        "fit base scratch",
        without="combine complete",
    )
    made.add_argument("--list", action="store_true", help="explain every index and count in a line")
    return made


def run(arguments: list[str]) -> int:
    """Run `bavlo extremes`."""
    if "--list" in arguments:
        print(_listed())
        return 0
    return run_table("extremes", parser(), arguments, _compute)


def _compute(request: Any, listener: Any) -> Any:
    if request.return_levels:
        from bavlo.study.returnlevels import return_level_table

        result, highest = return_level_table(request, listener)
        return result, None, {"highest": highest}
    from bavlo.study.extremes import extremes

    result, events = extremes(request, listener)
    return result, events, {}


def _listed() -> str:
    """Every index with its unit, periods and definition, and every count."""
    import textwrap

    from bavlo.core.indices import INDICES

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
    lines += [f"  {name:8} {what}" for name, what in COUNTS.items()]
    return "\n".join(lines)


COUNTS = {
    "days": "steps that meet it (with `for N days`: in spells of at least N)",
    "share": "these as a share of the steps with data",
    "spells": "spells that end in the period",
    "longest": "whole length of the longest of them",
    "total": "rain of the steps that meet it",
    "excess": "how far they are beyond the threshold, added up",
    "first": "day of the period on which it is first met, 1 its first day",
    "last": "day of the period on which it is last met",
}
