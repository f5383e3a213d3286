"""Writes a page for each command from the table of options: `python docs/make_commands.py`."""

import argparse
import re
from importlib import import_module
from pathlib import Path

from bavlo.cli.commands import COMMANDS
from bavlo.cli.parsing import Parser

FOLDER = Path(__file__).parent / "commands"
# What a reader of a command's page wants next.
FURTHER = {
    "describe": "grids regions",
    "series": "periods regions grids tables definitions",
    "normals": "normals",
    "anomalies": "normals",
    "extremes": "extremes indices",
    "trends": "indicators",
    "compare": "compare",
    "grid": "maps",
    "chart": "gallery",
    "map": "maps gallery",
    "trace": "trace",
    "run": "studies",
    "report": "studies",
    "cache": "scale",
}


def page_of(command: str) -> str:
    """The page of a command: what it does, what it takes, all options with defaults, examples."""
    module, what = COMMANDS[command]
    loaded = import_module(module)
    lines = [f"# bavlo {command}", ""]
    if not hasattr(loaded, "parser"):
        return "\n".join([*lines, f"{what[:1].upper()}{what[1:]}.", ""])
    parser: Parser = loaded.parser(command)
    parser.show_all()
    usage = parser.format_usage().removeprefix("usage: ").strip()
    lines += [*_told(parser.description or ""), "", "```text"]
    lines += [line.strip() for line in usage.splitlines()] + ["```", ""]
    for group in parser._action_groups:
        actions = [a for a in group._group_actions if a.help != argparse.SUPPRESS]
        if actions:
            title = (group.title or "").replace("positional arguments", "what it takes")
            lines += [f"## {title[:1].upper()}{title[1:]}", "", "| | |", "|---|---|"]
            lines += [_row(action) for action in actions] + [""]
    before, _, examples = (parser.epilog or "").rpartition("examples")
    if before.strip():
        lines += ["```text", before.strip(), "```", ""]
    commands = [line[2:] for line in examples.splitlines() if line.startswith("  ")]
    lines += ["## Examples on the demo data", "", "```", *commands, "```", ""]
    pages = FURTHER.get(command, "").split()
    if pages:
        titles = [(page, _title(page)) for page in pages]
        lines += [
            "More: " + ", ".join(f"[{title}](../{page}.md)" for page, title in titles) + ".",
            "",
        ]
    return "\n".join(lines)


def _told(description: str) -> list[str]:
    return [line.strip() for line in description.strip().splitlines()]


def _row(action: argparse.Action) -> str:
    name = action.option_strings[0] if action.option_strings else ""
    value = "" if action.nargs == 0 or action.metavar is None else str(action.metavar)
    text = (action.help or "").replace("%%", "%")
    cells = (f"`{f'{name} {value}'.strip()}`", text[:1].upper() + text[1:])
    return "| " + " | ".join(re.sub(r"\|", r"\|", cell) for cell in cells) + " |"


def _title(page: str) -> str:
    text = (FOLDER.parent / f"{page}.md").read_text(encoding="utf-8")
    return text.partition("\n")[0].lstrip("# ")


def pages() -> dict[str, str]:
    """Name and text of all pages, and of one that lists them."""
    listed = "\n".join(f"| [{name}]({name}.md) | {what} |" for name, (_, what) in COMMANDS.items())
    index = f"# Commands\n\nIn the order the work goes.\n\n| | |\n|---|---|\n{listed}\n"
    return {"index": index, **{name: page_of(name) for name in COMMANDS}}


if __name__ == "__main__":
    FOLDER.mkdir(exist_ok=True)
    for name, text in pages().items():
        (FOLDER / f"{name}.md").write_text(text, encoding="utf-8")
