"""The commands of the worked pages run, in their order, on the demo data."""

import re
import runpy
import shlex
from importlib import import_module
from pathlib import Path

import pytest

import bavlo
from bavlo.cli import topics
from bavlo.cli.commands import COMMANDS
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


INLINE = re.compile(r"`([^`\n]+)`")
PYTHON_NAME = re.compile(r"bavlo\.(\w+)(\(.*\))?")


def inline_code():
    """Page and text of each piece of code within a sentence, blocks left out."""
    for page in (*sorted(PAGES.glob("*.md")), *sorted(PAGES.parent.glob("*.md"))):
        if page.stem == "CHANGELOG":  # which also tells of what is gone
            continue
        text = re.sub(r"^```.*?^```", "", page.read_text(encoding="utf-8"), flags=re.M | re.S)
        for found in INLINE.findall(text):
            yield page.name, found


def flags_of(command):
    """All flags that a command takes."""
    module = import_module(COMMANDS[command][0])
    if not hasattr(module, "parser"):
        return {"--all", "--clear", "--help"}
    return {flag for action in module.parser(command)._actions for flag in action.option_strings}


FLAG = re.compile(r"(?<![\w-])--[a-z][\w-]*")
OTHERS_FLAGS = {"--kills", "--soak", "--runs", "--full", "--field", "--option"}  # of bench/, any


def test_every_option_named_in_a_sentence_is_one():
    known = {command: flags_of(command) for command in COMMANDS}
    every = set().union(*known.values()) | OTHERS_FLAGS | {"--version", "--help"}
    for page, text in inline_code():
        named = set(FLAG.findall(text))
        words = text.split()
        if words[0].startswith((".venv", "python", "pytest")):
            continue
        if words[0] == "bavlo" and len(words) > 1 and words[1] in COMMANDS:
            assert named <= known[words[1]], (page, text)
        else:
            assert named <= every, (page, text)


def test_every_command_named_in_a_sentence_is_one():
    for page, text in inline_code():
        words = text.split()
        if words[0] == "bavlo" and len(words) > 1 and not words[1].startswith("-"):
            assert words[1] in {*COMMANDS, "help", "COMMAND"}, (page, text)
            if words[1] == "help" and len(words) > 2 and words[2].islower():
                assert words[2] in {*COMMANDS, *topics.TOPICS}, (page, text)


def test_every_python_name_in_a_sentence_is_public():
    found = [m for _, text in inline_code() if (m := PYTHON_NAME.fullmatch(text))]
    assert {m.group(1) for m in found} >= {"Table", "BavloError"}
    for match in found:
        assert match.group(1) in bavlo.__all__, match.group(0)


@pytest.mark.slow
def test_the_walk_through_python_runs(demo, tmp_path, monkeypatch, capsys):
    (tmp_path / "sorrel").symlink_to(demo)
    monkeypatch.chdir(tmp_path)
    text = (PAGES / "python.md").read_text(encoding="utf-8")
    blocks = re.findall(r"^```python\n(.*?)^```", text, re.MULTILINE | re.DOTALL)
    assert len(blocks) == 6
    names: dict[str, object] = {}
    for block in blocks:
        exec(block, names)
    said = capsys.readouterr().out
    assert "Ombrel 2007 3457 mm" in said
    assert "did you mean measure?" in said
    assert (tmp_path / "rain.xlsx").exists()
