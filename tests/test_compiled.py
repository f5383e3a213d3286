"""Compiled loops are used where work pays for them, and kept where nobody else can write."""

import subprocess
import sys

import pytest

pytest.importorskip("numba")

SPELLS = """
import numpy as np
from bavlo import compiled
from bavlo.core.conditions.spells import follow
compiled.use()
met = np.tile([True, True, False], (4, 10)).T
found = follow(met, met[:, 0] * False, 2, [(0, 30)], opens_record=True, cut=False)
print(found.spells[0].tolist())
"""


LOOP = """
from bavlo.compiled import kernel

@kernel
def twice(number):
    return 2 * number
"""


def said(code, cache, **more):
    """What a process of its own says, with such a cache, in the folder around it."""
    environment = {"BAVLO_CACHE": str(cache), "PATH": "", **more}
    done = subprocess.run(
        [sys.executable, "-c", code], env=environment, cwd=cache.parent, capture_output=True,
        text=True, check=True,
    )  # fmt: skip
    return done.stdout.strip(), done.stderr


def doubled(cache):
    """What a process says that compiles a small loop."""
    (cache.parent / "small_kernels.py").write_text(LOOP)
    return said("from small_kernels import twice; print(twice(21))", cache)


def test_loops_are_compiled_once_and_kept_where_only_their_user_can_write(tmp_path):
    cache = tmp_path / "cache"
    assert doubled(cache) == ("42", "")
    kept = sorted(path for path in cache.rglob("*.nbc"))
    assert kept
    assert (cache / "loops").stat().st_mode & 0o777 == 0o700
    before = [path.stat().st_mtime_ns for path in kept]
    assert doubled(cache)[0] == "42"
    assert [path.stat().st_mtime_ns for path in sorted(cache.rglob("*.nbc"))] == before


def test_nothing_is_kept_where_others_can_write(tmp_path):
    cache = tmp_path / "cache"
    (cache / "loops").mkdir(parents=True)
    cache.chmod(0o777)
    found, warned = doubled(cache)
    assert found == "42"
    assert "is open to others" in warned
    assert not list(cache.rglob("*.nb?"))


def test_the_switch_does_without(tmp_path):
    assert said(SPELLS, tmp_path / "cache", BAVLO_COMPILED="0")[0] == "[10, 10, 10, 10]"
    assert not list(tmp_path.rglob("*.nb?"))


def test_loops_that_are_not_as_a_run_left_them_are_never_run(tmp_path):
    cache = tmp_path / "cache"
    doubled(cache)
    path = next(cache.rglob("*.nbc"))
    whole = path.read_bytes()
    changed = bytearray(whole)
    changed[len(whole) // 2] ^= 16
    path.write_bytes(changed)
    assert doubled(cache) == ("42", "")
    assert path.read_bytes() != bytes(changed)
    (cache / "loops" / "sha256").unlink()
    assert doubled(cache) == ("42", "")
