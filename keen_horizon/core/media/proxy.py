"""The proxy the browser plays, and the still picture for the shelf."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import av
import cv2
import numpy as np

from .ahead import ahead
from .damage import MOST
from .decode import Picture, frames, plane_view
from .encode import Encoding, Mp4Writer
from .probe import Scan

LINES = 540
SPHERE_LINES = 764  # so that there are twice the pixels: only a part of them is on show
KEYFRAME = 15  # frames between keyframes: a seek decodes few
ENCODING = Encoding(crf=22, preset="veryfast", keyframe=KEYFRAME, tune="fastdecode")
POSTER_WIDTH = 480


def proxy_size(scan: Scan, lines: int = LINES) -> tuple[int, int]:
    """Even size of a proxy of so many lines, square pixels, never larger than the source."""
    canvas = scan.probe.canvas
    width = canvas.width * canvas.pixel_aspect
    shrink = min(1.0, lines / canvas.height, 1920 / width)
    return max(16, round(width * shrink / 2) * 2), max(16, round(canvas.height * shrink / 2) * 2)


def make_proxy(
    path: Path, scan: Scan, target: Path, poster: Path, progress: Callable[[int, int], None],
    lines: int = LINES,
) -> list[int]:  # fmt: skip
    """Decode the whole file once: a small H.264 copy with AAC sound, of so many lines at most, and
    a JPEG of its middle.

    8 bits, upright, square pixels, the source's frame times. Frame ``n`` of the proxy is frame
    ``n`` of the source. Returns the numbers of damaged frames.
    """
    damaged: list[int] = []
    width, height = proxy_size(scan, lines)
    total = scan.probe.frame_count
    with Mp4Writer(
        target, scan, width, height, "yuv420p", ENCODING, 0, total - 1,
        sound_from=path, encode_sound=True,
    ) as writer:  # fmt: skip
        with ahead(frames(path, scan, 0, total - 1)) as pictures:
            for done, picture in enumerate(pictures, 1):
                if picture.corrupt and len(damaged) < MOST:
                    damaged.append(picture.index)
                blank = writer.blank()
                _shrink(picture, blank.planes)
                if done == total // 2 + 1:
                    _write_poster(blank.planes, scan, poster)
                writer.write(blank, picture.pts)
                progress(done, total)
        writer.finish()
    return damaged


def _shrink(picture: Picture, planes: tuple[np.ndarray, ...]) -> None:
    for source, target in zip(picture.planes, planes, strict=True):
        size = (target.shape[1], target.shape[0])
        if source.dtype == np.uint8:
            cv2.resize(source, size, dst=target, interpolation=cv2.INTER_AREA)
        else:
            small = cv2.resize(source, size, interpolation=cv2.INTER_AREA)
            np.copyto(target, np.minimum((small + 2) >> 2, 255), casting="unsafe")


def _write_poster(planes: tuple[np.ndarray, ...], scan: Scan, poster: Path) -> None:
    frame = av.VideoFrame(planes[0].shape[1], planes[0].shape[0], "yuv420p")
    for plane, data in zip(frame.planes, planes, strict=True):
        plane_view(plane, deep=False)[:] = data
    frame.colorspace, frame.color_range = scan.probe.colour["matrix"], scan.probe.colour["range"]
    picture = frame.to_ndarray(format="bgr24")
    height = round(POSTER_WIDTH * picture.shape[0] / picture.shape[1])
    small = cv2.resize(picture, (POSTER_WIDTH, height), interpolation=cv2.INTER_AREA)
    poster.write_bytes(cv2.imencode(".jpg", small, [cv2.IMWRITE_JPEG_QUALITY, 85])[1].tobytes())
