"""What is remembered, and for how long."""

import threading
import time
from dataclasses import dataclass

import numpy as np

from keen_horizon.core.stored import size_of
from keen_horizon.jobs.cache import BoundedCache


def test_the_value_unused_for_longest_is_forgotten_first():
    cache = BoundedCache(3000)
    for name in ("a", "b", "c"):
        cache.put(name, np.zeros(125))  # a thousand bytes each
    assert cache.get("a") is not None  # and so used
    cache.put("d", np.zeros(125))
    assert cache.get("b") is None
    assert all(cache.get(name) is not None for name in ("a", "c", "d"))


def test_what_is_larger_than_the_cache_is_given_but_not_kept():
    cache = BoundedCache(1000)
    assert len(cache.find("huge", lambda: np.zeros(1000))) == 1000
    assert cache.get("huge") is None


def test_of_several_who_want_the_same_one_makes_it():
    cache, made = BoundedCache(10_000), []

    def slowly():
        made.append(1)
        time.sleep(0.1)
        return np.ones(3)

    threads = [threading.Thread(target=lambda: cache.find("it", slowly)) for _ in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(made) == 1
    assert cache.find("it", slowly).sum() == 3
    assert len(made) == 1


def test_sizes_are_those_of_the_arrays_within(tmp_path):
    @dataclass(frozen=True)
    class Both:
        one: np.ndarray
        rest: tuple

    both = Both(np.zeros(1000), (np.zeros(500), "words", None))
    assert 12_000 <= size_of(both) < 13_000
    mapped = np.memmap(tmp_path / "m", np.float64, "w+", shape=(4000,))
    assert size_of(mapped) == 0  # it makes room by itself
