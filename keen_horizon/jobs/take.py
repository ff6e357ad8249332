"""Recording a take of the demo shoot, in place of a file that somebody would have dropped."""

from __future__ import annotations

from dataclasses import replace

from ..core.errors import KeenError
from ..store.models import Recording
from .ingest import take_in
from .kind import SLOW, JobKind, Task


def take(task: Task) -> None:
    """Record the take that ``details`` name, and take it in. Its frames count twice, once each."""
    # Loaded only here: drawing and sound need packages that no other work waits for.
    from ..simulated.brindle_quay import EVERY_TAKE
    from ..simulated.record import record

    name = task.details["take"]
    if name not in EVERY_TAKE:
        raise KeenError(f"there is no take '{name}' in the demo shoot.")
    made = EVERY_TAKE[name]()
    count = len(made.truth)
    with task.store.workspace() as room:
        film = room / "take.mp4"
        record(made, film, lambda done, _: task.progress(done, 2 * count))
        size, key = film.stat().st_size, task.store.adopt("sources", film)
    with task.database.session() as session:
        recording = session.get_one(Recording, task.recording.id)
        recording.size, recording.source_key = size, key
        session.commit()
    take_in(
        replace(task, recording=recording), lambda done, _: task.progress(count + done, 2 * count)
    )


TAKE = JobKind("take", SLOW, "Recording", take)
