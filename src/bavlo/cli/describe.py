"""`bavlo describe`."""

from __future__ import annotations

import json
import shutil
import textwrap
from pathlib import Path

from bavlo.cli.parsing import Parser, add_options, as_option
from bavlo.cli.screen import shown
from bavlo.errors import worded

DESCRIPTION = "What is in a file, and what Bavlo would do with it. Files of one grid go together."

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo describe "sorrel/rain_*.nc"
  bavlo describe sorrel/watersheds.geojson sorrel/districts.zip
"""

INDENT = 11


def parser(command: str) -> Parser:
    """The command line of `bavlo describe`."""
    options = Parser(
        "describe",
        description=DESCRIPTION,
        epilog=EXAMPLES,
        usage="bavlo describe FILE… [options]",
    )
    options.add_argument("files", metavar="FILE", nargs="+", help="grids and regions; patterns too")
    add_options(options, "describe")
    return options


def run(command: str, arguments: list[str]) -> int:
    """Run `bavlo describe`."""
    given = parser(command).read(arguments)
    from bavlo.jobs.describe import describe
    from bavlo.request.filling import make_request
    from bavlo.request.parse import expand

    paths: list[Path] = [path for text in given["files"] for path in expand(text)]
    request = make_request("describe", {**given, "grids": given["files"]})
    grids = request.grids
    columns = dict(grids.columns)
    found = describe(paths, grids.reading, request.regions.reading, grids.at, columns)
    if given["format"] == "json":
        data = [
            {
                "what": each.heading,
                **{word: worded(text, as_option) for word, text in each.facts},
                "look_at": [worded(text, as_option) for text in each.doubts],
            }
            for each in found
        ]
        print(json.dumps(data, indent=2, ensure_ascii=False))
        return 0
    width = min(shutil.get_terminal_size((100, 40)).columns, 110)
    for n, one in enumerate(found):
        if n:
            print()
        print(shown(one.heading))
        for word, sentence in one.facts:
            print(_wrapped(word, shown(sentence), width))
        for doubt in one.doubts:
            print(_wrapped("look at", shown(doubt), width))
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
