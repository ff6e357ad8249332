"""Charts found in photographs or in frames of a clip, and the lens they give: a worker's part."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ..core.errors import BadSetting, KeenError
from ..core.lens.chart import Board, calibrate, find_corners
from ..core.lens.lens_from_settings import to_settings
from ..core.media.decode import eight_bits, frames
from ..core.media.probe import Scan
from ..store.media_store import MediaStore
from ..store.models import Recording

LOOKED_AT = 40  # frames of a clip, at most
LARGEST_PHOTO = 100_000_000  # pixels
PHOTO_LIMIT = 40_000_000  # bytes of one
MOST_PHOTOS = 60
SIGNS = b"\x89PNG\r\n\x1a\n", b"\xff\xd8\xff"  # of a PNG and of a JPEG
Progress = Callable[[int, int], None]


def is_photo(start: bytes) -> bool:
    """Whether a file that begins like this is one of the kinds that are read."""
    return start.startswith(SIGNS)


def chart_key(details: dict[str, Any]) -> str:
    """The vault key of what a set of charts gave."""
    digest = hashlib.sha256(json.dumps(details, sort_keys=True).encode()).hexdigest()
    return f"charts/{digest[:2]}/{digest}.json"


def read_charts(
    vault: MediaStore, recording: Recording, scan: Scan, details: dict[str, Any], progress: Progress
) -> None:
    """Find the charts that ``details`` name, calibrate, and keep the result."""
    board = Board(int(details["columns"]), int(details["rows"]))
    photos = details.get("photos")
    if photos:
        pictures = _photos(vault, photos)
        count = len(photos)
    else:
        first, last = int(details["first"]), int(details["last"])
        wanted = np.unique(np.linspace(first, last, LOOKED_AT).astype(int))
        pictures = _frames(vault.path(recording.source_key), scan, wanted)
        count = len(wanted)
    views, told = [], []
    size: tuple[int, int] | None = None
    for k, (name, luma) in enumerate(pictures):
        progress(k, count)
        fault = ""
        corners = None
        if luma is None:
            fault = "cannot be read as a picture"
        else:
            own = (luma.shape[1], luma.shape[0])
            size = size or own
            if own != size:
                fault = f"is {own[0]} × {own[1]}, the first is {size[0]} × {size[1]}"
            else:
                corners = find_corners(luma, board, thorough=bool(photos))
                if corners is None:
                    fault = f"no whole chart of {board.columns} × {board.rows} corners in it"
        if corners is not None:
            views.append(corners)
        if photos or corners is not None:
            told.append({"name": name, "fault": fault, "found": corners is not None})
    result: dict[str, Any] = {"views": told, "count": count}
    try:
        if size is None or not views:
            raise BadSetting(
                f"no whole chart of {board.columns} × {board.rows} inner corners was found in "
                f"{count} pictures. All corners have to be in the picture; count them: where four "
                "squares meet."
            )
        result |= _fitted(views, board, size, told)
    except BadSetting as error:
        result["problem"] = error.message
    with vault.keeping(chart_key(details)) as part:
        part.write_text(json.dumps(result), "utf-8")


def _fitted(
    views: list[NDArray[np.float64]], board: Board, size: tuple[int, int],
    told: list[dict[str, Any]],
) -> dict[str, Any]:  # fmt: skip
    fit = calibrate(views, board, *size)
    found = [view for view in told if view["found"]]
    for k, view in enumerate(found):
        value = fit.residuals[k]
        view["residual"] = round(value, 3) if np.isfinite(value) else None
        view["left_out"] = k in fit.left_out
    optics = to_settings(fit.distortion, fit.focal, (fit.centre_x, fit.centre_y))
    return {
        "settings": optics | {"found_by": "chart", "residual": round(fit.residual, 3)},
        "width": size[0],
        "height": size[1],
        "residual": round(fit.residual, 3),
        "covered": fit.covered.tolist(),
        "words": fit.words,
    }


def _photos(
    vault: MediaStore, photos: list[dict[str, str]]
) -> Iterator[tuple[str, NDArray[np.uint8] | None]]:
    for photo in photos:
        data = vault.path(photo["key"]).read_bytes()
        yield photo["name"], _luma(data)


def _luma(data: bytes) -> NDArray[np.uint8] | None:
    """Grey pixels as the sensor had them, whatever a flag says of how the camera was held."""
    size = _size(data)
    if size is None or size[0] * size[1] > LARGEST_PHOTO:
        return None
    try:
        flags = cv2.IMREAD_GRAYSCALE | cv2.IMREAD_IGNORE_ORIENTATION
        found = cv2.imdecode(np.frombuffer(data, np.uint8), flags)
    except cv2.error:
        return None
    return None if found is None else np.asarray(found, np.uint8)


def _size(data: bytes) -> tuple[int, int] | None:
    """Width and height by a PNG's or a JPEG's own header, before anything is decoded."""
    if data.startswith(b"\x89PNG"):
        return int.from_bytes(data[16:20], "big"), int.from_bytes(data[20:24], "big")
    at = 2
    while at + 9 < len(data) and data[at] == 0xFF:
        kind, length = data[at + 1], int.from_bytes(data[at + 2 : at + 4], "big")
        if 0xC0 <= kind <= 0xCF and kind not in (0xC4, 0xC8, 0xCC):
            height = int.from_bytes(data[at + 5 : at + 7], "big")
            return int.from_bytes(data[at + 7 : at + 9], "big"), height
        at += 2 + length
    return None


def _frames(
    path: Path, scan: Scan, wanted: NDArray[np.intp]
) -> Iterator[tuple[str, NDArray[np.uint8] | None]]:
    chosen = set(wanted.tolist())
    for picture in frames(path, scan, int(wanted[0]), int(wanted[-1]), luma_only=True):
        if picture.index in chosen:
            yield f"frame {picture.index}", eight_bits(picture.planes[0])


def result_of(vault: MediaStore, details: dict[str, Any]) -> dict[str, Any] | None:
    """What a set of charts gave, if it has been read."""
    path = vault.path(chart_key(details))
    if not path.exists():
        return None
    found: dict[str, Any] = json.loads(path.read_text("utf-8"))
    return found


def check_photo(name: str, size: int, start: bytes) -> None:
    """Raise KeenError for a file that is not to be read as a photograph."""
    if size > PHOTO_LIMIT:
        raise KeenError(
            f"a photograph may have {PHOTO_LIMIT / 1e6:.0f} MB.", file=name,
            remedy="Save it smaller.",
        )  # fmt: skip
    if not is_photo(start):
        raise KeenError("is neither a PNG nor a JPEG.", file=name, remedy="Save it as one of them.")
