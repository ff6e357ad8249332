"""The lens cabinet: profiles kept, changed, and taken out."""

from __future__ import annotations

import json

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.treatment.lens_profile import LensProfile, to_json
from .library import NotFound
from .models import LensProfileRow, now


def lenses(session: Session) -> list[LensProfileRow]:
    """All that are in the cabinet, by name."""
    return list(
        session.scalars(
            select(LensProfileRow)
            .where(LensProfileRow.removed.is_(None))
            .order_by(LensProfileRow.name)
        )
    )


def get_lens(session: Session, lens_id: int) -> LensProfileRow:
    """One that is in the cabinet, or NotFound."""
    lens = session.get(LensProfileRow, lens_id)
    if lens is None or lens.removed is not None:
        raise NotFound("there is no such lens in the cabinet.")
    return lens


def profile_in(lens: LensProfileRow) -> LensProfile:
    return LensProfile.model_validate_json(json.dumps(lens.profile))


def keep(session: Session, profile: LensProfile, instead_of: int | None = None) -> LensProfileRow:
    """Put a profile into the cabinet, or a new edition in place of one that is there."""
    if instead_of is None:
        lens = LensProfileRow(name=profile.name, edition=1, profile={})
        session.add(lens)
    else:
        lens = get_lens(session, instead_of)
        lens.edition += 1
        lens.name = profile.name
    lens.profile = json.loads(to_json(profile))
    session.flush()
    return lens


def take_out(session: Session, lens_id: int) -> LensProfileRow:
    """Clips that use it keep their numbers."""
    lens = get_lens(session, lens_id)
    lens.removed = now()
    return lens
