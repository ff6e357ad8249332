"""Writing MP4: H.264 with the source's frame times, colour tags and pixel aspect."""

from __future__ import annotations

import errno
import os
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from types import TracebackType

import av
import av.container
import numpy as np
from av.video.stream import VideoStream

from ..errors import KeenError, NoRoom
from .decode import Plane, plane_view
from .probe import Scan, open_input
from .sound import SoundTrack

# Constant rate factors of libx264: smaller is better and larger.
QUALITIES = {"fine": 14, "good": 18, "small": 24}


@dataclass(frozen=True)
class Encoding:
    """How to encode. ``crf`` as libx264 counts it; ``keyframe`` is the longest gap in frames."""

    crf: int = QUALITIES["good"]
    preset: str = "fast"
    keyframe: int = 250
    tune: str | None = None


@contextmanager
def disk_errors(path: Path) -> Iterator[None]:
    """Turn a full disk into a message; removes nothing (see :class:`Mp4Writer`)."""
    try:
        yield
    except OSError as error:
        if error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG):
            raise NoRoom(
                "the disk is full; the unfinished file was removed.",
                file=path,
                remedy="Make room and try again.",
            ) from error
        if isinstance(error, PermissionError | FileNotFoundError | IsADirectoryError):
            raise KeenError(
                f"cannot be written ({error.strerror}).", file=path, remedy="Choose another place."
            ) from error
        raise


class Mp4Writer:
    """An MP4 under construction in ``<path>.part``; it gets its name only when it is whole.

    Use as a context manager. On any error, the part file is removed. ``first`` and ``last`` are
    the range of ``scan`` that is written; its start becomes time zero. The sound of that range
    comes from the file ``sound_from``. With ``square`` the output has square pixels, otherwise
    the source's.
    """

    def __init__(
        self,
        path: Path,
        scan: Scan,
        width: int,
        height: int,
        pixel_format: str,
        encoding: Encoding,
        first: int,
        last: int,
        *,
        sound_from: Path | None = None,
        encode_sound: bool = False,
        square: bool = False,
    ) -> None:
        if width % 2 or height % 2:
            raise ValueError("H.264 needs even sizes")
        self.path = path
        self.part = path.with_name(path.name + ".part")
        self._scan = scan
        self._zero = int(scan.pts[first])
        self._aspect = 1.0 if square else scan.probe.pixel_aspect
        self.sound_note = "The clip has no sound."
        with disk_errors(path):
            self._target = av.open(
                str(self.part), "w", format="mp4", options={"movflags": "+faststart"}
            )
        self._stream = self._video_stream(width, height, pixel_format, encoding)
        self._sound_source: av.container.InputContainer | None = None
        self._sound: SoundTrack | None = None
        if sound_from is not None and scan.probe.sound is not None:
            base = float(scan.time_base)
            step = float(np.median(np.diff(scan.pts))) * base
            end = int(scan.pts[last]) * base + step
            self._sound_source = open_input(sound_from)
            self._sound = SoundTrack(
                self._sound_source, self._target, self._zero * base, end,
                always_encode=encode_sound,
            )  # fmt: skip
            self.sound_note = self._sound.said
        self._size = (width, height, pixel_format)
        self._frame = av.VideoFrame(*self._size)

    def _video_stream(
        self, width: int, height: int, pixel_format: str, encoding: Encoding
    ) -> VideoStream:
        options = {"crf": str(encoding.crf), "preset": encoding.preset}
        if encoding.tune:
            options["tune"] = encoding.tune
        rate = Fraction(self._scan.probe.rate or 30.0).limit_denominator(1001)
        stream = self._target.add_stream("libx264", rate=rate, options=options)
        context = stream.codec_context
        context.width, context.height = width, height
        context.pix_fmt = pixel_format
        context.time_base = self._scan.time_base
        context.gop_size = encoding.keyframe
        colour = self._scan.probe.colour
        context.color_primaries = colour["primaries"]
        context.color_trc = colour["transfer"]
        context.colorspace = colour["matrix"]
        context.color_range = colour["range"]
        aspect = Fraction(self._aspect).limit_denominator(1000)
        context.sample_aspect_ratio = aspect
        stream.time_base = self._scan.time_base
        return stream

    def blank_planes(self) -> tuple[Plane, ...]:
        """Arrays over a fresh frame's planes, to be filled and passed on by :meth:`write`."""
        # The encoder keeps earlier frames for a while, so each one has its own memory.
        self._frame = av.VideoFrame(*self._size)
        deep = self._size[2].endswith("10le")
        return tuple(plane_view(p, deep) for p in self._frame.planes)

    def write(self, pts: int) -> None:
        """Encode the frame last handed out by :meth:`blank_planes` at the source's ``pts``."""
        frame = self._frame
        colour = self._scan.probe.colour
        frame.colorspace, frame.color_range = colour["matrix"], colour["range"]
        frame.color_primaries, frame.color_trc = colour["primaries"], colour["transfer"]
        frame.pts = pts - self._zero
        frame.time_base = self._scan.time_base
        with disk_errors(self.path):
            self._target.mux(self._stream.encode(frame))
            if self._sound is not None:
                self._sound.advance(pts * float(self._scan.time_base))

    def finish(self) -> None:
        """Flush pictures and sound, and give the file its name."""
        with disk_errors(self.path):
            self._target.mux(self._stream.encode(None))
            if self._sound is not None:
                self._sound.finish()
            self._target.close()
            with self.part.open("rb") as written:
                os.fsync(written.fileno())
            self.part.replace(self.path)

    def __enter__(self) -> Mp4Writer:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if self._sound_source is not None:
            self._sound_source.close()
        if kind is not None:
            try:
                self._target.close()
            except (OSError, ValueError):
                pass  # the first error is the one to report
            self.part.unlink(missing_ok=True)
