"""Doing what comes next while what came before is worked on: neither waits for the other."""

from __future__ import annotations

from collections.abc import Generator, Iterator
from contextlib import AbstractContextManager, contextmanager
from queue import Empty, Full, Queue
from threading import Event, Thread
from typing import TypeVar

from ..geometry.canvas import Canvas

Item = TypeVar("Item")
DEPTH = 3  # items that are held at the most
LARGE_DEPTH = 1  # the same of large pictures
PATIENCE = 0.1  # seconds after which a thread looks whether it is still wanted


class _Ended:
    """After the last item: with the ``error`` that making them ended by, if it did."""

    def __init__(self, error: BaseException | None = None) -> None:
        self.error = error


@contextmanager
def ahead(items: Iterator[Item], depth: int = DEPTH) -> Iterator[Iterator[Item]]:
    """The same items in the same order, made by a thread of their own, up to ``depth`` of them
    before they are asked for. What making them raises is raised where they are asked for. On the
    way out the thread has ended, and ``items``, if they are a generator, are closed.

    >>> with ahead(iter(range(5))) as made:
    ...     list(made)
    [0, 1, 2, 3, 4]
    """
    ready: Queue[Item | _Ended] = Queue(depth)
    unwanted = Event()

    def put(item: Item | _Ended) -> bool:
        while not unwanted.is_set():
            try:
                ready.put(item, timeout=PATIENCE)
            except Full:
                continue
            return True
        return False

    def make() -> None:
        ended = _Ended()
        try:
            for item in items:
                if not put(item):
                    break
        except BaseException as error:  # handed on to whoever asks for the next one
            ended = _Ended(error)
        put(ended)

    maker = Thread(target=make, name="ahead", daemon=True)

    def taken() -> Iterator[Item]:
        while True:
            try:
                item = ready.get(timeout=PATIENCE)
            except Empty:
                continue
            if isinstance(item, _Ended):
                if item.error is not None:
                    raise item.error
                return
            yield item

    maker.start()
    try:
        yield taken()
    finally:
        unwanted.set()
        maker.join()
        if isinstance(items, Generator):
            items.close()


def pictures_ahead(items: Iterator[Item], canvas: Canvas) -> AbstractContextManager[Iterator[Item]]:
    """:func:`ahead` for pictures of a size."""
    return ahead(items, LARGE_DEPTH if canvas.large else DEPTH)
