"""``./keen`` continues here, inside the virtual environment."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory, TemporaryFile

from .. import logs
from ..jobs.worker import work_forever
from ..store.database import migrate
from ..store.media_store import MediaStore
from .postgres import database_url, free_port
from .processes import PREFERRED_PORT, compiled_once
from .running import application

ENDS_WITHIN = 30.0  # seconds that a program has to end what it has started
HOME = Path(os.environ.get("KEEN_HOME", Path.cwd()))


def say(text: str) -> None:
    print(f"keen: {text}", flush=True)


def data_folder() -> Path:
    return Path(os.environ.get("KEEN_DATA", HOME / ".keen")).resolve()


def main() -> int:
    # A supervisor's polite request ends us the way Ctrl-C does; and Ctrl-C does so even if a shell
    # started us with it ignored.
    for request in (signal.SIGTERM, signal.SIGINT):
        signal.signal(request, signal.default_int_handler)
    command, *rest = sys.argv[1:]
    try:
        match command:
            case "demo" | "serve":
                return serve(demo=command == "demo", extra=on_demand(rest) if rest else ())
            case "worker":
                return worker()
            case "run-worker":
                return run_worker(rest)
            case "test":
                return test(rest)
            case "lint":
                return lint()
            case "bench" | "shots" | "soak" | "lock":
                return tool(command, rest)
    except KeyboardInterrupt:
        say("stopped.")
        return 0
    return 2


def on_demand(wanted: list[str]) -> tuple[str, ...]:
    """Takes of the demo shoot asked for by name, as in ``./keen demo long-haul``."""
    from ..simulated.brindle_quay import ON_DEMAND

    names = tuple(name.replace("-", " ") for name in wanted)
    unknown = [name for name in names if name not in ON_DEMAND]
    if unknown:
        known = ", ".join(name.replace(" ", "-") for name in ON_DEMAND)
        raise SystemExit(f"keen: there is no '{unknown[0]}' to make on demand; known: {known}.")
    return names


def serve(*, demo: bool, extra: tuple[str, ...] = ()) -> int:
    """Database, migrations, demo shoot, web server, workers; until Ctrl-C."""
    say("starting the database")
    with application(data_folder(), chosen_port(), demo=demo, extra=extra, say=say) as running:
        say(f"Keen Horizon is at {running.address}  (Ctrl-C stops it)")
        try:
            while True:
                time.sleep(1)
                running.tend(say)
        except KeyboardInterrupt:
            say("stopping")
    return 0


def chosen_port() -> int:
    wanted = os.environ.get("KEEN_PORT", "")
    if wanted and not (wanted.isdecimal() and 0 < int(wanted) < 65536):
        raise SystemExit(f"keen: KEEN_PORT={wanted} is no port; use a number from 1 to 65535.")
    port = int(wanted or PREFERRED_PORT)
    with socket.socket() as probe:
        if probe.connect_ex(("127.0.0.1", port)) != 0:
            return port
    if wanted:
        raise SystemExit(f"keen: port {wanted} is in use; choose another one in KEEN_PORT.")
    return free_port()


def worker() -> int:
    """One more worker, in this terminal."""
    with database_url(data_folder()) as url:
        migrate(url)
        say("working (Ctrl-C stops)")
        os.environ["KEEN_DATABASE_URL"] = url
        return run_worker([])


def run_worker(queues: list[str]) -> int:
    logs.set_up()
    work_forever(
        os.environ["KEEN_DATABASE_URL"], MediaStore(data_folder() / "vault"), queues or None
    )
    return 0


# Tests that need no browser go along with those that do, which leave half of the machine idle; kept
# back, so that no page waits for them.
BESIDE = ["nice", "-n", "5", sys.executable, "-m", "pytest", "-m", "not browser"]
BESIDE += ["-n", "3", "--dist", "loadfile"]  # some of them only wait
LONGEST = 1800  # seconds that they may go on alone
IN_BROWSER = [sys.executable, "-m", "pytest", "-m", "browser"]


def test(arguments: list[str]) -> int:
    """All tests, on a database of their own; and those of the scripts, unless some are chosen."""
    worst = 0
    with (
        database_url(data_folder(), passing=True) as url,
        TemporaryFile("w+") as told,
        TemporaryDirectory(prefix="keen-") as compiled,
    ):
        environment = {**os.environ, "KEEN_TEST_DATABASE_URL": url} | compiled_once(compiled)
        if arguments:
            chosen = [sys.executable, "-m", "pytest", *arguments]
            return ran(chosen, environment)
        say("the scripts' own tests")
        scripts = sorted(str(path) for path in (HOME / "tests" / "scripts").glob("*.test.js"))
        node = ["node", "--test", "--test-reporter=spec", *scripts]
        worst |= subprocess.run(node, cwd=HOME).returncode
        say("tests in the browser, and all others beside them")
        beside = subprocess.Popen(BESIDE, cwd=HOME, env=environment, stdout=told, stderr=told)
        try:
            worst |= ran(IN_BROWSER, environment)
            worst |= beside.wait(LONGEST)
        except subprocess.TimeoutExpired:
            say("the tests without a browser hang; they are ended")
            worst |= 1
        finally:  # what they said, even of a run that is broken off
            beside.terminate()
            beside.wait()
            told.seek(0)
            say(f"tests without a browser:\n{told.read()}")
    return worst


LINTERS = (
    ("ruff", "check", "."),
    ("ruff", "format", "--check", "."),
    ("mypy",),
    ("lint-imports",),
    ("tsc",),
    ("eslint", "."),
    ("prettier", "--check", "--log-level=warn", "."),
    ("stylelint", "keen_horizon/web/static/css/*.css"),
)


def lint() -> int:
    """Style, types, and the one way imports go; of Python, of the scripts and of the styles."""
    worst = 0
    places = Path(sys.executable).parent, HOME / "node_modules" / ".bin"
    for name, *rest in LINTERS:
        say(" ".join((name, *rest)))
        program = next(place / name for place in places if (place / name).exists())
        worst |= subprocess.run([str(program), *rest], cwd=HOME).returncode
    return worst


def tool(name: str, arguments: list[str]) -> int:
    """Benchmarks and screenshots live beside the application."""
    return ran([sys.executable, "-m", f"tools.{name}", *arguments], dict(os.environ))


def ran(command: list[str], environment: dict[str, str]) -> int:
    """Exit status of a program, at home. If we are to stop, it is asked to, and ends what it has
    started, before we do."""
    program = subprocess.Popen(command, cwd=HOME, env=environment)
    try:
        return program.wait()
    except KeyboardInterrupt:
        program.send_signal(signal.SIGINT)
        try:
            program.wait(ENDS_WITHIN)
        except subprocess.TimeoutExpired:
            program.kill()
        raise


if __name__ == "__main__":
    sys.exit(main())
