"""The `bavlo` command: finds the subcommand, and turns errors into one line and an exit status."""

from __future__ import annotations

import gc
import os
import sys
from collections.abc import Sequence
from importlib import import_module

from bavlo import __version__
from bavlo.cli.commands import COMMANDS

OBJECTS = 200_000  # made and not let go of, after which garbage is looked for
HELP = """usage: bavlo COMMAND …

Gridded climate data to per-region numbers that an analyst can defend.

{commands}

`bavlo COMMAND --help` gives its options and two examples. Start with `bavlo demo`.

`bavlo help TOPIC` explains:
{topics}
"""


def entry() -> None:
    """The installed program."""
    from bavlo.cli.endings import (
        heed_signals_no_more,
        status_of,
        stop_on_signals,
        what_is_left,
    )

    stop_on_signals()  # before anything that takes time
    if "_ARGCOMPLETE" in os.environ:
        from bavlo.cli.completion import complete

        complete()
    try:
        status = main(sys.argv[1:])
        heed_signals_no_more()
        gc.freeze()  # the system takes it all back: looking for garbage takes 10 % of a small job
        sys.exit(status)
    except KeyboardInterrupt as error:  # before the command began, or after it ended
        sys.exit(status_of(error, verbose=False, left=what_is_left(0)))


def _help(name: str) -> int:
    """The help of a command, or a topic."""
    if name in COMMANDS:
        return main([name, "--help"])
    from bavlo.cli.topics import show_topic

    show_topic(name)
    return 0


def main(arguments: Sequence[str]) -> int:
    """Run one command line and return its exit status."""
    for stream in (sys.stdout, sys.stderr):
        if (getattr(stream, "encoding", None) or "utf-8").lower().replace("-", "") != "utf8":
            from bavlo.cli.endings import plain_where_needed

            plain_where_needed()
    # Sums must not depend on how many threads a library starts; Bavlo has its own workers.
    for name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS"):
        os.environ.setdefault(name, "1")
    command = arguments[0] if arguments else "--help"
    if command in ("-h", "--help", "help") and len(arguments) < 2:
        listed = "\n".join(f"  {name:11}{what}" for name, (_, what) in COMMANDS.items())
        from bavlo.cli import topics

        print(HELP.format(commands=listed, topics=topics.listed()), end="")
        return 0
    if command == "--version":
        print(f"bavlo {__version__}")
        return 0
    if command not in COMMANDS and command != "help":
        from bavlo.errors import known_words

        hint = known_words(command, COMMANDS, "use one of")
        print(f"bavlo: '{command}' is no command; {hint}", file=sys.stderr)
        return 2
    from bavlo.cli.endings import (
        show_warnings,
        status_of,
        stop_on_signals,
        times_placed,
        what_is_left,
        without_echoes,
    )
    from bavlo.regions.loading import nobody_needs_frames

    # Nothing that is made while modules load is garbage; looking for some takes 4 % of a small job.
    gc.set_threshold(OBJECTS, 10, 10)
    nobody_needs_frames()
    stop_on_signals()
    show_warnings()
    without_echoes()
    before = times_placed()
    try:
        if command == "help":
            return _help(arguments[1])
        status = int(import_module(COMMANDS[command][0]).run(command, list(arguments[1:])) or 0)
        sys.stdout.flush()
        return status
    except (Exception, KeyboardInterrupt) as error:
        left = what_is_left(before)
        return status_of(error, verbose="--verbose" in arguments, left=left)
