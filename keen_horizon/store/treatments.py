"""A clip's treatment, revision by revision: change, versions, range."""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..core.errors import KeenError
from ..core.treatment import Treatment, changed_labels, merged, parse
from .library import clean_name
from .models import Clip, Measure, Revision


def current(clip: Clip) -> Treatment:
    """The treatment in force; the default where none was made yet."""
    return parse(clip.revision.treatment) if clip.revision else Treatment()


class Overtaken(KeenError):
    """A change of what somebody else has changed meanwhile."""


def change(session: Session, clip: Clip, treatment: Treatment, page: str = "") -> Revision:
    """Make ``treatment`` the current one, as a new revision by a ``page`` unless nothing
    changed."""
    # One at a time: the number is the next free one of this clip, its parent the present one.
    lock(session, clip)
    return made(session, clip, treatment, page)


def lock(session: Session, clip: Clip) -> None:
    """See where the clip stands, and let nobody else move it until this is committed."""
    session.flush()
    session.refresh(clip, ["revision_id", "revision"], with_for_update=True)


def change_from(
    session: Session, clip: Clip, treatment: Treatment, number: int, page: str = ""
) -> list[str]:
    """Make ``treatment``, which a page made of revision ``number``, the current one; what others
    have changed since stays. Returns the labels of that. Raises Overtaken where both changed the
    same setting, each otherwise."""
    lock(session, clip)
    present = clip.revision
    if present is None or present.number == number:
        made(session, clip, treatment, page)
        return []
    base = session.scalar(
        select(Revision).where(Revision.clip_id == clip.id, Revision.number == number)
    )
    if base is None:
        raise KeenError(f"this clip has no revision {number}.", remedy="Load the page again.")
    was, theirs = parse(base.treatment), parse(present.treatment)
    both, against = merged(was, treatment, theirs)
    if against:
        raise Overtaken(
            f"{', '.join(against)} has been changed elsewhere meanwhile (revision "
            f"{present.number}).",
            remedy="That is what you see now, and your change was not kept: make it again if it is "
            "still wanted.",
        )
    made(session, clip, both, page)
    return changed_labels(was, theirs)


def made(session: Session, clip: Clip, treatment: Treatment, page: str) -> Revision:
    """As :func:`change`, of a clip that is locked."""
    data = treatment.model_dump(mode="json")
    if clip.revision is not None and clip.revision.treatment == data:
        return clip.revision
    last = session.scalar(
        select(func.coalesce(func.max(Revision.number), 0)).where(Revision.clip_id == clip.id)
    )
    revision = Revision(
        clip_id=clip.id, number=(last or 0) + 1, parent_id=clip.revision_id, treatment=data,
        page=page,
    )  # fmt: skip
    session.add(revision)
    session.flush()
    clip.revision_id, clip.revision = revision.id, revision
    return revision


def begin(session: Session, clip: Clip, treatment: Treatment) -> None:
    """Give a clip its first treatment, unless somebody else has done so meanwhile."""
    session.expire(clip)
    session.refresh(clip, with_for_update=True)
    if clip.revision is None:
        change(session, clip, treatment)


def name_version(session: Session, clip: Clip, name: str) -> Revision:
    """Keep the current revision under a name; a name is used once a clip."""
    if clip.revision is None:
        raise KeenError("there is nothing to keep yet: the clip has not been measured.")
    clean = clean_name(name)
    taken = session.scalar(
        select(Revision).where(
            Revision.clip_id == clip.id, Revision.name == clean, Revision.id != clip.revision.id
        )
    )
    if taken is not None:
        raise KeenError(f"there is a version '{clean}' already.", remedy="Choose another name.")
    clip.revision.name = clean
    return clip.revision


def versions(session: Session, clip: Clip) -> list[Revision]:
    return list(
        session.scalars(
            select(Revision)
            .where(Revision.clip_id == clip.id, Revision.name.is_not(None))
            .order_by(Revision.number)
        )
    )


def go_to(session: Session, clip: Clip, revision_id: int) -> Revision:
    """Make a revision of this clip the current one."""
    clip.revision = version(session, clip, revision_id)
    return clip.revision


def version(session: Session, clip: Clip, revision_id: int) -> Revision:
    """A revision of this clip. Raises KeenError if it has none of that number."""
    revision = session.get(Revision, revision_id)
    if revision is None or revision.clip_id != clip.id:
        raise KeenError("this clip has no such version.")
    return revision


def set_range(clip: Clip, first: int, last: int) -> None:
    """Use frames ``first`` to ``last`` of the recording."""
    count = (clip.recording.probe or {}).get("frame_count", 0)
    if not 0 <= first < last < count:
        raise KeenError(
            f"frames {first} to {last} cannot be the range: the recording has frames 0 to "
            f"{count - 1}, and a range needs at least two."
        )
    clip.first_frame, clip.last_frame = first, last


def measure_of(session: Session, clip: Clip) -> Measure | None:
    """The measure of the clip's present range that is to be used, if one has been made: the closer
    one where it is wanted and there."""
    both = (usual_or_closer(session, clip, closer) for closer in (clip.closer, not clip.closer))
    return next((measure for measure in both if measure is not None), None)


def usual_or_closer(session: Session, clip: Clip, closer: bool) -> Measure | None:
    """One of the two measures of the clip's present range."""
    return session.scalar(
        select(Measure).where(
            Measure.recording_id == clip.recording_id,
            Measure.first_frame == clip.first_frame,
            Measure.last_frame == clip.last_frame,
            Measure.closer.is_(closer),
            Measure.kind == clip.recording.kind,
        )
    )


def measured(session: Session, clip: Clip) -> Measure:
    """The same where it is needed. Raises KeenError while there is none."""
    measure = measure_of(session, clip)
    if measure is None:
        raise KeenError("the clip has not been measured yet.", remedy="Wait for the measure.")
    return measure


def measured_flat(session: Session, clip: Clip) -> Measure:
    """The same for what only flat clips have. Raises KeenError for a sphere, too."""
    measure = measured(session, clip)
    if measure.kind != "flat":
        raise KeenError("this clip is worked on as a sphere, which does not have that.")
    return measure
