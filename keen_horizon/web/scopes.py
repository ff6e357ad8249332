"""Scopes of what is on show: small pictures in, how their light is spread out."""

from __future__ import annotations

from typing import Any

import numpy as np
from flask import Blueprint, Response, jsonify, request

from ..core.errors import KeenError
from ..core.picture.scopes import COLUMNS, LEVELS, Scopes, scopes_of
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
    the lowest row first, as graphics cards give them. ``?from=&to=`` name a band of rows."""
    width, height = (request.args.get(name, 0, int) for name in ("width", "height"))
    band = request.args.get("from", 0.0, float), request.args.get("to", 1.0, float)
    if not (0 < width <= MOST and 0 < height <= MOST and np.isfinite(band).all()):
        raise KeenError(f"scopes are of pictures of up to {MOST} × {MOST} pixels.")
    one = width * height * 4
    request.max_content_length = PARTS * one
    data = np.frombuffer(request.get_data(), np.uint8)
    if not len(data) or len(data) % one or len(data) > PARTS * one:
        raise KeenError("these are not the pixels of a picture of that size.")
    pictures = data.reshape(-1, height, width, 4)[:, ::-1, :, :3]
    return jsonify(parts=[_described(scopes_of(picture, band)) for picture in pictures])


def _described(told: Scopes) -> dict[str, Any]:
    return {
        "luma": packed(told.luma, np.uint8),
        "parade": [packed(one, np.uint8) for one in told.parade],
        "profile": [None if np.isnan(v) else round(float(v), 2) for v in told.profile],
    }
