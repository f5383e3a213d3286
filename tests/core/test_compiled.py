"""Loops are compiled where that is allowed and possible, and nowhere else."""

import threading

import pytest

from bavlo.core import compiled as module
from bavlo.core.compiled import allow, at_hand, compiled, is_allowed, is_loaded, load_early

numba = pytest.importorskip("numba")


def add(a, b):
    return a + b


@pytest.fixture(autouse=True)
def afresh(monkeypatch):
    monkeypatch.setattr(module, "_allowed", False)
    monkeypatch.setattr(module, "_ready", {})


def test_nothing_is_compiled_unless_work_pays_for_it():
    assert compiled(add) is None
    allow()
    assert compiled(add)(1, 2) == 3


def test_what_is_loaded_early_is_there_when_it_is_asked_for():
    begun = threading.Event()

    def warm_up():
        allow()
        compiled(add)
        begun.set()

    load_early(warm_up)
    assert begun.wait(60)
    assert is_allowed()
    assert is_loaded()
    assert compiled(add)(1, 2) == 3


def test_a_file_that_is_gone_when_loops_are_loaded_early_is_left_to_its_reader(recwarn):
    def warm_up():
        raise FileNotFoundError("people.tif")

    load_early(warm_up)
    for thread in threading.enumerate():
        if thread.name == "bavlo-loops":
            thread.join()
    assert not recwarn.list  # which tell of errors in threads


def test_nobody_waits_for_what_is_not_at_hand(monkeypatch):
    allow()
    assert at_hand(add) is None
    assert compiled(add) is at_hand(add)
    monkeypatch.setattr(module, "wanted", False)
    assert at_hand(add) is None


def test_the_switch_does_without(monkeypatch):
    allow()
    monkeypatch.setattr(module, "wanted", False)
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
