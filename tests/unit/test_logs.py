"""What processes log: lines that machines read, with what they are about."""

import json
import subprocess
import sys

SAYING = """
import logging
from keen_horizon import logs
logs.set_up()
own, foreign = logging.getLogger("keen_horizon.jobs"), logging.getLogger("elsewhere")
with logs.about(work=12):
    own.info("begun", extra={"kind": "measure"})
    foreign.info("chatter")
    try:
        raise ValueError("broken")
    except ValueError:
        foreign.exception("failed")
own.info("tidied")
logging.getLogger("gunicorn.error").warning("a worker was slow")
"""


def test_every_line_is_an_object_that_says_what_work_it_is_about():
    done = subprocess.run(
        [sys.executable, "-c", SAYING], capture_output=True, text=True, check=True
    )
    begun, failed, tidied, slow = (json.loads(line) for line in done.stderr.splitlines())
    assert (begun["work"], begun["kind"], begun["said"]) == (12, "measure", "begun")
    assert begun["level"] == "info"
    assert begun["timestamp"].endswith("Z")
    assert failed["work"] == 12
    assert "ValueError: broken" in failed["exception"]
    assert "work" not in tidied
    assert slow["logger"] == "gunicorn.error"
