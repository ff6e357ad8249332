"""Films and pictures made up for benchmarks and tests."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path

import av
import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.simulated.take import Take
from keen_horizon.store.media_store import MediaStore

FULL_HD = (1920, 1080)


def coded(
    path: Path, container: str, codec: str, pictures: Sequence[NDArray[np.uint8]],
    options: dict[str, str] | None = None, rate: int = 25,
) -> Path:  # fmt: skip
    """A film in a container, of BGR pictures ``(height, width, 3)``."""
    with av.open(str(path), "w", format=container) as out:
        stream = out.add_stream(codec, rate=rate, options=options or {})
        stream.height, stream.width = pictures[0].shape[:2]
        stream.pix_fmt = "yuv420p"
        for k, picture in enumerate(pictures):
            frame = av.VideoFrame.from_ndarray(picture, "bgr24").reformat(format="yuv420p")
            frame.pts, frame.time_base = k, Fraction(1, rate)
            out.mux(stream.encode(frame))
        out.mux(stream.encode(None))
    return path


def full_hd(take: Take, count: int) -> list[NDArray[np.uint8]]:
    """The first ``count`` frames of a take at 1920 x 1080."""
    return [
        np.asarray(cv2.resize(take.frame(k), FULL_HD, interpolation=cv2.INTER_CUBIC), np.uint8)
        for k in range(count)
    ]


def in_vault(store: MediaStore, film: Path) -> str:
    """Put a copy of a film among the sources; its key."""
    with store.workspace() as room:
        copied = room / film.name
        copied.write_bytes(film.read_bytes())
        return store.adopt("sources", copied)


def scratched(content: bytes, size: int = 600) -> bytes:
    """A film, so many bytes of whose pictures are gone."""
    broken = bytearray(content)
    start = content.index(b"mdat") + len(content) // 3
    broken[start : start + size] = bytes(size)
    return bytes(broken)


def black_png(width: int, height: int) -> bytes:
    """A large picture in few bytes."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        check = zlib.crc32(kind + data)
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", check)

    coder = zlib.compressobj(9)
    row = bytes(width + 1)
    rows = b"".join(coder.compress(row) for _ in range(height)) + coder.flush()
    head = struct.pack(">IIBBBBB", width, height, 8, 0, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", rows) + chunk(b"IEND", b"")
