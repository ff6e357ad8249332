"""Edges that look straight in the world: offered to the editor, who accepts or refuses them.

Short straight segments (Grompone von Gioi, Jakubowicz, Morel, Randall, *LSD: a fast line segment
detector*, PAMI 2010, as OpenCV has it) are strung together where one goes on as the next, turning
only slowly; the longest strings are then traced like any edge.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ...errors import BadSetting
from ...types import Luma, Real
from .trace import Trace, gradients, trace_edge

SHORTEST_PIECE = 14.0  # px
SHORTEST = 0.14  # of the picture's width
GAP = 0.03  # of the width, that a string may bridge
TURN = 0.16  # radians from one piece to the next
APART = 2.5  # px that the next piece may lie beside the line of the last
TRIED, WANTED = 40, 12
SURE = 0.8  # of its length that a proposal must show
TWIN = 5.0  # px: nearer edges are one


def proposals(luma: Luma, wanted: int = WANTED) -> list[Trace]:
    """Long edges of a picture, longest first, none twice."""
    width = luma.shape[1]
    found = cv2.createLineSegmentDetector(cv2.LSD_REFINE_STD).detect(luma)[0]
    if found is None:
        return []
    pieces = np.asarray(found, float).reshape(-1, 4)
    lengths = np.hypot(pieces[:, 2] - pieces[:, 0], pieces[:, 3] - pieces[:, 1])
    pieces = pieces[lengths >= SHORTEST_PIECE]
    strings = sorted(_strung(pieces, width), key=_length, reverse=True)
    slopes = gradients(luma)
    kept: list[Trace] = []
    for string in strings[:TRIED]:
        if _length(string) < SHORTEST * width or len(kept) >= wanted:
            break
        middle = string[len(string) // 2]
        pins = [tuple(string[0]), tuple(middle), tuple(string[-1])]
        try:
            trace = trace_edge(slopes, pins if len(string) > 2 else [pins[0], pins[-1]])
        except BadSetting:
            continue
        if trace.seen >= SURE and not any(_same(trace, other) for other in kept):
            kept.append(trace)
    return kept


def _length(string: Real) -> float:
    return float(np.hypot(*(string[-1] - string[0])))


def _strung(pieces: Real, width: int) -> list[Real]:
    """Strings of pieces as their ends ``(k, 2)``, each piece in one string at most."""
    ends = np.concatenate([pieces[:, :2], pieces[:, 2:]])  # end i belongs to piece i % n
    n = len(pieces)
    if not n:
        return []
    way = np.arctan2(pieces[:, 3] - pieces[:, 1], pieces[:, 2] - pieces[:, 0])
    order = np.argsort(-np.hypot(pieces[:, 2] - pieces[:, 0], pieces[:, 3] - pieces[:, 1]))
    used = np.zeros(n, bool)
    strings = []
    for first in order:
        if used[first]:
            continue
        used[first] = True
        string = [pieces[first, :2], pieces[first, 2:]]
        for back in (False, True):
            turn = float(way[first]) + (np.pi if back else 0.0)
            while True:
                end = string[0] if back else string[-1]
                after = _next(end, turn, ends, way, used, width)
                if after is None:
                    break
                piece, far, turn = after
                used[piece] = True
                string.insert(0, far) if back else string.append(far)
        strings.append(np.array(string))
    return strings


def _next(
    end: Real, turn: float, ends: Real, way: Real, used: NDArray[np.bool_], width: int
) -> tuple[int, Real, float] | None:
    """The unused piece that goes on from ``end`` in direction ``turn``, its far end and its
    direction."""
    n = len(way)
    off = ends - end
    along = off[:, 0] * np.cos(turn) + off[:, 1] * np.sin(turn)
    beside = np.abs(off[:, 1] * np.cos(turn) - off[:, 0] * np.sin(turn))
    headed = np.concatenate([way, way + np.pi])  # entered at one end, left at the other
    bent = np.abs((headed - turn + np.pi) % (2 * np.pi) - np.pi)
    gap = GAP * width
    fits = ~np.concatenate([used, used]) & (along > -3) & (along < gap) & (bent < TURN)
    fits &= beside < APART + 0.06 * np.maximum(along, 0)
    if not fits.any():
        return None
    near = np.where(fits, along + 4 * beside + 60 * bent, np.inf)
    k = int(near.argmin())
    piece = k % n
    far = ends[(k + n) % (2 * n)]
    return piece, far, float(headed[k])


def _same(one: Trace, other: Trace) -> bool:
    """Whether most of the shorter of two traces lies on the other."""
    short, long_ = sorted((one.points, other.points), key=_length)
    apart = np.linalg.norm(short[:, None] - long_[None], axis=-1).min(axis=1)
    step = max(_length(long_) / max(len(long_) - 1, 1), 1.0)
    return bool((apart < TWIN + 0.5 * step).mean() > 0.5)
