"""Photographs of chessboards before textured walls, bent by a known lens: what straight edges that
are proposed on one of them make of all others, against a calibration by charts."""

from __future__ import annotations

import cv2
import numpy as np
from scipy.spatial.transform import Rotation

from keen_horizon.core.errors import KeenError
from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.distortion import Distortion
from keen_horizon.core.stations.lens.chart import Board, calibrate, find_corners
from keen_horizon.core.stations.lens.edge_fit import fit_edges, residuals_of
from keen_horizon.core.stations.lens.propose import proposals

from ..rows import Row, say
from .scene import Camera, Face, Scene, photographs

VIEWS = 14
COLUMNS, ROWS = 9, 6
SQUARE = 0.11  # metres
CAMERA = Camera(1280, 960, 66.0, -0.18)


def board() -> np.ndarray:
    """Squares with a white rim, 80 px each."""
    n = 80
    dark = (np.indices((ROWS + 1, COLUMNS + 1)).sum(axis=0) % 2 == 0).astype(np.uint8)
    drawn = np.kron(255 - 225 * dark, np.ones((n, n), np.uint8))
    drawn = cv2.copyMakeBorder(drawn, n, n, n, n, cv2.BORDER_CONSTANT, value=240)
    return np.repeat(drawn[..., None], 3, axis=2)


def view(seed: int) -> tuple[np.ndarray, np.ndarray]:
    """A photograph, luma, and the board's true inner corners ``(rows, columns, 2)`` px in it."""
    random = np.random.default_rng(seed)
    wall = Face(photographs(6, 4, seed), np.array([-5.0, -4, 2.4]), np.array([10.0, 0, 0]),
                np.array([0, 8.0, 0]))  # fmt: skip
    turn = Rotation.from_euler("xyz", random.uniform([-25, -28, -12], [25, 28, 12]), degrees=True)
    size = np.array([(COLUMNS + 3) * SQUARE, (ROWS + 3) * SQUARE, 0])
    across, down = turn.as_matrix()[:, 0] * size[0], turn.as_matrix()[:, 1] * size[1]
    middle = np.array([*random.uniform([-0.35, -0.22], [0.35, 0.22]), random.uniform(1.0, 1.5)])
    face = Face(board(), middle - (across + down) / 2, across, down)

    def still(times: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        return np.broadcast_to(np.eye(3), (len(times), 3, 3)), np.zeros((len(times), 3))

    scene = Scene(CAMERA, (wall, face), still, 1, noise=2.5)
    s, r = np.meshgrid(
        (np.arange(COLUMNS) + 2) / (COLUMNS + 3), (np.arange(ROWS) + 2) / (ROWS + 3)
    )  # fmt: skip
    corners = face.corner + s[..., None] * across + r[..., None] * down
    seen = scene.recorded(corners.reshape(-1, 3), 0).reshape(ROWS, COLUMNS, 2)
    picture = cv2.GaussianBlur(next(iter(scene.pictures())), (0, 0), 0.7)
    return cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY), seen


def lines(corners: np.ndarray) -> list[np.ndarray]:
    return [*corners, *corners.swapaxes(0, 1)]


def boards() -> list[Row]:
    say("edges and charts, on photographs of boards")
    views = [view(seed) for seed in range(60, 60 + VIEWS)]
    canvas = Canvas(CAMERA.width, CAMERA.height)
    every = [line for _, corners in views for line in lines(corners)]

    def straightness(distortion: Distortion, focal: float, centre: complex = 0j) -> float:
        return float(np.sqrt((residuals_of(every, canvas, distortion, focal, centre) ** 2).mean()))

    raw = straightness(Distortion("brown"), 0.8)
    found = [find_corners(luma, Board(COLUMNS, ROWS)) for luma, _ in views]
    chart = calibrate(
        [c for c in found if c is not None], Board(COLUMNS, ROWS), canvas.width, canvas.height
    )
    centre = chart.centre_x / 100 * canvas.width + 1j * chart.centre_y / 100 * canvas.height
    by_chart = straightness(chart.distortion, chart.focal, centre)
    by_edges = []
    for luma, _ in views[:13]:
        try:
            fit = fit_edges([trace.points for trace in proposals(luma)], canvas)
        except KeenError:
            continue
        by_edges.append(straightness(fit.distortion, fit.focal))
    median, worst = float(np.median(by_edges)), max(by_edges)
    return [
        Row("truth: edges proposed on one photograph of a board, lines of the others",
            "median ≤ 1.5 × a chart's; worst not above raw",
            f"median {median:.2f}, worst {worst:.2f} px rms of {len(by_edges)}; chart "
            f"{by_chart:.2f}, raw {raw:.2f}", median <= 1.5 * by_chart and worst <= raw),
    ]  # fmt: skip
