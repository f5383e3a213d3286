"""`bavlo cache`."""

from __future__ import annotations

from bavlo.cli.parsing import Parser

EXAMPLES = """examples:
  bavlo cache
  bavlo cache --clear
"""


def parser(command: str) -> Parser:
    """The command line of `bavlo cache`."""
    options = Parser(
        "cache",
        description="What is kept between runs: overlays of regions and grids that took long to\n"
        "compute, where the messages of large GRIB files lie, and compiled loops. The folder can\n"
        "be set with the variable BAVLO_CACHE.",
        epilog=EXAMPLES,
        usage="bavlo cache [--clear]",
    )
    options.add_argument("--clear", action="store_true", help="remove all of it")
    return options


def run(command: str, arguments: list[str]) -> int:
    """Run `bavlo cache`."""
    given = parser(command).read(arguments)
    from bavlo import kept

    if given["clear"]:
        count, size = kept.clear()
        print(f"removed {_entries(count)}, {size / 1e6:.1f} MB, from {kept.folder()}")
        return 0
    found = kept.entries()
    size = sum(path.stat().st_size for path in found)
    print(f"{kept.folder()}: {_entries(len(found))}, {size / 1e6:.1f} MB")
    for ending, meaning in kept.MEANING.items():
        number = sum(path.name.endswith(ending) for path in found)
        if number:
            print(f"{number:5} {meaning}")
    if found:
        print("remove them with bavlo cache --clear; they are made anew when they are needed")
    return 0


def _entries(number: int) -> str:
    return "1 entry" if number == 1 else f"{number} entries"
