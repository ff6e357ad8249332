"""Scopes of what is on show: small pictures in, how their light is spread out."""

from __future__ import annotations

from typing import Any

import numpy as np
from flask import Blueprint, Response, jsonify, request

from ..core.errors import KeenError
from ..core.picture.scopes import COLUMNS, LEVELS, Scopes, scopes_of
from ..core.types import Real
from .arrays import packed

blueprint = Blueprint("scopes", __name__)
MOST = 512  # px of a side of such a picture
PARTS = 2  # recorded and treated, at most


@blueprint.app_context_processor
def scope_sizes() -> dict[str, Any]:
    """What the page has to know of scopes."""
    return {"scope_sizes": {"levels": LEVELS, "columns": COLUMNS}}


@blueprint.post("/scopes")
def scopes() -> Response:
    """Scopes of one picture or two of ``?width=&height=``, one after the other: four bytes a pixel,
    the lowest row first, as graphics cards give them. ``?from=&to=`` name a band of rows,
    ``?x=&y=`` how far the middle of the glass is off the picture's, percent, and ``?round=`` its
    roundness."""
    width, height = (request.args.get(name, 0, int) for name in ("width", "height"))
    band = request.args.get("from", 0.0, float), request.args.get("to", 1.0, float)
    across, down, roundness = (
        request.args.get(name, at, float) for name, at in (("x", 0.0), ("y", 0.0), ("round", 1.0))
    )
    told = np.array([*band, across, down, roundness])
    if not (0 < width <= MOST and 0 < height <= MOST and np.isfinite(told).all()):
        raise KeenError(f"scopes are of pictures of up to {MOST} × {MOST} pixels.")
    one = width * height * 4
    request.max_content_length = PARTS * one
    data = np.frombuffer(request.get_data(), np.uint8)
    if not len(data) or len(data) % one or len(data) > PARTS * one:
        raise KeenError("these are not the pixels of a picture of that size.")
    pictures = data.reshape(-1, height, width, 4)[:, ::-1, :, :3]
    glass = (across / 100, down / 100, float(np.clip(roundness, 0.1, 10)))
    return jsonify(parts=[_described(scopes_of(picture, band, glass)) for picture in pictures])


def _described(told: Scopes) -> dict[str, Any]:
    return {
        "luma": packed(told.luma, np.uint8),
        "parade": [packed(one, np.uint8) for one in told.parade],
        "profile": _rounded(told.profile),
        "lost": _rounded(told.lost),
    }


def _rounded(values: Real) -> list[float | None]:
    return [round(v, 3) if np.isfinite(v) else None for v in values.tolist()]
