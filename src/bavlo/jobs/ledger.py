"""What is known of the results of a study from earlier runs, and why one is to be made again."""

from __future__ import annotations

import contextlib
import hashlib
import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from bavlo import __version__
from bavlo.core.time.assignment import assign_steps
from bavlo.core.time.periods import parse_every
from bavlo.engine.protocol import Resources
from bavlo.errors import InputError, public
from bavlo.files import whole_files
from bavlo.grids import digest
from bavlo.grids.archives import archive_of
from bavlo.grids.open import open_grid
from bavlo.grids.source import ReadOptions
from bavlo.grids.urls import url_of
from bavlo.jobs.periods import periods_of
from bavlo.jobs.provenance import sha256_of
from bavlo.jobs.wording import some_of
from bavlo.request.filling import make_request
from bavlo.request.options import OPTIONS
from bavlo.request.parse import expand
from bavlo.request.recorded import names_file
from bavlo.request.request import Request
from bavlo.request.study import (
    LATEST_MONTH,
    LATEST_YEAR,
    Study,
    StudyGrid,
    StudyResult,
    replaced,
    uses,
)
from bavlo.tables.formats import ending_of

STORE = ".bavlo"  # folder beside the outputs


@dataclass(frozen=True)
class StudyRun:
    """How a study is run.

    Parameters
    ----------
    study
    name
        Of its file, by which what is known of it is kept.
    resources
        Jobs and memory.
    only
        Names of results that are looked at; all where empty.
    replace
        Write over files that an earlier run of the study has not made.
    """

    study: Study
    name: str
    resources: Resources
    only: tuple[str, ...] = ()
    replace: bool = False

    @property
    def folder(self) -> Path:
        """Where outputs go."""
        return Path(self.study.folder)


