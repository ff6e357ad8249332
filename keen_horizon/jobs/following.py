"""Marks followed through all of a recording while it is taken in, and cut out of them later."""

from __future__ import annotations

import shutil
import time
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from ..core.media.probe import Scan
from ..core.media.proxy import Proxy
from ..core.media.segments import Segment
from ..core.motion.uprights import Edges
from ..core.pipeline.measure_tracks import OnTheWay, flat
from ..core.pipeline.sphere_tracks import EdgesOnTheWay, around
from ..core.progress import Progress
from ..core.tracking.tracks import Tracks
from ..store.models import Followed
from ..store.scans import kept_scan
from .kind import Task
from .parts import helped, shared
from .vault import keep, kept_in, vault_key

EdgesAt = tuple[tuple[int, Edges], ...]  # by the frame's number in the recording


def follow_all(
    task: Task, scan: Scan, kind: str, room: Path, progress: Progress, on_the_way: OnTheWay
) -> tuple[Followed, list[Segment]]:
    """The pass over all of a recording's pictures as they are taken in as a ``kind`` of clip, and
    the parts that it was made in. Who is free helps with a flat one."""
    folder, last = room / "measure", scan.probe.frame_count - 1
    started = time.monotonic()
    edges: EdgesAt = ()
    if kind == "sphere":
        seen = EdgesOnTheWay(scan, last + 1)
        following = around(task.source, scan, 0, last, edges=seen, on_the_way=on_the_way)
        following.go(room, progress)
        edges = tuple(sorted(seen.found.items()))
    else:
        following = flat(task.source, scan, 0, last, on_the_way=on_the_way)
        with shared(task, following.parts(room), progress) as share:
            following.go(room, *share)
    following.joined(room, folder)
    key = task.store.adopt_folder("followed", folder)
    keep(task.store, _edges_key(key), edges)
    followed = Followed(
        recording_id=task.recording.id, kind=kind, folder_key=key,
        seconds=time.monotonic() - started,
    )  # fmt: skip
    return followed, following.parts(room)


def help_follow(task: Task) -> None:
    """Make parts of a flat clip that another worker takes in."""
    room = task.store.place_of(task.run.job_id, task.run.attempt)
    scan = kept_scan(room)
    if scan is None:
        return
    last = scan.probe.frame_count - 1
    following = flat(task.source, scan, 0, last, on_the_way=Proxy(scan).on_the_way)
    following.go(room, *helped(task))


def keep_followed(session: Session, made: Followed) -> None:
    """Remember it, in place of what was followed when the recording was taken in before."""
    values = {"folder_key": made.folder_key, "seconds": made.seconds}
    row = insert(Followed).values(recording_id=made.recording_id, kind=made.kind, **values)
    session.execute(row.on_conflict_do_update(index_elements=["recording_id", "kind"], set_=values))


@dataclass(frozen=True)
class CutOut:
    """The seconds that it took to follow the frames of a range, and straight edges in some."""

    seconds: float
    edges: EdgesAt


def cut_out(task: Task, kind: str, first: int, last: int, folder: Path) -> CutOut | None:
    """Write the measure of a range into ``folder``, of what was followed through all of the
    recording; None if nothing was."""
    with task.database.session() as session:
        found = session.scalar(
            select(Followed).where(
                Followed.recording_id == task.recording.id, Followed.kind == kind
            )
        )
    if found is None or not task.store.path(found.folder_key).exists():
        return None
    whole = Tracks.read(task.store.path(found.folder_key))
    shutil.rmtree(folder, ignore_errors=True)  # what was broken off
    whole.write_window(folder, first, last + 1)
    count = last - first + 1
    task.progress(count, count)
    edges = kept_in(task.store, _edges_key(found.folder_key), tuple) or ()
    return CutOut(found.seconds * count / len(whole), edges)


def _edges_key(folder_key: str) -> str:
    return vault_key("uprights", "followed", folder_key)
