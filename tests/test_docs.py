"""The commands of the worked pages run, in their order, on the demo data."""

import re
import runpy
import shlex
from pathlib import Path

import pytest

from support import run

PAGES = Path(__file__).parent.parent / "docs"
LINK = re.compile(r"(?<!`)\]\(([^)\s]+)\)")
BLOCK = re.compile(r"^```\n(.*?)^```", re.MULTILINE | re.DOTALL)


def commands(page):
    """Command lines of a page, those that go on over several lines joined."""
    text = page.read_text(encoding="utf-8")
    for block in BLOCK.findall(text):
        for line in block.replace("\\\n", " ").splitlines():
            line = line.removeprefix("$ ")
            if line.startswith("bavlo "):
                yield shlex.split(line)[1:]


WORKED = [
    page
    for page in (*sorted(PAGES.glob("*.md")), PAGES.parent / "README.md")
    if any(True for _ in commands(page))
]


@pytest.mark.slow
@pytest.mark.parametrize("page", WORKED, ids=lambda page: page.stem)
def test_what_a_page_says_can_be_typed(page, demo, tmp_path):
    (tmp_path / "sorrel").symlink_to(demo)
    for words in commands(page):
        if any("example/" in word or "host:" in word for word in words):
            continue  # what lies elsewhere is not there
        run(*words, cwd=tmp_path)
        for out in (words[n + 1] for n, word in enumerate(words) if word == "--out"):
            assert (tmp_path / out).stat().st_size > 0


def test_the_pages_of_commands_are_those_of_the_table_of_options():
    made = runpy.run_path(str(PAGES / "make_commands.py"))["pages"]()
    there = {page.stem: page.read_text(encoding="utf-8") for page in PAGES.glob("commands/*.md")}
    assert there == made, "run docs/make_commands.py"


def test_every_page_is_in_the_book_and_every_link_leads_somewhere():
    book = (PAGES.parent / "mkdocs.yml").read_text(encoding="utf-8")
    pages = [*PAGES.rglob("*.md"), *PAGES.parent.glob("*.md"), PAGES.parent / "bench" / "README.md"]
    for page in pages:
        text = page.read_text(encoding="utf-8")
        if PAGES in page.parents:
            assert page.relative_to(PAGES).as_posix() in book, page
        for target in LINK.findall(text):
            path, _, anchor = target.partition("#")
            if path.startswith(("http:", "https:", "mailto:")):
                continue
            other = (page.parent / path).resolve() if path else page
            assert other.exists(), f"{page}: {target}"
            if anchor:
                heads = re.findall(r"^#+ (.*)", other.read_text(encoding="utf-8"), re.MULTILINE)
                known = {re.sub(r"[^\w -]", "", head.lower()).replace(" ", "-") for head in heads}
                assert anchor in known, f"{page}: {target}"


@pytest.mark.slow
def test_the_walk_through_python_runs(demo, tmp_path, monkeypatch, capsys):
    (tmp_path / "sorrel").symlink_to(demo)
    monkeypatch.chdir(tmp_path)
    text = (PAGES / "python.md").read_text(encoding="utf-8")
    blocks = re.findall(r"^```python\n(.*?)^```", text, re.MULTILINE | re.DOTALL)
    assert len(blocks) == 5
    names: dict[str, object] = {}
    for block in blocks:
        exec(block, names)
    said = capsys.readouterr().out
    assert "Ombrel 2007 3457 mm" in said
    assert "did you mean measure?" in said
    assert (tmp_path / "rain.xlsx").exists()
