"""Doing what comes next while what came before is worked on."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator

import pytest

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.media.ahead import ahead, pictures_ahead


def test_items_come_in_order_and_only_so_many_are_made_before_they_are_asked_for():
    made: list[int] = []

    def count() -> Iterator[int]:
        for k in range(50):
            made.append(k)
            yield k

    with ahead(count(), depth=2) as items:
        first = next(items)
        time.sleep(0.2)
        assert len(made) <= 5
        assert [first, *items] == list(range(50))


def test_of_large_pictures_fewer_are_held():
    def most(canvas: Canvas) -> int:
        made: list[int] = []

        def count() -> Iterator[int]:
            for k in range(50):
                made.append(k)
                yield k

        with pictures_ahead(count(), canvas) as items:
            next(items)
            time.sleep(0.2)
            return len(made)

    assert most(Canvas(3840, 2160)) < most(Canvas(1920, 1080))


def test_what_making_them_raises_is_raised_where_they_are_asked_for():
    def broken() -> Iterator[int]:
        yield 1
        raise ValueError("frame 2 cannot be decoded")

    with ahead(broken()) as items:
        assert next(items) == 1
        with pytest.raises(ValueError, match="frame 2"):
            next(items)


def test_when_nobody_wants_more_the_thread_ends_and_what_it_read_is_closed():
    closed = threading.Event()

    def endless() -> Iterator[int]:
        try:
            k = 0
            while True:
                yield k
                k += 1
        finally:
            closed.set()

    before = threading.active_count()
    with pytest.raises(RuntimeError, match="stopped"), ahead(endless()) as items:
        next(items)
        raise RuntimeError("stopped")
    assert closed.is_set()
    assert threading.active_count() == before
