"""`bavlo describe`."""

from __future__ import annotations

import shutil
import textwrap
from pathlib import Path

from bavlo.cli.parsing import Parser, add_options

DESCRIPTION = "What is in a file, and what Bavlo would do with it. Files of one grid go together."

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo describe "sorrel/rain_*.nc"
  bavlo describe sorrel/watersheds.geojson sorrel/districts.zip
"""

OPTIONS = "variable level input-unit scale offset dates prefer grid-crs stamp day-start utc-offset"

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
    return made


def run(arguments: list[str]) -> int:
    """Run `bavlo describe`."""
    given = parser().read(arguments)
    from bavlo.study.describe import describe
    from bavlo.study.options import make_request
    from bavlo.study.request import expand

    paths: list[Path] = [path for text in given["files"] for path in expand(text)]
    request = make_request("describe", {**given, "grids": given["files"]})
    width = min(shutil.get_terminal_size((100, 40)).columns, 110)
    for n, told in enumerate(describe(paths, request.reading)):
        if n:
            print()
        print(told.heading)
        for word, sentence in told.facts:
            print(_wrapped(word, sentence, width))
        for doubt in told.doubts:
            print(_wrapped("look at", doubt, width))
    return 0


def _wrapped(word: str, sentence: str, width: int) -> str:
    return textwrap.fill(
        sentence,
        width,
        initial_indent=f"  {word:{INDENT - 2}}",
        subsequent_indent=" " * INDENT,
        break_long_words=False,
        break_on_hyphens=False,
    )
