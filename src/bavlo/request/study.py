"""Study files: what is made of which grids and regions, result by result."""

from __future__ import annotations

import tomllib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from bavlo.errors import InputError, known_words, nearest_word, one_of
from bavlo.request.option import Option
from bavlo.request.options import options_of
from bavlo.request.renamed import renewed

LATEST_YEAR, LATEST_MONTH = "{latest_year}", "{latest_month}"
OF_TABLES = ("chart",)  # commands that take tables only
COMMANDS = (
    "series",
    "normals",
    "anomalies",
    "extremes",
    "trends",
    "compare",
    "grid",
    "chart",
    "map",
)
OF_STUDY = ("title", "about", "folder")
OF_RESULT = ("name", "command", "grids", "of", "regions")


@dataclass(frozen=True)
class StudyGrid:
    """A grid of a study.

    Parameters
    ----------
    files
        Paths and patterns.
    told
        What is said of it alone, as options and their texts.
    """

    name: str
    files: tuple[str, ...]
    told: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
class StudyResult:
    """One result.

    Parameters
    ----------
    grids
        Names of the grids that it is made of.
    of
        Names of the results whose tables or grids it is made of.
    given
        Its options, as one would type them.
    """

    name: str
    command: str
    grids: tuple[StudyGrid, ...]
    of: tuple[str, ...]
    given: Mapping[str, Any]

    @property
    def outputs(self) -> tuple[str, ...]:
        """The files that it writes, as they are named."""
        out = self.given.get("out", [])
        events = self.given.get("events")
        return (*out, *([events] if events else []))


@dataclass(frozen=True)
class Study:
    """A study file.

    Parameters
    ----------
    folder
        Where outputs go, from the file's own folder.
    """

    title: str
    about: str
    folder: str
    grids: tuple[StudyGrid, ...]
    results: tuple[StudyResult, ...]

    def result(self, name: str) -> StudyResult:
        """A result by its name."""
        return next(result for result in self.results if result.name == name)


def _texts(told: Any) -> Iterator[str]:
    """All keys and texts of a study file."""
    if isinstance(told, str):
        yield told
    elif isinstance(told, dict):
        yield from told
        for value in told.values():
            yield from _texts(value)
    elif isinstance(told, list):
        for value in told:
            yield from _texts(value)


def read_study(path: Path) -> Study:
    """Read a study file.

    Raises
    ------
    InputError
        Where it is no TOML, or a key is not known; with the nearest that is.
    """
    try:
        with path.open("rb") as file:
            told = tomllib.load(file)
    except OSError as error:
        raise InputError(path, f"cannot be read ({error.strerror})", "check the path") from error
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise InputError(path, f"is no study file ({error})", "mend that line") from error
    except RecursionError as error:
        raise InputError(path, "is no study file (its lists nest too deep)", "mend it") from error
    if any("\0" in text for text in _texts(told)):
        raise InputError(path, "holds a NUL character in a name or text", "take it out")
    _check_keys(path, "the file", told, ("study", "grids", "regions", "result"))
    head = _table(path, "study", told.get("study", {}))
    _check_keys(path, "[study]", head, OF_STUDY)
    grids = _grids(path, _table(path, "grids", told.get("grids", {})))
    regions = renewed(_table(path, "regions", told.get("regions", {})))
    listed = told.get("result", [])
    if not isinstance(listed, list) or not listed:
        raise InputError(path, "lists no result", "add [[result]] with a command")
    results: list[StudyResult] = []
    for n, each in enumerate(listed, 1):
        results.append(_result(path, n, _table(path, "result", each), grids, regions, results))
    return Study(
        str(head.get("title", path.stem)),
        str(head.get("about", "")),
        str(head.get("folder", ".")),
        tuple(grids.values()),
        tuple(results),
    )


def _table(path: Path, name: str, told: Any) -> dict[str, Any]:
    if not isinstance(told, dict):
        raise InputError(path, f"[{name}] is no table", f"write it as [{name}]")
    return told


def _check_keys(path: Path, where: str, told: Mapping[str, Any], known: Sequence[str]) -> None:
    for key in told:
        if key not in known:
            hint = nearest_word(key, known, f"it may hold: {', '.join(known)}")
            raise InputError(path, f"{where} holds '{key}', which is not known", hint)


