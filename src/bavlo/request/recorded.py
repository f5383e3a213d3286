"""From what provenance records of a request back to the request."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from bavlo.errors import InputError
from bavlo.grids.archives import is_there
from bavlo.grids.urls import url_of
from bavlo.held import IN_MEMORY
from bavlo.request.filling import make_request
from bavlo.request.option import Option
from bavlo.request.options import OPTIONS, option_of_field, options_of
from bavlo.request.parse import PLACE
from bavlo.request.renamed import renewed
from bavlo.request.request import Request

MINUTES = 60
OF_FILES = ("path", "grid_path", "regions", "label")  # what reads options that name files


def request_of(asked: Mapping[str, Any], folder: Path = Path()) -> Request:
    """The request that `asked` gives as plain data.

    Parameters
    ----------
    asked
        As `bavlo.request.filling.asked` gives it.
    folder
        Where relative files are looked for.

    Raises
    ------
    RequestError
        Where a value cannot be read, or a file is not there.
    """
    command, given = given_of(asked, folder)
    return make_request(command, given)


def given_of(asked: Mapping[str, Any], folder: Path = Path()) -> tuple[str, dict[str, Any]]:
    """The command, and the texts of its options as one would type them."""
    command, asked = str(asked["command"]), renewed(asked)
    given: dict[str, Any] = {
        "grids": [
            f"{grid['name']}={_placed(file, folder)}" if grid["name"] else _placed(file, folder)
            for grid in asked.get("grids", ())
            for file in grid["files"]
        ]
    }
    for option in options_of(command):
        if option.name in asked and option.field:
            given[option.name] = _given(option, asked[option.name], folder)
    by_field = {option.request_field: option for option in OPTIONS}
    for field, grid, value in asked.get("by_grid", ()):
        option = by_field[field]
        texts = given.setdefault(option_of_field(field), [])
        texts.append(f"{grid}={_text(option, value)}")
    return command, given


def files_named(asked: Mapping[str, Any]) -> list[str]:
    """All files that a recorded request names, as they are recorded."""
    asked = renewed(asked)
    found = [str(file) for grid in asked.get("grids", ()) for file in grid["files"]]
    for option in OPTIONS:
        if names_file(option, asked.get(option.name)):
            found.append(asked[option.name])
    return found


def folder_of(asked: Mapping[str, Any], table: Path) -> Path:
    """Where the files of a recorded request are: here, or in a folder around the table.

    Raises
    ------
    InputError
        Where they are in none of them.
    """
    files = [file for file in files_named(asked) if url_of(file) is None]
    for folder in (Path(), *table.resolve().parents):
        if all(is_there(folder / file) for file in files):
            return folder
    missing = next(file for file in files if not is_there(Path(file)))
    if missing.startswith(IN_MEMORY):
        raise InputError(
            table, "was made from what a call held in memory, which is gone", "make it from files"
        )
    raise InputError(
        table,
        f"was made from {missing}, which is neither here nor in a folder around the table",
        "go to the folder where the table was made, or bring the file back",
    )


def names_file(option: Option, value: Any) -> bool:
    """Whether a recorded value is a file; that of a label only where it is a CSV."""
    if option.parse not in OF_FILES or not isinstance(value, str):
        return False
    if option.parse == "label":
        return value.lower().endswith(".csv")
    return PLACE.fullmatch(value) is None


def _placed(file: str, folder: Path) -> str:
    return file if url_of(file) is not None or folder == Path() else str(folder / file)


def _given(option: Option, value: Any, folder: Path) -> Any:
    """The texts of an option, as one would type them."""
    if not option.value:
        return True
    if names_file(option, value):
        return _placed(str(value), folder)
    text = _text(option, value)
    if option.by_grid and not isinstance(text, list):
        return [text]
    return text


def _text(option: Option, value: Any) -> Any:
    """A value as a text, or as texts where it may be given several times."""
    special = _SPECIAL.get(option.parse)
    if special is not None:
        return special(value)
    if isinstance(value, list):
        texts = [str(each) for each in value]
        return texts if option.repeat and not option.by_grid else ",".join(texts)
    return repr(value) if isinstance(value, float) else str(value)


def _hours(minutes: int) -> str:
    sign = "-" if minutes < 0 else ""
    return f"{sign}{abs(minutes) // MINUTES:02d}:{abs(minutes) % MINUTES:02d}"


def _marks(values: list[float]) -> str:
    return ",".join(repr(value) for value in values) or "none"


def _numbers(values: list[float]) -> str:
    return ",".join(repr(value) for value in values)


def _scaling(told: list[float] | float | str) -> str:
    return _numbers(told) if isinstance(told, list) else str(told)


def _pairs(pairs: list[list[str]]) -> list[str]:
    return [f"{name}={value}" for name, value in pairs]


_SPECIAL: dict[str, Callable[[Any], Any]] = {
    "offset": _hours,
    "marks": _marks,
    "years": _numbers,
    "place": _numbers,
    "box": _numbers,
    "places": lambda places: [_numbers(place) for place in places],
    "windows": lambda windows: [_numbers(windows)],
    "regions": lambda told: told if isinstance(told, str) else [_numbers(each) for each in told],
    "scaling": _scaling,
    "columns": _pairs,
    "picks": _pairs,
    "pixels": lambda size: "x".join(map(str, size)),
}
