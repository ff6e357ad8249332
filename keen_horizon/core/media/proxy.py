"""The proxy the browser plays, and the still picture for the shelf."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import av
import cv2
import numpy as np

from .damage import MOST
from .decode import Picture
from .encode import Encoding, Mp4Writer
from .planes import plane_view
from .probe import Scan
from .segments import Segment, join

LINES = 540
SPHERE_LINES = 764  # so that there are twice the pixels: only a part of them is on show
KEYFRAME = 15  # frames between keyframes: a seek decodes few
ENCODING = Encoding(crf=22, preset="superfast", keyframe=KEYFRAME, tune="fastdecode")
POSTER_WIDTH = 480
PICTURES, POSTER, DAMAGED = "pictures.mp4", "poster.jpg", "damaged.txt"  # files of a part


def proxy_of(scan: Scan, kind: str) -> Proxy:
    """The proxy of a ``kind`` of clip."""
    return Proxy(scan, SPHERE_LINES if kind == "sphere" else LINES)


def proxy_size(scan: Scan, lines: int = LINES) -> tuple[int, int]:
    """Even size of a proxy of so many lines, square pixels, never larger than the source."""
    canvas = scan.probe.canvas
    width = canvas.width * canvas.pixel_aspect
    shrink = min(1.0, lines / canvas.height, 1920 / width)
    return max(16, round(width * shrink / 2) * 2), max(16, round(canvas.height * shrink / 2) * 2)


class Proxy:
    """A small H.264 copy with AAC sound of all frames of ``scan``, of so many ``lines`` at most,
    and a JPEG of its middle, made of pictures on their way to somebody else, part by part.

    8 bits, upright, square pixels, the source's frame times. Frame ``n`` of the proxy is frame
    ``n`` of the source. What is made of a part lies in a folder of its own.
    """

    def __init__(self, scan: Scan, lines: int = LINES) -> None:
        self._scan = scan
        self._size = proxy_size(scan, lines)

    def on_the_way(
        self, pictures: Iterator[Picture], part: Segment, folder: Path
    ) -> Iterator[Picture]:
        """Pass the ``pictures`` of a part on, each once it is copied."""
        with Mp4Writer(
            folder / PICTURES, self._scan, *self._size, "yuv420p", ENCODING, part.first, part.last
        ) as writer:
            for picture in pictures:
                self._copy(picture, writer, folder)
                yield picture
            writer.finish()

    def join(self, parts: list[Segment], source: Path, target: Path) -> None:
        """Write the copy, with the sound of ``source``, once all parts are there."""
        pictures = [replace(part, path=part.path / PICTURES) for part in parts]
        join(pictures, target, self._scan, sound_from=source, encode_sound=True)

    def _copy(self, picture: Picture, writer: Mp4Writer, folder: Path) -> None:
        if picture.corrupt:
            with (folder / DAMAGED).open("a") as told:
                told.write(f"{picture.index}\n")
        blank = writer.blank()
        _shrink(picture, blank.planes)
        if picture.index == self._scan.probe.frame_count // 2:
            _write_poster(blank.planes, self._scan, folder / POSTER)
        writer.write(blank, picture.pts)


def damaged_in(parts: list[Segment]) -> list[int]:
    """Numbers of the damaged frames that have gone by."""
    told = (part.path / DAMAGED for part in parts)
    words = " ".join(path.read_text() for path in told if path.exists())
    return sorted({int(number) for number in words.split()})[:MOST]


def poster_of(parts: list[Segment]) -> Path:
    """The picture of the middle, in the part that has it."""
    return next(part.path / POSTER for part in parts if (part.path / POSTER).exists())


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
