"""Streaming frames: one at a time, upright, with their exact times, in bounded memory."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from itertools import chain
from pathlib import Path

import av
import av.filter
import cv2
import numpy as np
from numpy.typing import NDArray

from ..errors import DamagedMedia, MediaError
from .fields import Fields
from .planes import plane_view
from .probe import Scan, open_input, picture_stream

Plane = NDArray[np.uint8] | NDArray[np.uint16]

# Planar formats that are warped plane by plane as they are; the rest are converted once.
PLANAR = {
    "yuv420p", "yuvj420p", "yuv422p", "yuvj422p", "yuv444p", "yuvj444p",
    "yuv420p10le", "yuv422p10le", "yuv444p10le",
}  # fmt: skip
_TURNS = {
    90: cv2.ROTATE_90_CLOCKWISE,
    180: cv2.ROTATE_180,
    270: cv2.ROTATE_90_COUNTERCLOCKWISE,
}


@dataclass(frozen=True)
class Picture:
    """One decoded frame, upright.

    ``planes``: luma ``(h, w)`` and two chroma planes, uint8 or uint16. ``chroma`` is how many luma
    pixels a chroma pixel spans, ``(across, down)``; ``site`` is where in luma pixels the first
    chroma sample sits, which turning the picture upright changes. ``index`` counts from the start
    of the file.
    """

    index: int
    pts: int
    planes: tuple[Plane, Plane, Plane]
    chroma: tuple[int, int]
    site: tuple[float, float]
    pixel_format: str
    corrupt: bool = False  # the decoder has bridged what could not be decoded

    @property
    def natural_site(self) -> tuple[float, float]:
        """Where a reader of this pixel format expects the first chroma sample."""
        return natural_site(self.pixel_format, self.chroma)


def eight_bits(plane: Plane) -> NDArray[np.uint8]:
    """A copy of a plane in 8 bits; one of 10 loses the lowest two."""
    return (plane if plane.dtype == np.uint8 else plane >> 2).astype(np.uint8)


def natural_site(pixel_format: str, chroma: tuple[int, int]) -> tuple[float, float]:
    """Chroma siting by default: left-sited video, centred in full-range (JPEG) formats."""
    centred = pixel_format.startswith("yuvj")
    return (0.5 if centred and chroma[0] == 2 else 0.0, 0.5 if chroma[1] == 2 else 0.0)


def turned_site(
    site: tuple[float, float], chroma: tuple[int, int], rotation: int
) -> tuple[float, float]:
    """Siting after a clockwise turn. ``chroma`` and ``site`` are those of the stored picture."""
    x, y = site
    far_x, far_y = chroma[0] - 1 - x, chroma[1] - 1 - y
    return {0: (x, y), 90: (far_y, x), 180: (far_x, far_y), 270: (y, far_x)}[rotation]


def working_format(name: str) -> str:
    """The planar format a source format is processed in: same depth (8 or 10), no less chroma."""
    if name in PLANAR:
        return name
    info = av.VideoFormat(name)
    deep = "10le" if info.components[0].bits > 8 else ""
    if info.is_rgb or len(info.components) < 3:
        return ("yuv444p" if info.is_rgb else "yuv420p") + deep
    across = info.chroma_width(64)
    down = info.chroma_height(64)
    return {64: "yuv444p", 32: "yuv422p" if down == 64 else "yuv420p"}.get(across, "yuv420p") + deep


def working_frame(frame: av.VideoFrame) -> av.VideoFrame:
    """The frame in its working format: itself where it is in it already."""
    name = working_format(frame.format.name)
    if frame.format.name == name:
        return frame
    if frame.format.is_rgb:
        return frame.reformat(format=name, dst_colorspace="ITU709", dst_color_range="MPEG")
    return frame.reformat(format=name)


def frames(
    path: Path, scan: Scan, first: int, last: int, *, luma_only: bool = False,
    from_start: bool = False,
) -> Iterator[Picture]:  # fmt: skip
    """Decode frames ``first`` to ``last`` (inclusive) of ``scan.pts``, in order.

    Fields of interlaced pictures are made whole. It begins with the file if ``from_start``, however
    late the first one is. With ``luma_only`` the chroma planes are the luma plane again: measuring
    does not look at colour. Raises DamagedMedia naming the frame that cannot be decoded, MediaError
    naming that from which on pictures have another size.
    """
    wanted = scan.pts[first : last + 1]
    expected, late = 0, False
    # A picture made whole is made of the one before, too.
    enter = first if scan.probe.fields is None else max(0, first - scan.per_picture)
    with _opened_at(path, scan, 0 if from_start else enter) as (container, stream):
        stream.thread_type = "AUTO"
        decoded: Iterator[av.VideoFrame] = container.decode(stream)
        if scan.probe.fields is not None:
            decoded = _whole_pictures(decoded, stream, scan, scan.probe.fields)
        while expected < len(wanted):
            # Some containers cannot be entered where they say: then from the start.
            entered = first > 0 and not expected and not from_start
            try:
                frame = next(decoded, None)
            except (av.error.FFmpegError, ValueError) as error:
                if late := entered:
                    break
                raise _damaged(path, first + expected) from error
            stamp = None if frame is None else _stamp(frame)
            if frame is not None and (stamp is None or stamp < wanted[expected]):
                continue
            if frame is None or stamp != wanted[expected]:
                if late := entered:
                    break
                raise _damaged(path, first + expected)
            if (frame.width, frame.height) != scan.stored_size:
                raise _other_size(path, first + expected, frame)
            yield _picture(frame, first + expected, int(wanted[expected]), scan, luma_only)
            expected += 1
    if late:
        yield from frames(path, scan, first, last, luma_only=luma_only, from_start=True)


def _whole_pictures(
    decoded: Iterator[av.VideoFrame], stream: av.VideoStream, scan: Scan, fields: Fields
) -> Iterator[av.VideoFrame]:
    """Interlaced pictures as they would have been taken at once: one at the time of each first
    field, or of each field; the other field's lines made up from what is before, after and beside
    them (bwdif)."""
    mode = {"pair": "send_frame", "field": "send_field"}[fields.each]
    # Some pictures of a film may be whole; their own flags say so, where those are believed.
    which = "interlaced" if fields.first == "file" else "all"
    graph = av.filter.Graph()
    nodes = [
        graph.add_buffer(template=stream),
        graph.add("bwdif", f"mode={mode}:parity={fields.parity}:deint={which}"),
        graph.add("buffersink"),
    ]
    graph.link_nodes(*nodes).configure()
    for frame in chain(decoded, (None,)):
        graph.push(frame)
        while True:
            try:
                made = graph.pull()
            except (av.error.BlockingIOError, av.error.EOFError):
                break
            assert isinstance(made, av.VideoFrame)
            if made.pts is not None and made.time_base:  # it counts by fields
                made.pts = round(made.pts * made.time_base / scan.time_base)
            yield made


def frame_at(path: Path, scan: Scan, index: int, *, luma_only: bool = False) -> Picture:
    """One frame, as :func:`frames` gives it."""
    return next(frames(path, scan, index, index, luma_only=luma_only))


def frames_at(
    path: Path, scan: Scan, indices: Iterable[int], *, luma_only: bool = False
) -> Iterator[Picture]:
    """Some frames, in order, as :func:`frames` gives them. The file is entered anew only where that
    is nearer than reading on, or where it is not known where it can be entered."""
    wanted = sorted(set(indices))
    reading: Iterator[Picture] = iter(())
    at = -1
    for index in wanted:
        if max(scan.keys_within(0, index), default=index) > at:
            reading = frames(path, scan, index, wanted[-1], luma_only=luma_only)
        picture = next(picture for picture in reading if picture.index == index)
        at = index
        yield picture


def reference_frames(path: Path, scan: Scan, first: int, last: int) -> Iterator[Picture]:
    """Luma of those of frames ``first`` to ``last`` that others are coded by, in order: quicker
    than all of them, where there are others. Raises DamagedMedia."""
    with _opened_at(path, scan, first) as (container, stream):
        stream.thread_type = "AUTO"
        stream.codec_context.skip_frame = "NONREF"
        index = first
        try:
            for frame in container.decode(stream):
                stamp = _stamp(frame)
                if stamp is None:
                    continue
                stamp *= scan.per_picture
                if stamp < scan.pts[first]:
                    continue
                index = int(np.searchsorted(scan.pts, stamp))
                if index > last:
                    return
                if scan.pts[index] == stamp:
                    yield _picture(frame, index, stamp, scan, luma_only=True)
        except (av.error.FFmpegError, ValueError) as error:
            raise _damaged(path, index) from error


@contextmanager
def _opened_at(
    path: Path, scan: Scan, first: int
) -> Iterator[tuple[av.container.InputContainer, av.VideoStream]]:
    """The file and its picture stream, from where frame ``first`` can be decoded."""
    with open_input(path) as container:
        stream = picture_stream(container, path)
        if first:
            container.seek(int(scan.pts[first]) // scan.per_picture, stream=stream, backward=True)
        yield container, stream


def _stamp(frame: av.VideoFrame) -> int | None:
    return frame.pts if frame.pts is not None else frame.dts


def _picture(frame: av.VideoFrame, index: int, stamp: int, scan: Scan, luma_only: bool) -> Picture:
    rotation = scan.probe.rotation
    name = working_format(frame.format.name)
    if not (luma_only and frame.format.name == "nv12"):
        frame = working_frame(frame)
    planes = [plane_view(p, name.endswith("10le")) for p in frame.planes[: 1 if luma_only else 3]]
    chroma, site = (1, 1), (0.0, 0.0)
    if not luma_only:
        chroma = (
            round(planes[0].shape[1] / planes[1].shape[1]),
            round(planes[0].shape[0] / planes[1].shape[0]),
        )
        site = turned_site(natural_site(name, chroma), chroma, rotation)
    if rotation:
        planes = [cv2.rotate(p, _TURNS[rotation]) for p in planes]
        chroma = chroma[::-1] if rotation != 180 else chroma
    if luma_only:
        planes = planes * 3
    three = planes[0], planes[1], planes[2]
    picture = Picture(index, stamp, three, chroma, site, name, bool(frame.is_corrupt))
    return picture if scan.layout is None else scan.layout.laid_out(picture)


def _other_size(path: Path, index: int, frame: av.VideoFrame) -> MediaError:
    return MediaError(
        f"from frame {index} on its picture has another size, {frame.width} × {frame.height}.",
        file=path,
        remedy=f"Cut it there: the {index} frames before can be used by themselves, or the rest."
        if index > 1
        else "Export it in one size.",
    )


def _damaged(path: Path, index: int) -> DamagedMedia:
    return DamagedMedia(
        f"frame {index} cannot be decoded; the file is damaged or cut short.",
        file=path,
        remedy=f"Copy it again, or use only the frames before {index}."
        if index
        else "Copy it again.",
    )
