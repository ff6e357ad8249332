"""The launcher's crew: what is killed is started again, what keeps dying is given up."""

import os
import signal

import pytest

from keen_horizon.launch import processes
from keen_horizon.launch.processes import Processes
from tests.integration.conftest import wait_for

pytestmark = pytest.mark.integration


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


def test_what_ends_again_and_again_is_given_up(tmp_path, monkeypatch):
    monkeypatch.setattr(processes, "MOST_RESTARTS", 2)
    with Processes("postgresql://none", tmp_path) as crew:
        crew.start("broken", ["no_such_module_at_all"])
        with pytest.raises(SystemExit, match="ends again and again"):
            for _ in range(5):
                crew.processes["broken"].wait()
                crew.tend(lambda text: None)
        assert "No module named" in crew.log("broken").read_text()
