"""Recording a take of the demo shoot, in place of a file that somebody would have dropped."""

from __future__ import annotations

from dataclasses import replace

from ..core.errors import KeenError
from ..core.pipeline import Progress, silent
from ..store.media_store import MediaStore
from ..store.models import Recording
from .following import help_follow
from .ingest import take_in
from .kind import SLOW, JobKind, Task


def recorded(name: str, store: MediaStore, progress: Progress = silent) -> tuple[int, str]:
    """Record a take into the media store: its size in bytes and its key. Raises KeenError for one
    that there is not."""
    # Loaded only here: drawing and sound need packages that no other work waits for.
    from ..simulated.brindle_quay import EVERY_TAKE
    from ..simulated.record import record

    if name not in EVERY_TAKE:
        raise KeenError(f"there is no take '{name}' in the demo shoot.")
    with store.workspace() as room:
        film = room / "take.mp4"
        record(EVERY_TAKE[name](), film, progress)
        return film.stat().st_size, store.adopt("sources", film)


def take(task: Task) -> None:
    """Record the take that ``details`` name, and take it in. Its frames count twice, once each."""
    size, key = recorded(
        task.details["take"], task.store, lambda done, count: task.progress(done, 2 * count)
    )
    with task.database.session() as session:
        recording = session.get_one(Recording, task.recording.id)
        recording.size, recording.source_key = size, key
        session.commit()
    take_in(
        replace(task, recording=recording),
        lambda done, count: task.progress(count + done, 2 * count),
    )


TAKE = JobKind(
    "take", SLOW, "Recording", take, can_wait=True, ending="Choosing a model for", help=help_follow
)
