"""Runs of steps come back as whole records, from memory, from disk and in pieces."""

import itertools
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from bavlo.engine.bricks import BrickStore, cut_bricks, cut_into_bricks, joined_brick

NAMES = ["rain", "tmax"]


@settings(max_examples=40)
@given(
    steps=st.integers(1, 60),
    cells=st.integers(1, 400),
    cuts=st.sets(st.integers(1, 59), max_size=6),
    room=st.sampled_from([0, 2000, 10**9]),
    seed=st.integers(0, 99),
)
def test_blocks_of_steps_come_back_as_cut_bricks_cells(steps, cells, cuts, room, seed):
    rng = np.random.default_rng(seed)
    whole = {
        "rain": rng.gamma(1, 5, (steps, cells)).astype("f4").astype(float),  # fits in float32
        "tmax": rng.normal(15, 8, (steps, cells)),  # does not
    }
    for values in whole.values():
        values[rng.random(values.shape) < 0.1] = np.nan
    bricks = cut_bricks(cells, steps, 500)
    assert [n for b in bricks for n in range(b.start, b.stop)] == list(range(cells))
    edges = sorted({0, steps, *(c for c in cuts if c < steps)})
    blocks = [
        {name: values[a:b] for name, values in whole.items()} for a, b in itertools.pairwise(edges)
    ]

    with BrickStore(bricks, room) as store:
        jobs = [(n, name) for n in range(len(blocks)) for name in NAMES]
        rng.shuffle(jobs)
        with ThreadPoolExecutor(4) as pool:  # in any order, from any thread
            list(
                pool.map(
                    lambda job: store.put(int(job[0]), job[1], blocks[int(job[0])][job[1]]),
                    jobs,
                )
            )
        assert store.on_disk > 0 or room
        taken = [{name: store.take(n, name) for name in NAMES} for n in range(len(bricks))]
        folder = store.path
    assert folder is None or not folder.exists()

    half = len(blocks) // 2
    cut = [cut_into_bricks(some, bricks) for some in (blocks[:half], blocks[half:])]
    for n, cells_of in enumerate(bricks):
        pieces = joined_brick([run[n] for run in cut])
        for name in NAMES:
            np.testing.assert_array_equal(taken[n][name], whole[name][:, cells_of])
            np.testing.assert_array_equal(pieces[name], whole[name][:, cells_of])
