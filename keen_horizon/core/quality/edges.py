"""How sharp the edges of a picture are."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

PATCH = 16  # px of the parts of a picture, of each of which the steepest slope tells
CONTRAST = 0.2  # of black to white that a part has to span
SHARPEST = 90  # percent: the slope that nine tenths of them are gentler than
FEWEST = 30  # parts that have to span as much
WIDENED = 1 / 3  # px²: what the slope, taken over two px, adds to the variance of a blur
LEAST = 0.2  # px of blur: less cannot be told


def sharpness(value: NDArray[np.float32]) -> float | None:
    """The fineness, in cycles a px, at which the sharpest edges of a picture ``(height, width)``,
    black 0 and white 1, keep half of their contrast, as though their blur were a Gaussian; None
    where too few parts of it have an edge.

    >>> edge = np.repeat((np.arange(160) % 32 < 16).astype(np.float32)[None], 160, axis=0)
    >>> sharp, soft = (sharpness(cv2.GaussianBlur(edge, (0, 0), s)) for s in (1.5, 3.0))
    >>> round(sharp * 1.5, 2), round(soft * 3.0, 2)  # 0.19 over the blur
    (0.18, 0.19)
    """
    rows, columns = (n // PATCH for n in value.shape)
    if not rows or not columns:
        return None
    gx = cv2.Scharr(value, cv2.CV_32F, 1, 0, scale=1 / 32)
    gy = cv2.Scharr(value, cv2.CV_32F, 0, 1, scale=1 / 32)
    slope = np.sqrt(gx * gx + gy * gy)

    def parts(plane: NDArray[np.float32]) -> NDArray[np.float32]:
        whole = plane[: rows * PATCH, : columns * PATCH]
        return whole.reshape(rows, PATCH, columns, PATCH).swapaxes(1, 2).reshape(-1, PATCH**2)

    # An edge at the rim of a part goes on beyond it.
    around = np.ones((2 * PATCH - 1, 2 * PATCH - 1), np.uint8)
    high, low = cv2.dilate(value, around), cv2.erode(value, around)
    spans = np.asarray(high - low)[PATCH // 2 :: PATCH, PATCH // 2 :: PATCH]
    spans = spans[:rows, :columns].ravel()
    telling = spans > CONTRAST
    if int(telling.sum()) < FEWEST:
        return None
    steep = parts(slope).max(axis=1)[telling] / spans[telling]
    # Of an edge blurred by a Gaussian of sigma, the slope is the contrast over sigma sqrt(2 pi);
    # half of the contrast is left at sqrt(ln 4) / (2 pi sigma) cycles a px.
    blur = 1 / (np.sqrt(2 * np.pi) * max(float(np.percentile(steep, SHARPEST)), 1e-6))
    sigma = np.sqrt(max(blur**2 - WIDENED, LEAST**2))
    return float(np.sqrt(np.log(4)) / (2 * np.pi * sigma))
