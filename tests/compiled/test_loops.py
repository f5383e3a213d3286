"""Loops are compiled where that is allowed and possible, and nowhere else."""

import subprocess
import sys

import numpy as np
import pytest

from bavlo import kept
from bavlo.compiled import allow, at_hand, compiled, loops, machine_code, prepare
from bavlo.compiled.compiler import COMPILER
from bavlo.core.reduce.step_kernels import add_to
from bavlo.core.stats.bootstrap_kernels import between, is_beyond
from bavlo.core.stats.spatial_kernels import ranks_of_cells

pytest.importorskip("numba")

RUNS = np.array([[1], [0], [3]])


def add(a, b):
    """Of this file, which the compiler's own process cannot find."""
    return a + b


@pytest.fixture
def empty_cache(monkeypatch, tmp_path):
    monkeypatch.setenv("BAVLO_CACHE", str(tmp_path / "cache"))


@pytest.fixture(autouse=True)
def afresh(monkeypatch):
    monkeypatch.setattr(loops, "_allowed", False)
    monkeypatch.setattr(loops, "_loops", {})
    yield
    COMPILER.close()


def summed(loop, dtype=np.float32):
    total = np.ones(3)
    loop(np.arange(5, dtype=dtype), RUNS, total)
    return total.tolist()


def test_nothing_is_compiled_unless_work_pays_for_it():
    assert compiled(add_to) is None
    allow()
    assert summed(compiled(add_to)) == [2.0, 3.0, 4.0]


def test_the_switch_does_without(monkeypatch):
    allow()
    monkeypatch.setattr(loops, "wanted", False)
    assert compiled(add_to) is None
    assert at_hand(add_to) is None


def test_nobody_waits_for_what_is_not_at_hand():
    allow()
    assert at_hand(add_to) is None
    loop = compiled(add_to)
    assert at_hand(add_to) is None
    summed(loop)
    assert at_hand(add_to) is loop


def test_what_was_compiled_is_kept_and_the_compiler_not_asked_again(monkeypatch, empty_cache):
    prepare(lambda: summed(compiled(add_to)))
    monkeypatch.setattr(loops, "_loops", {})
    monkeypatch.setattr("bavlo.compiled.compiler.COMPILER", None)  # to ask it would be an error
    assert summed(compiled(add_to)) == [2.0, 3.0, 4.0]


def test_each_type_of_arrays_has_a_loop_of_its_own(empty_cache):
    allow()
    loop = compiled(add_to)
    assert summed(loop, np.float64) == summed(loop, np.int16) == [2.0, 3.0, 4.0]
    assert len(kept.entries()) == 2


@pytest.mark.parametrize("damage", [b"", b"no archive"])
def test_an_entry_that_is_damaged_is_made_anew(monkeypatch, damage, empty_cache):
    allow()
    summed(compiled(add_to))
    (entry,) = kept.entries()
    entry.write_bytes(damage)
    monkeypatch.setattr(loops, "_loops", {})
    assert summed(compiled(add_to)) == [2.0, 3.0, 4.0]
    assert machine_code.kept(entry) is not None


def test_what_others_may_have_written_is_not_run(empty_cache):
    allow()
    summed(compiled(add_to))
    (entry,) = kept.entries()
    assert machine_code.kept(entry) is not None
    entry.chmod(0o666)
    assert machine_code.kept(entry) is None


def test_numbers_and_flags_go_in_and_come_out():
    allow()
    line = np.array([1.0, 2.0])
    assert compiled(between)(line, 0, 0.25) == 1.25
    assert compiled(is_beyond)(2.0, 1.0, True) is True
    assert compiled(is_beyond)(2.0, np.float64(1.0), np.bool_(False)) is False


def test_a_flag_of_many_dimensions_is_told():
    allow()
    bits, key = np.arange(4).reshape(1, 4), np.zeros((1, 1, 8), np.int64)
    cells, skipped = np.zeros((1, 8), np.uint32), np.zeros(1, np.int64)
    assert compiled(ranks_of_cells)(bits, 0x7FF0 << 48, cells, skipped, 7, key) is True


def test_arrays_with_gaps_and_of_other_byte_orders_are_refused():
    allow()
    loop = compiled(add_to)
    with pytest.raises(TypeError, match="without gaps"):
        loop(np.arange(10.0)[::2], RUNS, np.ones(3))
    with pytest.raises(TypeError, match="without gaps"):
        loop(np.arange(5, dtype=">f4"), RUNS, np.ones(3))


def test_what_the_compiler_cannot_make_numba_does_here(empty_cache):
    allow()
    loop = compiled(add)
    assert loop(1, 2) == 3
    assert loop(1.5, 2) == 3.5
    assert not kept.entries()


def test_an_answer_that_was_not_waited_for_is_never_taken_for_another(monkeypatch, empty_cache):
    allow()

    def interrupted(text):
        raise KeyboardInterrupt

    with monkeypatch.context() as patch:
        patch.setattr("bavlo.compiled.compiler.json.loads", interrupted)
        with pytest.raises(KeyboardInterrupt):
            compiled(between)(np.array([1.0, 2.0]), 0, 0.25)
    assert compiled(is_beyond)(2.0, 1.0, True) is True
    assert len(kept.entries()) == 1


def test_without_the_text_of_a_kernel_numba_compiles_it_here(monkeypatch):
    def unreadable(kernel, types):
        raise FileNotFoundError(kernel.__module__)

    allow()
    monkeypatch.setattr(machine_code, "entry_of", unreadable)
    assert summed(compiled(add_to)) == [2.0, 3.0, 4.0]


def test_without_a_folder_to_keep_it_in_it_is_compiled_all_the_same(
    monkeypatch, tmp_path, empty_cache
):
    (tmp_path / "file").touch()
    monkeypatch.setenv("BAVLO_CACHE", str(tmp_path / "file" / "cache"))
    allow()
    assert summed(compiled(add_to)) == [2.0, 3.0, 4.0]


def test_what_is_kept_is_loaded_without_numba():
    prepare(lambda: summed(compiled(add_to)))
    code = (
        "import sys, numpy as np; from bavlo.compiled import allow, compiled; "
        "from bavlo.core.reduce.step_kernels import add_to; allow(); total = np.ones(3); "
        "compiled(add_to)(np.arange(5, dtype=np.float32), np.array([[1], [0], [3]]), total); "
        "print(total.tolist(), 'numba' in sys.modules)"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.split("]")[0] == "[2.0, 3.0, 4.0"
    assert done.stdout.endswith("False\n")
