"""One declaration and one entry in the list are all that a new station needs."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

pytestmark = pytest.mark.integration


def test_a_made_up_station_is_at_home_everywhere(server_url: str):
    done = subprocess.run(
        [sys.executable, "-m", "pytest", "-p", "tests.new_station.haze", "-o", "addopts=",
         "-q", "tests/new_station/checks.py"],
        cwd=Path(__file__).parents[2], env=os.environ, capture_output=True, text=True,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout[-4000:]
