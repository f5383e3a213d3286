"""What a process remembers is found once, bounded, and closed when it is let go of."""

import threading
import time

import pytest

from bavlo.remembered import Cache


def test_values_used_longest_ago_go_first():
    cache = Cache(2)
    for key in "ab":
        cache.put(key, key.upper())
    assert cache.get("a", lambda: "found anew") == "A"
    cache.put("c", "C")
    assert "b" not in cache
    assert "a" in cache
    assert "c" in cache


def test_bytes_are_bounded_but_for_the_last_value():
    cache = Cache(9, most_bytes=10)
    cache.put("a", b"12345678")
    cache.put("b", b"123")
    assert "a" not in cache
    cache.put("c", bytes(99))
    assert "b" not in cache
    assert "c" in cache
    cache.take("c")
    cache.put("d", bytes(10))
    assert "d" in cache


def test_many_threads_find_a_value_once_and_an_error_is_raised_in_each():
    cache, calls = Cache(5), []

    def find():
        calls.append(None)
        time.sleep(0.02)
        return len(calls)

    found = []
    threads = [
        threading.Thread(target=lambda: found.append(cache.get("k", find))) for _ in range(8)
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert found == [1] * 8
    for _ in range(2):  # what went wrong is not remembered
        with pytest.raises(ZeroDivisionError):
            cache.get("other", lambda: 1 // 0)


def test_what_is_taken_is_not_closed_and_what_goes_is():
    class File:
        closed = False

        def close(self):
            self.closed = True

    cache, files = Cache(1), [File() for _ in range(3)]
    cache.put(0, files[0])
    assert cache.take(0) is files[0]
    assert cache.take(0) is None
    cache.put(1, files[1])
    cache.put(2, files[2])
    assert [file.closed for file in files] == [False, True, False]
    cache.clear()
    assert files[2].closed
    assert not files[0].closed
