"""Tracks seen through the lens: what moves rigidly then moves rigidly in the tracks, too."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..geometry.canvas import Canvas
from ..geometry.lens import Lens
from ..tracking.tracks import Tracks, places_of
from ..types import Flags

STEEPEST = 8.0  # local magnification beyond which a track is too coarse to steer by


def undistort_tracks(tracks: Tracks, canvas: Canvas, lens: Lens) -> tuple[Tracks, Flags]:
    """The tracks as a rectilinear lens would have given them, in pixels of the same ``canvas``.

    Also ``(records,)`` flags of sightings that are of no use: where ``lens`` reaches too far to the
    side for its straight picture to be exact, or shows nothing straight at all.

    >>> from keen_horizon.core.geometry.distortion import Distortion
    >>> barrel = Lens(Canvas(640, 480), Distortion("brown", (-0.2, 0, 0, 0)), 600.0)
    >>> seen = np.array([[[319.5, 239.5], [620.0, 239.5]]])
    >>> tracks = Tracks.from_places(seen, np.zeros(1))
    >>> straight, useless = undistort_tracks(tracks, barrel.canvas, barrel)
    >>> straight.records["x"].round().tolist(), useless.any().item()
    ([320.0, 638.0], False)
    """
    records = np.array(tracks.records)
    useless = np.zeros(len(records), bool)
    if not len(records):
        return tracks, useless
    points = canvas.to_scene(places_of(records))
    if not lens.changes:
        straight = lens.undistort(points[None])[0]
        steep = lens.stretch(points[None])[0]
    else:
        straight, steep = np.empty_like(points), np.empty(len(points))
        for t in range(len(tracks)):
            part = slice(int(tracks.offsets[t]), int(tracks.offsets[t + 1]))
            one = lens[t : t + 1]
            straight[part] = one.undistort(points[None, part])[0]
            steep[part] = one.stretch(points[None, part])[0]
    scale = float(np.mean(lens.scale))
    useless = ~np.isfinite(straight) | ~(steep < STEEPEST * scale)
    straight = np.where(np.isfinite(straight), straight, 0)
    at = canvas.to_pixels(straight)
    records["x"], records["y"] = at[:, 0], at[:, 1]
    return replace(tracks, records=records), useless
