"""Exact view: single frames drawn by the export's own code, by a worker, and kept for a while."""

from __future__ import annotations

import hashlib
import json
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ..core import pipeline
from ..core.errors import KeenError
from ..core.pipeline.render_clip import drawing_of
from ..core.treatment import Treatment, digest
from ..store.media_store import MediaStore
from ..store.models import Measure
from .kind import QUICK, JobKind, Task
from .results import keep_result, result_of
from .solutions import EDITION, MEGABYTE
from .solving import solved, solving_details, wanted

FOLDER = "exact"
ROOM = 500 * MEGABYTE  # of pictures that are kept; the oldest go first


def exact_details(measure: Measure, treatment: Treatment, frame: int) -> dict[str, Any]:
    """What a worker needs to know to draw a frame."""
    return {**solving_details(measure, treatment), "frame": frame}


def exact_pictures(
    store: MediaStore, measure: Measure, treatment: Treatment, frame: int
) -> dict[str, Any] | None:
    """Names of the pictures ``recorded`` and ``treated``, ``fringe`` and ``words``; None if nobody
    has drawn them, or they have gone."""
    found = result_of(store, FOLDER, _about(measure, treatment, frame))
    if found is None or not all(
        picture_path(store, found[which]).exists() for which in ("recorded", "treated")
    ):
        return None
    return found


def picture_path(store: MediaStore, name: str) -> Path:
    """Where a picture lies. Raises ValueError for a name that is none."""
    if not (name.endswith(".png") and name[:-4].isalnum()):
        raise ValueError("not a picture's name")
    return store.path(_key(name))


def _key(name: str) -> str:
    return f"{FOLDER}/{name[:2]}/{name}"


def draw(task: Task) -> None:
    measure, treatment = wanted(task)
    frame = int(task.details["frame"])
    about = _about(measure, treatment, frame)
    solution = solved(task, measure, treatment)
    view = pipeline.exact_view(
        task.source, task.scan, drawing_of(solution, treatment), measure.first_frame, frame
    )
    recorded = {"measure": measure.folder_key, "frame": frame}
    with ThreadPoolExecutor(2) as pool:
        names = pool.map(
            lambda one: _kept(task.store, _named(one[0]), one[1]),
            ((recorded, view.recorded), (about, view.treated)),
        )
    told = dict(zip(("recorded", "treated"), names, strict=True))
    keep_result(task.store, FOLDER, about, {**told, "fringe": view.fringe, "words": view.words})
    task.store.trim(FOLDER, ROOM)


def _about(measure: Measure, treatment: Treatment, frame: int) -> dict[str, Any]:
    """All that the pictures depend on."""
    drawn = digest(treatment, "pixels", measure.folder_key, frame, EDITION)
    return {"measure": measure.folder_key, "drawn": drawn}


def _named(about: dict[str, Any]) -> str:
    return hashlib.sha256(json.dumps(about, sort_keys=True).encode()).hexdigest()[:40] + ".png"


def _kept(store: MediaStore, name: str, picture: NDArray[np.uint8]) -> str:
    done, data = cv2.imencode(".png", picture, [cv2.IMWRITE_PNG_COMPRESSION, 1])
    if not done:
        raise KeenError("a picture could not be kept.")
    with store.keeping(_key(name)) as part:
        part.write_bytes(data.tobytes())
    return name


EXACT = JobKind("exact", QUICK, "Drawing a frame of", draw, replaceable=True, passing=True)
