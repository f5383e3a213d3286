"""`bavlo describe`."""

from __future__ import annotations

import json
import math
import shutil
import textwrap
from pathlib import Path

from bavlo.cli.parsing import Parser, add_options
from bavlo.core.errors import RequestError

DESCRIPTION = "What is in a file, and what Bavlo would do with it. Files of one grid go together."

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo describe "sorrel/rain_*.nc"
  bavlo describe sorrel/watersheds.geojson sorrel/districts.zip
"""

OPTIONS = """
    variable level input-unit scale offset dates prefer grid-crs stamp
    day-start utc-offset layer label only merge-by region-crs names strict
"""

INDENT = 11


def parser() -> Parser:
    """The command line of `bavlo describe`."""
    made = Parser(
        "describe",
        description=DESCRIPTION,
        epilog=EXAMPLES,
        usage="bavlo describe FILE… [options]",
    )
    made.add_argument("files", metavar="FILE", nargs="+", help="grids and regions; patterns too")
    add_options(made, OPTIONS.split())
    made.add_argument("--at", metavar="LON,LAT", help="also tell the values of grids at a place")
    made.add_argument("--format", choices=["json"], help="for programs")
    return made


def run(arguments: list[str]) -> int:
    """Run `bavlo describe`."""
    given = parser().read(arguments)
    from bavlo.study.describe import describe
    from bavlo.study.options import make_request
    from bavlo.study.request import expand

    paths: list[Path] = [path for text in given["files"] for path in expand(text)]
    options = {name: given[name] for name in OPTIONS.split()}
    request = make_request("describe", {**options, "grids": given["files"]})
    told = describe(paths, request.reading, request.region_reading, _place(given["at"]))
    if given["format"] == "json":
        data = [{"what": t.heading, **dict(t.facts), "look_at": list(t.doubts)} for t in told]
        print(json.dumps(data, indent=2, ensure_ascii=False))
        return 0
    width = min(shutil.get_terminal_size((100, 40)).columns, 110)
    for n, one in enumerate(told):
        if n:
            print()
        print(one.heading)
        for word, sentence in one.facts:
            print(_wrapped(word, sentence, width))
        for doubt in one.doubts:
            print(_wrapped("look at", doubt, width))
    return 0


def _place(text: str | None) -> tuple[float, float] | None:
    """Read `--at`."""
    if text is None:
        return None
    try:
        lon, lat = (float(part) for part in text.split(","))
    except ValueError:
        lon = lat = math.nan
    if not (abs(lon) <= 540 and abs(lat) <= 90):
        raise RequestError("--at", f"'{text}' is no place", "write it as LON,LAT: --at 80.5,-33")
    return lon, lat


def _wrapped(word: str, sentence: str, width: int) -> str:
    return textwrap.fill(
        sentence,
        width,
        initial_indent=f"  {word:{INDENT - 2}}",
        subsequent_indent=" " * INDENT,
        break_long_words=False,
        break_on_hyphens=False,
    )
