"""Shares of areas: how much of the source an output shows, how much of the output is bare."""

from __future__ import annotations

import cv2
import numpy as np

from ..geometry.canvas import Canvas, along_sides
from ..geometry.chain import WarpChain, covered
from ..geometry.stage import Smoothness
from ..types import Complex, Real
from .zoom import A_SIDE

CELLS = (64, 36)  # of the output, at whose middles bare edges are looked for


def shares_shown(chain: WarpChain) -> tuple[Real, Real]:
    """Two shares a frame, both ``(n,)``: of the source's area, how much the output shows; of the
    output's area, how much no source pixel covers."""
    output = chain.view.output
    if chain.smoothness < Smoothness.CURVED:
        quads = chain.source.to_scene(chain.sampled(output.to_pixels(output.corners)))
        return seen_shares(quads, chain.source)
    hu, hv = chain.source.half
    rim = output.to_pixels(along_sides(output.corners, A_SIDE))
    seen = chain.source.to_scene(chain.sampled(rim))
    reaches = (np.abs(seen.real) > hu + 1e-3) | (np.abs(seen.imag) > hv + 1e-3)
    # What a curve pulled in to the source's edge encloses is what it has in common with it.
    pulled_in = np.clip(seen.real, -hu, hu) + 1j * np.clip(seen.imag, -hv, hv)
    following = np.roll(pulled_in, -1, axis=1)
    kept = 0.5 * np.abs((pulled_in.conj() * following).imag.sum(axis=1)) / (4 * hu * hv)
    bare = np.zeros(len(chain))
    frames = np.nonzero(reaches.any(axis=1))[0]
    if len(frames):
        x = (np.arange(CELLS[0]) + 0.5) / CELLS[0] * output.width - 0.5
        y = (np.arange(CELLS[1]) + 0.5) / CELLS[1] * output.height - 0.5
        points = np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2)
        start, stop = int(frames[0]), int(frames[-1]) + 1
        for part, piece in chain[start:stop].batches():
            there = piece.sampled(points)
            bare[start + part.start : start + part.stop] = 1 - covered(there, chain.source).mean(1)
    return kept, bare


def bare_shares(chain: WarpChain) -> Real:
    """``(n,)`` the share of each output frame that its own source does not cover, 0..1."""
    return shares_shown(chain)[1]


def seen_shares(quads: Complex, canvas: Canvas) -> tuple[Real, Real]:
    """Two shares a frame for output outlines ``(n, 4)`` in the source plane.

    First, of the source's area, how much the output shows; second, of the output's area, how much
    no source pixel covers. Both ``(n,)``.
    """
    hu, hv = canvas.half
    following = np.roll(quads, -1, axis=1)
    area = 0.5 * np.abs((np.conj(quads) * following).imag.sum(axis=1))
    inside = area.copy()
    reach = np.maximum(np.abs(quads.real).max(axis=1) - hu, np.abs(quads.imag).max(axis=1) - hv)
    frame = np.array([[-hu, -hv], [hu, -hv], [hu, hv], [-hu, hv]], np.float32)
    for t in np.nonzero(reach > 1e-6)[0]:
        quad = np.stack([quads[t].real, quads[t].imag], axis=-1).astype(np.float32)
        inside[t] = min(area[t], cv2.intersectConvexConvex(quad, frame)[0])
    return inside / (4 * hu * hv), 1.0 - inside / np.maximum(area, 1e-9)
