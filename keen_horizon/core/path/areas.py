"""Shares of areas: how much of the source an output shows, how much of the output is bare."""

from __future__ import annotations

import cv2
import numpy as np

from ..geometry.canvas import along_sides
from ..geometry.chain import WarpChain
from ..geometry.lattice import cell_middles
from ..geometry.live_area import LiveArea
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
        return seen_shares(quads, chain.area)
    hu, hv = chain.source.half
    rim = output.to_pixels(along_sides(output.corners, A_SIDE))
    seen = chain.source.to_scene(chain.sampled(rim))
    reaches = ~chain.area.covers(seen, 1e-3)
    # What a curve pulled in to the source's edge encloses is what it has in common with it.
    pulled_in = chain.area.pulled_in(seen)
    following = np.roll(pulled_in, -1, axis=1)
    kept = 0.5 * np.abs((pulled_in.conj() * following).imag.sum(axis=1)) / (4 * hu * hv)
    bare = np.zeros(len(chain))
    frames = np.nonzero(reaches.any(axis=1))[0]
    if len(frames):
        points = cell_middles(output, *CELLS).reshape(-1, 2)
        start, stop = int(frames[0]), int(frames[-1]) + 1
        for part, piece in chain[start:stop].batches():
            there = piece.sampled(points)
            bare[start + part.start : start + part.stop] = 1 - chain.covers(there).mean(1)
    return kept, bare


def bare_shares(chain: WarpChain) -> Real:
    """``(n,)`` the share of each output frame that its own source does not cover, 0..1."""
    return shares_shown(chain)[1]


def seen_shares(quads: Complex, area: LiveArea) -> tuple[Real, Real]:
    """Two shares a frame for output outlines ``(n, 4)`` in the source plane.

    First, of the source's area, how much the output shows; second, of the output's area, how much
    no source pixel covers. Both ``(n,)``.
    """
    hu, hv = area.canvas.half
    following = np.roll(quads, -1, axis=1)
    size = 0.5 * np.abs((np.conj(quads) * following).imag.sum(axis=1))
    inside = size.copy()
    live = np.stack([area.corners.real, area.corners.imag], axis=-1).astype(np.float32)
    for t in np.nonzero(area.room(quads).min(axis=1) < -1e-6)[0]:
        quad = np.stack([quads[t].real, quads[t].imag], axis=-1).astype(np.float32)
        inside[t] = min(size[t], cv2.intersectConvexConvex(quad, live)[0])
    return inside / (4 * hu * hv), 1.0 - inside / np.maximum(size, 1e-9)
