"""Exact view: single frames and short stretches drawn by the export's own code, by a worker, and
kept for a while."""

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
from .solving import solved, solving_details, wanted
from .vault import EDITION, MEGABYTE

FOLDER, LOOPS = "exact", "loops"
ROOM = 500 * MEGABYTE  # of pictures that are kept; the oldest go first


def exact_details(
    measure: Measure, treatment: Treatment, frame: int, *, fringes: bool
) -> dict[str, Any]:
    """What a worker needs to know to draw a frame, and maps of its ``fringes``, if asked for."""
    return {**solving_details(measure, treatment), "frame": frame, "fringes": fringes}


def exact_pictures(
    store: MediaStore, measure: Measure, treatment: Treatment, frame: int, *, fringes: bool
) -> dict[str, Any] | None:
    """What was drawn: names of ``pictures``, ``recorded`` and ``treated`` among them; ``fringe``,
    ``words`` and ``fringe_words``. None if nobody has, or they have gone."""
    found = result_of(store, FOLDER, _about(measure, treatment, frame, fringes=fringes))
    if found is None or not all(
        picture_path(store, name).exists() for name in found["pictures"].values()
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
    fringes = bool(task.details.get("fringes"))
    about = _about(measure, treatment, frame, fringes=fringes)
    solution = solved(task, measure, treatment)
    view = pipeline.exact_view(
        task.source, task.scan, drawing_of(solution, treatment), measure.first_frame, frame,
        fringes=fringes,
    )  # fmt: skip
    abouts = {"recorded": {"measure": measure.folder_key, "frame": frame}}  # of any treatment
    drawn = {"recorded": view.recorded, "treated": view.treated}
    if view.maps is not None:
        drawn |= dict(zip(("recorded_map", "treated_map"), view.maps, strict=True))
    with ThreadPoolExecutor(2) as pool:
        names = pool.map(
            lambda one: _kept(
                task.store, _named(abouts.get(one[0], {**about, "which": one[0]})), one[1]
            ),
            drawn.items(),
        )
    told = {
        "pictures": dict(zip(drawn, names, strict=True)), "fringe": view.fringe,
        "words": view.words, "fringe_words": view.fringe_words,
    }  # fmt: skip
    keep_result(task.store, FOLDER, about, told)
    task.store.trim(FOLDER, ROOM)


def _about(measure: Measure, treatment: Treatment, frame: int, *, fringes: bool) -> dict[str, Any]:
    """All that the pictures depend on."""
    drawn = digest(treatment, "pixels", measure.folder_key, frame, EDITION)
    return {"measure": measure.folder_key, "drawn": drawn, "fringes": fringes}


def _named(about: dict[str, Any]) -> str:
    return _digest(about) + ".png"


def _digest(about: dict[str, Any]) -> str:
    return hashlib.sha256(json.dumps(about, sort_keys=True).encode()).hexdigest()[:40]


def _kept(store: MediaStore, name: str, picture: NDArray[np.uint8]) -> str:
    done, data = cv2.imencode(".png", picture, [cv2.IMWRITE_PNG_COMPRESSION, 1])
    if not done:
        raise KeenError("a picture could not be kept.")
    with store.keeping(_key(name)) as part:
        part.write_bytes(data.tobytes())
    return name


# --- a stretch ------------------------------------------------------------------------------------


def loop_details(
    measure: Measure, treatment: Treatment, stretch: tuple[int, int]
) -> dict[str, Any]:
    """What a worker needs to know to draw a stretch of frames, both ends included."""
    return {**solving_details(measure, treatment), "stretch": list(stretch)}


def exact_films(
    store: MediaStore, measure: Measure, treatment: Treatment, stretch: tuple[int, int]
) -> dict[str, str] | None:
    """Names of the films ``recorded`` and ``treated``; None if nobody has drawn them, or they have
    gone."""
    found = result_of(store, LOOPS, _about_loop(measure, treatment, stretch))
    if found is None or not all(film_path(store, name).exists() for name in found.values()):
        return None
    return found


def film_path(store: MediaStore, name: str) -> Path:
    """Where a film lies. Raises ValueError for a name that is none."""
    if not (name.endswith(".mp4") and name[:-4].isalnum()):
        raise ValueError("not a film's name")
    return store.path(f"{LOOPS}/{name[:2]}/{name}")


def draw_loop(task: Task) -> None:
    measure, treatment = wanted(task)
    start, stop = (int(frame) for frame in task.details["stretch"])
    about = _about_loop(measure, treatment, (start, stop))
    solution = solved(task, measure, treatment)
    with task.store.workspace() as room:
        targets = room / "recorded.mp4", room / "treated.mp4"
        pipeline.exact_loop(
            task.source, task.scan, drawing_of(solution, treatment), measure.first_frame,
            (start, stop), targets, task.progress,
        )  # fmt: skip
        names = {}
        for which, target in zip(("recorded", "treated"), targets, strict=True):
            name = _digest({**about, "which": which}) + ".mp4"
            with task.store.keeping(f"{LOOPS}/{name[:2]}/{name}") as part:
                target.replace(part)
            names[which] = name
    keep_result(task.store, LOOPS, about, names)
    task.store.trim(LOOPS, ROOM)


def _about_loop(measure: Measure, treatment: Treatment, stretch: tuple[int, int]) -> dict[str, Any]:
    drawn = digest(treatment, "pixels", measure.folder_key, list(stretch), EDITION)
    return {"measure": measure.folder_key, "drawn": drawn}


EXACT_LOOP = JobKind(
    "exact_loop", QUICK, "Drawing a loop of", draw_loop, replaceable=True, passing=True
)
EXACT = JobKind("exact", QUICK, "Drawing a frame of", draw, replaceable=True, passing=True)
