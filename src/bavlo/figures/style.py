"""The look of Bavlo's figures."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from matplotlib.figure import Figure

# Lines that colour-blind readers can tell apart, and that differ in lightness on paper.
LINES = (
    "#14506f",
    "#d1603d",
    "#3f9b7d",
    "#8e5aa8",
    "#c79a2b",
    "#5aa9d6",
    "#9c2f4a",
    "#6b7780",
)
# Further colours for classes, of which there may be more than lines.
MORE_CLASSES = (
    "#a9c79b",
    "#e7c6a5",
    "#b9a7cf",
    "#7d8f3c",
    "#3d7f86",
    "#e39a8a",
    "#5d4a3a",
    "#d8d38b",
)
OTHER_CLASS = "#b8bec3"  # of codes that nothing names
INK = "#20262b"
FAINT = "#d9dde0"
ABOVE, BELOW = "#2f7fa8", "#c2703d"  # wet and dry; the other way round for warm and cold
BAND = "#c9dbe6"

# Colours in order of value: light to dark for amounts, cold to warm for temperatures, and from one
# side of zero to the other for anomalies.
WET = ("#f3f6ee", "#bfdccf", "#7fbbbd", "#4191a8", "#1d628a", "#173a63")
WARM = ("#2f5f8f", "#86b3cc", "#e9ecdf", "#ecc078", "#d1603d", "#8a2339")
DRY_TO_WET = ("#8a4b1f", "#c98a4b", "#ecd9bd", "#f4f4f1", "#b9d8e2", "#5a9dbd", "#1f5f86")
MISSING, HATCH = "#eceeef", "#9aa3aa"  # where there is no data
A_DECADE = r" per decade$|/\(10 years\)$"  # after the unit of what a trend is of
TEMPERATURES = ("degC", "K", "degF", "celsius", "kelvin")

SETTINGS: dict[Any, Any] = {
    "figure.dpi": 100,
    "savefig.dpi": 100,
    "font.size": 11,
    "axes.titlesize": 11,
    "axes.titleweight": "bold",
    "axes.titlelocation": "left",
    "axes.edgecolor": "#8a9299",
    "axes.labelcolor": INK,
    "axes.grid": True,
    "axes.axisbelow": True,
    "axes.spines.top": False,
    "axes.spines.right": False,
    "grid.color": FAINT,
    "grid.linewidth": 0.7,
    "text.color": INK,
    "xtick.color": INK,
    "ytick.color": INK,
    "legend.frameon": False,
    "svg.hashsalt": "bavlo",
    "svg.fonttype": "none",
}


def colour_scale(name: str, colours: Sequence[str]) -> Any:
    """A continuous colour scale through the given colours."""
    from matplotlib.colors import LinearSegmentedColormap

    return LinearSegmentedColormap.from_list(name, list(colours))


def scale_for(unit: str, *, about_zero: bool) -> Any:
    """The colour scale for values in a unit: anomalies differ by whether warm or wet is above."""
    warm = re.sub(A_DECADE, "", unit) in TEMPERATURES
    if about_zero:
        return colour_scale("anomaly", DRY_TO_WET[::-1] if warm else DRY_TO_WET)
    return colour_scale("value", WARM if warm else WET)


def class_colour(number: int) -> str:
    """The colour of a class that its file gives none."""
    colours = LINES + MORE_CLASSES
    return colours[number % len(colours)]


@contextmanager
def styled() -> Iterator[None]:
    """Draw in Bavlo's look, without a screen."""
    import matplotlib

    with matplotlib.rc_context(SETTINGS):
        yield


def save(figure: Figure, path: Path, kind: str) -> None:
    """Write a figure; the same figure gives the same bytes."""
    metadata = {"png": {"Software": None}, "svg": {"Date": None}, "pdf": {"CreationDate": None}}
    with styled():
        figure.savefig(path, format=kind, metadata=metadata[kind])


def shortened(text: str, most: int) -> str:
    """Text that fits; what is cut out is from its middle, since long names often begin alike."""
    if len(text) <= most:
        return text
    head = (most - 1) * 3 // 5
    return f"{text[:head].rstrip()}…{text[len(text) - (most - 1 - head) :].lstrip()}"
