"""The cache of overlays: found by content, safe against damage and against other runs."""

import threading
import warnings
from dataclasses import fields

import numpy as np
import pytest
import shapely

from bavlo import kept
from bavlo.core.space.layout import GridLayout
from bavlo.core.space.overlay import Overlay
from bavlo.core.space.projection import overlay_on_grid
from bavlo.core.space.regions import Regions, region_edges
from bavlo.core.space.shared_areas import span_overlay
from bavlo.core.space.spans import Spans
from bavlo.errors import BavloWarning
from bavlo.regions import cache as overlaycache
from support import run

PARTS = ("shape", "cells", "indptr", "index", "fraction", "weight", "region_weight")
LAYOUT = GridLayout(np.linspace(0, 20, 401), np.linspace(0, 10, 301))


@pytest.fixture
def cache(tmp_path, monkeypatch):
    monkeypatch.setenv("BAVLO_CACHE", str(tmp_path / "cache"))
    return tmp_path / "cache"


def regions(shift=0.0):
    shapes = [shapely.Point(5 + shift, 5).buffer(3), shapely.box(8, 1, 12.3, 9)]
    return Regions(("a", "b"), np.array(shapes, object))


def same(one, other):
    return all(np.array_equal(getattr(one, n), getattr(other, n)) for n in PARTS)


def compute(of=None):
    return overlay_on_grid(of or regions(), LAYOUT)


def test_an_entry_comes_back_as_it_was_and_another_content_has_another(cache):
    made = overlaycache.cached(regions(), LAYOUT, compute, Overlay)
    again = overlaycache.cached(
        regions(), LAYOUT, lambda: pytest.fail("was computed again"), Overlay
    )
    assert same(made, again)
    overlaycache.cached(regions(0.1), LAYOUT, lambda: compute(regions(0.1)), Overlay)
    finer = GridLayout(LAYOUT.x_edges, LAYOUT.y_edges + 1e-9)
    overlaycache.cached(regions(), finer, compute, Overlay)
    assert len(kept.entries()) == 3


def test_spans_are_kept_beside_lists_of_cells(cache):
    def spans():
        return span_overlay(region_edges(regions().geometry), LAYOUT)

    overlaycache.cached(regions(), LAYOUT, compute, Overlay)
    made = overlaycache.cached(regions(), LAYOUT, spans, Spans)
    again = overlaycache.cached(regions(), LAYOUT, lambda: pytest.fail("was computed again"), Spans)
    for each in fields(Spans):
        assert np.array_equal(getattr(again, each.name), getattr(made, each.name))
    assert len(kept.entries()) == 2


@pytest.mark.parametrize("seed", range(12))
def test_a_damaged_entry_is_computed_anew(cache, seed):
    made = overlaycache.cached(regions(), LAYOUT, compute, Overlay)
    path = kept.entries()[0]
    data = bytearray(path.read_bytes())
    rng = np.random.default_rng(seed)
    if seed % 3 == 0:
        data = data[: rng.integers(0, len(data))]
    else:
        for place in rng.integers(0, len(data), 20):
            data[place] ^= 0xFF
    path.write_bytes(bytes(data))
    assert same(overlaycache.cached(regions(), LAYOUT, compute, Overlay), made)
    assert same(overlaycache.cached(regions(), LAYOUT, compute, Overlay), made)


def test_an_entry_under_the_name_of_another_is_computed_anew(cache):
    path = cache / "a.overlay.npz"
    arrays = {"cells": np.arange(7), "weight": np.ones(7)}
    kept.keep(path, arrays)
    found = kept.load(path, ["weight", "cells"])
    np.testing.assert_array_equal(found["cells"], arrays["cells"])
    other = path.with_name("b.overlay.npz")
    path.rename(other)
    assert kept.load(other, ["cells"]) is None


def test_an_entry_is_believed_only_after_its_digest_whichever_bit_flipped(cache):
    path, arrays = cache / "a.overlay.npz", {"cells": np.arange(7), "weight": np.ones(7)}
    kept.keep(path, arrays)
    whole = path.read_bytes()
    for place in range(len(whole)):
        damaged = bytearray(whole)
        damaged[place] ^= 1 << place % 8
        path.write_bytes(damaged)
        assert kept.load(path, list(arrays)) is None
    path.write_bytes(whole)
    assert kept.load(path, list(arrays)) is not None
    assert kept.load(path, ["other"]) is None  # of another version


def test_what_others_may_have_written_is_neither_read_nor_kept(cache):
    path, arrays = cache / "a.overlay.npz", {"cells": np.arange(7)}
    kept.keep(path, arrays)
    assert cache.stat().st_mode & 0o777 == 0o700
    assert path.stat().st_mode & 0o777 == 0o600
    path.chmod(0o622)
    assert kept.load(path, ["cells"]) is None
    path.chmod(0o600)
    path.rename(cache / "real.npz")
    path.symlink_to(cache / "real.npz")
    assert kept.load(path, ["cells"]) is None
    path.unlink()
    kept.keep(path, arrays)
    for loose in (0o755, 0o770, 0o707):
        cache.chmod(loose)
        kept._said.clear()
        with pytest.warns(BavloWarning, match="is open to others"):
            assert kept.load(path, ["cells"]) is None
        with warnings.catch_warnings():  # it is said once
            warnings.simplefilter("error")
            kept.keep(cache / "b.overlay.npz", arrays)
        assert not (cache / "b.overlay.npz").exists()
    cache.chmod(0o700)
    cache.parent.chmod(0o777)
    kept._said.clear()
    with pytest.warns(BavloWarning, match="is open to others"):
        assert kept.load(path, ["cells"]) is None
    cache.parent.chmod(0o700)
    assert kept.load(path, ["cells"]) is not None


def test_runs_at_the_same_time_do_not_harm_one_another(cache):
    made, found = compute(), []
    threads = [
        threading.Thread(
            target=lambda: found.append(overlaycache.cached(regions(), LAYOUT, compute, Overlay))
        )
        for _ in range(16)
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(found) == 16
    assert all(same(one, made) for one in found)
    assert len(list(cache.iterdir())) == 1  # and no drafts


def test_the_command_shows_and_clears(cache):
    overlaycache.cached(regions(), LAYOUT, compute, Overlay)
    assert "1 entry," in run("cache").stdout
    assert "removed 1 entry," in run("cache", "--clear").stdout
    assert "0 entries" in run("cache").stdout
