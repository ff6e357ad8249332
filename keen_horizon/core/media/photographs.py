"""Photographs from anywhere, read as grey pixels in bounded memory.

What a file says of itself is not trusted: its size is read before anything is decoded, by a library
that walks the file as the decoders do, and checked once more afterwards.
"""

from __future__ import annotations

import io
import warnings
from pathlib import Path

import cv2
import numpy as np

from ..errors import MediaError
from ..types import Luma

KINDS = ("PNG", "JPEG")
LARGEST = 60_000_000  # pixels
LARGEST_FILE = 40_000_000  # bytes
SIGNS = b"\x89PNG\r\n\x1a\n", b"\xff\xd8\xff"  # of a PNG and of a JPEG


def is_photograph(start: bytes) -> bool:
    """Whether a file that begins like this is one of the kinds that are read."""
    return start.startswith(SIGNS)


def check_photograph(name: str, size: int, start: bytes) -> None:
    """Raise MediaError for a file of ``size`` bytes that is not to be read as a photograph."""
    if size > LARGEST_FILE:
        raise MediaError(
            f"a photograph may have {LARGEST_FILE / 1e6:.0f} MB.", file=name,
            remedy="Save it smaller.",
        )  # fmt: skip
    if not is_photograph(start):
        raise MediaError(
            "is neither a PNG nor a JPEG.", file=name, remedy="Save it as one of them."
        )


def read_photograph(source: Path | bytes, name: str) -> Luma:
    """Grey pixels as the sensor had them, whatever a flag says of how the camera was held. Raises
    MediaError that names the file."""
    try:
        data = source if isinstance(source, bytes) else source.read_bytes()
    except OSError as error:
        raise MediaError(f"cannot be read ({error.strerror}).", file=name) from error
    check_photograph(name, len(data), data[:16])
    width, height = _size(data, name)
    if width * height > LARGEST:
        raise MediaError(
            f"is {width} × {height}; a photograph may have {LARGEST // 1_000_000} million pixels.",
            file=name, remedy="Save it smaller.",
        )  # fmt: skip
    flags = cv2.IMREAD_GRAYSCALE | cv2.IMREAD_IGNORE_ORIENTATION
    try:
        found = cv2.imdecode(np.frombuffer(data, np.uint8), flags)
    except cv2.error:
        found = None
    if found is None or (found.shape[1], found.shape[0]) != (width, height):
        raise MediaError("cannot be read as a picture.", file=name, remedy="Save it again.")
    return np.asarray(found, np.uint8)


def _size(data: bytes, name: str) -> tuple[int, int]:
    """Width and height, without decoding."""
    # Loaded only here: no command that reads no photograph waits for it.
    from PIL import Image, UnidentifiedImageError

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", Image.DecompressionBombWarning)
            with Image.open(io.BytesIO(data), formats=KINDS) as picture:
                return picture.size
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError) as error:
        raise MediaError("cannot be read as a picture.", file=name) from error
    except (Image.DecompressionBombError, Image.DecompressionBombWarning) as error:
        raise MediaError(
            f"is too large; a photograph may have {LARGEST // 1_000_000} million pixels.",
            file=name, remedy="Save it smaller.",
        ) from error  # fmt: skip
