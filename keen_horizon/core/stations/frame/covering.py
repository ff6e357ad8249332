"""Settings that hide every bare edge, or keep everything in view."""

from __future__ import annotations

from typing import Any

import numpy as np

from ...path.least_zoom import Cover, WidestView


def cover_settings(cover: Cover) -> dict[str, Any]:
    """A cover as settings, rounded to the safe side; none if nothing covers."""
    if not cover.possible:
        return {}
    return {
        "extra_zoom": float(np.ceil(cover.zoom * 1e4) / 1e4),
        "offset_x": round(cover.offset_x, 3),
        "offset_y": round(cover.offset_y, 3),
    }


def cover_caption(cover: Cover) -> str:
    """What covering takes."""
    if not cover.possible:
        return "No zoom hides the bare edges: at some frame the middle of the output is bare."
    moved = max(abs(cover.offset_x), abs(cover.offset_y))
    how = f", moved by {cover.offset_x:.1f} % and {cover.offset_y:.1f} %" if moved >= 0.05 else ""
    return f"Zoom × {cover.zoom:.3f}{how}: no edge is bare. Frame {cover.frame} decides."


def widest_settings(widest: WidestView) -> dict[str, Any]:
    """A view in which everything is seen, as settings."""
    return {
        "edge": "leave",
        "width": widest.width,
        "height": widest.height,
        "extra_zoom": float(np.floor(widest.zoom * 1e4) / 1e4),
        "offset_x": round(widest.offset_x, 3),
        "offset_y": round(widest.offset_y, 3),
    }


def widest_caption(widest: WidestView) -> str:
    """How large an output that keeps all is, and what it takes."""
    size = f"{widest.width} × {widest.height} px, {widest.frame_bytes / 1e6:.0f} MB a frame"
    if widest.shrunk < 0.995:
        return (
            f"{size}; at full size it would be larger than the limit, so a source pixel gets "
            f"{widest.shrunk:.2f} of one."
        )
    return f"{size}; source pixels keep their size in the middle."
