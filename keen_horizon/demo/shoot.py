"""Making the demo shoot and putting it on the shelf."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..jobs.ingest import INGEST
from ..jobs.queue import Queue
from ..jobs.take import TAKE
from ..simulated.brindle_quay import EVERY_TAKE, TAKES
from ..simulated.record import record
from ..store import library
from ..store.database import Database
from ..store.media_store import MediaStore
from ..store.models import Recording, Shoot

SHOOT = "Brindle Quay"


def ensure_demo(
    url: str, data: Path, say: Callable[[str], None], extra: tuple[str, ...] = ()
) -> None:
    """See to it that every take of the demo shoot is made once.

    The first one of a new shoot is recorded here and now, so that there is something to open; the
    others by the workers, one after the other. ``extra`` names takes that are made on demand only.
    """
    database, vault, queue = Database(url), MediaStore(data / "vault"), Queue(url)
    with database.session() as session:
        shoot = session.scalar(select(Shoot).where(Shoot.name == SHOOT).order_by(Shoot.id))
        if shoot is None:
            shoot = library.add_shoot(session, SHOOT)
        library.put_back(shoot)
        session.commit()
        held = set(session.scalars(select(Recording.name).where(Recording.shoot_id == shoot.id)))
        missing = [name for name in (*TAKES, *extra) if f"{name}.mp4" not in held]
        if missing and not held:
            _record_now(session, shoot, missing.pop(0), vault, queue, say)
        if missing:
            say(f"the workers record {', '.join(missing)}; they appear on the shelf by and by")
        for name in missing:
            recording, clip = library.add_recording(session, shoot, f"{name}.mp4", 0, "")
            queue.ask(session, TAKE.name, recording.id, clip_id=clip.id, details={"take": name})
    queue.close()
    database.engine.dispose()


def _record_now(
    session: Session,
    shoot: Shoot,
    name: str,
    vault: MediaStore,
    queue: Queue,
    say: Callable[[str], None],
) -> None:
    say(f"recording the first take of the demo shoot, {name} (once, about 20 seconds)")
    with tempfile.TemporaryDirectory(dir=vault.root) as room:
        film = Path(room) / "take.mp4"
        record(EVERY_TAKE[name](), film)
        size, key = film.stat().st_size, vault.adopt("sources", film)
    recording, clip = library.add_recording(session, shoot, f"{name}.mp4", size, key)
    queue.ask(session, INGEST.name, recording.id, clip_id=clip.id)
