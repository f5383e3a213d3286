"""States are merged in an order that the plan alone decides."""

from hypothesis import given
from hypothesis import strategies as st

from bavlo.core.reduce.merging import InOrder, MergeTree


@given(st.integers(1, 200))
def test_neighbours_merge_pair_by_pair_and_stay_in_order(count):
    tree = MergeTree(lambda a, b: (*a[:-1], *b[:-1], max(a[-1], b[-1]) + 1), height=9)
    for n in range(count):
        tree.add((n, 0))
    *leaves, height = tree.close()
    assert leaves == list(range(count))
    assert height == (count - 1).bit_length()
    assert not tree


@given(st.integers(1, 200), st.integers(0, 5))
def test_trees_that_grow_no_further_are_taken_one_after_the_other(count, highest):
    """What is held at once then goes with the height and not with the number of parts."""
    tree, held = MergeTree(lambda a, b: (*a, *b), highest), []
    for n in range(count):
        tree.add((n,))
        held.append(len(tree._waiting))
    assert max(held) <= highest + 1
    assert tree.close() == tuple(range(count))


class Numbers:
    """A reducer of texts: what stands before the last comma is settled."""

    def merge(self, earlier, later):
        return earlier + later

    def settle(self, state):
        head, _, rest = state.rpartition(",")
        return head, rest or None


@given(st.lists(st.text("12,", min_size=1), max_size=20))
def test_what_a_unit_leaves_open_is_finished_by_the_next(units):
    run, settled = InOrder(Numbers()), []
    for unit in units:
        settled += [text for text in run.add(unit) if text]
    settled += [run.rest or ""]
    together = "".join(units)
    assert ",".join(filter(None, ",".join(settled).split(","))) == ",".join(
        filter(None, together.split(","))
    )
