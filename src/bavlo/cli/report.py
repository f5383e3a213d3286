"""`bavlo report`."""

from __future__ import annotations

from importlib.util import find_spec

from bavlo.cli.parsing import Parser, add_options
from bavlo.errors import RequestError

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo report sorrel/study.toml --out page.html
  bavlo report sorrel/rain_years.csv sorrel/warming.csv --title "Rain and heat" --out page.html
"""


def parser(command: str) -> Parser:
    """The command line of `bavlo report`."""
    options = Parser(
        "report",
        description="Tables, or all that a study has made, as one page that needs nothing else:\n"
        "what stands out in words, maps and charts, tables that sort and filter, the data to take\n"
        "along, what the columns mean and where every number comes from.",
        epilog=EXAMPLES,
        usage="bavlo report STUDY.toml|TABLE… --out page.html [options]",
    )
    options.add_argument(
        "grids", metavar="STUDY.toml|TABLE", nargs="+", help="a study file, or tables"
    )
    add_options(options, "report")
    return options


def run(command: str, arguments: list[str]) -> int:
    """Run `bavlo report`."""
    given = parser(command).read(arguments)
    if find_spec("jinja2") is None:
        raise RequestError("", "pages need a further library", "pip install 'bavlo[report]'")
    from bavlo.files import whole_files
    from bavlo.jobs.report import report
    from bavlo.jobs.writing import check_endings, check_outputs
    from bavlo.request.filling import make_request

    request = make_request("report", given)
    outputs = request.output.out
    if len(outputs) != 1:
        raise RequestError("out", "one page is written", "name an .html")
    check_endings(outputs, (".html", ".htm"))
    check_outputs(outputs, replace=request.output.replace)
    text = report(request)
    with whole_files(outputs, replace=request.output.replace) as drafts:
        drafts[outputs[0]].write_text(text, encoding="utf-8")
    print(f"wrote {outputs[0]}, {len(text.encode()) / 1e6:.1f} MB")
    return 0
