"""The web server and the workers as child processes that end with us."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Callable
from pathlib import Path

PREFERRED_PORT = 8420
RESTARTS_WITHIN = 60.0  # seconds, in which ends of a process count against it
# One for every connection that is slow, or says nothing, and some for pages: threads that wait take
# nothing but a little memory.
THREADS = "96"
LONGEST_REST = 60.0  # seconds before one that ends again and again is started once more


def rest_after(ends: int) -> float:
    """Seconds that something which has ended by itself so often before is left alone."""
    return min(2.0 ** (min(ends, 60) - 1), LONGEST_REST) if ends else 0.0


def compiled_once(folder: str) -> dict[str, str]:
    """Environment of programs that start many others of ours: none compiles our code again."""
    return {"PYTHONDONTWRITEBYTECODE": "", "PYTHONPYCACHEPREFIX": folder}


class Processes:
    """Processes started here; all of them end when the context does."""

    def __init__(self, url: str, data: Path) -> None:
        self._environment = {
            **os.environ, "KEEN_DATABASE_URL": url, "KEEN_DATA": str(data), "PYTHONUNBUFFERED": "1",
        }  # fmt: skip
        self._data = data
        self._arguments: dict[str, list[str]] = {}
        self._ends: dict[str, list[float]] = {}  # when processes ended by themselves
        self._rests: dict[str, float] = {}  # until when those that did are left alone
        self.processes: dict[str, subprocess.Popen[bytes]] = {}

    def start(self, name: str, arguments: list[str]) -> None:
        """Start ``python -m …`` in the background; its output goes to ``logs/<name>.log``."""
        self._arguments[name] = arguments
        path = self.log(name)
        path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        with path.open("ab") as log:
            self.processes[name] = subprocess.Popen(
                [sys.executable, "-m", *arguments],
                env=self._environment,
                stdout=log,
                stderr=log,
                stdin=subprocess.DEVNULL,
                start_new_session=True,  # Ctrl-C reaches us alone; we end the rest in order
            )

    def log(self, name: str) -> Path:
        return self._data / "logs" / f"{name}.log"

    def start_web(self, port: int) -> None:
        self.start(
            "web",
            ["gunicorn", "--bind", f"127.0.0.1:{port}", "--worker-class", "gthread",
             "--workers", "1", "--threads", THREADS, "--timeout", "600", "--graceful-timeout", "2",
             "--worker-tmp-dir", str(self._data), "--no-control-socket",
             "keen_horizon.web.served:app()"],
        )  # fmt: skip

    def start_workers(self) -> None:
        """A worker for everything for each two cores, which is what one keeps busy; and one that is
        never held up by an export."""
        for k in range(1, max(1, (os.cpu_count() or 1) // 2) + 1):
            name = "worker-all" if k == 1 else f"worker-all-{k}"
            self.start(name, ["keen_horizon.launch", "run-worker"])
        self.start("worker-quick", ["keen_horizon.launch", "run-worker", "quick"])

    def check(self) -> None:
        """Raise SystemExit if a process has ended by itself."""
        for name, process in self.processes.items():
            if process.poll() is not None:
                raise SystemExit(f"keen: {name} ended unexpectedly; see {self.log(name)}")

    def tend(self, say: Callable[[str], None]) -> None:
        """Start again whatever has ended by itself: a worker that was killed, say. What keeps
        ending is left alone for longer and longer; the others go on."""
        for name, process in self.processes.items():
            if process.poll() is None:
                continue
            now = time.monotonic()
            if name not in self._rests:
                ends = [end for end in self._ends.get(name, []) if now - end < RESTARTS_WITHIN]
                self._ends[name] = [*ends, now]
                rest = rest_after(len(ends))
                self._rests[name] = now + rest
                again = f"again in {rest:.0f} s" if rest else "again"
                say(f"{name} ended unexpectedly (see {self.log(name)}); starting it {again}")
            if now >= self._rests[name]:
                del self._rests[name]
                self.start(name, self._arguments[name])

    def __enter__(self) -> Processes:
        return self

    def __exit__(self, *error: object) -> None:
        # Whoever asks twice must not leave processes behind.
        if threading.current_thread() is threading.main_thread():
            for request in (signal.SIGINT, signal.SIGTERM):
                signal.signal(request, signal.SIG_IGN)
        self._end_all()

    def _end_all(self) -> None:
        for process in reversed(self.processes.values()):
            if process.poll() is None:
                process.send_signal(signal.SIGTERM)
        deadline = time.monotonic() + 4
        for process in self.processes.values():
            try:
                process.wait(max(0.1, deadline - time.monotonic()))
            except subprocess.TimeoutExpired:
                # A worker in the middle of a frame; its work is taken up again next time.
                os.killpg(process.pid, signal.SIGKILL)
                process.wait()


def wait_for_page(address: str, crew: Processes, seconds: float = 60) -> None:
    """Wait until the first page answers."""
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        crew.check()
        try:
            with urllib.request.urlopen(address, timeout=5) as answer:  # noqa: S310 (loopback)
                if answer.status == 200:
                    return
        except (urllib.error.URLError, OSError):
            time.sleep(0.2)
    raise SystemExit("keen: the web server does not answer; see the logs.")
