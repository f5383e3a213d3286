"""`bavlo grid`."""

from __future__ import annotations

from bavlo.cli.parsing import Parser, add_options
from bavlo.cli.screen import Screen, shown
from bavlo.errors import RequestError

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo grid "sorrel/rain_*.nc" --every season --as anomaly --during 2018-06..2018-08 \\
      --regions sorrel/watersheds.geojson --out wet.tif
  bavlo grid tmax=sorrel/tmax_1991-2000.nc tmin=sorrel/tmin_1991-2000.nc \\
      --make "tmean = (tmax + tmin) / 2" --every month --unit degC --out tmean.nc
"""


def parser(command: str) -> Parser:
    """The command line of `bavlo grid`."""
    options = Parser(
        "grid",
        description="A grid again: files joined, cut to regions, brought onto other cells,\n"
        "combined over periods, as values, normals or anomalies. Written as CF NetCDF (.nc) or\n"
        "cloud-optimised GeoTIFF (.tif, a band for each period).",
        epilog=EXAMPLES,
        usage="bavlo grid GRID… --out FILE [options]",
    )
    options.add_argument("grids", metavar="GRID", nargs="*", help="files, patterns, NAME=PATH")
    add_options(options, "grid")
    return options


def run(command: str, arguments: list[str]) -> int:
    """Run `bavlo grid`."""
    given = parser(command).read(arguments)
    if not given["out"]:
        raise RequestError("out", "no file was named", "give a .nc or .tif")
    from bavlo.jobs.driver import make_grid
    from bavlo.request.filling import make_request
    from bavlo.tables.formats import beside

    request = make_request("grid", given)
    screen = Screen(quiet=given["quiet"], verbose=given["verbose"])
    try:
        summary = make_grid(request, screen)
    finally:
        screen.close()
    if not given["quiet"]:
        for line in summary:
            print(shown(line))
        for path in request.output.out:
            print(shown(f"wrote {path}, and how it came to be in {beside(path).name}"))
    screen.finish()
    return 0
