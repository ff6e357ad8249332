"""The whole application on one machine, as a context: what ``serve``, tests and tools stand on."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from ..store.database import migrate
from .postgres import Server, database
from .processes import Processes, wait_for_page


@dataclass(frozen=True)
class Running:
    """An application that answers at ``address``, on the database ``url``."""

    address: str
    url: str
    data: Path
    crew: Processes
    server: Server | None = None

    def tend(self, say: Callable[[str], None]) -> None:
        """Start again whatever has ended by itself."""
        if self.server is not None:
            self.server.tend(say)
        self.crew.tend(say)


@contextmanager
def application(
    data: Path,
    port: int,
    *,
    demo: bool = False,
    extra: tuple[str, ...] = (),
    passing: bool = False,
    workers: bool = True,
    say: Callable[[str], None] = lambda text: None,
) -> Iterator[Running]:
    """Start database, web server and workers on ``data``; stop them all at the end.

    ``extra`` names takes of the demo shoot that are made on demand only. ``passing`` keeps the
    database in a temporary folder that goes with it.
    """
    data.mkdir(parents=True, exist_ok=True)
    with database(data, passing=passing) as (url, server):
        migrate(url)
        if demo:
            # Loaded only here: workers and servers need no cameras that do not exist.
            from ..demo.shoot import ensure_demo

            ensure_demo(url, data, say, extra)
        address = f"http://127.0.0.1:{port}/"
        with Processes(url, data) as crew:
            crew.start_web(port)
            wait_for_page(address, crew)
            if workers:  # after the page, which does not need them yet and is waited for
                crew.start_workers()
            yield Running(address, url, data, crew, server)
