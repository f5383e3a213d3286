"""Spells of met steps in two passes: see `bavlo.compiled`."""

from __future__ import annotations

import numpy as np

from bavlo.compiled import kernel

# ruff: noqa: PLR0913 - a kernel takes its arrays one by one


@kernel
def follow_spells(
    occurs: np.ndarray,
    breaks: np.ndarray,
    least: int,
    row_of: np.ndarray,
    opens_record: bool,
    room: np.ndarray,
    so_far: np.ndarray,
    counted: np.ndarray,
    head: np.ndarray,
    tail: np.ndarray,
    spells: np.ndarray,
    longest: np.ndarray,
) -> None:
    """What `bavlo.core.conditions.spells.follow` makes of (T, K) steps, where spells are not cut.

    Parameters
    ----------
    occurs, breaks, least
        As there.
    row_of : (T,) int64
        The row of the period of each step, -1 for none.
    opens_record
        As there.
    room : (5, K) int32
        Zeros.
    so_far : (T, K) int32
        Room for how long each spell is up to each step.
    counted, head, tail
        Filled: of `FollowedSpells`.
    spells, longest : (P, K) int32
        The same, added to.
    """
    steps, columns = occurs.shape
    one, none, enough = np.int32(1), np.int32(0), np.int32(least)
    spell, whole, nothing, no_spells, no_longest = room[0], room[1], room[2], room[3], room[4]
    head[:] = 0
    opening = not opens_record
    for t in range(steps):
        if breaks[t]:
            spell[:] = 0
            opening = opening and t == 0
        met, length, so_many = occurs[t], so_far[t], np.int32(t + 1)
        for c in range(columns):
            spell[c] = spell[c] + one if met[c] else none
            length[c] = spell[c]
        if opening:
            for c in range(columns):
                head[c] += np.int32(length[c] == so_many)
    tail[:] = spell
    for t in range(steps - 1, -1, -1):
        row, length, counts = row_of[t], so_far[t], counted[t]
        is_last, up_to = t == steps - 1, np.int32(t + 1)
        after = nothing if is_last or breaks[t + 1] else so_far[t + 1]
        so_long, number = (longest[row], spells[row]) if row >= 0 else (no_longest, no_spells)
        ending = none if is_last else one
        # Short loops without branches go many columns at a time.
        for c in range(columns):
            own, all_of_it = length[c], whole[c]
            whole[c] = own if after[c] == none else all_of_it
        for c in range(columns):
            counts[c] = (length[c] > none) & (whole[c] >= enough)
        for c in range(columns):
            so_long[c] = max(so_long[c], length[c] * np.int32(counts[c]))
        for c in range(columns):  # a spell's last step is where it has its whole length
            ends = np.int32(length[c] == whole[c]) * np.int32(up_to > head[c])
            number[c] += np.int32(counts[c]) * ends * ending
