"""The web server and the workers as child processes that end with us."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
import urllib.error
import urllib.request
from pathlib import Path

PREFERRED_PORT = 8420


class Crew:
    """Processes started here; all of them end when the context does."""

    def __init__(self, url: str, data: Path) -> None:
        self._environment = {
            **os.environ, "KEEN_DATABASE_URL": url, "KEEN_DATA": str(data), "PYTHONUNBUFFERED": "1",
        }  # fmt: skip
        self._data = data
        self.processes: dict[str, subprocess.Popen[bytes]] = {}

    def start(self, name: str, arguments: list[str]) -> subprocess.Popen[bytes]:
        """Start ``python -m …`` in the background; its output goes to ``logs/<name>.log``."""
        logs = self._data / "logs"
        logs.mkdir(parents=True, exist_ok=True)
        with (logs / f"{name}.log").open("ab") as log:
            process = subprocess.Popen(
                [sys.executable, "-m", *arguments],
                env=self._environment,
                stdout=log,
                stderr=log,
                stdin=subprocess.DEVNULL,
                start_new_session=True,  # Ctrl-C reaches us alone; we end the rest in order
            )
        self.processes[name] = process
        return process

    def start_web(self, port: int) -> None:
        self.start(
            "web",
            ["gunicorn", "--bind", f"127.0.0.1:{port}", "--worker-class", "gthread",
             "--workers", "1", "--threads", "12", "--timeout", "600", "--graceful-timeout", "2",
             "--worker-tmp-dir", str(self._data), "--no-control-socket",
             "keen_horizon.web:create_app()"],
        )  # fmt: skip

    def start_workers(self) -> None:
        """One worker for everything and one that is never held up by an export."""
        self.start("worker-all", ["keen_horizon.launch", "run-worker"])
        self.start("worker-quick", ["keen_horizon.launch", "run-worker", "quick"])

    def check(self) -> None:
        """Raise SystemExit if a process has ended by itself."""
        for name, process in self.processes.items():
            if process.poll() is not None:
                raise SystemExit(
                    f"keen: {name} ended unexpectedly; see {self._data / 'logs' / (name + '.log')}"
                )

    def __enter__(self) -> Crew:
        return self

    def __exit__(self, *error: object) -> None:
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


def wait_for_page(address: str, crew: Crew, seconds: float = 60) -> None:
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
