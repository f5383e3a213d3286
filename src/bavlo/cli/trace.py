"""`bavlo trace`."""

from __future__ import annotations

from typing import TYPE_CHECKING

from bavlo.cli.parsing import Parser, add_options
from bavlo.cli.screen import Screen, shown
from bavlo.tables.csv import number_text

if TYPE_CHECKING:
    from bavlo.jobs.trace import Trace
    from bavlo.jobs.trace_lines import Line

EXAMPLES = """examples on the demo data (made by `bavlo demo`):
  bavlo trace sorrel/rain_years.csv --region Ombrel --period 2007
  bavlo trace sorrel/heavy.csv --region Ombrel --period 2007 --pick count=days --out days.csv
"""
NOT_MET = "not met"  # of steps on which a condition does not hold
MOST = {"cell": 20, "step": 12, "year": 40, "pair": 24}  # lines on the screen
HEADS = {
    "number": "The number",
    "request": "Asked for",
    "file": "Files",
    "parent row": "The table behind it",
    "rule": "Rules",
    "year": "Years",
    "pair": "Values of the sources",
    "step": "Steps",
    "cell": "Cells, the heaviest first",
    "neighbour": "Neighbours of the percentile",
}


def parser(command: str) -> Parser:
    """The command line of `bavlo trace`."""
    options = Parser(
        "trace",
        description="How one number of a table came to be: it is made again from what is\n"
        "recorded, with the files, rules, steps and cells behind it. The exit status is 1 where\n"
        "it does not come back.",
        epilog=EXAMPLES,
        usage="bavlo trace TABLE --region NAME --period P [options]",
    )
    options.add_argument("grids", metavar="TABLE", nargs=1, help="what a command wrote with --out")
    add_options(options, "trace")
    return options


def run(command: str, arguments: list[str]) -> int:
    """Run `bavlo trace`."""
    given = parser(command).read(arguments)
    from bavlo.jobs.trace import trace
    from bavlo.jobs.writing import check, wanted_files, write_all
    from bavlo.request.filling import make_request

    request = make_request("trace", given)
    check(request)
    screen = Screen(quiet=given["quiet"], verbose=given["verbose"])
    try:
        traced = trace(request, screen)
    finally:
        screen.close()
    if wanted_files(request):
        write_all(request, traced.result)
    if not given["quiet"]:
        for line in in_words(traced):
            print(shown(line))
        for path in wanted_files(request):
            print(f"wrote {path}")
    screen.finish()
    return 0 if traced.came_back else 1


def in_words(traced: Trace) -> list[str]:
    """What the screen shows."""
    out = [traced.result.title, ""]
    for part, head in HEADS.items():
        lines = [line for line in traced.lines if line.part == part]
        if not lines:
            continue
        out.append(head)
        shown = [line for line in lines if line.note != NOT_MET][: MOST.get(part, len(lines))]
        out += [f"  {text}" for text in _aligned(shown)]
        if len(lines) > len(shown):
            out.append(f"  … and {len(lines) - len(shown)} more; --out FILE.csv has all")
        out.append("")
    if traced.came_back:
        out.append("The number comes back, to the last digit that the table holds.")
    for name, before, now in traced.differences:
        out.append(f"The {name} does not come back: recorded {before!r}, found {now!r}.")
    return out


def _aligned(lines: list[Line]) -> list[str]:
    """Lines of one part, their columns below each other."""
    rows = [[line.item, *_numbers(line), line.note] for line in lines]
    widths = [max(len(row[n]) for row in rows) for n in range(len(rows[0]))]
    return ["  ".join(cell.ljust(w) for cell, w in zip(row, widths, strict=True)).rstrip()
            for row in rows]  # fmt: skip


def _numbers(line: Line) -> list[str]:
    """What a line has besides its name and note, as texts."""
    value = "" if line.value != line.value else f"{line.value:.10g} {line.unit}".strip()
    if line.part == "number":
        value = f"{number_text(line.value)} {line.unit}".strip()
    place = "" if line.x != line.x else f"{line.x:.4f}, {line.y:.4f}"
    size = f"{line.area:.2f}" if line.area >= 1 else f"{line.area:.3g}"
    area = "" if line.area != line.area else f"{size} km2"
    share = "" if line.share != line.share or line.part == "step" else f"{line.share:.2%}"
    weight = "" if line.weight != line.weight else f"weight {line.weight:.3%}"
    partly = line.valid == line.valid and line.valid < 1
    return [value, place, area, share, weight, f"{line.valid:.0%} valid" if partly else ""]
