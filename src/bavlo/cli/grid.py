"""`bavlo grid`."""

from __future__ import annotations

from contextlib import ExitStack

from bavlo.cli.parsing import Parser, add_options
from bavlo.cli.screen import Screen
from bavlo.core.errors import RequestError

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo grid "sorrel/rain_*.nc" --every season --as anomaly --during 2018-06..2018-08 \\
      --regions sorrel/watersheds.geojson --out wet.tif
  bavlo grid tmax=sorrel/tmax_1991-2000.nc tmin=sorrel/tmin_1991-2000.nc \\
      --make "tmean = (tmax + tmin) / 2" --every month --unit degC --out tmean.nc
"""

OPTIONS = """
    regions layer label only merge-by region-crs names strict outside make variable level
    input-unit scale offset dates prefer grid-crs stamp day-start utc-offset during every
    year-start combine min-steps complete as base smooth onto min-area unit replace quiet verbose
    jobs memory scratch
""".split()


def parser() -> Parser:
    """The command line of `bavlo grid`."""
    made = Parser(
        "grid",
        description="A grid again: files joined, cut to regions, brought onto other cells,\n"
        "combined over periods, as values, normals or anomalies. Written as CF NetCDF (.nc) or\n"
        "cloud-optimised GeoTIFF (.tif, a band for each period).",
        epilog=EXAMPLES,
        usage="bavlo grid GRID… --out FILE [options]",
    )
    made.add_argument("grids", metavar="GRID", nargs="*", help="files, patterns, NAME=PATH")
    add_options(made, OPTIONS)
    made.add_argument(
        "--out", metavar="FILE", action="append", help="a .nc or .tif; repeatable", dest="out"
    )
    return made


def run(arguments: list[str]) -> int:
    """Run `bavlo grid`."""
    given = parser().read(arguments)
    if not given["out"]:
        raise RequestError("--out", "no file was named", "give a .nc or .tif")
    from bavlo.cli.writing import beside
    from bavlo.formats.grids.writing import ENDINGS, grid_writer
    from bavlo.formats.outputs import check_outputs, whole_files
    from bavlo.study.gridding import grid
    from bavlo.study.options import make_request
    from bavlo.study.provenance import as_json

    request = make_request("grid", given)
    for path in request.outputs:
        if path.suffix.lower() not in ENDINGS:
            raise RequestError(
                "--out", f"{path}: the ending '{path.suffix}' is not known", "use .nc or .tif"
            )
    check_outputs(request.outputs, replace=request.replace)
    screen = Screen(quiet=given["quiet"], verbose=given["verbose"])
    try:
        result = grid(request, screen)
        wanted = [path for out in request.outputs for path in (out, beside(out))]
        with whole_files(wanted) as drafts:
            with ExitStack() as stack:
                writers = [
                    stack.enter_context(
                        grid_writer(drafts[path], path.suffix.lower(), result.output)
                    )
                    for path in request.outputs
                ]
                summary = result.fill(writers)
            for path in request.outputs:
                drafts[beside(path)].write_text(as_json(result.about), encoding="utf-8")
    finally:
        screen.close()
    if not given["quiet"]:
        print(f"{result.output.long_name}, in {result.output.unit or 'no unit'}")
        for line in summary:
            print(line)
        for path in request.outputs:
            print(f"wrote {path}, and how it came to be in {beside(path).name}")
    screen.finish()
    return 0
