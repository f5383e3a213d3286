"""A first study file for some grids and regions."""

from __future__ import annotations

import contextlib
import json
import os
import re
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from bavlo.core.stats.normals import choose_base
from bavlo.core.time.axis import to_dates
from bavlo.core.values.kinds import STATE, quantity
from bavlo.errors import InputError, RequestError
from bavlo.grids.formats import format_of
from bavlo.grids.open import open_grid
from bavlo.grids.source import GridSource, where
from bavlo.regions.read import RegionOptions, read_regions
from bavlo.request.parse import expand


def new_study(path: Path, files: Sequence[str]) -> str:
    """The text of a study file, with comments.

    Parameters
    ----------
    path
        Where it will be, from which files are named.
    files
        Grids and regions, as one would name them; told apart by what is in them.

    Raises
    ------
    InputError
        Where no grid is among them, or two files of regions.
    """
    grids: dict[str, tuple[list[str], str]] = {}
    regions: list[str] = []
    bases: dict[str, str] = {}
    for text in files:
        found = expand(text)
        if format_of(found[0]) is None:
            regions.append(_from(path, text))
            continue
        source = open_grid(found)
        name = re.sub(r"\W", "_", source.variable.name)
        kind = quantity(source.variable, where(source)).kind
        grids.setdefault(name, ([], kind))[0].append(_from(path, text))
        if source.time is None:
            grids[name] = (grids[name][0], "static")
        else:
            bases[name] = _base(source)
    if not grids:
        raise InputError(files[0], "is no grid", "name grids, and a file of regions")
    if len(regions) > 1:
        raise InputError(regions[1], "is a second file of regions", "give one")
    lines = [
        "# A study: what is made of which grids and regions. `bavlo run FILE` makes it, and again",
        "# only what changed. Files are named from the folder of this file.",
        "",
        "[study]",
        f"title = {_quoted(path.stem.replace('_', ' ').capitalize())}",
        'about = ""',
        'folder = "results"  # where outputs go',
        "",
        "[grids]  # a name, and files or patterns; new files that match are taken up by themselves",
    ]
    for name, (paths, _) in grids.items():
        lines.append(f"{name} = {json.dumps(paths if len(paths) > 1 else paths[0])}")
    if regions:
        lines += [
            "",
            "[regions]  # for all results that need some",
            f"file = {_quoted(regions[0])}",
        ]
        label = read_regions(path.parent / regions[0], RegionOptions()).label
        if label:
            lines.append(f"label = {_quoted(label)}")
    for name, (_, kind) in grids.items():
        if kind == "static":
            continue
        lines += _results(name, bases[name], is_state=kind == STATE)
    return "\n".join(lines) + "\n"


def _base(source: GridSource) -> str:
    """The years of the normals, where those of the trade are not in the data; else nothing."""
    time = source.time
    if time is None:
        return ""
    first, last = (date.year for date in to_dates(time.start[[0, -1]], time.calendar))
    with contextlib.suppress(RequestError):
        choose_base(None, np.arange(first, last + 1))
        return ""
    return f"{first}..{last}"


def _results(name: str, base: str, *, is_state: bool) -> list[str]:
    """The first results of a grid."""
    return [
        "",
        "[[result]]",
        f'name = "{name} by month"',
        'command = "series"  # options as on the command line; see `bavlo series --help`',
        f'grids = "{name}"',
        'every = ["month", "year"]',
        f'out = ["{name}.csv", "{name}.xlsx"]',
        "",
        "[[result]]",
        f'name = "{name} against normal"',
        'command = "anomalies"',
        f'grids = "{name}"',
        'every = "month"',
        'during = "{latest_year}"  # the last whole year in the data; also {latest_month}',
        *([f'base = "{base}"  # the years of the data'] if base else []),
        f'out = "{name}_anomalies.csv"',
        "",
        "[[result]]",
        f'name = "{name} trends"' if is_state else f'name = "{name} chart"',
        'command = "trends"' if is_state else 'command = "chart"',
        f'grids = "{name}"' if is_state else f'of = "{name} by month"  # made of its table',
        'every = "year"' if is_state else 'pick = "every=year"',
        f'out = ["{name}_trends.csv", "{name}_trends.png"]' if is_state else f'out = "{name}.png"',
    ]


def _from(path: Path, text: str) -> str:
    """A file or pattern as it is named from the folder of the study."""
    if Path(text).is_absolute():
        return text
    return Path(os.path.relpath(text, path.parent)).as_posix()


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)