class Ledger:
    """What is known of the results of earlier runs.

    Attributes
    ----------
    told
        By name of the result: what was asked, its inputs and its outputs, as plain data.
    promised
        By name of a result that is being made: its outputs, which are the study's own even where
        the run ends before it has said so.
    """

    def __init__(
        self,
        run: StudyRun,
        told: dict[str, Any],
        promised: dict[str, list[str]],
        digests: dict[str, Any],
    ) -> None:
        self.run, self.told, self.promised = run, told, promised
        self._latest: dict[tuple[StudyGrid, ...], dict[str, str]] = {}
        digest.remember(digests)

    @classmethod
    def read(cls, run: StudyRun) -> Ledger:
        """From the file that an earlier run left; empty where it is gone or damaged."""
        try:
            told = json.loads(cls.path_of(run).read_text(encoding="utf-8"))
            if not _is_sound(told):
                return cls(run, {}, {}, {})
            return cls(run, dict(told["results"]), dict(told["promised"]), dict(told["digests"]))
        except (OSError, ValueError, KeyError, TypeError, AttributeError, RecursionError):
            return cls(run, {}, {}, {})

    @classmethod
    @contextlib.contextmanager
    def of(cls, run: StudyRun) -> Iterator[Ledger]:
        """The same; what came to be known is kept at the end, however that comes."""
        ledger = cls.read(run)
        try:
            yield ledger
        finally:
            ledger.keep()

    @staticmethod
    def path_of(run: StudyRun) -> Path:
        """Where it is kept."""
        return run.folder / STORE / f"{run.name}.json"

    def keep(self) -> None:
        """Write it, as a whole."""
        text = json.dumps(
            {"results": self.told, "promised": self.promised, "digests": digest.remembered()}
        )
        path = self.path_of(self.run)
        with whole_files([path], replace=True) as drafts:
            drafts[path].write_text(text, encoding="utf-8")

    def outputs_of(self, name: str) -> set[str]:
        """The files that an earlier run made for a result, or was about to make."""
        return {*self.told.get(name, {}).get("outputs", ()), *self.promised.get(name, ())}

    def promise(self, result: StudyResult, request: Request) -> None:
        """A result is about to be made."""
        self.promised[result.name] = [str(path) for path in _outputs(request)]
        self.keep()

    def reason(self, result: StudyResult) -> str:
        """Why a result is to be made; empty where it is up to date."""
        known = self.told.get(result.name)
        if not known:
            return "it was never made"
        if known.get("version") != __version__:
            return f"made by version {known.get('version')}"
        given = self.given(result)
        if known.get("given") != _plain(given):
            before, now = known["given"], _plain(given)
            names = sorted(k for k in {*before, *now} if before.get(k) != now.get(k))
            return f"the request changed: {', '.join(names)}"
        inputs = self.inputs(result, given)
        before = known["inputs"]
        added = sorted(inputs.keys() - before.keys())
        if added:
            return f"{some_of(added, 2)} was added"
        gone = sorted(before.keys() - inputs.keys())
        if gone:
            return f"{some_of(gone, 2)} is gone"
        changed = sorted(name for name, stamp in inputs.items() if stamp != before[name])
        if changed:
            return f"{some_of(changed, 2)} changed"
        for name, stamp in known["outputs"].items():
            found = _stamp(Path(name))
            if found is None:
                return f"{name} is missing"
            if found[:2] != stamp[:2]:
                return f"{name} was changed"
        return ""

    def given(self, result: StudyResult) -> dict[str, Any]:
        """The texts of a result's options, with variables put in and files where they go."""
        given = dict(result.given)
        words: dict[str, str] = {}
        if uses(given, LATEST_YEAR) or uses(given, LATEST_MONTH):
            words = self.latest(self._behind(result))
        given = {name: replaced(value, words) for name, value in given.items()}
        given["out"] = [str(self.run.folder / out) for out in given["out"]]
        if "events" in given:
            given["events"] = str(self.run.folder / given["events"])
        texts: list[str] = []
        for grid in result.grids:
            texts += [f"{grid.name}={file}" for file in grid.files]
            for name, value in grid.told:
                given[name] = [*_listed(given.get(name)), f"{grid.name}={value}"]
        for name in result.of:
            path = self._made_by(name, result.command)
            alone = len(result.of) == 1 and not result.grids
            texts.append(path if alone else f"{_identifier(name)}={path}")
        given["grids"] = texts
        return given

    def request(self, result: StudyResult) -> tuple[Request, dict[str, Any]]:
        """The request of a result, and its inputs as they are now."""
        given = self.given(result)
        inputs = self.inputs(result, given)
        request = make_request(result.command, given)
        store = self.run.folder / STORE / "values"
        run = replace(self.run.resources, store=store)
        output = replace(request.output, replace=True)
        return replace(request, run=run, output=output), inputs

    def inputs(self, result: StudyResult, given: Mapping[str, Any]) -> dict[str, Any]:
        """What the file system tells of the files of a result; of those that the study makes
        itself their SHA-256.
        """
        own = {name for other in self.told.values() for name in other.get("outputs", {})}
        found: dict[str, Any] = {}
        paths = [path for grid in result.grids for file in grid.files for path in expand(file)]
        paths += [Path(text.partition("=")[2] or text) for text in given["grids"][-len(result.of) :]
                  if result.of]  # fmt: skip
        for option in OPTIONS:
            told = [] if option.field.startswith("output.") else given.get(option.name)
            for text in told if isinstance(told, list) else [told]:
                if text is not None and names_file(option, text):
                    paths += expand(text)
        for path in paths:
            if url_of(path) is not None:
                found[public(str(path))] = "url"
            elif str(path) in own and path.is_file():
                found[str(path)] = sha256_of(path)
            else:
                found[public(str(path))] = _stamp(archive_of(path) or path)
        return found

    def note(self, result: StudyResult, request: Request, inputs: Mapping[str, Any]) -> None:
        """A result was made."""
        made = {
            "version": __version__,
            "given": _plain(self.given(result)),
            "inputs": dict(inputs),
            "outputs": {str(path): _stamp(path) for path in _outputs(request)},
        }
        self.told[result.name] = made
        # Promised up to here: an interrupt in between must not leave files of nobody.
        self.promised.pop(result.name, None)
        self.keep()

    def latest(self, grids: tuple[StudyGrid, ...]) -> dict[str, str]:
        """The last year and the last month that are whole in all of some grids."""
        if grids not in self._latest:
            years, months = zip(*(_last_whole(grid) for grid in grids), strict=True)
            self._latest[grids] = {LATEST_YEAR: min(years), LATEST_MONTH: min(months)}
        return self._latest[grids]

    def _behind(self, result: StudyResult) -> tuple[StudyGrid, ...]:
        """The grids that a result is made of in the end."""
        found = list(result.grids)
        for name in result.of:
            found += self._behind(self.run.study.result(name))
        return tuple(dict.fromkeys(found))

    def _made_by(self, name: str, command: str) -> str:
        """The table of a result, or its grid, that others are made of."""
        parent = self.run.study.result(name)
        given = self.given(parent)
        long = given.get("layout") in (None, "long")
        for out in given["out"]:
            is_table = bool(ending_of(Path(out))) and (long or out.endswith(".xlsx"))
            if is_table or (parent.command == "grid" and command != "chart"):
                return str(out)
        raise InputError(
            self.run.name,
            f"{name} writes no table that {command} could be of",
            "add one to its out",
        )


