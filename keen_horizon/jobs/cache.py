"""Values that are used again soon, up to so many bytes of them."""

from __future__ import annotations

from collections.abc import Callable
from threading import Lock
from typing import Generic, TypeVar
from weakref import WeakValueDictionary

from cachetools import LRUCache

from ..core.stored import size_of

Value = TypeVar("Value")


class BoundedCache(Generic[Value]):
    """Values by name. Those unused for longest go once all have more than ``most`` bytes; a value
    larger than that is not remembered. Thread-safe: of several who want the same at once, one makes
    it and the others wait."""

    def __init__(self, most: int) -> None:
        self._values: LRUCache[str, Value] = LRUCache(most, getsizeof=size_of)
        self._lock = Lock()
        self._making: WeakValueDictionary[str, _Turn] = WeakValueDictionary()

    def get(self, name: str) -> Value | None:
        """What is remembered, None if nothing is."""
        with self._lock:
            return self._values.get(name)

    def put(self, name: str, value: Value) -> None:
        with self._lock:
            if size_of(value) <= self._values.maxsize:
                self._values[name] = value

    def find(self, name: str, make: Callable[[], Value]) -> Value:
        """What is remembered, otherwise what ``make`` gives, remembered from now on."""
        with self._lock:
            if name in self._values:
                return self._values[name]
            turn = self._making.setdefault(name, _Turn())
        with turn.lock:
            found = self.get(name)
            if found is None:
                found = make()
                self.put(name, found)
        return found


class _Turn:
    """Whose turn it is to make a value."""

    def __init__(self) -> None:
        self.lock = Lock()
