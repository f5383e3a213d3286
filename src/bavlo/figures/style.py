"""The look of Bavlo's figures."""

from __future__ import annotations

from collections.abc import Iterator
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
INK = "#20262b"
FAINT = "#d9dde0"
ABOVE, BELOW = "#2f7fa8", "#c2703d"  # wet and dry; the other way round for warm and cold
BAND = "#c9dbe6"

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
    """Text cut to a length that fits."""
    return text if len(text) <= most else text[: most - 1].rstrip() + "…"
