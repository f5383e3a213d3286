"""`bavlo completion SHELL`, and what is completed when the shell asks."""

from __future__ import annotations

import argparse
import os
import shlex
from collections.abc import Callable
from importlib import import_module
from importlib.util import find_spec
from pathlib import Path
from typing import Any

from bavlo.cli.commands import COMMANDS
from bavlo.cli.parsing import Parser
from bavlo.errors import BavloError, RequestError

SHELLS = ("bash", "zsh", "fish")

DESCRIPTION = """Completion of commands, options, files, regions and variables for a shell.

  bash   eval "$(bavlo completion bash)"    in ~/.bashrc
  zsh    eval "$(bavlo completion zsh)"     in ~/.zshrc
  fish   bavlo completion fish | source     in ~/.config/fish/config.fish"""


def run(command: str, arguments: list[str]) -> int:
    """Run `bavlo completion`."""
    options = Parser("completion", description=DESCRIPTION, usage="bavlo completion SHELL")
    options.add_argument("shell", metavar="SHELL", choices=SHELLS, help=" ".join(SHELLS))
    shell = options.read(arguments)["shell"]
    if find_spec("argcomplete") is None:
        remedy = "pip install 'bavlo[completion]'"
        raise RequestError("", "completion needs a further library", remedy)
    from argcomplete.shell_integration import shellcode

    print(shellcode(["bavlo"], shell=shell))
    return 0


def complete() -> None:
    """Answer the shell: what may stand where the cursor is. Ends the process."""
    import argcomplete

    line = os.environ.get("COMP_LINE", "")
    try:
        words = shlex.split(line)
    except ValueError:  # an open quotation mark
        words = line.split()
    root = argparse.ArgumentParser("bavlo", add_help=False)
    commands = root.add_subparsers()
    for name, (module, what) in COMMANDS.items():
        parents = []
        if len(words) > 1 and words[1] == name:
            loaded = import_module(module)
            if hasattr(loaded, "parser"):
                own_parser = loaded.parser(name)
                own_parser.show_all()  # what the help leaves out is completed too
                parents = [own_parser]
        own = commands.add_parser(name, help=what, parents=parents, add_help=False)
        for action in own._actions:
            completer = completer_of(name, action)
            if completer is not None:
                action.completer = completer  # type: ignore[attr-defined]
    argcomplete.autocomplete(root)


def completer_of(command: str, action: argparse.Action) -> Callable[..., list[str]] | None:
    """What completes the value of an option; None for files."""
    from bavlo.request.option import names_listed
    from bavlo.request.options import options_of

    names = [text[2:] for text in action.option_strings if text.startswith("--")]
    option = next((o for o in options_of(command) if o.name in names), None)
    if option is None:
        return None
    if option.name in ("only", "except", "region", "label"):
        of_regions = option.name == "label"
        return lambda parsed_args, **_: _fields(parsed_args) if of_regions else _labels(parsed_args)
    if option.name == "variable":
        return lambda parsed_args, **_: _variables(parsed_args)
    if option.parse.startswith("|"):
        listed = option.parse[1:]
        return lambda **_: names_listed(listed).split()
    if "|" in option.parse:
        words = [word for word in option.parse.split("|") if word]
        return lambda **_: words
    tables = {
        "measure": "bavlo.core.stats.measures:MEASURES",
        "count": "bavlo.core.conditions.counts:COUNTS",
        "every": "bavlo.core.time.periods:NAMED_KINDS",
        "statistic": "bavlo.core.stats.normals:STATISTICS",
    }
    if option.name in tables:
        return lambda **_: names_listed(tables[option.name]).split()
    return None


def _labels(parsed: Any) -> list[str]:
    """Names of the regions of the file, or the table, that is named already."""
    from bavlo.regions.read import RegionOptions, read_regions
    from bavlo.tables.formats import is_table, read_table

    try:
        (path,) = getattr(parsed, "regions", None) or [None]
        if path:
            label = getattr(parsed, "label", None)
            return list(read_regions(Path(path), RegionOptions(label=label)).regions.labels)
        for text in getattr(parsed, "grids", None) or []:
            if is_table(Path(text)):
                return list(dict.fromkeys(map(str, read_table(Path(text)).column("region"))))
    except (BavloError, OSError, ValueError):
        pass
    return []


def _fields(parsed: Any) -> list[str]:
    """Fields of the region file that is named already."""
    from bavlo.regions.read import RegionOptions, read_regions

    try:
        found = read_regions(Path(parsed.regions[0]), RegionOptions())
        return list(found.fields)
    except (BavloError, OSError, ValueError, TypeError):
        return []


def _variables(parsed: Any) -> list[str]:
    """Variables of the grids that are named already."""
    from bavlo.grids.formats import format_of
    from bavlo.grids.source import ReadOptions
    from bavlo.request.parse import expand

    try:
        path = expand((parsed.grids or [])[0].partition("=")[2] or parsed.grids[0])[0]
        found = format_of(path)
        return [] if found is None else [v.name for v in found.variables(path, ReadOptions())]
    except (BavloError, OSError, ValueError, IndexError):
        return []
