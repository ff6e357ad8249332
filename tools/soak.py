"""Kill workers, web server and database at random moments while clips are taken in, measured,
solved and exported; then look at every row, file and hash: ``./keen soak --kills 100``.
"""

from __future__ import annotations

import argparse
import hashlib
import os
import random
import signal
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TypeVar

from sqlalchemy import select
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from keen_horizon.core.errors import KeenError
from keen_horizon.core.media.decode import frames
from keen_horizon.core.media.probe import scan
from keen_horizon.core.treatment import Treatment, with_settings
from keen_horizon.jobs.queue import Queue
from keen_horizon.jobs.solving import solving_details
from keen_horizon.launch.postgres import free_port
from keen_horizon.launch.running import Running, application
from keen_horizon.simulated.brindle_quay import quay_walk
from keen_horizon.simulated.record import record
from keen_horizon.store import library, treatments
from keen_horizon.store.database import Database
from keen_horizon.store.media_store import MediaStore
from keen_horizon.store.models import OPEN_STATES, Clip, Export, Job, Recording

from . import report
from .films import in_vault
from .rows import Row

AT_ONCE = 6  # clips under way
BETWEEN = (0.4, 2.5)  # seconds between kills
DATABASE = 0.12  # share of kills that hit the database
STILL = 60.0  # seconds afterwards in which something goes on, until all has ended
ENOUGH = 100  # kills that are told in docs/benchmarks.md
PATIENCE = 60.0  # seconds that a request of this program waits for the database
Answer = TypeVar("Answer")


@dataclass
class Soak:
    """An application that is being killed, and what was asked of it."""

    running: Running
    database: Database
    store: MediaStore
    queue: Queue
    films: list[Path]
    chance: random.Random
    kills: Counter[str] = field(default_factory=Counter)
    clips: int = 0
    over: threading.Event = field(default_factory=threading.Event)

    def patiently(self, ask: Callable[[Session], Answer]) -> Answer:
        """Something asked of the database, which may be away."""
        give_up = time.monotonic() + PATIENCE
        while True:
            try:
                with self.database.session() as session:
                    answer = ask(session)
                    session.commit()
                    return answer
            except Exception as error:
                away = isinstance(error, DBAPIError | OSError) or "connect" in str(error).lower()
                if not away or time.monotonic() > give_up:
                    raise
                time.sleep(0.3)

    def tend(self) -> None:
        while not self.over.is_set():
            self.running.tend(lambda text: None)
            time.sleep(0.3)

    def kill(self) -> None:
        """One process, chosen at random, without a word."""
        if self.chance.random() < DATABASE and self.running.server is not None:
            name, pid = "database", self.running.server.process
        else:
            name = self.chance.choice(list(self.running.crew.processes))
            pid = self.running.crew.processes[name].pid
        try:
            if pid:
                os.kill(pid, signal.SIGKILL)
                self.kills[name] += 1
        except ProcessLookupError:
            pass

    def add(self) -> None:
        """One more clip, to be taken in."""
        film = self.chance.choice(self.films)
        key = in_vault(self.store, film)

        def ask(session: Session) -> None:
            shoot = library.shoots(session)[0]
            recording, clip = library.add_recording(session, shoot, film.name, 0, key)
            self.queue.ask(session, "ingest", recording.id, clip_id=clip.id)

        self.patiently(ask)
        self.clips += 1

    def go_on(self) -> int:
        """Ask for the next piece of work of every clip that waits for none; returns how many clips
        are not done with."""
        return self.patiently(self._go_on)

    def _go_on(self, session: Session) -> int:
        left = 0
        busy = set(session.scalars(select(Job.clip_id).where(Job.state.in_(OPEN_STATES))))
        for clip in session.scalars(select(Clip)).all():
            recording = clip.recording
            if clip.id in busy:
                left += 1
            elif recording.probe is not None:
                left += self._next(session, clip)
        return left

    def _next(self, session: Session, clip: Clip) -> int:
        measure = treatments.measure_of(session, clip)
        if measure is None:
            details: dict[str, object] = {"first": clip.first_frame, "last": clip.last_frame}
            self.queue.ask(session, "measure", clip.recording_id, clip_id=clip.id, details=details)
            return 1
        if session.scalar(select(Export.id).where(Export.clip_id == clip.id)) is not None:
            return 0
        treatment = with_settings(
            Treatment(), [f"motion.calm={clip.id % 90}", "motion.model=shift"]
        )
        self.queue.ask(session, "solve", clip.recording_id, clip_id=clip.id,
                       details=solving_details(measure, treatment))  # fmt: skip
        revision = treatments.change(session, clip, treatment)
        export = Export(
            clip_id=clip.id, revision_id=revision.id, first_frame=clip.first_frame,
            last_frame=measure.last_frame, quality="small", lines=None, file_name="out.mp4",
        )  # fmt: skip
        session.add(export)
        session.flush()
        self.queue.ask(session, "export", clip.recording_id, clip_id=clip.id, export_id=export.id)
        return 1

    def standing(self) -> list[tuple[object, ...]]:
        """How far all work is."""
        work = select(Job.id, Job.state, Job.done).order_by(Job.id)
        return self.patiently(lambda session: [tuple(row) for row in session.execute(work)])

    def faults(self) -> list[str]:
        """What is not as it should be, now that all has ended."""
        return self.patiently(self._faults)

    def _faults(self, session: Session) -> list[str]:
        found = []
        for job in session.scalars(select(Job)):
            if job.state != "done":
                found.append(f"{job.kind} {job.id} is {job.state}: {job.message}")
        for recording in session.scalars(select(Recording)):
            for key in (recording.source_key, recording.proxy_key, recording.poster_key):
                found += self._wrong(key)
        exports = session.scalars(select(Export)).all()
        for export in exports:
            found += self._wrong(export.file_key)
            if export.file_key is None:
                continue
            film = self.store.path(export.file_key)
            try:
                count = scan(film).probe.frame_count
                drawn = sum(1 for _ in frames(film, scan(film), 0, count - 1))
            except KeenError as error:
                found.append(f"export {export.id}: {error}")
                continue
            if drawn != export.last_frame - export.first_frame + 1:
                found.append(f"export {export.id} has {drawn} frames")
        clips = len(session.scalars(select(Clip.id)).all())
        if len(exports) != clips or clips < self.clips:
            found.append(f"{len(exports)} exports of {clips} clips, of {self.clips} added")
        return found

    def _wrong(self, key: str | None) -> list[str]:
        """A fault if a file is not there, or not what its name says."""
        path = self.store.path(key) if key else None
        if path is None or not path.exists():
            return [f"{key} is not there"]
        with path.open("rb") as stream:
            told = hashlib.file_digest(stream, "sha256").hexdigest()
        return [] if told == path.stem else [f"{key} is not what its name says"]