def _last_whole(grid: StudyGrid) -> tuple[str, str]:
    """The last whole year and month of a grid, as labels."""
    paths = [path for file in grid.files for path in expand(file)]
    told = dict(grid.told)
    reading = ReadOptions(called=grid.name, variable=told.get("variable"), dates=told.get("dates"))
    source = open_grid(paths, reading)
    if source.time is None:
        raise InputError(paths[0], "has no time axis, and so no latest year", "leave it out")
    found = []
    for every in ("year", "month"):
        periods = periods_of(parse_every(every), source.time)
        assignment = assign_steps(source.time, periods, may_share=False)
        have = np.bincount(assignment.period, assignment.share, len(periods))
        whole = np.flatnonzero(have >= assignment.expected - 1e-9)
        if not whole.size:
            raise InputError(paths[0], f"has no whole {every}", f"leave {{latest_{every}}} out")
        found.append(periods.labels[int(whole[-1])])
    return found[0], found[1]


def _is_sound(told: Any) -> bool:
    """Whether a ledger has the form that runs give it, whatever stands in it."""
    results, promised, digests = (told[name] for name in ("results", "promised", "digests"))
    stamps = [
        stamp
        for each in results.values()
        for part in (each["inputs"], each["outputs"])
        for stamp in part.values()
    ]
    numbers = [n for stamp in stamps if isinstance(stamp, list) for n in stamp]
    return (
        all(isinstance(each["given"], dict) for each in results.values())
        and all(isinstance(stamp, list | str | None) for stamp in stamps)
        and all(isinstance(number, int) for number in numbers)
        and all(isinstance(path, str) for paths in promised.values() for path in paths)
        and isinstance(digests, dict)
    )


def _outputs(request: Request) -> list[Path]:
    events = request.output.events
    return [*request.output.out, *([] if events is None else [events])]


def _stamp(path: Path) -> list[int] | None:
    """Size, time of the last change (ns) and inode of a file; of a folder those of all files."""
    try:
        status = path.stat()
        if path.is_dir():
            inner = sorted(p for p in path.rglob("*") if p.is_file())
            each = [p.stat() for p in inner]
            stamps = [(str(p), s.st_size, s.st_mtime_ns) for p, s in zip(inner, each, strict=True)]
            told = hashlib.sha256(repr(stamps).encode()).hexdigest()
            return [len(inner), int(told[:15], 16), status.st_ino]
    except OSError:
        return None
    return [status.st_size, status.st_mtime_ns, status.st_ino]


def _listed(value: Any) -> list[str]:
    if value is None:
        return []
    return [value] if isinstance(value, str) else list(value)


def _identifier(name: str) -> str:
    """A name of a result as that of a source."""
    word = "".join(c if c.isalnum() else "_" for c in name)
    return word if word[:1].isalpha() else f"r_{word}"


def _plain(value: Any) -> Any:
    """As JSON gives it back."""
    return json.loads(public(json.dumps(value)))
