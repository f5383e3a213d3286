"""`bavlo help`: commands, and topics from the pages of the docs."""

from __future__ import annotations

import os
import re
import shutil
import sys
from pathlib import Path
from typing import NamedTuple

from bavlo.cli.commands import COMMANDS
from bavlo.errors import RequestError, known_words

MOST_WIDTH = 100


class Topic(NamedTuple):
    """Something that is explained.

    Parameters
    ----------
    page
        Of the docs.
    heading
        The part of it that is shown; all of it where empty.
    """

    page: str
    heading: str
    words: str


TOPICS = {
    "periods": Topic("periods", "", "which steps are put together, and when there is a value"),
    "kinds": Topic("definitions", "Amounts, rates, states", "what values are, and how it is told"),
    "units": Topic("definitions", "Units", "which units are read, and what is made of them"),
    "measures": Topic("definitions", "Measures", "how cells become one number"),
    "conditions": Topic("extremes", "", "threshold tests, counts, spells, events, return levels"),
    "tables": Topic("tables", "", "formats, layouts, and what stands in them"),
    "studies": Topic("studies", "", "the same results again when data arrives"),
    "grids": Topic("grids", "", "which grids are read, and what is made of odd ones"),
    "regions": Topic("regions", "", "which regions are read, and what is repaired"),
    "formulas": Topic("definitions", "Formulas", "grids made of others"),
    "columns": Topic("definitions", "Columns of `series`", "what the columns of tables mean"),
}


def text_of(topic: Topic) -> str:
    """The Markdown of a topic."""
    package = Path(__file__).parent.parent
    # A wheel has the pages with it; a checkout has them in its docs.
    places = (package / "topics", package.parent.parent / "docs")
    path = next(p for p in (place / f"{topic.page}.md" for place in places) if p.exists())
    text = path.read_text(encoding="utf-8")
    if topic.heading:
        start = text.index(f"## {topic.heading}\n")
        end = re.search(r"^## ", text[start + 3 :], re.MULTILINE)
        text = text[start : start + 3 + end.start()] if end else text[start:]
    text = re.sub(r"^!\[[^\]]*\]\([^)]*\)\n+", "", text, flags=re.MULTILINE)  # pictures
    return re.sub(r"\[([^\]]*)\]\([^)]*\)", r"\1", text)


def show_topic(name: str) -> None:
    """Print a topic, rendered for the terminal.

    Raises
    ------
    RequestError
        Where there is none of that name, with the nearest that is.
    """
    if name not in TOPICS:
        hint = known_words(name, [*TOPICS, *COMMANDS], "there are")
        raise RequestError("", f"there is no help on '{name}'", hint)
    from rich.console import Console
    from rich.markdown import Markdown

    width = min(shutil.get_terminal_size((MOST_WIDTH, 40)).columns, MOST_WIDTH)
    plain = not sys.stdout.isatty() or bool(os.environ.get("NO_COLOR"))
    console = Console(width=width, no_color=plain, force_terminal=None, highlight=False)
    console.print(Markdown(text_of(TOPICS[name]), hyperlinks=False))


def listed() -> str:
    """The topics, a line each."""
    return "\n".join(f"  {name:11}{topic.words}" for name, topic in TOPICS.items())


def indices_and_counts() -> str:
    """Every index with its unit, periods and definition, and every count."""
    import textwrap

    from bavlo.core.conditions.counts import COUNTS
    from bavlo.core.conditions.indices import INDICES

    lines = ["ETCCDI indices (Zhang et al. 2011; RR rain, TX and TN highest and lowest, TG mean):"]
    for index in INDICES.values():
        head = f"  {index.name:8} {index.unit:9} {'/'.join(index.periods):11} "
        lines.append(
            textwrap.fill(
                f"{index.title}: {index.definition}",
                100,
                initial_indent=head,
                subsequent_indent=" " * len(head),
            )
        )
    lines += ["", "counts of --when:"]
    lines += [f"  {name:8} {count.meaning}" for name, count in COUNTS.items()]
    return "\n".join(lines)
