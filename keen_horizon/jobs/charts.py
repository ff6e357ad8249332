"""Charts found in photographs or in frames of a clip, and the lens they give: a worker's part."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from ..core.errors import BadSetting, Cancelled, KeenError
from ..core.isolation import IsolatedProcess
from ..core.media.decode import eight_bits, frames
from ..core.stations.lens.chart import (
    Board,
    ChartFit,
    Looked,
    calibrate,
    chart_in_photograph,
    chart_in_picture,
)
from ..core.stations.lens.optics import found_by, to_settings
from ..core.types import Luma, Real
from ..store.media_store import MediaStore
from .kind import QUICK, JobKind, Task
from .results import keep_result, result_of

LOOKED_AT = 40  # frames of a clip, at most
MOST_PHOTOS = 60


_Picture = tuple[str, Callable[..., Looked], Path | Luma]


@dataclass
class _Seen:
    """What was looked at so far: size of the pictures, corners of each chart, a line about each."""

    count: int
    size: tuple[int, int] | None = None
    charts: list[Real] = field(default_factory=list)
    told: list[dict[str, Any]] = field(default_factory=list)

    @property
    def done(self) -> int:
        return len(self.told)

    def add(self, name: str, corners: Real | None, size: tuple[int, int], board: Board) -> None:
        self.size = self.size or size
        if size != self.size:
            first = f"{self.size[0]} × {self.size[1]}"
            self.refuse(name, f"is {size[0]} × {size[1]}, the first is {first}")
        elif corners is None:
            self.refuse(name, f"no whole chart of {board.columns} × {board.rows} corners in it")
        else:
            self.charts.append(corners)
            self.told.append({"name": name, "fault": "", "found": True})

    def refuse(self, name: str, fault: str) -> None:
        self.told.append({"name": name, "fault": fault, "found": False})


def chart_result(store: MediaStore, details: dict[str, Any]) -> dict[str, Any] | None:
    """What a set of charts gave, if it has been read."""
    return result_of(store, "charts", details)


def read_charts(task: Task) -> None:
    """Find the charts that the details name, calibrate, and keep the result."""
    details = task.details
    board = Board(int(details["columns"]), int(details["rows"]))
    in_photos = bool(details.get("photos"))
    seen = _Seen(len(details["photos"]) if in_photos else len(_wanted(details)))
    with IsolatedProcess() as process:
        for name, look, picture in _photographs(task) if in_photos else _frames(task):
            done = seen.done

            def look_up(done: int = done) -> None:
                task.progress(done, seen.count)

            try:
                corners, size = process.call(look, picture, board, look_up=look_up)
                seen.add(name, corners, size, board)
            except KeenError as error:
                if isinstance(error, Cancelled):
                    raise
                seen.refuse(name, error.reason.rstrip("."))
            task.progress(seen.done, seen.count)
    aspect = 1.0 if in_photos else task.scan.probe.pixel_aspect
    result = _result(seen, board, aspect, float(details.get("squeeze", 1.0)), in_photos)
    keep_result(task.store, "charts", details, result)


def _result(
    seen: _Seen, board: Board, pixel_aspect: float, squeeze: float, in_photos: bool
) -> dict[str, Any]:
    """As JSON data; of a clip's frames only those with a chart are told of."""
    told = seen.told if in_photos else [view for view in seen.told if view["found"]]
    result: dict[str, Any] = {"views": told, "count": seen.count}
    try:
        if seen.size is None or not seen.charts:
            raise BadSetting(
                f"no whole chart of {board.columns} × {board.rows} inner corners was found in "
                f"{seen.count} pictures. All corners have to be in the picture; count them: where "
                "four squares meet."
            )
        fit = calibrate(seen.charts, board, *seen.size, pixel_aspect=pixel_aspect * squeeze)
    except BadSetting as error:
        return result | {"problem": error.message}
    for k, view in enumerate(view for view in told if view["found"]):
        value = fit.residuals[k]
        view["residual"] = round(value, 3) if np.isfinite(value) else None
        view["left_out"] = k in fit.left_out
    return result | _told(fit, seen.size, squeeze)


def _told(fit: ChartFit, size: tuple[int, int], squeeze: float) -> dict[str, Any]:
    residual = round(fit.residual, 3)
    optics = to_settings(fit.distortion, fit.focal, (fit.centre_x, fit.centre_y))
    return {
        "settings": found_by("chart", residual, **optics, squeeze=squeeze),
        "width": size[0],
        "height": size[1],
        "residual": residual,
        "covered": fit.covered.tolist(),
        "words": fit.words,
    }


# --- pictures, and what is called in the process of its own ---------------------------------------


def _photographs(task: Task) -> Iterator[_Picture]:
    for photo in task.details["photos"]:
        yield photo["name"], chart_in_photograph, task.store.path(photo["key"])


def _wanted(details: dict[str, Any]) -> list[int]:
    """The frames of a clip that are looked at."""
    first, last = int(details["first"]), int(details["last"])
    return np.unique(np.linspace(first, last, LOOKED_AT).astype(int)).tolist()


def _frames(task: Task) -> Iterator[_Picture]:
    wanted = _wanted(task.details)
    chosen = set(wanted)
    for picture in frames(task.source, task.scan, wanted[0], wanted[-1], luma_only=True):
        if picture.index in chosen:
            yield f"frame {picture.index}", chart_in_picture, eight_bits(picture.planes[0])


CHART = JobKind("chart", QUICK, "Reading charts of", read_charts, counts="pictures")
