"""Command lines to requests, from the one table of options."""

from __future__ import annotations

import argparse
import difflib
import re
from collections.abc import Sequence
from typing import Any, NoReturn

from bavlo.errors import RequestError

LIKE = 0.75  # likeness from which another option may be meant
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
        self.add_argument("--help-all", action=_HelpAll, nargs=0, help=argparse.SUPPRESS)
        self.further: dict[argparse.Action, str] = {}  # options that only --help-all shows

    def error(self, message: str) -> NoReturn:
        """A wrong call, with the nearest option where one is not known."""
        from bavlo.request.renamed import NOW

        unknown = re.match(r"unrecognized arguments: (--[\w-]+)", message)
        if unknown:
            word, known = unknown.group(1), list(self._option_string_actions)
            if word[2:] in NOW:
                raise RequestError("", f"there is no option {word} any more", NOW[word[2:]])
            near = [name for name in known if name.startswith(word)]
            near = near or difflib.get_close_matches(word, known, 1, LIKE)
            if near:
                raise RequestError("", f"there is no option {word}", f"did you mean {near[0]}?")
        raise RequestError("", message, f"see `bavlo {self.command} --help`".replace("  ", " "))

    def read(self, arguments: Sequence[str]) -> dict[str, Any]:
        """The options and positionals, mixed in any way."""
        joined = _join_negative_values(arguments, self)
        return vars(self.parse_intermixed_args(joined))

    def show_first(self, help_texts: dict[argparse.Action, str]) -> None:
        """Leave options out of the help, which then says how to see them."""
        self.further = help_texts
        for action in help_texts:
            action.help = argparse.SUPPRESS
        more = f"{len(help_texts)} further options: bavlo {self.command} --help-all"
        self.epilog = f"{more}\n\n{self.epilog or ''}"

    def show_all(self) -> None:
        """Put all options into the help."""
        if not self.further:
            return
        for action, text in self.further.items():
            action.help = text
        self.epilog = (self.epilog or "").partition("\n\n")[2]


class _HelpAll(argparse.Action):
    """Print the help with all options, and stop."""

    def __call__(self, parser: argparse.ArgumentParser, *_: Any) -> NoReturn:
        assert isinstance(parser, Parser)
        parser.show_all()
        parser.print_help()
        parser.exit()


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


def add_options(parser: Parser, command: str) -> None:
    """Give a parser the options of a command from the table, under their headings."""
    from bavlo.request.options import GROUPS, options_of

    options = options_of(command)
    groups = {
        name: parser.add_argument_group(heading)
        for name, heading in GROUPS.items()
        if any(option.group == name for option in options)
    }
    further = {}
    for option in options:
        settings: dict[str, Any] = {
            "help": option.help_text.replace("%", "%%"),
            "dest": option.name,
        }
        if not option.value:
            settings["action"] = "store_true"
        else:
            settings["metavar"] = option.value
            if option.repeat:
                settings["action"] = "append"
        action = groups[option.group].add_argument(f"--{option.name}", **settings)
        if command not in option.first.split():
            further[action] = str(settings["help"])
    if len(further) < len(options):
        parser.show_first(further)


def as_option(field: str, value: str) -> str:
    """A field of the request as the command line has it: `--every month`."""
    from bavlo.request.options import option_of_field

    quoted = f'"{value}"' if re.search(r"[\s<>*?']", value) else value
    return f"--{option_of_field(field)} {quoted}".rstrip()
