"""`bavlo cache`."""

from __future__ import annotations

from bavlo.cli.parsing import Parser

EXAMPLES = """examples:
  bavlo cache
  bavlo cache --clear
"""


def parser() -> Parser:
    """The command line of `bavlo cache`."""
    options = Parser(
        "cache",
        description="What is kept between runs: overlays of regions and grids that took long to\n"
        "compute. The folder can be set with the variable BAVLO_CACHE.",
        epilog=EXAMPLES,
        usage="bavlo cache [--clear]",
    )
    options.add_argument("--clear", action="store_true", help="remove all of it")
    return options


def run(arguments: list[str]) -> int:
    """Run `bavlo cache`."""
    given = parser().read(arguments)
    from bavlo.regions import cache as overlaycache

    if given["clear"]:
        count, size = overlaycache.clear()
        print(f"removed {_overlays(count)}, {size / 1e6:.1f} MB, from {overlaycache.folder()}")
        return 0
    found = overlaycache.entries()
    size = sum(path.stat().st_size for path in found)
    print(f"{overlaycache.folder()}: {_overlays(len(found))}, {size / 1e6:.1f} MB")
    if found:
        print("remove them with bavlo cache --clear; they are made anew when they are needed")
    return 0


def _overlays(number: int) -> str:
    return "1 overlay" if number == 1 else f"{number} overlays"
