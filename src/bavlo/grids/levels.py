"""Further dimensions, such as level, member and lead time: which of their values is meant."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np

from bavlo.errors import InputError

SHOWN = 8  # values that a message lists
UNITS_OF = {"lead": " h"}


class LevelsLeftOpen(InputError):
    """A further dimension has several values, and none is chosen.

    Parameters
    ----------
    first
        What chooses the first value of each, as `DIM=V`.
    """

    def __init__(
        self,
        path: object,
        what: str,
        remedy: str,
        first: tuple[str, ...] = (),
        values: Mapping[str, Sequence[float | str]] | None = None,
    ) -> None:
        super().__init__(path, what, remedy)
        self.args = (path, what, remedy, first, values)
        self.first = first
        self.values = dict(values or {})


def chosen_levels(
    path: Path,
    variable: str,
    dimensions: Mapping[str, Sequence[float | str]],
    wanted: Sequence[str],
) -> dict[str, int]:
    """The position along each further dimension.

    Parameters
    ----------
    dimensions
        Values of each, in their order; one of a single value needs no choice.
    wanted
        `V` where only one dimension has several values, or `DIM=V`.

    Raises
    ------
    InputError
        Where one is left open, or has no such value.
    """
    found = dict.fromkeys(dimensions, 0)
    several = [name for name, values in dimensions.items() if len(values) > 1]
    asked: dict[str, str] = {}
    for text in wanted:
        name, sign, value = text.rpartition("=")
        if sign and name not in dimensions:
            raise InputError(
                path,
                f"{variable} has no dimension {name}",
                f"it has: {', '.join(dimensions) or 'none further'}",
            )
        if not sign and len(several) > 1:
            raise InputError(
                path,
                f"variable {variable} has several further dimensions: {', '.join(several)}",
                f"say which one {value} is of, as ‹level {several[0]}={value}›",
            )
        if sign or several:
            asked[name if sign else several[0]] = value
    for name in several:
        listed = listing(dimensions[name])
        if name not in asked:
            example = value_name(dimensions[name][0])
            prefix = f"{name}=" if len(several) > 1 else ""
            raise LevelsLeftOpen(
                path,
                f"variable {variable} has a further dimension {name} of {len(dimensions[name])} "
                f"values ({listed})",
                f"choose one with ‹level›, as ‹level {prefix}{example}›",
                tuple(f"{each}={value_name(dimensions[each][0])}" for each in several),
                {each: dimensions[each] for each in several if each not in asked},
            )
    for name, text in asked.items():
        found[name] = _position(path, name, dimensions[name], text)
    return found


def _position(path: Path, name: str, values: Sequence[float | str], text: str) -> int:
    numbers = [value for value in values if not isinstance(value, str)]
    near = np.flatnonzero([value == text for value in values])
    with contextlib.suppress(ValueError):
        if numbers:
            near = np.flatnonzero(np.isclose(numbers, float(text), rtol=1e-6, atol=1e-12))
    if near.size != 1:
        raise InputError(
            path, f"dimension {name} has no value {text}", f"it has: {listing(values)}"
        )
    return int(near[0])


def level_text(
    dimensions: Mapping[str, Sequence[float | str]], positions: Mapping[str, int]
) -> str:
    """Which values were chosen where there were several: `member 3, lead 24 h`."""
    return ", ".join(
        f"{name} {value_name(values[positions[name]])}{UNITS_OF.get(name, '')}"
        for name, values in dimensions.items()
        if len(values) > 1
    )


def value_name(value: float | str) -> str:
    """A value of a further dimension as `level` takes it."""
    return value if isinstance(value, str) else f"{value:g}"


def listing(values: Sequence[float | str]) -> str:
    """The first few values, and the last."""
    names = [value_name(value) for value in values]
    return ", ".join(names[:SHOWN]) + (f", … {names[-1]}" if len(names) > SHOWN else "")
