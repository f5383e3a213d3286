"""Command lines to requests, from the one table of options."""

from __future__ import annotations

import argparse
import re
from collections.abc import Sequence
from typing import Any, NoReturn

from bavlo.core.errors import RequestError

NEGATIVE = re.compile(r"-[\d.][\d.,:eE+-]*$")


class Parser(argparse.ArgumentParser):
    """argparse in Bavlo's manners: one line for a wrong call, no abbreviated options."""

    def __init__(self, command: str, **settings: Any) -> None:
        self.command = command
        super().__init__(
            prog=f"bavlo {command}".strip(),
            allow_abbrev=False,
            formatter_class=_Help,
            add_help=False,
            **settings,
        )
        self.add_argument("-h", "--help", action="help", help=argparse.SUPPRESS)

    def error(self, message: str) -> NoReturn:
        """A wrong call."""
        raise RequestError("", message, f"see `bavlo {self.command} --help`".replace("  ", " "))

    def read(self, arguments: Sequence[str]) -> dict[str, Any]:
        """The options and positionals, mixed in any way."""
        joined = _join_negative_values(arguments, self)
        return vars(self.parse_intermixed_args(joined))


class _Help(argparse.RawDescriptionHelpFormatter):
    def __init__(self, prog: str) -> None:
        super().__init__(prog, max_help_position=28, width=100)


def _join_negative_values(arguments: Sequence[str], parser: Parser) -> list[str]:
    """`--at -71.5,-33` as `--at=-71.5,-33`, which argparse does not take for an option."""
    takes_value = {
        flag for action in parser._actions if action.nargs != 0 for flag in action.option_strings
    }
    out: list[str] = []
    for argument in arguments:
        if out and out[-1] in takes_value and NEGATIVE.match(argument):
            out[-1] += f"={argument}"
        else:
            out.append(argument)
    return out


def add_options(parser: Parser, names: Sequence[str]) -> None:
    """Give a parser options from the table, under their headings."""
    from bavlo.study.options import GROUPS, OPTIONS

    groups = {}
    for group in GROUPS:
        if any(OPTIONS[name].group == group for name in names):
            groups[group] = parser.add_argument_group(GROUPS[group])
    for name in names:
        option = OPTIONS[name]
        text = option.help.replace("%", "%%")
        settings: dict[str, Any] = {"help": text, "dest": name}
        if not option.metavar:
            settings["action"] = "store_true"
        else:
            settings["metavar"] = option.metavar
            if option.repeat:
                settings["action"] = "append"
        groups[option.group].add_argument(f"--{name}", **settings)
