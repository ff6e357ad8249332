"""Writing MP4: H.264 with the source's frame times, colour tags and pixel aspect."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import av
from av.video.stream import VideoStream

from ..errors import disk_errors
from ..geometry.canvas import Canvas
from .decode import Plane
from .mp4 import Mp4File
from .planes import plane_view
from .probe import Scan
from .spherical import SphereTag

# Constant rate factors of libx264: smaller is better and larger.
QUALITIES = {"fine": 14, "good": 18, "small": 24}

# An encoder holds as many pictures as it looks ahead: of large ones, few, so that they have room.
FEW_AHEAD = "5"


@dataclass(frozen=True)
class Encoding:
    """How to encode. ``crf`` as libx264 counts it; ``keyframe`` is the longest gap in frames."""

    crf: int = QUALITIES["good"]
    preset: str = "fast"
    keyframe: int = 250
    tune: str | None = None


@dataclass(frozen=True)
class Blank:
    """A frame to be filled, by arrays over its planes."""

    frame: av.VideoFrame
    planes: tuple[Plane, ...]


class Mp4Writer(Mp4File):
    """An :class:`Mp4File` whose pictures are encoded here. ``pixel_aspect`` is that of the output's
    pixels: the width of one over its height; ``sphere`` is what the file is to say of being one."""

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
        pixel_aspect: float = 1.0,
        sphere: SphereTag | None = None,
    ) -> None:
        if width % 2 or height % 2:
            raise ValueError("H.264 needs even sizes")
        super().__init__(path, scan, first, last)
        self._aspect = pixel_aspect
        self.sphere, self.size = sphere, (width, height)
        self._size = (width, height, pixel_format)
        with self.removed_on_error():
            self._stream = self._video_stream(encoding)
            if sound_from is not None:
                self.add_sound(sound_from, always_encode=encode_sound)

    def _video_stream(self, encoding: Encoding) -> VideoStream:
        options = {"crf": str(encoding.crf), "preset": encoding.preset}
        if encoding.tune:
            options["tune"] = encoding.tune
        if Canvas(*self.size).large:
            options["rc-lookahead"] = FEW_AHEAD
        rate = Fraction(self.scan.probe.rate or 30.0).limit_denominator(1001)
        stream = self.target.add_stream("libx264", rate=rate, options=options)
        context = stream.codec_context
        context.width, context.height, context.pix_fmt = self._size
        context.time_base = self.scan.time_base
        context.gop_size = encoding.keyframe
        colour = self.scan.probe.colour
        context.color_primaries = colour["primaries"]
        context.color_trc = colour["transfer"]
        context.colorspace = colour["matrix"]
        context.color_range = colour["range"]
        aspect = Fraction(self._aspect).limit_denominator(1000)
        context.sample_aspect_ratio = aspect
        stream.time_base = self.scan.time_base
        return stream

    def blank(self) -> Blank:
        """A fresh frame, to be filled and passed on by :meth:`write`. May be called from another
        thread than the writer's."""
        # The encoder keeps earlier frames for a while, so each one has its own memory.
        frame = av.VideoFrame(*self._size)
        deep = self._size[2].endswith("10le")
        return Blank(frame, tuple(plane_view(p, deep) for p in frame.planes))

    def write(self, blank: Blank, pts: int) -> None:
        """Encode a frame that :meth:`blank` handed out, at the source's ``pts``."""
        frame = blank.frame
        colour = self.scan.probe.colour
        frame.colorspace, frame.color_range = colour["matrix"], colour["range"]
        frame.color_primaries, frame.color_trc = colour["primaries"], colour["transfer"]
        frame.pts = pts - self.zero
        frame.time_base = self.scan.time_base
        with disk_errors(self.path):
            self.target.mux(self._stream.encode(frame))
            self.sound_until(pts)

    def finish(self) -> None:
        """Flush the encoder, then as :meth:`Mp4File.finish`."""
        with disk_errors(self.path):
            self.target.mux(self._stream.encode(None))
        super().finish()
