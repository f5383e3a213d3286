"""An option: one row of the table of them, and what reads its text.

What reads the text of an option is named and loaded when it is used, so that help is there at once.
"""

from __future__ import annotations

import re
from importlib import import_module
from typing import Any, NamedTuple

# Parsers that give names back as they are, so that the tables of them are not loaded for defaults.
NAMES = ("counts", "statistics")


class Option(NamedTuple):
    """One option; no dataclass, whose module takes longer to load than all else that help needs.

    Parameters
    ----------
    name
        As `--name` and as a key of a study file.
    field
        The field of the request that it fills, as `group.field`; empty for those of the screen.
    value
        What stands for its value in the help; empty for a switch.
    parse
        What reads its text: a function of `bavlo.request.parse`, or `module:function`; of a few
        words the words themselves, with | between them, or `module:NAME` of a list after a `|`.
    default
        Where it is not given: a text that is read like any other; of a switch what it turns off.
    commands
        The commands that take it.
    group
        Heading in the help.
    help
        What it does; `{module:TABLE}` stands for the names that a table has.
    default_words
        What the help says of the default, where the text of `default` would not do.
    repeat
        May be given several times.
    by_grid
        May be said of one of several grids, as NAME=VALUE.
    several
        May be said several times of one grid.
    first
        The commands of which it is one of the ten options that `--help` shows.
    """

    name: str
    field: str
    value: str
    parse: str
    default: Any
    commands: str
    group: str
    help: str
    default_words: str = ""
    repeat: bool = False
    by_grid: bool = False
    several: bool = False
    first: str = ""

    @property
    def request_field(self) -> str:
        """Name of the field without its group."""
        return self.field.rpartition(".")[2]

    @property
    def help_text(self) -> str:
        """What it does, with its default."""
        words = self.default_words
        if not words and self.value and isinstance(self.default, str):
            words = self.default
        text = re.sub(r"\{(\S+?:\S+?)\}", lambda found: names_listed(found.group(1)), self.help)
        text += f" (default: {words})" if words else ""
        return f"{text}; repeatable" if self.repeat and not self.by_grid else text

    def read(self, given: Any) -> Any:
        """The field's value, from a text, a list of texts, or of a switch whether it is set."""
        if not self.value:
            return not self.default if given else self.default
        if self.parse.startswith("|"):
            found = named(self.parse[1:])
            return named("bavlo.request.parse:choice")(given, self.request_field, tuple(found))
        if "|" in self.parse:
            choices = [word for word in self.parse.split("|") if word]
            return named("bavlo.request.parse:choice")(given, self.request_field, choices)
        if ":" in self.parse:
            function = named(self.parse)
            if self.repeat:
                return tuple(map(function, [given] if isinstance(given, str) else given))
            return function(given)
        if not self.parse:
            return given
        return named(f"bavlo.request.parse:{self.parse}")(given, self.request_field)

    def usual(self) -> Any:
        """The field's value where nothing is given."""
        if callable(self.default):
            return self.default()
        if "|" in self.parse and isinstance(self.default, str):
            return self.default  # one of some words, which are not loaded to be told so
        if self.parse in NAMES and isinstance(self.default, str):
            return tuple(self.default.split(","))
        if self.value and self.default is not None:
            return self.read([self.default] if self.repeat and not self.by_grid else self.default)
        if not self.value:
            return self.default
        return () if self.repeat and not self.by_grid else None


def names_listed(table: str) -> str:
    """The names of a table's entries, with spaces between.

    Parameters
    ----------
    table
        `module:NAME` of texts, of a dict with texts as keys, or of one whose entries have names.
    """
    return " ".join(str(getattr(entry, "name", entry)) for entry in named(table))


def named(text: str) -> Any:
    """What `module:name` names, loaded now."""
    module, _, name = text.partition(":")
    return getattr(import_module(module), name)
