"""Work on what cannot be trusted, in a process of its own: bounded in memory and time, ended at
once when nobody waits for it any more."""

from __future__ import annotations

import ctypes
import multiprocessing
import os
import resource
import signal
import time
from collections.abc import Callable
from multiprocessing.connection import Connection
from pathlib import Path
from types import TracebackType
from typing import Any

from .errors import KeenError

MEMORY = 1_500_000_000  # bytes that it may take besides what it starts with
SECONDS = 18.0  # that one call may take
LOOK_UP_EVERY = 0.2  # seconds
OPENCV_FULL = "Insufficient memory"  # what OpenCV says in its own way


class TooMuch(KeenError):
    """A call that took more memory or time than it may have."""


class IsolatedProcess:
    """A child process that calls functions, one at a time.

    >>> with IsolatedProcess() as process:
    ...     process.call(max, 2, 3)
    3

    Functions and what they are given and return are sent there and back, so they have to be
    importable. The process starts with the first call, and anew after one that had to be ended.
    """

    def __init__(self, memory: int = MEMORY, seconds: float = SECONDS) -> None:
        self._memory, self._seconds = memory, seconds
        self._child: tuple[Any, Connection] | None = None

    def __enter__(self) -> IsolatedProcess:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._end()

    def call(
        self,
        function: Callable[..., Any],
        *arguments: Any,
        look_up: Callable[[], None] | None = None,
    ) -> Any:
        """What a function returns, or raises. ``look_up`` is called while it is waited for; what
        that raises ends the process. Raises TooMuch if the call takes more than it may."""
        _, line = self._child = self._child or _started(self._memory)
        end = time.monotonic() + self._seconds
        try:
            line.send((function, arguments))
            while not line.poll(LOOK_UP_EVERY):
                if look_up is not None:
                    look_up()
                if time.monotonic() > end:
                    raise TooMuch(f"takes longer than {self._seconds:g} seconds.")
            done, value = line.recv()
        except (EOFError, ConnectionError) as error:  # it was ended from outside, or crashed
            self._end()
            raise TooMuch("takes more memory than it may have.") from error
        except BaseException:
            self._end()
            raise
        if done:
            return value
        if isinstance(value, MemoryError) or OPENCV_FULL in str(value):
            raise TooMuch("takes more memory than it may have.") from value
        raise value

    def _end(self) -> None:
        if self._child is not None:
            process, line = self._child
            self._child = None
            process.kill()
            process.join()
            line.close()


def _started(memory: int) -> tuple[Any, Connection]:
    context = multiprocessing.get_context("spawn")
    ours, theirs = context.Pipe()
    process = context.Process(target=_serve, args=(theirs, memory), daemon=True)
    process.start()
    theirs.close()
    return process, ours


def _serve(line: Connection, memory: int) -> None:
    """The child's part."""
    _end_with_parent()
    bounded = False
    while True:
        try:
            function, arguments = line.recv()
        except EOFError:
            return
        if not bounded:  # by now everything that is needed has been imported
            bounded = True
            most = _address_space() + memory
            resource.setrlimit(resource.RLIMIT_AS, (most, most))
        try:
            line.send((True, function(*arguments)))
        except Exception as error:
            line.send((False, error))


def _address_space() -> int:
    return int(Path("/proc/self/statm").read_text("ascii").split()[0]) * resource.getpagesize()


def _end_with_parent() -> None:
    """Be killed when the parent is: it may be killed itself, and then nobody else would."""
    pr_set_pdeathsig = 1
    ctypes.CDLL(None).prctl(pr_set_pdeathsig, signal.SIGKILL)
    if os.getppid() == 1:
        os._exit(1)
