"""How far work over frames is: ``progress(done, total)`` is called after frames. Raising from it
stops the work cleanly; that is how work is cancelled."""

from collections.abc import Callable

Progress = Callable[[int, int], None]


def silent(done: int, total: int) -> None:
    """Progress that nobody watches."""
