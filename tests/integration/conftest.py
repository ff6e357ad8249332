"""A database, a vault and an application of the tests' own."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
import time
import urllib.request
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import psycopg
import pytest
from flask.testing import FlaskClient

from keen_horizon.jobs.queue import Queue
from keen_horizon.jobs.runner import JobRunner
from keen_horizon.store import library
from keen_horizon.store.database import Database, migrate
from keen_horizon.store.media_store import MediaStore
from keen_horizon.store.models import Clip, Job, Recording
from keen_horizon.web import create_app
from tools.films import in_vault


@pytest.fixture(scope="session")
def server_url() -> str:
    url = os.environ.get("KEEN_TEST_DATABASE_URL")
    if not url:
        pytest.fail("run the tests through ./keen test, which starts their database")
    return url


@contextmanager
def fresh_database(server_url: str, to: str = "head") -> Iterator[str]:
    """A migrated database of its own, dropped afterwards."""
    name = f"test_{uuid.uuid4().hex[:12]}"
    with psycopg.connect(server_url, autocommit=True) as connection:
        connection.execute(f"create database {name}")
    address = re.sub(r"/[^/]*$", f"/{name}", server_url)
    migrate(address, to)
    yield address
    with psycopg.connect(server_url, autocommit=True) as connection:
        connection.execute(f"drop database {name} with (force)")


@pytest.fixture(scope="module")
def url(server_url: str) -> Iterator[str]:
    with fresh_database(server_url) as address:
        yield address


@dataclass
class Place:
    """Everything an application stands on, without a server."""

    url: str
    data: Path
    database: Database
    store: MediaStore
    queue: Queue
    runner: JobRunner
    client: FlaskClient
    token: str

    def shoot(self, name: str = "test") -> int:
        with self.database.session.begin() as session:
            return library.add_shoot(session, name).id

    def add(self, path: Path, shoot: int | None = None) -> tuple[int, int]:
        """Put a file into the vault and on the shelf; returns recording and clip."""
        key = in_vault(self.store, path)
        with self.database.session() as session:
            home = library.get_shoot(session, shoot or self.shoot())
            recording, clip = library.add_recording(
                session, home, path.name, path.stat().st_size, key
            )
            session.commit()
            return recording.id, clip.id

    def work_now(self, work_id: int) -> str:
        """Do a piece of work in this process; returns the state it ended in."""
        from keen_horizon.jobs.lifecycle import run_of

        with run_of(self.database, work_id) as claimed:
            if claimed is not None:
                self.runner.do(claimed)
        return self.work(work_id).state

    def work(self, work_id: int) -> Job:
        with self.database.session() as session:
            return session.get_one(Job, work_id)

    def ask(self, kind, recording: int, **options) -> int:
        with self.database.session() as session:
            return self.queue.ask(session, kind, recording, **options).id

    def measured(self, path: Path, shoot: int | None = None) -> tuple[int, int]:
        """A recording that has been taken in and measured whole, and its clip."""
        recording, clip = self.add(path, shoot)
        assert self.work_now(self.ask("ingest", recording)) == "done"
        with self.database.session() as session:
            last = session.get_one(Clip, clip).last_frame
        details = {"first": 0, "last": last}
        assert self.work_now(self.ask("measure", recording, details=details)) == "done"
        return recording, clip

    def recording(self, recording: int) -> Recording:
        with self.database.session() as session:
            return session.get_one(Recording, recording)

    def post(self, address: str, json=None, method: str = "POST", **options):
        headers = {"X-CSRFToken": self.token, "Accept": "application/json"}
        return self.client.open(
            address, method=method, json={} if json is None else json, headers=headers, **options
        )

    def get(self, address: str):
        return self.client.get(address, headers={"Accept": "application/json"})


@pytest.fixture(scope="module")
def place(url: str, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Place]:
    data = tmp_path_factory.mktemp("data")
    app = create_app(url, data)
    kit = app.extensions["keen"]
    client = app.test_client()
    page = client.get("/").get_data(as_text=True)
    token = re.search(r'csrf-token" content="([^"]+)"', page).group(1)
    yield Place(
        url, data, kit.database, kit.store, kit.queue,
        JobRunner(kit.database, kit.store), client, token,
    )  # fmt: skip
    kit.queue.close()
    kit.database.engine.dispose()


WORKER = """
from pathlib import Path
from keen_horizon.jobs import worker
from keen_horizon.store.media_store import MediaStore
if not {patient}:
    worker.HEARTBEAT, worker.DEAD_AFTER, worker.LOOK_AFTER_EVERY = 0.5, 3.0, 0.5
worker.work_forever({url!r}, MediaStore(Path({vault!r})), None)
"""


@pytest.fixture
def workers(place: Place) -> Iterator[Callable[..., subprocess.Popen]]:
    """Starts workers, most of which lose patience soon; ends them all."""
    started = []

    def start(patient: bool = False) -> subprocess.Popen:
        code = WORKER.format(url=place.url, vault=str(place.data / "vault"), patient=patient)
        worker = subprocess.Popen([sys.executable, "-c", code], env=os.environ)
        started.append(worker)
        return worker

    yield start
    for worker in started:
        if worker.poll() is None:
            worker.send_signal(signal.SIGCONT)
            worker.kill()
        worker.wait()


def wait_for(what, seconds: float = 60, every: float = 0.2):
    """Poll until ``what()`` is true; returns its value."""
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        value = what()
        if value:
            return value
        time.sleep(every)
    raise AssertionError("waited in vain")


def fetch(address: str) -> bytes:
    with urllib.request.urlopen(address, timeout=20) as answer:
        return answer.read()
