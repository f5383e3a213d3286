"""How a command line ends that does not end well: one line, and an exit status."""

from __future__ import annotations

import codecs
import errno
import io
import os
import signal
import sys
import tempfile
import traceback
import unicodedata
import warnings
from types import FrameType
from typing import Any, TextIO

from bavlo import __version__
from bavlo.errors import REFUSED, BavloError, BavloWarning, in_one_line, worded

NOTHING, SOME = "nothing was written", "what was whole by then is kept"
CLOSED = (errno.EPIPE, errno.EBADF)  # the reader of our output is gone, or never was
PLAIN = {
    "…": "...", "×": "x", "–": "-", "—": "-", "≥": ">=", "≤": "<=", "°": " deg", "²": "2", "³": "3",
    "→": "->", "“": '"', "”": '"', "‘": "'", "’": "'", "·": "*", "±": "+-", "−": "-",
}  # fmt: skip
STOPPING = [getattr(signal, name) for name in ("SIGTERM", "SIGHUP") if hasattr(signal, name)]
NEAR = 2**27  # bytes of a limit of addresses that a library may need to be loaded
NO_ROOM = "out of memory; use fewer regions or a smaller --memory"
REPORT = "please report it with that file"


class Stopped(KeyboardInterrupt):
    """A signal other than the interrupt that asks the program to end."""

    def __init__(self, number: int) -> None:
        self.number = number
        super().__init__(number)


def stop_on_signals() -> None:
    """Let SIGTERM and SIGHUP end a run as an interrupt does: nothing half-written is left."""

    def stop(number: int, _: FrameType | None) -> None:
        raise Stopped(number)

    for number in STOPPING:
        if signal.getsignal(number) is signal.SIG_DFL:
            signal.signal(number, stop)


def heed_signals_no_more() -> None:
    """Let SIGTERM and SIGHUP do nothing once all is done, while the interpreter ends.

    It would die of them without a word, and outputs that are whole would seem not to be.
    """
    for number in STOPPING:
        signal.signal(number, signal.SIG_IGN)


def plain_where_needed() -> None:
    """Let terminals that know only ASCII show what they can of words on the screen."""
    codecs.register_error("bavlo", _plain)
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="bavlo")


def _plain(error: UnicodeError) -> tuple[str, int]:
    """What is shown of characters that a terminal does not know."""
    assert isinstance(error, UnicodeEncodeError)
    found = error.object[error.start : error.end]
    shown = "".join(PLAIN.get(c) or _without_accents(c) for c in found)
    return shown, error.end


def _without_accents(character: str) -> str:
    base = unicodedata.normalize("NFKD", character).encode("ascii", "ignore").decode()
    return base or "?"


def without_echoes() -> None:
    """Keep libraries from saying by themselves that something is wrong with a file.

    The raster and vector libraries print what they met in passing, and others say once more, as
    objects are taken down, that a file was refused.
    """
    os.environ.setdefault("CPL_LOG", os.devnull)
    usual = sys.unraisablehook

    def hear(told: Any) -> None:
        if not isinstance(told.exc_value, OSError):
            usual(told)

    sys.unraisablehook = hear


def for_data() -> TextIO:
    """Standard output for tables, which hold every character, whatever a terminal knows."""
    if isinstance(sys.stdout, io.TextIOWrapper):
        sys.stdout.reconfigure(encoding="utf-8", errors="strict")
    return sys.stdout


def times_placed() -> int:
    """How often files were given their names so far; the module is not loaded for that."""
    files = sys.modules.get("bavlo.files")
    return 0 if files is None else int(files.times_placed())


def what_is_left(placed_before: int) -> str:
    """Whether an interrupted command has written anything, in words."""
    return SOME if times_placed() > placed_before else NOTHING


def show_warnings() -> None:
    """Show doubts of readers that have no reporter as the others are shown."""
    usual = warnings.showwarning

    def show(message: Warning | str, category: type[Warning], *where: Any, **more: Any) -> None:
        if issubclass(category, BavloWarning):
            from bavlo.cli.parsing import as_option

            _say(f"warning: {worded(str(message), as_option)}")
        else:
            usual(message, category, *where, **more)

    warnings.showwarning = show


def status_of(error: BaseException, *, verbose: bool, left: str = NOTHING) -> int:
    """Say in one line what ended the command, and give its exit status.

    Parameters
    ----------
    left
        What an interrupt leaves, from `what_is_left`.
    verbose
        Show where in the program it happened, of faults that are not expected.
    """
    from bavlo.cli.parsing import as_option

    if isinstance(error, BavloError):
        _say(error.text(as_option))
        return error.exit_code
    if isinstance(error, Stopped):
        _say(f"stopped by {signal.Signals(error.number).name}; {left}")
        return 128 + error.number
    if isinstance(error, KeyboardInterrupt):
        _say(f"interrupted; {left}")
        return 130
    if isinstance(error, OSError) and error.errno in CLOSED:
        _let_go(sys.stdout)
        return 0 if error.errno == errno.EPIPE else 1
    if isinstance(error, MemoryError):
        _say(NO_ROOM)
        return 1
    if isinstance(error, OSError) and error.errno == errno.ENOSPC:
        _say(f"the disk is full; free some space; {NOTHING}")
        _let_go(sys.stdout)
        return 1
    if isinstance(error, OSError) and error.errno in REFUSED:
        own = error.filename and not str(error.filename).endswith((".py", ".so"))
        where = f"{error.filename}: " if own else ""
        _say(where + "; ".join(REFUSED[error.errno]))
        return 1
    if _lacks_addresses():
        _say(NO_ROOM)
        return 1
    _say_unexpected(error, verbose=verbose)
    return 1


def _lacks_addresses() -> bool:
    """Whether the process has come near a limit of addresses, so that libraries cannot be loaded.

    They say so in many ways, some of which speak of something else.
    """
    try:
        import resource

        limit = resource.getrlimit(resource.RLIMIT_AS)[0]
        with open("/proc/self/statm", encoding="ascii") as told:
            used = int(told.read().split()[0]) * resource.getpagesize()
    except (ImportError, OSError, ValueError):
        return False
    return limit != resource.RLIM_INFINITY and limit - used < NEAR


def _say_unexpected(error: BaseException, *, verbose: bool) -> None:
    """The last net: what nobody has thought of."""
    details = "".join(traceback.format_exception(error))
    reason = in_one_line(f"{type(error).__name__}: {error}")[:200]
    if verbose:
        print(details, end="", file=sys.stderr)
    try:
        with tempfile.NamedTemporaryFile(
            "w", prefix="bavlo-fault-", suffix=".txt", delete=False, errors="backslashreplace"
        ) as file:
            file.write(f"bavlo {__version__}, Python {sys.version}\n{details}")
        where = f"details are in {file.name}; {REPORT}"
    except OSError:
        where = "--verbose shows the details"
    _say(f"a fault in Bavlo ({reason}); {where}")


def _say(text: str) -> None:
    try:
        print(f"bavlo: {in_one_line(text)}", file=sys.stderr)
    except (OSError, ValueError):  # standard error is closed
        _let_go(sys.stderr)


def _let_go(stream: TextIO | None) -> None:
    """Let what is still to be flushed to a closed stream go nowhere."""
    try:
        os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())  # type: ignore[union-attr]
    except (OSError, ValueError, AttributeError):
        return
