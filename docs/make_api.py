"""Writes `src/bavlo/api.py` from the table of options: `python docs/make_api.py`."""

import re
import subprocess
import sys
import textwrap
from pathlib import Path

from bavlo.calls import ON_COMMAND_LINE
from bavlo.request.option import Option, named
from bavlo.request.options import options_of

PAGE = Path(__file__).parent.parent / "src" / "bavlo" / "api.py"
WORDS_OF_PYTHON = ("except", "as")
SEVERAL = "str | Sequence[str]"
# The type of what a function reads, where it is no text.
TYPES = {
    "path": "PathLike", "grid_path": "PathLike", "regions": "RegionsLike", "share": "float",
    "number": "float", "cell_size": "float", "share_or_wmo": 'float | Literal["wmo"]',
    "scaling": "float | tuple[float, float]", "hour": "int", "month": "int", "workers": "int",
    "odd_days": "int", "windows": "int | Sequence[int]", "years": "int | Sequence[int]",
    "place": "tuple[float, float]", "box": "tuple[float, float, float, float]",
    "marks": "float | str | Sequence[float]", "levels": "float | str | Sequence[str]",
    "picks": "Mapping[str, str]", "columns": "Mapping[str, str]", "everys": SEVERAL,
    "names": SEVERAL, "measures": SEVERAL, "statistics": SEVERAL, "counts": SEVERAL,
    "indices": SEVERAL, "bavlo.core.stats.normals:parse_base": "str | tuple[int, int]",
}  # fmt: skip
GRIDS = "*grids: GridLike | Mapping[str, GridLike]"
OF_GRIDS = """grids
    Paths, patterns, `bavlo.Array` or labelled arrays; several grids as a mapping of names to
    these: `series({"rain": "rain_*.nc", "tmax": "tmax_*.nc"}, …)`."""
OF_SOURCES = OF_GRIDS.replace("these: `", "these; or a `Table` of series: `")
OF_PROGRESS = """progress
    Called with how much is done and how much there is in all."""
# Of each function: what it takes before its options, words for that, what it gives, and the call.
FUNCTIONS = {
    "series": ("Values by region and period.", GRIDS, OF_GRIDS, "Table", "table"),
    "normals": ("The climatology, by region and period of the year.", GRIDS, OF_SOURCES, "Table",
                "table"),
    "anomalies": ("Value, normal, anomaly, score and rank of every period.", GRIDS, OF_SOURCES,
                  "Table", "table"),
    "extremes": ("Counts of conditions, indices or return levels.", GRIDS, OF_GRIDS, "Table",
                 "table"),
    "trends": ("Slope, interval and significance, by region and period of the year.", GRIDS,
               OF_SOURCES, "Table", "table"),
    "compare": ("How well sources agree.", GRIDS, OF_SOURCES, "Table", "table"),
    "grid": ("A grid: joined, cut, regridded, combined over periods, as anomaly or trend.", GRIDS,
             OF_GRIDS, "Grid", "grid"),
    "chart": ("A Matplotlib figure of one table or several.", "*tables: Table | PathLike",
              "tables\n    A `Table`, or files that a command wrote.", "Figure", "chart"),
    "map": ("A Matplotlib map of a table, with its regions, or of a grid.", "shown: GridLike",
            "shown\n    A `Table` or a grid, or their files.", "Figure", "map"),
    "describe": ("What is in files, and what Bavlo would do with them: a mapping for each.",
                 "*files: PathLike", "files\n    Paths or patterns of grids, regions and tables.",
                 "list[dict[str, Any]]", "describe"),
    "trace": ("How one number of a table came to be: files, rules, steps and cells.",
              "table: Table | PathLike", "table\n    A `Table`, or a file that a command wrote.",
              "Trace", "trace"),
}  # fmt: skip
HEAD = '''"""Bavlo from Python: a function for each command, with the options as keywords.

>>> import bavlo
>>> table = bavlo.series("rain_*.nc", regions="watersheds.geojson", every="month")  # doctest: +SKIP
>>> table.to_pandas()  # doctest: +SKIP

Written by `docs/make_api.py` from the table of options.
"""
# ruff: noqa: PLR0913

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, Literal, Never, TypeAlias, TypeVar

from bavlo import calls
from bavlo.calls import PathLike, Progress
from bavlo.interface import GeoShapes, Grid, GridLike, Table, Trace

if TYPE_CHECKING:
    from matplotlib.figure import Figure

RegionsLike = PathLike | GeoShapes | Mapping[str, Any] | Sequence[tuple[float, float]]
T = TypeVar("T")
OfEach: TypeAlias = T | Mapping[str, T]  # the same for all grids, or by their names
'''


