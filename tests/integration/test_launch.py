"""The launcher's crew: what is killed is started again, what keeps dying is left alone longer."""

import os
import signal
import subprocess
import sys
from pathlib import Path

import pytest
from sqlalchemy import select

from keen_horizon.launch import processes
from keen_horizon.launch.postgres import database
from keen_horizon.launch.processes import Processes
from keen_horizon.store.database import Database, migrate
from keen_horizon.store.models import Shoot
from tests.integration.conftest import wait_for

pytestmark = pytest.mark.integration
HERE = Path(__file__).parents[2]


def test_a_killed_process_is_started_again_and_all_end_with_the_crew(tmp_path):
    said: list[str] = []
    with Processes("postgresql://none", tmp_path) as crew:
        crew.start("sleeper", ["http.server", "0", "--bind", "127.0.0.1"])
        first = crew.processes["sleeper"]
        crew.tend(said.append)
        assert said == []
        os.kill(first.pid, signal.SIGKILL)
        wait_for(lambda: first.poll() is not None)
        crew.tend(said.append)
        second = crew.processes["sleeper"]
        assert second.pid != first.pid
        assert second.poll() is None
        assert "sleeper ended unexpectedly" in said[0]
        assert str(crew.log("sleeper")) in said[0]
    assert second.poll() is not None


def test_what_ends_again_and_again_is_left_alone_for_longer_and_the_others_go_on(
    tmp_path, monkeypatch
):
    said: list[str] = []
    with Processes("postgresql://none", tmp_path) as crew:
        crew.start("broken", ["no_such_module_at_all"])
        crew.start("sleeper", ["http.server", "0", "--bind", "127.0.0.1"])
        first = crew.processes["broken"]
        first.wait()
        crew.tend(said.append)  # at once, the first time
        second = crew.processes["broken"]
        assert second is not first
        second.wait()
        crew.tend(said.append)
        assert crew.processes["broken"] is second
        assert "starting it again in 1 s" in said[-1]
        clock = processes.time.monotonic
        monkeypatch.setattr(processes.time, "monotonic", lambda: clock() + 1.1)
        crew.tend(said.append)
        assert crew.processes["broken"] is not second
        assert len(said) == 2
        assert crew.processes["sleeper"].poll() is None
        assert "No module named" in crew.log("broken").read_text()


def test_a_database_that_ends_is_started_again_at_its_port(tmp_path, monkeypatch):
    monkeypatch.delenv("KEEN_DATABASE_URL", raising=False)
    said: list[str] = []
    with database(tmp_path, passing=True) as (url, server):
        assert server is not None
        migrate(url)
        kept = Database(url)
        with kept.session.begin() as session:
            session.add(Shoot(name="before"))
        server.tend(said.append)
        assert said == []
        pid = int((server._data / "postmaster.pid").read_text().splitlines()[0])
        os.kill(pid, signal.SIGQUIT)  # at once, as a crash
        wait_for(lambda: not server._answers())
        server.tend(said.append)
        assert "ended unexpectedly" in said[0]
        with kept.session() as session:
            assert session.scalar(select(Shoot.name)) == "before"
        kept.engine.dispose()


TOOL = """
import pathlib, subprocess, sys, time
with subprocess.Popen([sys.executable, "-c", "import time; time.sleep(600)"]) as own:
    try:
        pathlib.Path("begun").write_text(str(own.pid))
        time.sleep(600)
    finally:
        own.kill()
        pathlib.Path("tidied").touch()
"""


@pytest.mark.parametrize("request_", [signal.SIGTERM, signal.SIGINT])
def test_a_tool_that_is_asked_to_stop_ends_what_it_has_started(tmp_path, request_):
    (tmp_path / "tools").mkdir()
    (tmp_path / "tools" / "__init__.py").touch()
    (tmp_path / "tools" / "shots.py").write_text(TOOL)
    begun = tmp_path / "begun"
    launcher = subprocess.Popen(
        [sys.executable, "-m", "keen_horizon.launch", "shots"],
        env={**os.environ, "KEEN_HOME": str(tmp_path), "PYTHONPATH": str(HERE)},
        stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    wait_for(lambda: begun.exists() and begun.read_text())
    launcher.send_signal(request_)
    said, _ = launcher.communicate(timeout=40)
    assert "stopped" in said
    assert (tmp_path / "tidied").exists()
    wait_for(lambda: not Path(f"/proc/{begun.read_text()}").exists(), seconds=5)
