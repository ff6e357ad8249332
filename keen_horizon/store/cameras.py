"""Cameras that are known by name, and what they are known for."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.errors import KeenError
from ..core.stations.setting import range_of
from ..core.stations.shutter import SHUTTER
from ..core.treatment import allowed
from .library import clean_name
from .models import Camera


def cameras(session: Session) -> list[Camera]:
    return list(session.scalars(select(Camera).order_by(Camera.name)))


def remember(session: Session, name: object, readout: object) -> Camera:
    """Keep a camera's readout time, ms, under its name; a name known already gets the new one."""
    low, high = range_of(SHUTTER.Settings, "readout")
    assert low is not None
    assert high is not None
    if not isinstance(readout, int | float) or not low <= readout <= high:
        raise KeenError(f"a readout time is {allowed('shutter.readout')}, in ms.")
    clean = clean_name(name)
    camera = session.scalar(select(Camera).where(Camera.name == clean))
    if camera is None:
        camera = Camera(name=clean)
        session.add(camera)
    camera.readout = float(readout)
    session.flush()
    return camera
