"""`bavlo chart`."""

from __future__ import annotations

from typing import Any

from bavlo.cli.parsing import Parser, add_options
from bavlo.cli.screen import shown
from bavlo.errors import RequestError

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo chart sorrel/rain_years.csv --figure totals --base 1991..2020 --out rain.svg
  bavlo chart sorrel/rain_months.csv --figure years --only "Upper *" --out years.png
"""


def parser(command: str) -> Parser:
    """The command line of `bavlo chart`."""
    from bavlo.figures import DRAWINGS

    figures = "\n".join(
        f"  {each.name:8} {each.meaning} ({', '.join(each.tables)})" for each in DRAWINGS.values()
    )
    options = Parser(
        "chart",
        description="A figure of a table that Bavlo wrote.",
        epilog=f"figures, the first that suits a table being its usual one:\n{figures}\n\n"
        + EXAMPLES,
        usage="bavlo chart TABLE.csv… --out FILE [options]",
    )
    options.add_argument(
        "grids", metavar="TABLE.csv", nargs="+", help="what a command wrote with --out"
    )
    add_options(options, "chart")
    return options


def run(command: str, arguments: list[str]) -> int:
    """Run `bavlo chart`."""
    if any(text.partition("=")[0] == "--kind" for text in arguments):
        raise RequestError("", "--kind is what the values of a grid are", "say --figure NAME")
    given = parser(command).read(arguments)
    from bavlo.jobs.chart import chart
    from bavlo.jobs.findings import in_words
    from bavlo.jobs.writing import figure_outputs, write_figure
    from bavlo.request.filling import make_request

    request = make_request("chart", given)
    outputs = () if only_words(given) else figure_outputs(request.output)
    content = chart(request)
    if given["describe"]:
        print("\n".join(shown(in_words(table)) for table in content.tables))
    if outputs:
        write_figure(request, content.draw)
    for path in () if given["quiet"] else outputs:
        print(shown(f"wrote {path}"))
    return 0


def only_words(given: dict[str, Any]) -> bool:
    """Whether a figure is only to be told in words."""
    return bool(given["describe"]) and not given["out"]
