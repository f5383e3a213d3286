"""`bavlo chart`."""

from __future__ import annotations

from pathlib import Path

from bavlo.cli.parsing import Parser
from bavlo.core.errors import RequestError

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo chart sorrel/rain_years.csv --out rain.svg
  bavlo chart sorrel/heat.csv --out heat.pdf --title "How hot the districts get"
"""


def parser() -> Parser:
    """The command line of `bavlo chart`."""
    made = Parser(
        "chart",
        description="A figure of a table that Bavlo wrote: series, normals or anomalies.",
        epilog=EXAMPLES,
        usage="bavlo chart TABLE.csv --out FILE [options]",
    )
    made.add_argument("table", metavar="TABLE.csv", help="what a command wrote with --out")
    made.add_argument(
        "--out", metavar="FILE", action="append", help="a .png, .svg or .pdf; repeatable"
    )
    made.add_argument("--title", metavar="TEXT", help="heading (default: made from the table)")
    made.add_argument("--replace", action="store_true", help="write over files that exist")
    return made


def run(arguments: list[str]) -> int:
    """Run `bavlo chart`."""
    given = parser().read(arguments)
    if not given["out"]:
        raise RequestError("--out", "no figure was named", "give a .png, .svg or .pdf")
    from bavlo.cli.writing import check_endings, write_charts
    from bavlo.formats.outputs import check_outputs
    from bavlo.formats.tables import csv

    outputs = [Path(text).expanduser() for text in given["out"]]
    check_endings(outputs, charts_only=True)
    check_outputs(outputs, replace=given["replace"])
    table = csv.read(Path(given["table"]))
    names = {"series": "", "normals": "Normals of ", "anomalies": "Anomalies of "}
    title = names[table.name] + table.labels("variable")[0]
    if "combine" in table.header and table.labels("combine")[0]:
        title += f" ({table.labels('combine')[0]} of each period)"
    title = given["title"] or title
    write_charts(outputs, table, title)
    for path in outputs:
        print(f"wrote {path}")
    return 0
