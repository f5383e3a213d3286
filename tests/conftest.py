"""One profile of hypothesis, and the demo data, made once for all tests and all workers."""

import fcntl
import gc
import os

import pytest
from hypothesis import settings

from bavlo.engine import memory
from support import FRESH, in_use, program

settings.register_profile("bavlo", deadline=None, derandomize=True)
settings.load_profile("bavlo")


def pytest_collection_modifyitems(items):
    """Whatever needs the demo data is slow, and comes first, so that one worker has it made."""
    for item in items:
        if "demo" in getattr(item, "fixturenames", ()):
            item.add_marker(pytest.mark.slow)
    items.sort(key=lambda item: "demo" not in getattr(item, "fixturenames", ()))


def pytest_collection_finish():
    """The tests themselves are no garbage, and take long to be looked through for some."""
    gc.collect()
    gc.freeze()


def shared_folder(tmp_path_factory):
    """The temporary folder of all processes that run tests side by side."""
    base = tmp_path_factory.getbasetemp()
    return base.parent if "PYTEST_XDIST_WORKER" in os.environ else base


@pytest.fixture(scope="session", autouse=True)
def own_cache(tmp_path_factory):
    """A cache folder that only these tests have, all together, so that loops are compiled once."""
    os.environ["BAVLO_CACHE"] = str(shared_folder(tmp_path_factory) / "own-cache")


@pytest.hookimpl(tryfirst=True)
def pytest_runtest_setup(item):
    """What other tests left in memory does not count against a test's own limit."""
    left = in_use()
    memory.in_use = lambda: FRESH + max(0, in_use() - left)


@pytest.fixture(scope="session")
def demo(tmp_path_factory):
    """The demo data and what the worked example made of it; tests leave it as it is."""
    folder = shared_folder(tmp_path_factory) / "world" / "sorrel"
    folder.parent.mkdir(exist_ok=True)
    with (folder.parent / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (folder / "said.txt").exists():
            done = program("demo", folder)
            (folder / "said.txt").write_text(done.stdout)
    return folder
