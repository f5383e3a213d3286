"""The look of Bavlo's figures."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bavlo.core.stats.agreement import AGREEMENTS
from bavlo.core.stats.normals import MINUS
from bavlo.errors import in_one_line
from bavlo.tables.schema import schema_by_axes

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from bavlo.tables.table import Table

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
HEAT = ("#faf1df", "#f0cf94", "#e29a5c", "#c75b3f", "#8a2339")  # few to many warm days
# Above a temperature, or one of the indices of ETCCDI that count warm days.
HOT = re.compile(r">=? *-?[\d.]+ *(degC|K|degF)\b|^t\w* *>=? *p\d|^(SU|TR|TX90p|TN90p|WSDI|CSU)$")
A_DECADE = r" per decade$|/\(10 years\)$"  # after the unit of what a trend is of
TEMPERATURES = ("degC", "K", "degF", "celsius", "kelvin")

DPI = 100
USUAL_PAGE = (12.8, 8.0)  # inches
_apart: ContextVar[bool] = ContextVar("apart", default=False)
_page: ContextVar[tuple[float, float] | None] = ContextVar("page", default=None)
SETTINGS: dict[Any, Any] = {
    "figure.dpi": DPI,
    "savefig.dpi": DPI,
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
    "text.parse_math": False,  # names with $ or \ stand as they are
}


class Fits:
    """How much fits on a figure, or on a page, before it can no longer be read."""

    outlines = 100  # that stand as text in a page
    bars = 120  # of shares
    named_share = 0.06  # from which a part of a bar says its percent
    letters = 4.5  # points of the values that are written into cells
    cell_share = 0.05  # of a cell, for its value to be written into it
    maps = 36  # side by side
    longest = 15  # events
    lines = 40  # regions on one time line
    points = 20_000  # of sources against one another
    names_on_map = 150  # of regions
    row_height = 1.35  # inches of a row of panels
    columns = 6  # of panels
    panels = 60  # regions, beyond which a panel each cannot be read
    names_in_title = 4  # of regions
    names_at_side = 60  # of regions; beyond that some of them
    large_names = 40  # of regions, which have room for larger letters
    labels = 12  # periods that are named below
    named_periods = 13  # periods of the year whose names all fit


def colour_scale(name: str, colours: Sequence[str]) -> Any:
    """A continuous colour scale through the given colours."""
    from matplotlib.colors import LinearSegmentedColormap

    return LinearSegmentedColormap.from_list(name, list(colours))


def scale_for(unit: str, *, neutral: float | None, heat: bool = False) -> Any:
    """The colour scale for values in a unit: anomalies differ by whether warm or wet is above.

    Parameters
    ----------
    neutral
        The value that they lie about; None for a scale from pale to dark.
    heat
        The values count what happens when it is warm.
    """
    warm = heat or re.sub(A_DECADE, "", unit) in TEMPERATURES
    if neutral is not None:
        return colour_scale("anomaly", DRY_TO_WET[::-1] if warm else DRY_TO_WET)
    return colour_scale("value", HEAT if heat else WARM if warm else WET)


def neutral_of(table: Table, column: str) -> float | None:
    """The value that those of a column lie about, such as 0 of anomalies and 100 of percents."""
    schema = schema_by_axes(table).column(column)
    if schema is None or schema.neutral is not None or column != "value":
        return None if schema is None else schema.neutral
    if "statistic" in table.header and table.name == "compare":
        found = {AGREEMENTS[str(name)].neutral for name in table.labels("statistic")}
        return found.pop() if len(found) == 1 else None
    if "base" in table.header and MINUS in str(table.labels("base")[0]):
        return 0.0
    return neutral_of_words(" ".join(map(str, table.labels("variable"))))


def neutral_of_words(names: str) -> float | None:
    """The same of a variable, by what its names say."""
    if re.search(r"percent[ _]of[ _](the[ _])?normal|_percent\b", names):
        return 100.0
    return 0.0 if re.search(r"(anomal|score|trend|bias|change)", names, re.IGNORECASE) else None


def symmetric(low: float, high: float, neutral: float | None) -> tuple[float, float]:
    """The ends of a scale of colours, as far on both sides of what is neutral."""
    if neutral is None:
        return low, high
    reach = max(abs(low - neutral), abs(high - neutral))
    return neutral - reach, neutral + reach


def counts_heat(table: Table) -> bool:
    """Whether a table counts days above a temperature, or indices of warm days."""
    column = "condition" if "condition" in table.header else "variable"
    texts = map(str, table.labels(column)) if column in table.header else ()
    return all([HOT.search(text) is not None for text in texts] or [False])


def shown_unit(unit: str) -> str:
    """A unit as figures print it: that of a plain number is none."""
    return "" if unit in ("1", "-") else unit


def class_colour(number: int) -> str:
    """The colour of a class that its file gives none."""
    colours = LINES + MORE_CLASSES
    return colours[number % len(colours)]


def page_size() -> tuple[float, float]:
    """Width and height of the page that is drawn, inches."""
    return _page.get() or USUAL_PAGE


def grown_page(least: float) -> tuple[float, float]:
    """The page, at least so many inches high where its size was not asked for."""
    width, height = page_size()
    return (width, height) if _page.get() is not None else (width, max(height, least))


def panels_apart() -> bool:
    """Whether each panel was asked to have a scale of its own."""
    return _apart.get()


@contextmanager
def on_page(pixels: tuple[int, int] | None, *, apart: bool = False) -> Iterator[None]:
    """Draw on pages of a width and height in pixels; None for the usual ones.

    Parameters
    ----------
    apart
        Each panel has a scale of its own.
    """
    page = _page.set(None if pixels is None else (pixels[0] / DPI, pixels[1] / DPI))
    scale = _apart.set(apart)
    try:
        yield
    finally:
        _page.reset(page)
        _apart.reset(scale)


@contextmanager
def styled() -> Iterator[None]:
    """Draw in Bavlo's look, without a screen, whatever settings lie in the working folder."""
    import matplotlib

    with matplotlib.rc_context():
        matplotlib.rcdefaults()
        matplotlib.rcParams.update(SETTINGS)
        yield


def save(figure: Figure, path: Path, kind: str) -> None:
    """Write a figure; the same figure gives the same bytes."""
    metadata = {"png": {"Software": None}, "svg": {"Date": None}, "pdf": {"CreationDate": None}}
    with styled():
        figure.savefig(path, format=kind, metadata=metadata[kind])


def shortened(text: str, most: int) -> str:
    """Text that fits; what is cut out is from its middle, since long names often begin alike.

    Control characters are escaped, which no font has.
    """
    text = in_one_line(text)
    if len(text) <= most:
        return text
    head = (most - 1) * 3 // 5
    return f"{text[:head].rstrip()}…{text[len(text) - (most - 1 - head) :].lstrip()}"
