"""Undo and redo, each of one's own changes.

As long as nobody else has changed a clip since a page was opened, undo steps back from revision to
revision, and redo forward. What others have changed since stays: one's own change before it is then
taken back by a new revision, setting by setting.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.treatment import merged, parse
from .models import Clip, Revision
from .treatments import Overtaken, lock, made

FURTHEST = 500  # revisions that are looked back for one of one's own


@dataclass(frozen=True)
class Author:
    """Who changes a clip: a ``page``, which found revision ``since`` when it was opened. Everything
    until then counts as its own, and everything if that is not told."""

    page: str = ""
    since: int | None = None

    def owns(self, revision: Revision) -> bool:
        return self.since is None or revision.number <= self.since or revision.page == self.page


EVERYBODY = Author()


def undo(session: Session, clip: Clip, author: Author = EVERYBODY) -> bool:
    """Take the author's last change back; False if there is none. Raises Overtaken where others
    have changed the same settings since."""
    lock(session, clip)
    present = clip.revision
    last = _last_own(session, clip, author)
    if present is None or last is None:
        return False
    if last is present:
        clip.revision = session.get(Revision, present.parent_id)
        return True
    _put_back(session, clip, last, author)
    return True


def redo(session: Session, clip: Clip, author: Author = EVERYBODY) -> bool:
    """Make what the author took back again; False if there is nothing. Raises Overtaken as
    :func:`undo`."""
    lock(session, clip)
    child = _newest_child(session, clip)
    if child is not None:
        clip.revision = child
        return True
    undone = _last_undone(session, clip, author)
    if undone is None:
        return False
    _put_back(session, clip, undone, author)
    return True


def steps(session: Session, clip: Clip, author: Author = EVERYBODY) -> dict[str, bool]:
    """Which of undo and redo have something to do."""
    ahead = _newest_child(session, clip) or _last_undone(session, clip, author)
    return {"undo": _last_own(session, clip, author) is not None, "redo": ahead is not None}


def _put_back(session: Session, clip: Clip, own: Revision, author: Author) -> None:
    """Take a revision's change back, and leave what came after it."""
    assert clip.revision is not None
    before = session.get_one(Revision, own.parent_id)
    theirs = parse(clip.revision.treatment)
    both, against = merged(parse(own.treatment), parse(before.treatment), theirs)
    if against:
        raise Overtaken(
            f"{', '.join(against)} has been changed elsewhere since, so that cannot be taken back."
        )
    made(session, clip, both, author.page).undoes = own.id


def _chain(session: Session, clip: Clip) -> Iterator[Revision]:
    """The present revision and those that it was made of, newest first."""
    revision, count = clip.revision, 0
    while revision is not None and count < FURTHEST:
        yield revision
        count += 1
        parent = revision.parent_id
        revision = session.get(Revision, parent) if parent is not None else None


def _last_own(session: Session, clip: Clip, author: Author) -> Revision | None:
    """The author's last change that has not been taken back."""
    undone: set[int | None] = set()
    for revision in _chain(session, clip):
        if not author.owns(revision) or revision.id in undone:
            continue
        undone.add(revision.undoes)
        # What takes back a taking back is a change again; what takes back a change is none.
        if revision.parent_id is not None and not _takes_back(session, revision):
            return revision
    return None


def _last_undone(session: Session, clip: Clip, author: Author) -> Revision | None:
    """The author's last taking back, unless they have changed something since."""
    undone: set[int | None] = set()
    for revision in _chain(session, clip):
        if not author.owns(revision) or revision.id in undone:
            continue
        undone.add(revision.undoes)
        if revision.undoes is None:
            return None
        if _takes_back(session, revision):
            return revision
    return None


def _takes_back(session: Session, revision: Revision) -> bool:
    """Whether a revision takes a change back, and not the taking back of one."""
    back = False
    while revision.undoes is not None:
        back = not back
        revision = session.get_one(Revision, revision.undoes)
    return back


def _newest_child(session: Session, clip: Clip) -> Revision | None:
    if clip.revision is None:
        return None
    return session.scalar(
        select(Revision)
        .where(Revision.parent_id == clip.revision.id)
        .order_by(Revision.number.desc())
        .limit(1)
    )