def main() -> int:
    parser = argparse.ArgumentParser(prog="./keen soak", description=__doc__)
    parser.add_argument("--kills", type=int, default=100)
    parser.add_argument("--seed", type=int, default=1)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="keen-soak-") as folder:
        films = []
        for k, seconds in enumerate((2.0, 4.0, 6.0)):
            films.append(Path(folder) / f"film {k}.mp4")
            record(quay_walk(seconds, figure=False), films[-1], sound=False, crf=24)
        data = Path(folder) / "data"
        with application(data, free_port(), passing=True) as running:
            soak = Soak(
                running, Database(running.url), MediaStore(data / "vault"), Queue(running.url),
                films, random.Random(options.seed),
            )  # fmt: skip
            return _run(soak, options.kills)


def _run(soak: Soak, kills: int) -> int:
    soak.patiently(lambda session: library.add_shoot(session, "soak"))
    tending = threading.Thread(target=soak.tend)
    tending.start()
    try:
        killed, told = time.monotonic(), 10
        while soak.kills.total() < kills:
            if soak.go_on() < AT_ONCE:
                soak.add()
            if time.monotonic() > killed:
                soak.kill()
                killed = time.monotonic() + soak.chance.uniform(*BETWEEN)
                if soak.kills.total() >= told:
                    print(f"{soak.kills.total()} kills, {soak.clips} clips", flush=True)
                    told += 10
            time.sleep(0.1)
        last = moved = time.monotonic()
        stood: list[tuple[object, ...]] = []
        while (left := soak.go_on()) and time.monotonic() < moved + STILL:
            if (now := soak.standing()) != stood:
                moved, stood = time.monotonic(), now
            time.sleep(1)
        settled = time.monotonic() - last
        faults = soak.faults()
    finally:
        soak.over.set()
        tending.join()
    print(f"killed: {dict(soak.kills)}; {soak.clips} clips; settled {settled:.0f} s after the last")
    if left:
        faults.append(f"{left} clips are not done with, and nothing went on for {STILL:.0f} s")
    for fault in faults:
        print("fault:", fault)
    print("no fault" if not faults else f"{len(faults)} faults")
    if kills >= ENOUGH:
        report.write("kills", [_row(soak.kills, faults)])
    return bool(faults)


def _row(kills: Counter[str], faults: list[str]) -> Row:
    told = ", ".join(f"{count} × {what}" for what, count in sorted(kills.items()))
    return Row(
        f"{kills.total()} kills of workers, web server and database while clips are worked on",
        "no fault", f"{len(faults) or 'none'} ({told})", not faults,
    )  # fmt: skip


if __name__ == "__main__":
    sys.exit(main())
