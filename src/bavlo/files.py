"""Files: what they lead to, and outputs that get their names together once all are whole.

Each output is written under a name of its own beside its place. Then a journal says what is to be
moved where, the moves are made, and the journal goes. What a run that was killed has left is put
right by the next one in the same folder: with a journal the moves are finished, without one its
drafts are removed.
"""

from __future__ import annotations

import contextlib
import errno
import itertools
import json
import os
import platform
import re
import shutil
import signal
import stat
import struct
import zipfile
import zlib
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from bavlo.errors import BavloError, InputError, OutputError, refused_by_system

PROBED = 2**16  # bytes
NUMBER = re.compile(r"[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?|[+-]?inf|nan")
# What libraries raise in the middle of damaged files.
DAMAGE = (
    OSError,
    RuntimeError,
    IndexError,
    ValueError,
    TypeError,
    KeyError,
    AttributeError,
    OverflowError,
    AssertionError,
    ArithmeticError,
    MemoryError,
    EOFError,
    SyntaxError,
    SystemError,  # of libraries that are asked for sizes below zero
    zlib.error,
    struct.error,
    zipfile.BadZipFile,
)


# Those of them that contents raise which are whole and only odd.
NOT_UNDERSTOOD = (ValueError, TypeError, KeyError, AttributeError, AssertionError, ArithmeticError)


def number_in(text: str) -> float:
    """A number in the spelling that text files have: ASCII digits, a point, an exponent.

    Raises
    ------
    ValueError
        Where the text is none, such as one with other digits or with marks between them, which
        Python's own reading would take.

    Examples
    --------
    >>> number_in("-1.5e3")
    -1500.0
    """
    if not NUMBER.fullmatch(text.strip()):
        raise ValueError(f"'{text}' is no number")
    return float(text)


def check_regular(path: Path) -> None:
    """Refuse pipes and devices, which could be read forever; what is not there passes.

    Raises
    ------
    InputError
    """
    try:
        mode = path.stat().st_mode
    except FileNotFoundError:
        return
    except OSError as error:
        raise refused_by_system(path, error) from error
    if not (stat.S_ISREG(mode) or stat.S_ISDIR(mode)):
        raise InputError(path, "is a pipe or a device", "write it to a file first")


def refused_writing(path: Path) -> OSError | None:
    """Why nothing more can be added to a file that is being written; None where it can.

    Libraries have many words for a disk that is full, a quota or a limit of size, and the system's
    own are lost on the way.
    """
    if path.is_dir():
        return None
    try:
        with path.open("ab") as file:
            file.write(bytes(PROBED))
    except OSError as error:
        return error
    return None


DRAFT = re.compile(r"\.(?P<host>[0-9a-f]{8})-(?P<process>\d+)\.\d+\.part")
JOURNAL = ".journal"
ABOUT = ".about.json"
MOST_NAME = 255  # bytes of a file's name
NO_LINKS = (errno.EPERM, errno.ENOTSUP, errno.EOPNOTSUPP, errno.EMLINK, errno.ENOSYS)


_number = itertools.count()  # of drafts, so that no two threads write one
_placed = 0  # times that files were given their names


def times_placed() -> int:
    """How often files were given their names since the program began."""
    return _placed


@contextmanager
def whole_files(paths: Sequence[Path], *, replace: bool) -> Iterator[dict[Path, Path]]:
    """Where to write each output; they get their names together once all are written.

    An error or an interrupt leaves nothing behind, and files that were there as they were.

    Parameters
    ----------
    replace
        Files that are there may be replaced. Else one that another run has made meanwhile is an
        error, and stays.

    Raises
    ------
    OutputError
        Where a file cannot be written, or is there already.
    """
    for folder in dict.fromkeys(path.parent for path in paths):
        put_right(folder)
    mark = f".{_host()}-{os.getpid()}"
    drafts = {path: path.with_name(f"{mark}.{next(_number)}.part{_ending(path)}") for path in paths}
    try:
        yield drafts
        with _undisturbed():
            _move(drafts, replace=replace)
            global _placed
            _placed += 1
    except BavloError:
        raise
    except Exception as error:
        refused = next(filter(None, map(refused_writing, drafts.values())), None)
        if not drafts or (refused is None and not isinstance(error, OSError)):
            raise
        raise _not_written(refused or error, drafts) from error
    finally:
        with _undisturbed():
            _remove(drafts.values())


def _remove(drafts: Iterable[Path]) -> None:
    """Remove drafts, and what libraries keep beside them under names that begin with theirs."""
    with contextlib.suppress(OSError):
        for draft in drafts:
            mark = f"{draft.name.partition('.part')[0]}.part"
            for left in [p for p in draft.parent.iterdir() if p.name.startswith(mark)]:
                shutil.rmtree(left) if left.is_dir() else left.unlink(missing_ok=True)


def _not_written(error: Exception, drafts: dict[Path, Path]) -> OutputError:
    """What to say of an output that could not be written."""
    number, reason = getattr(error, "errno", None), getattr(error, "strerror", None) or error
    named = str(getattr(error, "filename", None) or "")
    wanted = {str(draft): path for path, draft in drafts.items()}
    path = wanted.get(named, named or next(iter(drafts)))
    if number == errno.ENOSPC:
        return OutputError(path, "cannot be written (the disk is full)", "free some space")
    return OutputError(path, f"cannot be written ({reason})", "check the disk and its permissions")


