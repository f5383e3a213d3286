"""How stored numbers become values, as the CF conventions have it."""

from __future__ import annotations

import functools
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from bavlo.core.values.missing import stored_as
from bavlo.errors import InputError

# What the netCDF library writes where nothing was written (netcdf.h, NC_FILL_*).
DEFAULT_FILLS = {
    "i2": -(2**15) + 1,
    "u2": 2**16 - 1,
    "i4": -(2**31) + 1,
    "u4": 2**32 - 1,
    "i8": -(2**63) + 2,
    "u8": 2**64 - 2,
    "f4": float.fromhex("0x1.ep+122"),
    "f8": float.fromhex("0x1.ep+122"),
}


Attributes = Mapping[str, Any]


def default_fill(dtype: np.dtype) -> float | None:
    """What stands in a NetCDF file where nothing was written; None for a type without."""
    return DEFAULT_FILLS.get(dtype.newbyteorder("=").str[1:])


@dataclass(frozen=True)
class Packing:
    """How stored numbers become values (CF-1.11, sections 2.5.1 and 8.1).

    Parameters
    ----------
    scale, offset
        value = stored × scale + offset; None where the file has no such attribute.
    missing
        Stored numbers that mean no data.
    lowest, highest
        Stored numbers outside of these mean no data.
    unsigned
        The stored integers are to be taken as unsigned.
    marks
        Stored numbers that mean no data though the file does not declare them.
    watched
        Stored numbers, ascending, that the variable cannot have as values. None was there when a
        sample was looked at; meeting one is an error.
    where
        The file, for that error.
    """

    scale: float | None = None
    offset: float | None = None
    missing: tuple[float, ...] = ()
    lowest: float | None = None
    highest: float | None = None
    unsigned: bool = False
    marks: tuple[float, ...] = ()
    watched: tuple[float, ...] = ()
    where: str = field(default="", compare=False)

    @property
    def is_plain(self) -> bool:
        """Whether stored numbers are the values."""
        return self.scale is None and self.offset is None and not self.unsigned

    def as_stored(self, stored: np.ndarray) -> np.ndarray:
        """Stored numbers as what they are meant to be."""
        if self.unsigned and stored.dtype.kind == "i":
            return stored.view(f"{stored.dtype.byteorder}u{stored.dtype.itemsize}")
        return stored

    def absent(self, stored: np.ndarray, ends: tuple[Any, Any] | None = None) -> np.ndarray | None:
        """Where numbers of `as_stored` mean no data; None where none does.

        Numbers beyond the lowest and the highest are not looked for, which is thrice as fast.

        Parameters
        ----------
        ends
            The lowest and the highest of the numbers, where they are known.
        """
        numbers = [stored.dtype.type(n) for n in (*self.missing, *self.marks) if n == n]
        bounded = self.lowest is not None or self.highest is not None
        if not stored.size or not (numbers or self.watched or bounded):
            return None
        # NaN where one is, so that no comparison holds.
        low, high = ends or (stored.min(), stored.max())
        flags = [stored == n for n in numbers if not (n < low or n > high)]
        if self.lowest is not None and not low >= self.lowest:
            flags.append(stored < self.lowest)
        if self.highest is not None and not high <= self.highest:
            flags.append(stored > self.highest)
        found = functools.reduce(np.logical_or, flags) if flags else None
        watched = np.array(self.watched, stored.dtype.newbyteorder("="))
        negative, positive = watched[watched < 0], watched[watched > 0]
        if negative.size and not low > negative[-1]:
            self._refuse_marks(stored, negative, stored <= negative[-1], found)
        if positive.size and not high < positive[0]:
            self._refuse_marks(stored, positive, stored >= positive[0], found)
        return found

    def _refuse_marks(
        self,
        stored: np.ndarray,
        marks: np.ndarray,
        suspect: np.ndarray,
        absent: np.ndarray | None,
    ) -> None:
        """Refuse numbers that are none of the variable, where any of the suspect ones is."""
        if not suspect.any():
            return
        if absent is not None:
            suspect &= ~absent
        met = marks[[bool((stored[suspect] == mark).any()) for mark in marks]]
        if met.size:
            value = replace(self, watched=()).decode(met[:1])[0]
            raise InputError(
                self.where,
                f"holds {value:.6g}, which this variable cannot be, which the file does not "
                "declare to be missing, and which a sample of its steps did not hold",
                f"say ‹missing {value:.6g}› if it means no data, or ‹missing none›",
            )

    def decode(self, stored: np.ndarray, values: np.ndarray | None = None) -> np.ndarray:
        """Values as float64, NaN where there is no data; into an array of that shape if given.

        Numbers that are values themselves may be given as that array, too.
        """
        stored = self.as_stored(stored)
        if values is None:
            values = np.empty(stored.shape)
        absent = self.absent(stored)
        if self.scale is not None:  # a float64, so that float32 numbers are not multiplied as such
            np.multiply(stored, np.float64(self.scale), out=values)
        elif values is not stored:
            np.copyto(values, stored)
        if absent is not None:
            np.copyto(values, np.nan, where=absent)
        if self.offset is not None:
            values += self.offset
        return values


