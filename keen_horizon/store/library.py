"""Shoots and their clips: adding, naming, removing."""

from __future__ import annotations

from dataclasses import asdict

from sqlalchemy import or_, select
from sqlalchemy.orm import Session, contains_eager, selectinload

from ..core.errors import KeenError
from ..core.media.fields import WAYS, Fields
from .models import OPEN_STATES, Clip, Job, Measure, Recording, Shoot, now

LONGEST_NAME = 120
MEASURING = ("ingest", "take", "measure")  # kinds of work that a measure can come of


class NotFound(KeenError):
    """Something that is not, or no longer, on the shelf."""


def shoots(session: Session) -> list[Shoot]:
    return list(
        session.scalars(select(Shoot).where(Shoot.removed.is_(None)).order_by(Shoot.created))
    )


def clips_of(session: Session, shoot: Shoot) -> list[Clip]:
    return list(
        session.scalars(
            select(Clip)
            .join(Clip.recording)
            .where(Recording.shoot_id == shoot.id, Clip.removed.is_(None))
            .order_by(Clip.created, Clip.id)
        )
    )


def clips_by_shoot(session: Session) -> dict[int, list[Clip]]:
    """All clips on the shelf with their recordings, by the number of their shoot."""
    found: dict[int, list[Clip]] = {}
    for clip in session.scalars(
        select(Clip)
        .join(Clip.recording)
        .where(Clip.removed.is_(None))
        .options(contains_eager(Clip.recording))
        .order_by(Clip.created, Clip.id)
    ):
        found.setdefault(clip.recording.shoot_id, []).append(clip)
    return found


def work_on_recordings(session: Session) -> dict[int, Job]:
    """What is under way to take recordings in or to measure them, by their number: the first of
    each."""
    rows = session.scalars(
        select(Job)
        .join(Job.recording)
        .where(Job.state.in_(OPEN_STATES), or_(Recording.probe.is_(None), Job.kind.in_(MEASURING)))
        .options(contains_eager(Job.recording), selectinload(Job.clip))
        .order_by(Job.id.desc())
    )
    return {job.recording_id: job for job in rows}


def last_of_untaken(session: Session) -> dict[int, Job]:
    """The last job to take a recording in, of those that have not been, by their number."""
    rows = session.scalars(
        select(Job)
        .join(Job.recording)
        .where(Recording.probe.is_(None))
        .options(contains_eager(Job.recording), selectinload(Job.clip))
        .order_by(Job.id)
    )
    return {job.recording_id: job for job in rows}


def measured_ranges(session: Session) -> set[tuple[int, int, int]]:
    """Recording, first and last frame of everything that has been measured."""
    rows = session.execute(
        select(Measure.recording_id, Measure.first_frame, Measure.last_frame)
        .join(Recording, Recording.id == Measure.recording_id)
        .where(Measure.kind == Recording.kind)
        .distinct()
    )
    return {(recording, first, last) for recording, first, last in rows}


def get_shoot(session: Session, shoot_id: int) -> Shoot:
    shoot = session.get(Shoot, shoot_id)
    if shoot is None:
        raise NotFound("there is no such shoot.", remedy="Go back to the shelf.")
    return shoot


def get_clip(session: Session, clip_id: int) -> Clip:
    """A clip that has not been removed."""
    clip = session.get(Clip, clip_id)
    if clip is None or clip.removed is not None:
        raise NotFound("there is no such clip.", remedy="Go back to the shelf.")
    return clip


def beside(session: Session, clip: Clip) -> list[Clip]:
    """The other clips of the shoot."""
    return [other for other in clips_of(session, clip.recording.shoot) if other.id != clip.id]


def clean_name(text: object) -> str:
    """A name as typed, trimmed. Raises KeenError if nothing is left or it is too long."""
    name = " ".join(str(text or "").split())
    if not name.isprintable():
        raise KeenError("a name can have letters, digits and signs, but no control characters.")
    if not name:
        raise KeenError("a name cannot be empty.")
    if len(name) > LONGEST_NAME:
        raise KeenError(f"a name can have {LONGEST_NAME} characters at most.")
    return name


def add_shoot(session: Session, name: object) -> Shoot:
    shoot = Shoot(name=clean_name(name))
    session.add(shoot)
    session.flush()
    return shoot


def add_recording(
    session: Session, shoot: Shoot, name: str, size: int, source_key: str
) -> tuple[Recording, Clip]:
    """A recording whose file is in the vault, and one clip that is all of it."""
    recording = Recording(shoot_id=shoot.id, name=name, size=size, source_key=source_key)
    session.add(recording)
    session.flush()
    stem = name.rsplit(".", 1)[0][:LONGEST_NAME] or "clip"
    clip = Clip(recording_id=recording.id, name=clean_name(stem), first_frame=0)
    clip.recording = recording
    session.add(clip)
    session.flush()
    return recording, clip


def add_again(session: Session, clip: Clip, fields: Fields) -> tuple[Recording, Clip]:
    """The recording of a clip once more, its frames made of ``fields``; and one clip of it all."""
    own = clip.recording
    recording, other = add_recording(session, own.shoot, own.name, own.size, own.source_key)
    recording.fields = asdict(fields)
    added = f", {WAYS[fields.each].name}"
    other.name = clean_name(clip.name[: LONGEST_NAME - len(added)] + added)
    return recording, other


def remove(thing: Clip | Shoot) -> None:
    """Take it off the shelf; :func:`put_back` undoes that."""
    thing.removed = now()


def put_back(thing: Clip | Shoot) -> None:
    thing.removed = None
