"""The demo data, made once for all tests."""

import os

import pytest

from support import run


@pytest.fixture(scope="session", autouse=True)
def own_cache(tmp_path_factory):
    """A cache folder that is nobody else's."""
    os.environ["BAVLO_CACHE"] = str(tmp_path_factory.mktemp("cache"))


@pytest.fixture(scope="session")
def demo(tmp_path_factory):
    """The demo data and what the worked example made of it."""
    folder = tmp_path_factory.mktemp("world") / "sorrel"
    done = run("demo", folder)
    (folder / "said.txt").write_text(done.stdout)
    return folder
