"""A page that needs nothing else: findings, figures, tables, downloads and provenance as HTML."""

from __future__ import annotations

import base64
import hashlib
import io
import re
from collections.abc import Sequence
from dataclasses import dataclass
from importlib import resources
from typing import TYPE_CHECKING

from bavlo.figures.style import Fits, styled

if TYPE_CHECKING:
    from matplotlib.figure import Figure

ID = re.compile(r'\bid="([^"]+)"')
TAG = re.compile(r"<[^>]*>")
DIGITS = re.compile(r"(\d\.\d\d)\d+")  # a hundredth of a point is finer than any screen
PICTURE = re.compile(r'(href="data:image/png;base64,)\s*([^"]+)')
PICTURE_DPI = 160
LINK = re.compile(r'(url\(#|href="#)([^")]+)')

# Characters that no HTML text may hold (WHATWG HTML, section 13.2.3.5).
NOT_HTML = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\ud800-\udfff\ufffe\uffff]")


@dataclass(frozen=True)
class PageFigure:
    """A figure.

    Parameters
    ----------
    svg
        Its drawing, from `inline_svg`.
    words
        What it shows, for those who do not see it.
    """

    svg: str
    words: str


@dataclass(frozen=True)
class PageTable:
    """Rows that are shown.

    Parameters
    ----------
    columns
        Names, and whether they hold numbers.
    rows
        Each cell as its text and its full value.
    left_out
        What of the table is not shown, in words.
    """

    caption: str
    columns: tuple[tuple[str, bool], ...]
    rows: tuple[tuple[tuple[str, str], ...], ...]
    left_out: str = ""


@dataclass(frozen=True)
class Download:
    """A file to take along: within the page, or a link to it."""

    name: str
    link: str
    size: str
    within: bool


@dataclass(frozen=True)
class Section:
    """What is said of one table."""

    key: str
    title: str
    about: str
    findings: tuple[str, ...]
    more: int
    figures: tuple[PageFigure, ...]
    table: PageTable | None
    downloads: tuple[Download, ...]
    meanings: tuple[tuple[str, str], ...]
    provenance: str
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class Page:
    """All of a page."""

    title: str
    about: str
    sections: Sequence[Section]
    version: str


def render(page: Page) -> str:
    """The page as HTML; everything that comes from data is escaped."""
    import jinja2
    from markupsafe import Markup

    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("bavlo.figures", "templates"),
        autoescape=True,
        trim_blocks=True,
        lstrip_blocks=True,
        undefined=jinja2.StrictUndefined,
    )
    template = environment.get_template("page.html")
    own = resources.files("bavlo.figures").joinpath("templates/page.html").read_text("utf-8")
    text = template.render(page=page, safe=Markup, policy=_policy(own))
    return NOT_HTML.sub(_escaped, text)


def _policy(template: str) -> str:
    """What a page may do: show what is in it, and run the script of the template alone."""
    scripts = re.findall(r"<script>(.*?)</script>", template, re.DOTALL)
    digests = (hashlib.sha256(script.encode()).digest() for script in scripts)
    known = " ".join(f"'sha256-{base64.b64encode(digest).decode()}'" for digest in digests)
    return (
        f"default-src 'none'; script-src {known}; style-src 'unsafe-inline'; img-src data:; "
        "base-uri 'none'; form-action 'none'"
    )


def _escaped(found: re.Match[str]) -> str:
    """A character that HTML may not hold, as it is written in programs."""
    return found.group().encode("unicode_escape").decode("ascii")


def inline_svg(figure: Figure, key: str, words: str) -> PageFigure:
    """A figure as SVG that stands within a page; its ids begin with a key of its own."""
    from matplotlib.collections import PathCollection

    for shapes in figure.findobj(PathCollection):
        # Hundreds of outlines take a megabyte as text, and a twentieth of that as a picture.
        shapes.set_rasterized(len(shapes.get_paths()) > Fits.outlines)
    text = io.StringIO()
    with styled():
        figure.savefig(
            text, format="svg", dpi=PICTURE_DPI, metadata={"Date": None, "Creator": None}
        )
    svg = text.getvalue()
    svg = svg[svg.index("<svg") :]
    svg = re.sub(r"<metadata>.*?</metadata>", "", svg, flags=re.DOTALL)
    svg = TAG.sub(lambda found: DIGITS.sub(r"\1", found.group()), svg)
    svg = PICTURE.sub(_few_colours, svg)
    svg = ID.sub(rf'id="{key}-\1"', svg)
    svg = LINK.sub(rf"\1{key}-\2", svg)
    return PageFigure(svg.replace("<svg ", '<svg aria-hidden="true" focusable="false" ', 1), words)


def inline_picture(data: bytes, kind: str, words: str) -> PageFigure:
    """A picture file that stands within a page.

    Parameters
    ----------
    kind
        Its media type, as image/png.
    """
    text = base64.b64encode(data).decode("ascii")
    return PageFigure(f'<img alt="" src="data:{kind};base64,{text}">', words)


def _few_colours(found: re.Match[str]) -> str:
    """A picture with a palette, which its colour scale fits: a third of the size."""
    from PIL import Image

    image = Image.open(io.BytesIO(base64.b64decode(found.group(2))))
    # The octree keeps transparency; no dithering, so that cells stay of one colour.
    fewer = image.convert("RGBA").quantize(255, Image.Quantize.FASTOCTREE, dither=Image.Dither.NONE)
    out = io.BytesIO()
    fewer.save(out, "PNG", optimize=True)
    best = min(out.getvalue(), base64.b64decode(found.group(2)), key=len)
    return found.group(1) + base64.b64encode(best).decode("ascii")