def _grids(path: Path, told: Mapping[str, Any]) -> dict[str, StudyGrid]:
    """The grids by name: files, or a table with `files` and what is said of the grid."""
    own = {option.name: option for option in options_of("series") if option.by_grid}
    out = {}
    for name, value in told.items():
        options: list[tuple[str, str]] = []
        if isinstance(value, dict):
            value = renewed(value)
            _check_keys(path, f"[grids] {name}", value, ["files", *own])
            if "files" not in value:
                raise InputError(path, f"[grids] {name} names no files", "add files = …")
            options = [(key, _text(value[key])) for key in value if key != "files"]
            value = value["files"]
        files = [value] if isinstance(value, str) else value
        if not isinstance(files, list) or not all(isinstance(each, str) for each in files):
            raise InputError(path, f"[grids] {name} is no file", "name a file, or a list of them")
        out[name] = StudyGrid(name, tuple(files), tuple(options))
    return out


def _result(
    path: Path,
    number: int,
    told: Mapping[str, Any],
    grids: Mapping[str, StudyGrid],
    regions: Mapping[str, Any],
    before: Sequence[StudyResult],
) -> StudyResult:
    """One result, with the regions of the study where it needs some and names none."""
    name = str(told.get("name", f"result {number}"))
    command = told.get("command")
    if command not in COMMANDS:
        raise InputError(path, f"{name}: '{command}' is no command", one_of(str(command), COMMANDS))
    if any(result.name == name for result in before):
        raise InputError(path, f"two results are called {name}", "rename one")
    told = renewed(told)
    options = {option.name: option for option in options_of(command)}
    _check_keys(path, name, told, [*OF_RESULT, *options])
    of = _names(told.get("of", []))
    known = [result.name for result in before]
    for each in of:
        if each not in known:
            hint = known_words(each, known, "results that stand above it")
            raise InputError(path, f"{name}: there is no result {each} before it", hint)
    if "grids" in told or of:
        wanted = _names(told.get("grids", []))
    else:
        wanted = _only_grid(path, name, command, grids)
    for each in wanted:
        if each not in grids:
            hint = known_words(each, grids, "there is")
            raise InputError(path, f"{name}: there is no grid {each}", hint)
    given: dict[str, Any] = {}
    if wanted or command == "map":
        given |= _regions(path, regions, told.get("regions"), options)
    elif isinstance(told.get("regions"), str | list):
        given["regions"] = told["regions"]
    given |= {
        key: _given(options[key], value)
        for key, value in told.items()
        if key in options and key not in OF_RESULT
    }
    out = given.get("out", [])
    given["out"] = [out] if isinstance(out, str) else out
    if not given["out"] or "-" in given["out"]:
        raise InputError(path, f"{name} writes nothing", 'add out = "FILE"')
    return StudyResult(name, command, tuple(grids[each] for each in wanted), of, given)


def _only_grid(
    path: Path, name: str, command: str, grids: Mapping[str, StudyGrid]
) -> tuple[str, ...]:
    """The one grid of a study, where a result names none."""
    if command in OF_TABLES:
        raise InputError(path, f"{name} is made of nothing", "name results with of = …")
    if len(grids) != 1:
        raise InputError(path, f"{name} does not say of which grids", "add grids = …")
    return tuple(grids)


def _names(told: Any) -> tuple[str, ...]:
    return (told,) if isinstance(told, str) else tuple(map(str, told))


def _regions(
    path: Path, regions: Mapping[str, Any], own: Any, options: Mapping[str, Option]
) -> dict[str, Any]:
    """The regions of a result: its own file, else those of the study."""
    if isinstance(own, str | list):
        return {"regions": own}
    if not regions or "regions" not in options:
        return {}
    of_regions = [name for name, option in options.items() if option.group == "regions"]
    _check_keys(path, "[regions]", regions, ["file", "input-crs", *of_regions])
    given: dict[str, Any] = {}
    for key, value in regions.items():
        name = "regions" if key == "file" else key
        given[name] = _given(options[name], value)
    return given


def _given(option: Option, value: Any) -> Any:
    """A value of an option as one would type it."""
    if not option.value:
        return bool(value)
    if isinstance(value, list):
        texts = [_text(each) for each in value]
        return texts if option.repeat else ",".join(texts)
    return [_text(value)] if option.repeat else _text(value)


def _text(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    return repr(value) if isinstance(value, float) else str(value)


def replaced(value: Any, words: Mapping[str, str]) -> Any:
    """A value with the variables of a study put in."""
    if isinstance(value, str):
        for word, text in words.items():
            value = value.replace(word, text)
        return value
    if isinstance(value, list | tuple):
        return [replaced(each, words) for each in value]
    return value


def uses(value: Any, word: str) -> bool:
    """Whether a variable stands anywhere in a value."""
    if isinstance(value, Mapping):
        return any(uses(each, word) for each in value.values())
    if isinstance(value, list | tuple):
        return any(uses(each, word) for each in value)
    return isinstance(value, str) and word in value
