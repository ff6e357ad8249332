"""Making the demo shoot and putting it on the shelf."""

from __future__ import annotations

import multiprocessing
import tempfile
from collections.abc import Callable
from pathlib import Path

import cv2
from sqlalchemy import select

from ..jobs.queue import Queue
from ..simulated.brindle_quay import ON_DEMAND, TAKES
from ..simulated.record import record
from ..store import library
from ..store.database import Database
from ..store.media_store import MediaStore
from ..store.models import Recording, Shoot

SHOOT = "Brindle Quay"


def _record(job: tuple[str, str]) -> tuple[str, str]:
    name, path = job
    cv2.setNumThreads(1)  # one process a core already
    record((TAKES | ON_DEMAND)[name](), Path(path))
    return job


def ensure_demo(
    url: str, data: Path, say: Callable[[str], None], extra: tuple[str, ...] = ()
) -> None:
    """Render whichever takes of the demo shoot are missing, and hand them to the workers.

    ``extra`` names takes that are made on demand only.
    """
    database, vault = Database(url), MediaStore(data / "vault")
    with database.session.begin() as session:
        shoot = session.scalar(select(Shoot).where(Shoot.name == SHOOT).order_by(Shoot.id))
        if shoot is None:
            shoot = library.add_shoot(session, SHOOT)
        library.put_back(shoot)
        held = set(session.scalars(select(Recording.name).where(Recording.shoot_id == shoot.id)))
    missing = [name for name in (*TAKES, *extra) if f"{name}.mp4" not in held]
    if not missing:
        return
    say(
        f"rendering the demo shoot: {', '.join(missing)} (once, about "
        f"{'a quarter of an hour' if extra else 'two minutes'})"
    )
    queue = Queue(url)
    with tempfile.TemporaryDirectory(dir=data) as room:
        jobs = [(name, str(Path(room) / f"{name}.mp4")) for name in missing]
        with multiprocessing.get_context("spawn").Pool(2) as pool:
            for name, path in pool.imap(_record, jobs):
                say(f"  {name} is ready")
                size = Path(path).stat().st_size
                key = vault.adopt("sources", Path(path))
                with database.session() as session:
                    home = session.get_one(Shoot, shoot.id)
                    recording, _ = library.add_recording(session, home, f"{name}.mp4", size, key)
                    queue.ask(session, "ingest", recording.id)
    queue.close()
    database.engine.dispose()
