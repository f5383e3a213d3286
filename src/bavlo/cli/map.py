"""`bavlo map`."""

from __future__ import annotations

from bavlo.cli.parsing import Parser, add_options
from bavlo.cli.screen import Screen

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo map sorrel/rain_years.csv --regions sorrel/watersheds.geojson --period 2007 --out wet.png
  bavlo map sorrel/people.tif --regions sorrel/watersheds.geojson --classes quantile --out p.svg
"""
OPTIONS = (
    "regions layer label only merge-by region-crs names strict variable level input-unit dates"
).split()


def parser() -> Parser:
    """The command line of `bavlo map`."""
    made = Parser(
        "map",
        description="A map: regions coloured by a column of a table, or the cells of a grid.",
        epilog=EXAMPLES,
        usage="bavlo map TABLE.csv --regions FILE --out FILE [options]\n"
        "       bavlo map GRID… --out FILE [options]",
    )
    made.add_argument("files", metavar="FILE", nargs="+", help="a table, or the files of a grid")
    made.add_argument(
        "--column",
        metavar="NAME",
        help="column to colour by (default: value, of anomalies anomaly)",
    )
    made.add_argument(
        "--period",
        metavar="P",
        action="append",
        help="period or step, as its label; several give a map each, `all` all of them "
        "(default: the last with values)",
    )
    made.add_argument(
        "--pick",
        metavar="COLUMN=VALUE",
        action="append",
        help="which measure, window, count, … where a table has several; repeatable",
    )
    made.add_argument(
        "--classes",
        metavar="HOW",
        default="equal",
        help="equal, quantile or limits such as 0,50,100 (default: equal)",
    )
    made.add_argument("--beneath", metavar="GRID", help="a grid to draw in grey under the regions")
    add_options(made, OPTIONS)
    made.add_argument("--title", metavar="TEXT", help="heading (default: made from the table)")
    made.add_argument(
        "--out", metavar="FILE", action="append", help="a .png, .svg or .pdf; repeatable"
    )
    made.add_argument("--replace", action="store_true", help="write over files that exist")
    made.add_argument("--quiet", action="store_true", help="no notes")
    return made


def run(arguments: list[str]) -> int:
    """Run `bavlo map`."""
    given = parser().read(arguments)
    from bavlo.cli.writing import figure_outputs, write_figure
    from bavlo.figures.maps import draw_map
    from bavlo.study.mapping import MapRequest, map_content
    from bavlo.study.options import make_request
    from bavlo.study.request import expand, parse_pick

    outputs = figure_outputs(given["out"], replace=given["replace"])
    plain = make_request("map", {**{n: given[n] for n in OPTIONS}, "grids": given["files"]})
    screen = Screen(quiet=given["quiet"], verbose=True)
    content = map_content(
        MapRequest(
            plain.grids[0].paths,
            plain.regions,
            plain.region_reading,
            plain.reading,
            given["column"],
            tuple(given["period"] or ()),
            tuple(parse_pick(text) for text in given["pick"] or ()),
            expand(given["beneath"])[0] if given["beneath"] else None,
            given["title"],
        ),
        screen,
    )
    write_figure(outputs, lambda: draw_map(content, given["classes"]))
    for path in outputs:
        print(f"wrote {path}")
    screen.finish()
    return 0
