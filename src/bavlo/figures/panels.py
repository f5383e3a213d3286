"""A panel for each region, on one page whatever their number."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from bavlo.errors import RequestError
from bavlo.figures.style import INK, Fits, grown_page, panels_apart, shortened, shown_unit

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

ABSENT = "#8a9299"  # words where nothing is drawn


def panel_grid(names: Sequence[str], *, share_y: bool = True) -> tuple[Figure, list[Axes]]:
    """Axes side by side with a name over each; the page grows when there are many."""
    from matplotlib.figure import Figure

    count = len(names)
    if count > Fits.panels:
        raise RequestError(
            "figure",
            f"{count} regions are too many for a panel each",
            "choose some with ‹only›, or draw one table by ‹figure lines›, as a matrix",
        )
    columns = min(int(np.ceil(np.sqrt(count))), Fits.columns)
    rows = -(-count // columns)
    figure = Figure(figsize=grown_page(Fits.row_height * rows + 1))
    grid = figure.subplots(
        rows, columns, sharex=True, sharey=share_y and not panels_apart(), squeeze=False
    ).ravel()
    for axes in grid[count:]:
        axes.set_visible(False)
    for n, axes in enumerate(grid[:count]):
        axes.set_title(shortened(names[n], 108 // columns), fontsize=10)
        axes.tick_params(labelsize=9, labelbottom=n + columns >= count)
    return figure, list(grid[:count])


def place_panels(
    figure: Figure, panels: Sequence[Axes], legend: Sequence[str], *, own_y: bool = False
) -> None:
    """Give panels their places and a legend above them, beside the heading.

    Parameters
    ----------
    own_y
        Each has numbers of its own at its side.

    Notes
    -----
    Panels of one size need no layout engine, which would draw everything once more.
    """
    for axes in panels:
        if not axes.texts and not _shows_values(axes):
            say_absent(axes)
    own_y = own_y or panels_apart()
    height = figure.get_size_inches()[1]
    spec = panels[0].get_gridspec()
    rows = spec.nrows if spec is not None else 1
    digits = max(len(f"{value:.4g}") for value in panels[0].get_ylim())
    named = bool(legend)
    figure.subplots_adjust(
        left=0.035 + 0.0065 * digits,
        right=0.985,
        bottom=0.6 / height,
        top=1 - 0.66 / height,
        wspace=0.26 if own_y else 0.08,
        hspace=0.3 if rows < 6 else 0.42,
    )
    if named:
        figure.legend(
            loc="upper right", handlelength=1.6, borderaxespad=0.3, ncols=len(legend), fontsize=10
        )


def _shows_values(axes: Axes) -> bool:
    """Whether anything of finite height is drawn in a panel, beside lines right across it."""
    heights = [
        np.asarray(line.get_ydata(), np.float64)
        for line in axes.lines
        if line.get_transform() == axes.transData
    ]
    heights += [each.get_datalim(axes.transData).intervaly for each in axes.collections]
    heights += [patch.get_extents().intervaly for patch in axes.patches]
    return any(np.isfinite(each).any() for each in heights)


def say_absent(axes: Axes, words: str = "no value") -> None:
    """Words in the middle of a panel in which nothing is drawn."""
    text = axes.text(0.5, 0.5, words, transform=axes.transAxes, fontsize=9, color=ABSENT)
    text.set(ha="center", va="center")


def from_zero(panels: Sequence[Axes]) -> None:
    """Let the scale begin at zero, be it one of all panels or one of each."""
    for axes in panels:
        axes.set_ylim(bottom=0)


def set_words(figure: Figure, heading: str, unit: str, caption: str, *, placed: bool) -> None:
    """Heading, unit and caption; placed by hand where no layout engine does it."""
    words = [
        figure.suptitle(shortened(heading, 110), x=0.01, ha="left", fontsize=14, weight="bold"),
        figure.supylabel(shown_unit(unit), fontsize=11),
        figure.supxlabel(shortened(caption, 170), x=0.01, ha="left", fontsize=9, color=INK),
    ]
    if placed:
        words[0].set(y=0.99, va="top")
        words[1].set(x=0.003, ha="left")
        words[2].set(y=0.008, va="bottom")
