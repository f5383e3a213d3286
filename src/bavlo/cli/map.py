"""`bavlo map`."""

from __future__ import annotations

from bavlo.cli.chart import only_words
from bavlo.cli.parsing import Parser, add_options
from bavlo.cli.screen import Screen, shown

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo map sorrel/rain_years.csv --regions sorrel/watersheds.geojson --period 2007 --out wet.png
  bavlo map sorrel/people.tif --regions sorrel/watersheds.geojson --classes quantile --out p.svg
"""


def parser(command: str) -> Parser:
    """The command line of `bavlo map`."""
    options = Parser(
        "map",
        description="A map: regions coloured by a column of a table, or the cells of a grid.",
        epilog=EXAMPLES,
        usage="bavlo map TABLE.csv --regions FILE --out FILE [options]\n"
        "       bavlo map GRID… --out FILE [options]",
    )
    options.add_argument("grids", metavar="FILE", nargs="+", help="a table, or the files of a grid")
    add_options(options, "map")
    return options


def run(command: str, arguments: list[str]) -> int:
    """Run `bavlo map`."""
    given = parser(command).read(arguments)
    from bavlo.figures.maps import draw_map
    from bavlo.jobs.findings import map_in_words
    from bavlo.jobs.map import map_content
    from bavlo.jobs.writing import figure_outputs, write_figure
    from bavlo.request.filling import make_request

    request = make_request("map", given)
    outputs = () if only_words(given) else figure_outputs(request.output)
    screen = Screen(quiet=given["quiet"], verbose=True)
    content = map_content(request, screen)
    if given["describe"]:
        print(shown(map_in_words(content)))
    if outputs:
        write_figure(request, lambda: draw_map(content, request.figure.classes))
    for path in () if given["quiet"] else outputs:
        print(shown(f"wrote {path}"))
    screen.finish()
    return 0
