"""`bavlo chart`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from bavlo.cli.parsing import Parser

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo chart sorrel/rain_years.csv --kind totals --base 1991..2020 --out rain.svg
  bavlo chart sorrel/rain_months.csv --kind years --only "Upper *" --out years.png
"""


def parser() -> Parser:
    """The command line of `bavlo chart`."""
    from bavlo.figures import KINDS

    kinds = "\n".join(
        f"  {kind.name:8} {kind.meaning} ({', '.join(kind.tables)})" for kind in KINDS.values()
    )
    made = Parser(
        "chart",
        description="A figure of a table that Bavlo wrote.",
        epilog=f"kinds of chart, the first that suits a table being its usual one:\n{kinds}\n\n"
        + EXAMPLES,
        usage="bavlo chart TABLE.csv… --out FILE [options]",
    )
    made.add_argument(
        "tables", metavar="TABLE.csv", nargs="+", help="what a command wrote with --out"
    )
    made.add_argument(
        "--out", metavar="FILE", action="append", help="a .png, .svg or .pdf; repeatable"
    )
    made.add_argument("--kind", choices=KINDS, metavar="KIND", help="one of those below")
    made.add_argument(
        "--only", metavar="NAME", action="append", help="only this region, or those that match"
    )
    made.add_argument(
        "--pick",
        metavar="COLUMN=VALUE",
        action="append",
        help="which measure, condition, count, … where a table has several; repeatable",
    )
    made.add_argument(
        "--base", metavar="FIRST..LAST", help="years of means and bands (default: all)"
    )
    made.add_argument("--title", metavar="TEXT", help="heading (default: made from the table)")
    made.add_argument("--replace", action="store_true", help="write over files that exist")
    return made


def run(arguments: list[str]) -> int:
    """Run `bavlo chart`."""
    given = parser().read(arguments)
    from bavlo.cli.writing import figure_outputs, write_figure
    from bavlo.core.normals import parse_base
    from bavlo.figures import draw
    from bavlo.formats.tables import csv
    from bavlo.study.request import parse_pick

    outputs = figure_outputs(given["out"], replace=given["replace"])
    tables = []
    for text in given["tables"]:
        path = Path(text).expanduser()
        table = csv.read(path)
        for pick in given["pick"] or ():
            table = table.where(*parse_pick(pick))
        tables.append(_only(path, table, tuple(given["only"] or ())))
    title = given["title"] or " and ".join(dict.fromkeys(_title(table) for table in tables))
    base = parse_base(given["base"]) if given["base"] else None
    write_figure(outputs, lambda: draw(tables, title, given["kind"], base=base))
    for path in outputs:
        print(f"wrote {path}")
    return 0


def _only(path: Path, table: Any, only: tuple[str, ...]) -> Any:
    """The table of some regions, be they an axis of it or named in each row."""
    from bavlo.formats.regions import chosen

    if "region" in table.axes:
        return table.take("region", chosen(path, table.labels("region"), only))
    names = table.labels("region")
    different = list(dict.fromkeys(names))
    kept = {different[n] for n in chosen(path, different, only)}
    return table.take("row", [n for n, name in enumerate(names) if name in kept])


def _title(table: Any) -> str:
    """What a table holds, in words."""
    names = {"normals": "Normals of ", "anomalies": "Anomalies of ", "events": "Events: "}
    names["return levels"] = "Return levels of "
    about = "condition" if "condition" in table.header else "variable"
    title = names.get(table.name, "") + ", ".join(dict.fromkeys(table.labels(about)))
    if table.name == "extremes":
        title += f": {' and '.join(table.along('count', 'count'))}".replace(": index", "")
    if "combine" in table.header and table.labels("combine")[0]:
        title += f" ({table.labels('combine')[0]} of each period)"
    return title
