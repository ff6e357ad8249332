"""Two workers against one, each on a core of its own: ``./keen bench workers``.

Three minutes of footage are taken in, which decodes it once, makes its proxy and follows its marks,
and exported; first by one worker, then by two.
"""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path

import av
import cv2
import numpy as np
from sqlalchemy.orm import Session

from keen_horizon.core.media.encode import QUALITIES
from keen_horizon.jobs.queue import Queue
from keen_horizon.launch.postgres import free_port
from keen_horizon.launch.running import Running, application
from keen_horizon.simulated.brindle_quay import quay_walk
from keen_horizon.store import library
from keen_horizon.store.database import Database
from keen_horizon.store.house import workers_heard
from keen_horizon.store.media_store import MediaStore
from keen_horizon.store.models import Clip, Export, Followed, Job

from .films import coded, in_vault
from .rows import Row, say

MINUTES, RATE, SIZE = 3, 30, (640, 360)  # ten minutes take as much longer
LOOP = 300  # frames that are shown there and back, again and again
BAR = 1.8


def workers(folder: Path) -> list[Row]:
    cores = sorted(os.sched_getaffinity(0))[:2]
    if len(cores) < 2:
        say("two workers: this machine has one core")
        return []
    say(f"{MINUTES} minutes of footage")
    films = [_film(folder / f"{name}.mp4", name == "back") for name in ("there", "back")]
    told = []
    for film, own in zip(films, (cores[:1], cores), strict=True):
        say(f"taken in and exported by {len(own)} workers")
        place = folder / film.stem
        with (
            application(place, free_port(), workers=False) as running, _at_work(running, own)
        ):  # fmt: skip
            told.append(_times(running, film, len(own)))
    (take_in_one, export_one), (take_in, export) = told
    words = f"each on a core of its own, {MINUTES} minutes at {SIZE[0]} × {SIZE[1]}"
    return [
        Row(f"two workers against one, {what}", f"≥ {BAR} ×", f"{one / two:.2f} ×",
            one / two >= BAR, f"{words}: {one:.0f} and {two:.0f} s")
        for what, one, two in (
            ("taking in (proxy and measure)", take_in_one, take_in),
            ("export, to its film", export_one, export),
        )
    ]  # fmt: skip


def _film(path: Path, backwards: bool) -> Path:
    """A walk that goes there and back, again and again; or the other way round."""
    take = quay_walk(LOOP / RATE)
    there = [
        np.asarray(cv2.resize(take.frame(k), SIZE, interpolation=cv2.INTER_AREA), np.uint8)
        for k in range(LOOP)
    ]
    loop = [*reversed(there), *there] if backwards else [*there, *reversed(there)]
    once = coded(
        path.with_suffix(".once.mp4"), "mp4", "libx264", loop, {"g": "60", "bf": "0"}, RATE
    )
    with av.open(str(once)) as source, av.open(str(path), "w") as out:
        pictures = source.streams.video[0]
        stream = out.add_stream_from_template(pictures)
        assert pictures.time_base is not None
        length = round(len(loop) / RATE / pictures.time_base)
        for turn in range(MINUTES * 60 * RATE // len(loop)):
            source.seek(0)
            for packet in source.demux(pictures):
                if packet.pts is not None and packet.dts is not None:
                    packet.pts += turn * length
                    packet.dts += turn * length
                    packet.stream = stream
                    out.mux(packet)
    return path


@contextmanager
def _at_work(running: Running, cores: list[int]) -> Iterator[None]:
    """A worker on each of some cores."""
    environment = {**os.environ, "KEEN_DATABASE_URL": running.url, "KEEN_DATA": str(running.data)}
    command = [sys.executable, "-m", "keen_horizon.launch", "run-worker"]
    started = [
        subprocess.Popen(
            command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            preexec_fn=partial(os.sched_setaffinity, 0, {core}),
        )
        for core in cores
    ]  # fmt: skip
    try:
        yield
    finally:
        for one in started:
            one.kill()
            one.wait()


def _times(running: Running, film: Path, count: int) -> tuple[float, float]:
    """Seconds until a film is taken in, and until an export of it can be had, once so many workers
    are there."""
    database, queue = Database(running.url), Queue(running.url)
    _until(database, lambda session: len(workers_heard(session)) == count)
    key = in_vault(MediaStore(running.data / "vault"), film)
    with database.session() as session:
        shoot = library.add_shoot(session, "workers")
        recording, clip = library.add_recording(session, shoot, film.name, 0, key)
        session.commit()
        job = queue.ask(session, "ingest", recording.id, clip_id=clip.id).id
        ids = recording.id, clip.id

    def followed(session: Session) -> bool:
        _has_ended(job, session)
        return session.query(Followed).filter(Followed.recording_id == ids[0]).count() > 0

    taken_in = _until(database, followed)
    _until(database, partial(_has_ended, job))
    with database.session() as session:
        clip = session.get_one(Clip, ids[1])
        assert clip.last_frame is not None
        assert clip.revision_id is not None
        export = Export(
            clip_id=clip.id, revision_id=clip.revision_id, first_frame=clip.first_frame,
            last_frame=clip.last_frame, quality=next(iter(QUALITIES)), file_name="out.mp4",
        )  # fmt: skip
        session.add(export)
        session.flush()
        asked = export.id
        job = queue.ask(session, "export", ids[0], clip_id=clip.id, export_id=asked).id
        session.commit()
    exported = _until(database, lambda session: session.get_one(Export, asked).file_key is not None)
    queue.close()
    database.engine.dispose()
    return taken_in, exported


def _has_ended(job: int, session: Session) -> bool:
    state = session.get_one(Job, job).state
    if state == "failed":
        raise RuntimeError(session.get_one(Job, job).message)
    return state == "done"


def _until(database: Database, what: Callable[[Session], bool]) -> float:
    """Seconds until something is so."""
    started = time.monotonic()
    while True:
        with database.session() as session:
            if what(session):
                return time.monotonic() - started
        time.sleep(0.2)
