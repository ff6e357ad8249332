"""What a request carries: one reader of JSON bodies, and of the values in them."""

from __future__ import annotations

import json
from typing import Any

from flask import request

from ..core.errors import KeenError
from ..store.media_store import TooLarge
from ..store.models import Measure
from ..store.undoing import Author

MOST_BODY = 4_000_000  # bytes of JSON; a treatment with many traced edges has some hundred thousand


def body() -> dict[str, Any]:
    """The request's JSON object; an empty one if it has no body. Raises KeenError for anything
    else."""
    request.max_content_length = MOST_BODY
    if (request.content_length or 0) > MOST_BODY:
        raise TooLarge("the request is larger than any that makes sense.")
    try:
        found = json.loads(request.get_data() or b"{}", parse_constant=_refused)
    except (ValueError, RecursionError) as error:
        raise KeenError("the request is not JSON that can be read.") from error
    if not isinstance(found, dict):
        raise KeenError("the request has to be a JSON object.")
    return found


def _refused(constant: str) -> None:
    raise ValueError(f"{constant} is no number")


def asker() -> str:
    """Which page asks: a few letters that it made up for itself, so that two pages do not stop
    each other's work."""
    told = request.headers.get("X-Page", "")
    return "".join(letter for letter in told[:16] if letter.isascii() and letter.isalnum())


def author() -> Author:
    """Who changes a clip: the page that asks, and the revision that it found at first."""
    since = request.headers.get("X-Since", "")
    return Author(asker(), int(since) if since.isdecimal() and len(since) < 10 else None)


def whole(data: dict[str, Any], name: str, words: str) -> int:
    """A whole number of the body. Raises KeenError with ``words`` if it is none."""
    value = data.get(name)
    if not isinstance(value, int) or isinstance(value, bool) or abs(value) >= 2**31:
        raise KeenError(words)
    return value


def measured_frame(data: dict[str, Any], measure: Measure) -> int:
    """The ``frame`` of the body, one of those that were measured. Raises KeenError for another."""
    frame = whole(data, "frame", "a frame is given by its number.")
    first, last = measure.first_frame, measure.last_frame
    if not first <= frame <= last:
        raise KeenError(f"frame {frame} is none of {first} to {last}.")
    return frame


def texts(data: dict[str, Any], name: str, words: str) -> list[str]:
    """Some texts of the body, one at least. Raises KeenError with ``words``."""
    value = data.get(name)
    if not isinstance(value, list) or not value or not all(isinstance(v, str) for v in value):
        raise KeenError(words)
    return value
