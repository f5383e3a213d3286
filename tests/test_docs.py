"""The commands of the worked pages run, in their order, on the demo data."""

import re
import shlex
from pathlib import Path

import pytest

from support import run

PAGES = Path(__file__).parent.parent / "docs"
BLOCK = re.compile(r"^```\n(.*?)^```", re.MULTILINE | re.DOTALL)


def commands(page):
    """Command lines of a page, those that go on over several lines joined."""
    text = (PAGES / page).read_text(encoding="utf-8")
    for block in BLOCK.findall(text):
        for line in block.replace("\\\n", " ").splitlines():
            if line.startswith("bavlo "):
                yield shlex.split(line)[1:]


@pytest.mark.slow
@pytest.mark.parametrize("page", ["compare.md", "indicators.md", "trace.md", "studies.md"])
def test_what_a_page_says_can_be_typed(page, demo, tmp_path):
    (tmp_path / "sorrel").symlink_to(demo)
    wanted = list(commands(page))
    assert len(wanted) > 3
    for words in wanted:
        run(*words, cwd=tmp_path)
        for out in (words[n + 1] for n, word in enumerate(words) if word == "--out"):
            assert (tmp_path / out).stat().st_size > 0


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
