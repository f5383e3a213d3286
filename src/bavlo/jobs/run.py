"""A study: everything that it lists, and again only what changed."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Iterator
from dataclasses import dataclass

from bavlo.engine.memory import give_back
from bavlo.errors import BavloError, InputError, OutputError, known_words, setting
from bavlo.jobs.driver import make
from bavlo.jobs.ledger import STORE, Ledger, StudyRun
from bavlo.remembered import INFLATED
from bavlo.request.reporter import OwnReporter, Reporter
from bavlo.request.study import StudyResult

NOT_ALONE = "another run of this study is under way"
MADE, UP_TO_DATE, FAILED, LEFT = "made", "up to date", "failed", "not made"


@dataclass(frozen=True)
class Outcome:
    """What became of a result.

    Parameters
    ----------
    state
        MADE, UP_TO_DATE, FAILED or LEFT.
    why
        Why it was made, or what went wrong.
    """

    name: str
    state: str
    why: str
    seconds: float = 0.0
    summary: tuple[str, ...] = ()
    outputs: tuple[str, ...] = ()


@dataclass(frozen=True)
class _Due:
    """A result that is to be made, and why."""

    result: StudyResult
    why: str


def run_study(run: StudyRun, report: Reporter) -> Iterator[Outcome]:
    """Make what changed, one result after the other.

    Raises
    ------
    OutputError
        Where another run of the study is under way.
    """
    run.folder.mkdir(parents=True, exist_ok=True)
    with _alone(run), Ledger.of(run) as ledger:
        outcomes: dict[str, Outcome] = {}
        for result in _wanted(run):
            due = _due(ledger, result, outcomes)
            if isinstance(due, _Due):
                due = _made(ledger, due, OwnReporter(report))
                INFLATED.clear()  # a study needs no more memory than its largest result
                give_back()
            outcomes[result.name] = due
            yield due


def check_study(run: StudyRun) -> Iterator[Outcome]:
    """What a run would make, and why."""
    ledger = Ledger.read(run)
    made: set[str] = set()
    for result in _wanted(run):
        parents = [name for name in result.of if name in made]
        try:
            why = f"{parents[0]} is made anew" if parents else ledger.reason(result)
        except BavloError as error:
            yield Outcome(result.name, FAILED, error.text(setting))
            continue
        if why:
            made.add(result.name)
        yield Outcome(result.name, LEFT if why else UP_TO_DATE, why)


def _wanted(run: StudyRun) -> list[StudyResult]:
    """The results that are looked at, with those that they are made of."""
    names = set(run.only)
    unknown = names - {result.name for result in run.study.results}
    if unknown:
        first = sorted(unknown)[0]
        hint = known_words(first, (result.name for result in run.study.results))
        raise InputError(run.name, f"there is no result {first}", hint)
    for result in reversed(run.study.results):
        if result.name in names:
            names |= set(result.of)
    return [r for r in run.study.results if not run.only or r.name in names]


def _due(ledger: Ledger, result: StudyResult, outcomes: dict[str, Outcome]) -> _Due | Outcome:
    """Why a result is to be made, or what became of it without that."""
    for name in result.of:
        if name in outcomes and outcomes[name].state == FAILED:
            return Outcome(result.name, FAILED, f"needs {name}, which failed")
    try:
        why = ledger.reason(result)
    except BavloError as error:
        return Outcome(result.name, FAILED, error.text(setting))
    if not why:
        return Outcome(result.name, UP_TO_DATE, "", outputs=result.outputs)
    return _Due(result, why)


def _made(ledger: Ledger, due: _Due, report: Reporter) -> Outcome:
    """One result, made and written; nothing of it where it fails."""
    began = time.monotonic()
    result = due.result
    try:
        request, inputs = ledger.request(result)
        own = ledger.outputs_of(result.name)
        for path in request.output.out:
            if path.exists() and str(path) not in own and not ledger.run.replace:
                raise OutputError(
                    path, "exists already, and no run of this study made it", "use ‹replace›"
                )
        ledger.promise(result, request)
        summary = make(request, report).summary
    except BavloError as error:
        return Outcome(result.name, FAILED, error.text(setting), time.monotonic() - began)
    ledger.note(result, request, inputs)
    return Outcome(result.name, MADE, due.why, time.monotonic() - began, summary, result.outputs)


@contextlib.contextmanager
def _alone(run: StudyRun) -> Iterator[None]:
    """While this lasts no other run of the study begins; it ends with the process at the latest."""
    folder = run.folder / STORE
    folder.mkdir(exist_ok=True)
    lock = os.open(folder / f"{run.name}.lock", os.O_RDWR | os.O_CREAT, 0o644)
    try:
        with contextlib.suppress(ImportError):  # not everywhere
            import fcntl

            try:
                fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError as error:
                raise OutputError(run.name, NOT_ALONE, "wait until it has ended") from error
        yield
    finally:
        os.close(lock)
