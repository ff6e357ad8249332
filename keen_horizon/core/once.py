"""What is worked out of something that never changes, kept with it for as long as it lives."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from typing import TypeVar

_KEPT = "_worked_out"  # not a field: neither stored nor compared, and copies begin without it
Made = TypeVar("Made")


def once(owner: object, key: Hashable, make: Callable[[], Made]) -> Made:
    """What ``make`` gives, made the first time that ``owner`` is asked for ``key``.

    Of objects that never change; threads may make it twice.

    >>> from types import SimpleNamespace
    >>> owner, made = SimpleNamespace(), []
    >>> [once(owner, "a", lambda: made.append(1) or 7) for _ in range(3)], made
    ([7, 7, 7], [1])
    """
    kept: dict[Hashable, Made] = vars(owner).setdefault(_KEPT, {})
    if key not in kept:
        kept[key] = make()
    return kept[key]