def packing_from(attributes: Attributes, dtype: np.dtype, default_fill: float | None) -> Packing:
    """Read the packing attributes of a variable.

    Parameters
    ----------
    default_fill
        What the format writes where nothing was written, if the variable names no fill value.
    """

    def number(name: str) -> float | None:
        value = attributes.get(name)
        return None if value is None else float(np.ravel(value)[0])

    unsigned = str(attributes.get("_Unsigned", "false")).lower() == "true"
    missing: list[float] = []
    for name in ("_FillValue", "missing_value"):
        if name in attributes:
            kind = dtype
            if unsigned and dtype.kind == "i":
                kind = np.dtype(f"{dtype.byteorder}u{dtype.itemsize}")
            for value in np.ravel(attributes[name]):
                try:
                    with np.errstate(over="ignore"):
                        missing.append(float(np.asarray(value).astype(dtype).view(kind)))
                except (TypeError, ValueError):
                    continue  # text such as "none": it can equal no stored number
    if "_FillValue" not in attributes and default_fill is not None:
        missing.append(float(default_fill))
    scale, offset = number("scale_factor"), number("add_offset")
    lowest, highest = number("valid_min"), number("valid_max")
    ranged = [name for name in ("valid_min", "valid_max") if name in attributes]
    if "valid_range" in attributes and np.size(attributes["valid_range"]) == 2:
        lowest, highest = (float(v) for v in np.ravel(attributes["valid_range"]))
        ranged = ["valid_range"]
    if scale is not None and (scale == 0 or not np.isfinite(scale)):
        raise ValueError(f"its scale_factor is {scale:g}, by which nothing can be unpacked")
    if offset is not None and not np.isfinite(offset):
        raise ValueError(f"its add_offset is {offset:g}, which is no number")
    if any(_is_unpacked(attributes[name], dtype, scale, offset) for name in ranged):
        limited = Packing(scale, offset, lowest=lowest, highest=highest)
        limited = limits_of_values(limited, dtype)
        lowest, highest = limited.lowest, limited.highest
    for name in ("_FillValue", "missing_value"):
        if name in attributes and _is_unpacked(attributes[name], dtype, scale, offset):
            for value in np.ravel(attributes[name]).astype(np.float64).tolist():
                missing += stored_as(value, dtype, scale, offset)
    return Packing(
        scale,
        offset,
        tuple(dict.fromkeys(missing)),
        lowest,
        highest,
        unsigned,
    )


def _is_unpacked(value: Any, dtype: np.dtype, scale: float | None, offset: float | None) -> bool:
    """Whether a limit or missing value of packed integers is meant as a value, not as it is stored.

    Either it is of a wider type than they are (NetCDF Users' Guide, appendix A), or they cannot
    hold it.
    """
    if dtype.kind not in "iu" or (scale is None and offset is None):
        return False
    found = np.ravel(value)
    if found.dtype.kind not in "iuf":
        return False
    limits = np.iinfo(dtype)
    numbers = found.astype(np.float64)
    return bool(
        found.dtype.kind == "f" or (numbers < limits.min).any() or (numbers > limits.max).any()
    )


def limits_of_values(packing: Packing, dtype: np.dtype) -> Packing:
    """A packing whose limits are those of values, though they stand in the type of the stored."""
    ends = [
        _as_packed(end, dtype, packing.scale, packing.offset)
        for end in (packing.lowest, packing.highest)
    ]
    lowest, highest = ends if (packing.scale or 1.0) > 0 else ends[::-1]
    return replace(packing, lowest=lowest, highest=highest)


def _as_packed(
    value: float | None, dtype: np.dtype, scale: float | None, offset: float | None
) -> float | None:
    """A limit of values as one of stored integers, a little wider for what rounding takes."""
    if value is None:
        return None
    packed = (value - (offset or 0.0)) / (scale or 1.0)
    return float(np.rint(packed)) if abs(packed - np.rint(packed)) < 1e-3 else packed


def with_missing(
    packing: Packing, dtype: np.dtype, missing: tuple[float, ...] | None, where: object
) -> Packing:
    """A packing that takes further numbers for missing, stored or as they read.

    Parameters
    ----------
    missing
        As the user says; None where nothing was said.
    where
        The file.
    """
    marks = [
        stored
        for number in missing or ()
        for stored in stored_as(number, dtype, packing.scale, packing.offset)
    ]
    return replace(packing, marks=tuple(dict.fromkeys(marks)), where=str(where))
