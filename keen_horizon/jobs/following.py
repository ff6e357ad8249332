"""Marks followed through all of a recording while it is taken in, and cut out of them later."""

from __future__ import annotations

import shutil
import time
from pathlib import Path
from typing import NamedTuple

from sqlalchemy import select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from ..core.media.probe import Scan
from ..core.media.proxy import proxy_of
from ..core.media.segments import Segment
from ..core.motion.uprights import Edges
from ..core.pipeline.measure_tracks import Following, OnTheWay, flat
from ..core.pipeline.sphere_tracks import EdgesOnTheWay, around
from ..core.progress import Progress
from ..core.tracking.tracks import Tracks
from ..store.models import Followed, Measure, now
from ..store.scans import kept_scan
from .kind import Task
from .parts import helped, shared
from .vault import keep, kept_in, vault_key

EdgesAt = tuple[tuple[int, Edges], ...]  # by the frame's number in the recording


class Pass(NamedTuple):
    """A pass over frames ``first`` to ``last`` of a clip, whoever makes which part of it, and who
    looks for straight ``edges`` in it, if somebody does."""

    following: Following
    edges: EdgesOnTheWay | None

    def made(
        self, task: Task, room: Path, folder: Path, progress: Progress | None = None
    ) -> list[Segment]:
        """Make it with whoever is free: the tracks in ``folder``. Returns the parts."""
        parts = self.following.parts(room)
        with shared(task, parts, progress) as share:
            self.following.go(room, *share)
        self.following.joined(room, folder)
        if self.edges is not None:
            self.edges.gather(parts)
        return parts


def pass_over(
    task: Task, scan: Scan, kind: str, first: int, last: int,
    *, closer: bool = False, on_the_way: OnTheWay | None = None,
) -> Pass:  # fmt: skip
    """The pass over a recording that is taken for a ``kind`` of clip."""
    if kind != "sphere":
        made = flat(task.source, scan, first, last, closer=closer, on_the_way=on_the_way)
        return Pass(made, None)
    edges = EdgesOnTheWay(scan, last - first + 1)
    made = around(task.source, scan, first, last, edges=edges, on_the_way=on_the_way)
    return Pass(made, edges)


def follow_all(
    task: Task, scan: Scan, kind: str, room: Path, progress: Progress, on_the_way: OnTheWay
) -> tuple[Followed, list[Segment]]:
    """The pass over all of a recording's pictures as they are taken in, and the parts that it was
    made in."""
    folder = room / "measure"
    started = time.monotonic()
    whole = _whole(task, scan, kind, on_the_way)
    parts = whole.made(task, room, folder, progress)
    key = task.store.adopt_folder("followed", folder)
    edges: EdgesAt = () if whole.edges is None else tuple(sorted(whole.edges.found.items()))
    keep(task.store, _edges_key(key), edges)
    followed = Followed(
        recording_id=task.recording.id, kind=kind, folder_key=key,
        seconds=time.monotonic() - started,
    )  # fmt: skip
    return followed, parts


def help_follow(task: Task) -> None:
    """Make parts of a clip that another worker takes in."""
    room = task.store.place_of(task.run.job_id, task.run.attempt)
    known = kept_scan(room)
    if known is not None:
        scan, kind = known
        whole = _whole(task, scan, kind, proxy_of(scan, kind).on_the_way)
        whole.following.go(room, *helped(task))


def _whole(task: Task, scan: Scan, kind: str, on_the_way: OnTheWay) -> Pass:
    return pass_over(task, scan, kind, 0, scan.probe.frame_count - 1, on_the_way=on_the_way)


def keep_followed(session: Session, made: Followed) -> None:
    """Remember it, in place of what was followed when the recording was taken in before."""
    values = {"folder_key": made.folder_key, "seconds": made.seconds}
    row = insert(Followed).values(recording_id=made.recording_id, kind=made.kind, **values)
    session.execute(row.on_conflict_do_update(index_elements=["recording_id", "kind"], set_=values))


class FollowedRange(NamedTuple):
    """A range that was followed, kept as a ``measure``; the seconds that it took to follow it
    ``before``, when the recording was taken in; and who looked for straight ``edges``."""

    measure: Measure
    before: float
    edges: EdgesOnTheWay | None


def follow_range(
    task: Task, kind: str, first: int, last: int, *, closer: bool = False
) -> FollowedRange:
    """The measure of a range: cut out of what was followed when the recording was taken in, or
    made with whoever is free."""
    passing = pass_over(task, task.scan, kind, first, last, closer=closer)
    with task.store.room_of(task.run.job_id, task.run.attempt) as room:
        folder = room / "measure"
        before = None if closer else _cut_out(task, kind, first, last, folder, passing.edges)
        if before is None:
            passing.made(task, room, folder)
        key = task.store.adopt_folder("measures", folder)
    made = Measure(
        recording_id=task.recording.id, first_frame=first, last_frame=last, closer=closer,
        kind=kind, folder_key=key, seconds=0.0, created=now(),
    )  # fmt: skip
    return FollowedRange(made, before or 0.0, passing.edges)


def _cut_out(
    task: Task, kind: str, first: int, last: int, folder: Path, edges: EdgesOnTheWay | None
) -> float | None:
    """Write the measure of a range into ``folder``, and let ``edges`` know, of what was followed
    through all of the recording. The seconds that it took; None if nothing was."""
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
    if edges is not None:
        kept = kept_in(task.store, _edges_key(found.folder_key), tuple) or ()
        edges.found |= {at - first: own for at, own in kept if at - first in edges.wanted}
    return found.seconds * count / len(whole)


def _edges_key(folder_key: str) -> str:
    return vault_key("uprights", "followed", folder_key)
