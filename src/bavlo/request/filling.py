"""Requests filled in from the texts of options, and read back as what was asked."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from bavlo.errors import RequestError, public
from bavlo.request.options import OPTIONS

if TYPE_CHECKING:
    from bavlo.request.request import Request

STANDARD_OUTPUT = "-"  # instead of a file
WAITING = 3  # more workers where grids come by URL, since they mostly wait for bytes


def make_request(command: str, given: Mapping[str, Any]) -> Request:
    """A request from the texts that were given for each option.

    Parameters
    ----------
    given
        By option name (and `grids`), as text, a list of texts or whether a switch is set; missing
        ones keep their default.

    Raises
    ------
    RequestError
        Where a text cannot be read, or an option is not for the command.
    """
    from bavlo.grids.urls import url_of
    from bavlo.request.parse import parse_grids, split_by_grid
    from bavlo.request.request import OF_OTHERS

    grids = parse_grids(given.get("grids") or [])
    formulas = [given["make"]] if isinstance(given.get("make"), str) else given.get("make") or ()
    made = [text.partition("=")[0].strip() for text in formulas]
    values: dict[str, Any] = {"grids.arguments": grids}
    by_grid: list[tuple[str, str, str]] = []
    for option in sorted(OPTIONS, key=lambda option: command in option.commands.split()):
        is_own = command in option.commands.split()
        value = given.get(option.name) if is_own else None
        if not option.field:
            continue
        if value is None or value is False:
            values[option.field] = option.usual()
        elif option.by_grid:
            listed = [value] if isinstance(value, str) else value
            plain, own = split_by_grid(listed, option, grids, made)
            values[option.field] = option.usual() if plain is None else option.read(plain)
            by_grid += [(field, name, option.read(text)) for field, name, text in own]
        else:
            values[option.field] = option.read(value)
    if command != "describe":
        _to_standard_output(values)
    values["grids.by_grid"] = tuple(by_grid)
    called = {grid.name for grid in grids}
    said = {(field, name): value for field, name, value in by_grid if name not in called}
    values |= {filled: said.get(of) for of, filled in OF_OTHERS.items()}
    by_url = any(url_of(path) is not None for grid in grids for path in grid.paths)
    if by_url and given.get("jobs") is None and given.get("cluster") is None:
        values["run.jobs"] += WAITING
    return _assembled(command, values)


def _to_standard_output(values: dict[str, Any]) -> None:
    """Take - out of the files that are named, and set the format of what goes there instead.

    Raises
    ------
    RequestError
        Where a format is given for nothing.
    """
    files = tuple(path for path in values["output.out"] if str(path) != STANDARD_OUTPUT)
    if files != values["output.out"]:
        values["output.format"] = values["output.format"] or "csv"
    elif values["output.format"] is not None:
        what = "is of the table that goes to standard output"
        raise RequestError("format", what, f"add ‹out {STANDARD_OUTPUT}›")
    values["output.out"] = files


def _assembled(command: str, values: Mapping[str, Any]) -> Request:
    """A request from the values of all fields, by their names with their groups."""
    import dataclasses

    from bavlo.request import request

    def build(kind: Any, prefix: str) -> Any:
        fields = {}
        for each in dataclasses.fields(kind):
            name = f"{prefix}{each.name}"
            inner = getattr(request, str(each.type), None)
            if name in values:
                fields[each.name] = values[name]
            elif name == "command":
                fields[each.name] = command
            elif dataclasses.is_dataclass(inner):
                fields[each.name] = build(inner, f"{name}.")
        return kind(**fields)

    built: Request = build(request.Request, "")
    return built


def asked(request: Request) -> dict[str, Any]:
    """What was asked for, as plain data: all that differs from what nobody has to ask for.

    Where results go and how they are computed is left out, since no number depends on it.
    """
    grids = [
        {"name": grid.name, "files": [public(str(path)) for path in grid.paths]}
        for grid in request.grids.arguments
    ]
    out: dict[str, Any] = {"command": request.command, "grids": grids}
    if request.grids.by_grid:
        out["by_grid"] = [
            [field, name, _plain(value)] for field, name, value in request.grids.by_grid
        ]
    seen = set()
    for option in OPTIONS:
        group = option.field.partition(".")[0]
        if group in ("", "output", "run") or option.field in seen:
            continue
        seen.add(option.field)
        value: Any = request
        for name in option.field.split("."):
            value = getattr(value, name)
        if value != option.usual():
            out[option.name] = _plain(value)
    return out


def _plain(value: Any) -> Any:
    """A value as plain data."""
    if value is None or isinstance(value, bool | int | float):
        return value
    if isinstance(value, str):
        return public(value)
    if isinstance(value, Sequence):
        return [_plain(each) for each in value]
    return public(str(value))
