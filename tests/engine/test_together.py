"""Results that are made in one pass: side by side in the loops, in turn elsewhere."""

import threading
import time

import pytest

from bavlo.engine import memory
from bavlo.engine.needs import Needs
from bavlo.engine.threads import in_order
from bavlo.engine.together import OnePass
from bavlo.errors import RequestError
from bavlo.grids.fast.shared import KeptChunks, inflated_once, shared

LITTLE = Needs(2**10, 2**10)


def a_pass(jobs=2, room=2**30):
    return OnePass(jobs, memory.in_use() + room)


def test_units_of_the_earliest_steps_come_first_whosever_they_are():
    company, order = a_pass(jobs=1), []

    def result(steps):
        def work():
            with company.loop(LITTLE):
                return list(in_order(unit, steps, 50, company, lambda first: first))

        return work

    def unit(first):
        order.append(first)
        return first

    # The last one has no loop; until it is done the others wait, with all their units handed out.
    works = [result(range(0, 40, 2)), result(range(1, 40, 4)), lambda: time.sleep(0.5)]
    found = company.run(works)
    assert found[:2] == [list(range(0, 40, 2)), list(range(1, 40, 4))]
    assert order == sorted(order)


def test_outside_the_loops_one_result_works_at_a_time():
    company, inside, most = a_pass(), [], []

    def work():
        for _ in range(3):
            inside.append(1)
            most.append(len(inside))
            time.sleep(0.002)
            inside.pop()
            with company.loop(LITTLE):
                list(in_order(lambda task: time.sleep(0.001), range(5), 2, company))

    company.run([work] * 5)
    assert set(most) == {1}


def test_results_without_a_loop_do_not_hold_up_the_others():
    company = a_pass()

    def looping():
        with company.loop(LITTLE):
            return sum(in_order(lambda task: task, range(10), 2, company))

    assert company.run([looping, lambda: 7, looping]) == [45, 7, 45]


def test_a_result_that_fails_in_its_loop_ends_the_pass_with_its_error():
    company, threads = a_pass(), threading.active_count()

    def fails(task):
        if task == 3:
            raise KeyError("three")
        return task

    def work(does):
        with company.loop(LITTLE):
            return list(in_order(does, range(100), 2, company))

    with pytest.raises(KeyError, match="three"):
        company.run([lambda: work(fails), lambda: work(lambda task: time.sleep(0.01))])
    assert threading.active_count() == threads


def test_an_interrupt_ends_all_results():
    company, ended = a_pass(), []

    def work():
        try:
            with company.loop(LITTLE):
                list(in_order(lambda task: time.sleep(0.01), range(1000), 2, company))
        finally:
            ended.append(True)

    def interrupts():
        raise KeyboardInterrupt

    began = time.monotonic()
    with pytest.raises(KeyboardInterrupt):
        company.run([interrupts, work, work])
    assert time.monotonic() - began < 5
    # One that had not begun to work does not begin.
    assert len(ended) <= 2


def test_a_result_that_the_memory_does_not_hold_beside_others_waits_for_them():
    company, inside, most = a_pass(room=2**30), [], []
    large = Needs(2**20, 0.7 * 2**30)

    def work():
        with company.loop(large):
            inside.append(1)
            most.append(len(inside))
            list(in_order(lambda task: time.sleep(0.001), range(5), 2, company))
            inside.pop()

    company.run([work] * 3)
    assert set(most) == {1}
    small = a_pass(room=2**25 + 2**20)

    def alone():
        with small.loop(large):
            pass

    with pytest.raises(RequestError, match="is too little"):
        small.run([alone])


def test_as_many_units_are_computed_as_the_memory_holds():
    company, inside, most = a_pass(jobs=4, room=2**30), [], []

    def unit(task):
        inside.append(1)
        most.append(len(inside))
        time.sleep(0.002)
        inside.pop()

    def work():
        with company.loop(Needs(0.4 * 2**30, 0)):
            list(in_order(unit, range(20), 4, company))

    company.run([work, work])
    assert max(most) <= 2


def test_shared_chunks_are_inflated_once_and_the_oldest_go():
    made = []

    def chunk(key):
        return inflated_once(key, lambda: made.append(key) or bytes(100))

    chunk(1), chunk(1)
    assert made == [1, 1]
    with shared(250):
        for key in (1, 2, 1, 2, 3, 1):
            chunk(key)
    assert made[2:] == [1, 2, 3, 1]
    chunk(1)
    assert made[-2:] == [1, 1]


def test_a_chunk_that_two_threads_want_is_inflated_by_one():
    kept, made = KeptChunks(1000), []

    def inflate():
        time.sleep(0.02)
        made.append(1)
        return b"abc"

    threads = [threading.Thread(target=lambda: kept.get("k", inflate)) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert made == [1]


def test_memory_that_was_lent_is_taken_back_where_a_result_needs_it():
    given_back = []

    def company():
        return OnePass(2, memory.in_use() + 2**30, 2**29, lambda: given_back.append(True))

    def result(one, kept):
        def work():
            with one.loop(Needs(2**20, kept)):
                return list(in_order(lambda task: task, range(3), 2, one))

        return work

    one = company()
    assert one.run([result(one, 2**20), result(one, 2**20)]) == [[0, 1, 2]] * 2
    assert not given_back
    one = company()
    assert one.run([result(one, 0.7 * 2**30)] * 2) == [[0, 1, 2]] * 2
    assert given_back == [True]
