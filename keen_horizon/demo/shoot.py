"""Making the demo shoot and putting it on the shelf."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from sqlalchemy import select

from ..jobs.ingest import INGEST
from ..jobs.queue import Queue
from ..jobs.take import TAKE, recorded
from ..simulated.brindle_quay import TAKES
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
    database = Database(url)
    with database.session.begin() as session:
        shoot = session.scalar(select(Shoot).where(Shoot.name == SHOOT).order_by(Shoot.id))
        if shoot is None:
            shoot = library.add_shoot(session, SHOOT)
        library.put_back(shoot)
        held = set(session.scalars(select(Recording.name).where(Recording.shoot_id == shoot.id)))
    missing = [name for name in (*TAKES, *extra) if f"{name}.mp4" not in held]
    if missing:
        _add(database, shoot, missing, data, say, begin=not held)
    database.engine.dispose()


def _add(
    database: Database,
    shoot: Shoot,
    missing: list[str],
    data: Path,
    say: Callable[[str], None],
    *,
    begin: bool,
) -> None:
    """Put takes on the shelf; to ``begin`` with, the first is there at once."""
    queue = Queue(database.url)
    first, rest = (missing[0], missing[1:]) if begin else (None, missing)
    if first is not None:
        say(f"recording the first take of the demo shoot, {first} (once, about 20 seconds)")
        size, key = recorded(first, MediaStore(data / "vault"))
        with database.session() as session:
            recording, clip = library.add_recording(session, shoot, f"{first}.mp4", size, key)
            queue.ask(session, INGEST.name, recording.id, clip_id=clip.id)
    if rest:
        say(f"the workers record {', '.join(rest)}; they appear on the shelf by and by")
    for name in rest:
        with database.session() as session:
            recording, clip = library.add_recording(session, shoot, f"{name}.mp4", 0, "")
            queue.ask(session, TAKE.name, recording.id, clip_id=clip.id, details={"take": name})
    queue.close()
