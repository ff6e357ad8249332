"""Calibration by a chessboard: corners found, a lens fitted, bad views left out, a chart to print.

Z. Zhang, *A flexible new technique for camera calibration*, PAMI 2000, as OpenCV has it; for a
fisheye Kannala and Brandt's model. Corners by A. Duda, U. Frese, *Accurate detection and
localization of checkerboard corners for calibration*, BMVC 2018.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from ...errors import BadSetting
from ...geometry.distortion import Distortion, LensModel
from ...media.photographs import read_photograph
from ...types import Luma, Real

FEWEST = 4  # views
SEARCHED = 2_000_000  # pixels of a picture in which corners are looked for
GLANCED = 400_000  # of one in which a chart would be seen, if hardly ever a very small one
REFINED_WITHIN = 0.25  # of the distance from corner to corner
BAD = 2.5  # times the median residual at which a view is left out
BAD_PX = 0.6  # and px, for a picture 1280 wide
CELLS = (8, 5)  # of the coverage map, across and down
FISHEYE_GAIN = 0.75  # of the other model's residual, that a fisheye must not exceed
SOME = ("none", "one", "two", "three")
STOP = (cv2.TERM_CRITERIA_MAX_ITER + cv2.TERM_CRITERIA_EPS, 120, 1e-9)


@dataclass(frozen=True)
class Board:
    """Inner corners across and down of a chessboard."""

    columns: int = 9
    rows: int = 6

    def __post_init__(self) -> None:
        if not (3 <= self.columns <= 40 and 3 <= self.rows <= 40):
            raise BadSetting(
                f"a chart of {self.columns} × {self.rows} inner corners cannot be used; allowed: 3 "
                "to 40 each way."
            )

    @property
    def places(self) -> NDArray[np.float32]:
        """``(columns rows, 3)`` on the board, squares of one unit."""
        x, y = np.meshgrid(np.arange(self.columns), np.arange(self.rows))
        return np.stack([x.ravel(), y.ravel(), np.zeros(x.size)], axis=-1).astype(np.float32)


@dataclass(frozen=True)
class ChartFit:
    """``focal`` over the picture's width; centre in percent of its size; ``residuals`` px rms of
    each view, in the order given; ``left_out`` those that were not used; ``covered``
    ``(rows, columns)`` corners seen in each cell of the frame; ``words`` about it."""

    distortion: Distortion
    focal: float
    centre_x: float
    centre_y: float
    residual: float
    residuals: list[float]
    left_out: list[int]
    covered: NDArray[np.intp]
    words: list[str]


def find_corners(luma: Luma, board: Board, *, thorough: bool = True) -> Real | None:
    """``(columns rows, 2)`` px, row after row, or None if the whole board is not in the picture; a
    ``thorough`` search takes seconds where there is none, the other a tenth of one.

    Looked for in a picture of :data:`SEARCHED` pixels at most, so that neither time nor memory
    grows with the photograph; then refined in the original (Duda, Frese, *Accurate detection and
    localization of checkerboard corners*, BMVC 2018, as OpenCV has it).

    >>> squares = (np.indices((7, 10)).sum(axis=0) % 2 * 200 + 20).astype(np.uint8)
    >>> picture = np.pad(np.kron(squares, np.ones((40, 40), np.uint8)), 60, constant_values=220)
    >>> corners = find_corners(picture, Board(9, 6))
    >>> corners.shape, corners.min(axis=0).round(1).tolist()
    ((54, 2), [99.5, 99.5])
    """
    if not thorough and not _seen(luma, board):
        return None
    small = _upto(SEARCHED, luma)
    corners = _corners_in(small, board, thorough)
    if corners is None:
        return None
    grown = np.array([luma.shape[1] / small.shape[1], luma.shape[0] / small.shape[0]])
    return _refined(luma, board, (corners + 0.5) * grown - 0.5)


def _upto(pixels: int, luma: Luma) -> Luma:
    """The picture, or a smaller one of so many ``pixels``."""
    shrink = float(np.sqrt(pixels / luma.size))
    if shrink >= 1.0:
        return luma
    return np.asarray(
        cv2.resize(luma, None, fx=shrink, fy=shrink, interpolation=cv2.INTER_AREA), np.uint8
    )


def _seen(luma: Luma, board: Board) -> bool:
    """Whether there seems to be a chart at all."""
    size = (board.columns, board.rows)
    return bool(cv2.findChessboardCornersSB(
        _upto(GLANCED, luma), size, flags=cv2.CALIB_CB_NORMALIZE_IMAGE
    )[0])  # fmt: skip


def _corners_in(luma: Luma, board: Board, thorough: bool) -> Real | None:
    flags = cv2.CALIB_CB_NORMALIZE_IMAGE | cv2.CALIB_CB_ACCURACY
    size = (board.columns, board.rows)
    for more in (0, cv2.CALIB_CB_EXHAUSTIVE)[: 1 + thorough]:
        found, corners = cv2.findChessboardCornersSB(luma, size, flags=flags | more)
        if found and corners is not None:
            return np.asarray(corners, float).reshape(-1, 2)
    return None


def _refined(luma: Luma, board: Board, corners: Real) -> Real:
    """Corners that are known to a few px, to a fraction of one: where gradients around them agree
    (Förstner, Gülch, *A fast operator for detection and precise location of distinct points*,
    ISPRS 1987)."""
    grid = corners.reshape(board.rows, board.columns, 2)
    apart = min(float(np.linalg.norm(np.diff(grid, axis=axis), axis=-1).min()) for axis in (0, 1))
    half = int(np.clip(REFINED_WITHIN * apart, 2, 24))
    stop = (cv2.TERM_CRITERIA_MAX_ITER + cv2.TERM_CRITERIA_EPS, 40, 1e-3)
    # Of the part of the picture that holds them, with room for the windows.
    margin = 2 * half + 2
    low = np.maximum(np.floor(corners.min(axis=0)).astype(int) - margin, 0)
    high = np.ceil(corners.max(axis=0)).astype(int) + margin
    part = np.ascontiguousarray(luma[low[1] : high[1], low[0] : high[0]])
    points = np.ascontiguousarray((corners - low)[:, None], np.float32)
    found = cv2.cornerSubPix(part, points, (half, half), (-1, -1), stop)[:, 0] + low
    # One that ran away to another corner is left where it was.
    ran = np.linalg.norm(found - corners, axis=-1) > half
    return np.asarray(np.where(ran[:, None], corners, found), float)


def calibrate(
    views: Sequence[Real], board: Board, width: int, height: int,
    model: LensModel | None = None, pixel_aspect: float = 1.0,
) -> ChartFit:  # fmt: skip
    """Fit a lens to the corners of ``views``, each ``(columns rows, 2)`` px, of pictures of
    ``width`` x ``height`` pixels, each ``pixel_aspect`` times as wide as high.

    ``model`` brown or fisheye, or None for the better one (Zhang, *A flexible new technique for
    camera calibration*, PAMI 2000; Kannala, Brandt, *A generic camera model*, PAMI 2006; as OpenCV
    has them). A view that disagrees with the others is left out and named. Raises BadSetting where
    they do not suffice: four at least, not all from the front.

    >>> calibrate([np.zeros((54, 2))] * 2, Board(9, 6), 1280, 720)  # doctest: +ELLIPSIS
    Traceback (most recent call last):
    keen_horizon.core.errors.BadSetting: 2 pictures with the whole chart are too few; ...
    """
    if pixel_aspect != 1.0:
        # A lens is round: it is fitted in px as high as the picture's, and as wide as that.
        round_ = [(view + 0.5) * [pixel_aspect, 1.0] - 0.5 for view in views]
        return calibrate(round_, board, round(width * pixel_aspect), height, model)
    if len(views) < FEWEST:
        raise BadSetting(
            f"{len(views)} picture{'s' if len(views) != 1 else ''} with the whole chart "
            f"{'is' if len(views) == 1 else 'are'} too few; it takes {FEWEST} at least, better "
            "ten, turned and tilted, out to the corners of the frame."
        )
    tried = [m for m in ("brown", "fisheye") if model in (None, m)]
    fits = [f for m in tried if (f := _without_bad(m, views, board, width, height)) is not None]
    if not fits:
        raise BadSetting(
            "no lens explains these charts; are they all of the same camera, zoom and size?"
        )
    best = fits[0]
    if len(fits) == 2 and (
        fits[1].residual < FISHEYE_GAIN * fits[0].residual or not _reaches(fits[0], width, height)
    ):
        best = fits[1]
    return best


def _reaches(fit: ChartFit, width: int, height: int) -> bool:
    """Whether a fit goes on to the corners of the frame, instead of folding before."""
    corner = np.hypot(width, height) / 2 / (fit.focal * width)
    return bool(np.isfinite(fit.distortion.undistort(np.array([corner + 0j])))[0])


def _without_bad(
    model: str, views: Sequence[Real], board: Board, width: int, height: int
) -> ChartFit | None:
    kept = list(range(len(views)))
    found = None
    for _ in range(3):
        found = _calibrated(model, [views[i] for i in kept], board, width, height)
        if found is None:
            return None
        own = np.array(found[3])
        most = max(BAD * float(np.median(own)), BAD_PX * width / 1280)
        bad = [kept[i] for i in np.nonzero(own > most)[0]]
        if not bad or len(kept) - len(bad) < FEWEST:
            break
        kept = [i for i in kept if i not in bad]
    assert found is not None
    distortion, (fx, fy, cx, cy), residual, own_residuals = found
    residuals = [float("nan")] * len(views)
    for i, value in zip(kept, own_residuals, strict=True):
        residuals[i] = value
    left_out = [i for i in range(len(views)) if i not in kept]
    covered = _coverage([views[i] for i in kept], width, height)
    return ChartFit(
        distortion, (fx + fy) / 2 / width,
        100 * (cx - (width - 1) / 2) / width, 100 * (cy - (height - 1) / 2) / height,
        residual, residuals, left_out, covered, _words(covered, left_out, len(kept)),
    )  # fmt: skip


Found = tuple[Distortion, tuple[float, float, float, float], float, list[float]]


def _calibrated(
    model: str, views: Sequence[Real], board: Board, width: int, height: int
) -> Found | None:
    """Distortion, focal lengths and centre in px, residual, and that of each view."""
    start = np.array(
        [[0.8 * width, 0, (width - 1) / 2], [0, 0.8 * width, (height - 1) / 2], [0, 0, 1.0]]
    )
    places = board.places
    try:
        if model == "fisheye":
            start[0, 0] = start[1, 1] = 0.45 * width
            flags = cv2.CALIB_RECOMPUTE_EXTRINSIC | cv2.CALIB_FIX_SKEW
            flags |= cv2.CALIB_USE_INTRINSIC_GUESS
            _, k, d, turns, shifts = cv2.fisheye.calibrate(
                [places.reshape(1, -1, 3).astype(float)] * len(views),
                [v.reshape(1, -1, 2) for v in views], (width, height), start, np.zeros(4),
                flags=flags, criteria=STOP,
            )  # fmt: skip
            c = np.asarray(d, float).ravel().tolist()
            distortion = Distortion("fisheye", (c[0], c[1], c[2], c[3]))
        else:
            flags = cv2.CALIB_USE_INTRINSIC_GUESS | cv2.CALIB_FIX_ASPECT_RATIO
            _, k, d, turns, shifts = cv2.calibrateCamera(
                [places] * len(views), [v.reshape(-1, 1, 2).astype(np.float32) for v in views],
                (width, height), start, np.zeros(5), flags=flags, criteria=STOP,
            )  # fmt: skip
            c = np.asarray(d, float).ravel().tolist()
            distortion = Distortion("brown", (c[0], c[1], c[4], 0.0), (c[2], c[3]))
    except cv2.error:
        return None
    own = []
    for view, turn, shift in zip(views, turns, shifts, strict=True):
        flat = places.reshape(-1, 1, 3).astype(float)
        project = cv2.fisheye.projectPoints if model == "fisheye" else cv2.projectPoints
        seen, _ = project(flat, turn, shift, k, d)
        own.append(float(np.sqrt(((seen.reshape(-1, 2) - view) ** 2).sum(axis=1).mean())))
    if not np.isfinite(own).all():
        return None
    facts = (float(k[0, 0]), float(k[1, 1]), float(k[0, 2]), float(k[1, 2]))
    return distortion, facts, float(np.sqrt(np.mean(np.square(own)))), own


def _coverage(views: Sequence[Real], width: int, height: int) -> NDArray[np.intp]:
    points = np.concatenate(list(views))
    x = np.clip((points[:, 0] + 0.5) / width * CELLS[0], 0, CELLS[0] - 1).astype(int)
    y = np.clip((points[:, 1] + 0.5) / height * CELLS[1], 0, CELLS[1] - 1).astype(int)
    counts = np.bincount(y * CELLS[0] + x, minlength=CELLS[0] * CELLS[1])
    return np.asarray(counts.reshape(CELLS[1], CELLS[0]), np.intp)


def _words(covered: NDArray[np.intp], left_out: list[int], kept: int) -> list[str]:
    said = [f"{kept} views were used."]
    if left_out:
        names = ", ".join(str(i + 1) for i in left_out)
        said.append(f"View {names} disagrees with the others and was left out.")
    corners = [covered[0, 0], covered[0, -1], covered[-1, 0], covered[-1, -1]]
    bare = sum(1 for count in corners if not count)
    share = float((covered > 0).mean())
    if bare or share < 0.7:
        said.append(
            f"Corners were seen in {100 * share:.0f} % of the frame"
            + (f", in {SOME[4 - bare]} of its four corners" if bare else "")
            + "; the lens is only guessed at where none were."
        )
    return said


# --- to be called in a process of its own ---------------------------------------------------------

Looked = tuple[Real | None, tuple[int, int]]  # corners, if there is a chart, and the picture's size


def chart_in_photograph(path: Path, board: Board) -> Looked:
    """Corners of the chart in a photograph, None without one, and the picture's size."""
    luma = read_photograph(path, path.name)
    return find_corners(luma, board), (luma.shape[1], luma.shape[0])


def chart_in_picture(luma: Luma, board: Board) -> Looked:
    """The same in a picture that is at hand, less thoroughly: there are more of them."""
    return find_corners(luma, board, thorough=False), (luma.shape[1], luma.shape[0])