def page() -> str:
    """The text of the module, formatted."""
    text = HEAD + "".join(map(function, FUNCTIONS))
    ruff = [Path(sys.executable).with_name("ruff"), "format", "--stdin-filename", PAGE, "-"]
    done = subprocess.run(ruff, input=text, capture_output=True, text=True, check=True)
    return done.stdout


def function(command: str) -> str:
    """The source of one function."""
    what, takes, words, gives, call = FUNCTIONS[command]
    own = [option for option in options_of(command) if option.name not in ON_COMMAND_LINE]
    progress = call in ("table", "grid")
    command_words = f'"{command}", ' if call == "table" else ""
    lines = [f"    {takes},", *([] if takes.startswith("*") else ["    *,"])]
    lines += [f"    {keyword(o)}: {annotation(o)} = {default(o)}," for o in own]
    lines += ["    progress: Progress | None = None,"] if progress else []
    docs = [*words.splitlines()]
    for option in own:
        text = in_python(option.help_text)
        docs += [keyword(option), *textwrap.wrap(text, 92, initial_indent="    ",
                                                 subsequent_indent="    ")]  # fmt: skip
    docs += OF_PROGRESS.splitlines() if progress else []
    return "\n".join([
        "", "", f"def {command}(", *lines, "    **unknown: Never,", f") -> {gives}:",
        f'    """{what}', "", "    Parameters", "    ----------",
        *(f"    {line}".rstrip() for line in docs), "", "    Raises", "    ------",
        "    BavloError", '    """',
        f"    return calls.{call}_call({command_words}locals())", "",
    ])  # fmt: skip


def in_python(text: str) -> str:
    """The words of the help as a sentence that speaks of keywords."""
    text = re.sub(r"; GRID=\w+ for one of several( grids)?", "; a mapping of grids to it", text)
    text = re.sub(r"--([\w-]+)", lambda found: f"`{found[1].replace('-', '_')}`", text)
    text = text.replace("; repeatable", "")
    return f"{text[:1].upper()}{text[1:]}."


def keyword(option: Option) -> str:
    """Its name in Python."""
    name = option.name.replace("-", "_")
    return f"{name}_" if name in WORDS_OF_PYTHON else name


def annotation(option: Option) -> str:
    """The type of its value."""
    if not option.value or option.name == "events":
        return "bool"
    if option.parse.startswith("|"):
        found = named(option.parse[1:])
        text = f"Literal[{', '.join(repr(str(getattr(e, 'name', e))) for e in found)}]"
    elif "|" in option.parse:
        words = [repr(word) for word in option.parse.split("|") if word]
        text = f"Literal[{', '.join(words)}]"
    else:
        text = TYPES.get(option.parse, "str")
        text = "str | int" if option.name == "memory" else text
    if option.by_grid:
        text = f"OfEach[{text}]"
    elif option.repeat and not re.search(r"Sequence|Mapping|Regions", text):
        text = f"{text} | Sequence[{text}]"
    return text if default(option) != "None" else f"{text} | None"


def default(option: Option) -> str:
    """Its default as Python has it; None where what is usual depends on the data."""
    if not option.value or option.name == "events":
        return "False"
    text = option.default if isinstance(option.default, str) else None
    if text is None:
        return "None"
    kind = TYPES.get(option.parse, "str").partition(" ")[0]
    return text.partition(",")[0] if kind in ("int", "float") else repr(text)


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")
