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


def spells(cache, **more):
    """What a process of its own says of spells, with such a cache."""
    environment = {"BAVLO_CACHE": str(cache), "PATH": "", **more}
    done = subprocess.run(
        [sys.executable, "-c", SPELLS], env=environment, capture_output=True, text=True, check=True
    )
    return done.stdout.strip(), done.stderr


def test_loops_are_compiled_once_and_kept_where_only_their_user_can_write(tmp_path):
    cache = tmp_path / "cache"
    assert spells(cache) == ("[10, 10, 10, 10]", "")
    kept = sorted(path for path in cache.rglob("*.nbc"))
    assert kept
    assert (cache / "loops").stat().st_mode & 0o777 == 0o700
    before = [path.stat().st_mtime_ns for path in kept]
    assert spells(cache)[0] == "[10, 10, 10, 10]"
    assert [path.stat().st_mtime_ns for path in sorted(cache.rglob("*.nbc"))] == before


def test_nothing_is_kept_where_others_can_write(tmp_path):
    cache = tmp_path / "cache"
    (cache / "loops").mkdir(parents=True)
    cache.chmod(0o777)
    found, said = spells(cache)
    assert found == "[10, 10, 10, 10]"
    assert "is open to others" in said
    assert not list(cache.rglob("*.nb?"))


def test_the_switch_does_without(tmp_path):
    assert spells(tmp_path / "cache", BAVLO_COMPILED="0")[0] == "[10, 10, 10, 10]"
    assert not list(tmp_path.rglob("*.nb?"))


def test_loops_that_are_not_as_a_run_left_them_are_never_run(tmp_path):
    cache = tmp_path / "cache"
    spells(cache)
    path = next(cache.rglob("*.nbc"))
    whole = path.read_bytes()
    changed = bytearray(whole)
    changed[len(whole) // 2] ^= 16
    path.write_bytes(changed)
    assert spells(cache) == ("[10, 10, 10, 10]", "")
    assert path.read_bytes() != bytes(changed)
    (cache / "loops" / "sha256").unlink()
    assert spells(cache) == ("[10, 10, 10, 10]", "")