def check_name(path: Path) -> None:
    """Refuse a name that the file system cannot hold, or that leads to no file.

    Raises
    ------
    OutputError
    """
    if len(os.fsencode(path.name)) + len(ABOUT) > MOST_NAME:
        raise OutputError(path, "has too long a name", "use a shorter one")
    if path.is_symlink() and not path.exists():
        raise OutputError(path, "is a link to a file that is not there", "remove it first")


def put_right(folder: Path) -> None:
    """Finish or remove what runs that are gone have left in a folder."""
    try:
        left = [p for p in folder.iterdir() if (found := DRAFT.match(p.name)) and _is_gone(found)]
    except OSError:
        return
    with contextlib.suppress(OSError):
        for journal in [p for p in left if p.name.endswith(JOURNAL)]:
            _finish(journal)
        for draft in left:
            shutil.rmtree(draft) if draft.is_dir() else draft.unlink(missing_ok=True)


def _move(drafts: dict[Path, Path], *, replace: bool) -> None:
    """Give all drafts their names; what tells of a file comes before it."""
    moves = sorted(drafts.items(), key=lambda move: not move[0].name.endswith(ABOUT))
    first = moves[0][1]
    journal = first.with_name(f"{first.name.partition('.part')[0]}.part{JOURNAL}")
    listed = [[str(draft.absolute()), str(path.absolute())] for path, draft in moves]
    if len(moves) > 1:
        journal.write_text(json.dumps({"replace": replace, "moves": listed}), encoding="utf-8")
    done: list[Path] = []
    try:
        for path, draft in moves:
            _place(draft, path, replace=replace)
            done.append(path)
    except OSError as error:
        if not replace:  # else what was there before is gone already
            for path in done:
                path.unlink(missing_ok=True)
        if isinstance(error, FileExistsError):
            raise OutputError(
                path, "was made by another run meanwhile", "use another name, or ‹replace›"
            ) from error
        raise
    finally:
        journal.unlink(missing_ok=True)


def _place(draft: Path, path: Path, *, replace: bool) -> None:
    """Give one draft its name; without `replace` only where nothing has it."""
    if replace:
        os.replace(draft, path)
        return
    try:
        os.link(draft, path)
    except OSError as error:
        if error.errno not in NO_LINKS:
            raise
        # No links here: the name is claimed by an empty file, which the draft then replaces.
        os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY))
        os.replace(draft, path)
    draft.unlink(missing_ok=True)


def _finish(journal: Path) -> None:
    """Make the moves that a run has not come to."""
    try:
        told = json.loads(journal.read_text(encoding="utf-8"))
        moves = [(Path(draft), Path(path)) for draft, path in told["moves"]]
        replace = bool(told["replace"])
    except (ValueError, KeyError, TypeError):
        return  # killed while it was written: no move was made
    for draft, path in moves:
        if draft.exists() and draft.parent == path.parent:
            with contextlib.suppress(FileExistsError):
                _place(draft, path, replace=replace)


def _is_gone(found: re.Match[str]) -> bool:
    """Whether the run that wrote a draft was on this machine and is not there any more."""
    if found.group("host") != _host() or int(found.group("process")) == os.getpid():
        return False
    try:
        os.kill(int(found.group("process")), 0)
    except ProcessLookupError:
        return True
    except OSError:
        return False
    return False


def _host() -> str:
    """Eight digits that tell this machine from others on the same disk."""
    import zlib

    return f"{zlib.crc32(platform.node().encode()):08x}"


def _ending(path: Path) -> str:
    """The endings of a name, by which libraries tell what to write; never a long one."""
    ending = "".join(path.suffixes[-2:])
    return ending if len(ending) < 24 else path.suffix[:24]


@contextmanager
def _undisturbed() -> Iterator[None]:
    """Hold signals back, so that either no file has its name or all have."""
    if not hasattr(signal, "pthread_sigmask"):
        yield
        return
    held = {signal.SIGINT, signal.SIGTERM, signal.SIGHUP}
    before = signal.pthread_sigmask(signal.SIG_BLOCK, held)
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


def unreadable(path: Path, error: Exception) -> InputError:
    """What to say when a library gives up on a file in the middle."""
    if isinstance(error, UnicodeEncodeError):
        return InputError(path, "its name is not UTF-8", "rename it, or make a link to it")
    if isinstance(error, MemoryError):
        return InputError(path, "there is not enough memory to read it", "free some")
    if path.is_file():
        try:
            path.open("rb").close()
        except OSError as refused:  # the system's reason, which libraries often swallow
            return refused_by_system(path, refused)
    remedy = "the file is damaged or incomplete: fetch it again"
    if isinstance(error, NOT_UNDERSTOOD):
        remedy = "it is damaged, or made in a way that Bavlo does not know"
    return InputError(path, f"cannot be read ({' '.join(str(error).split())})", remedy)
