"""Loops are compiled where that is allowed and possible, and nowhere else."""

import pytest

from bavlo.core import compiled as module
from bavlo.core.compiled import SWITCH, allow, compiled

numba = pytest.importorskip("numba")


def add(a, b):
    return a + b


@pytest.fixture(autouse=True)
def afresh(monkeypatch):
    monkeypatch.delenv(SWITCH, raising=False)
    monkeypatch.setattr(module, "_allowed", False)
    module._compiled.cache_clear()
    yield
    module._compiled.cache_clear()


def test_nothing_is_compiled_unless_work_pays_for_it():
    assert compiled(add) is None
    allow()
    assert compiled(add)(1, 2) == 3


def test_the_switch_does_without(monkeypatch):
    allow()
    monkeypatch.setenv(SWITCH, "0")
    assert compiled(add) is None


def test_without_a_folder_to_keep_it_in_it_is_compiled_all_the_same(monkeypatch):
    njit = numba.njit

    def refuse(*args, cache=False, **settings):
        if cache:
            raise RuntimeError("cannot cache function: no locator available")
        return njit(*args, **settings)

    monkeypatch.setattr(numba, "njit", refuse)
    allow()
    assert compiled(add)(1, 2) == 3
