"""The values used last, by name."""

from __future__ import annotations

from collections import OrderedDict
from threading import Lock
from typing import Generic, TypeVar

Value = TypeVar("Value")


class Recent(Generic[Value]):
    """Remembers ``most`` values and forgets the one unused for longest. Thread-safe."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._values: OrderedDict[str, Value] = OrderedDict()
        self._lock = Lock()

    def get(self, name: str) -> Value | None:
        with self._lock:
            if name not in self._values:
                return None
            self._values.move_to_end(name)
            return self._values[name]

    def put(self, name: str, value: Value) -> None:
        with self._lock:
            self._values[name] = value
            self._values.move_to_end(name)
            while len(self._values) > self._most:
                self._values.popitem(last=False)
