"""Opening a file safely, and reading off what it holds."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict, dataclass, replace
from fractions import Fraction
from itertools import chain, islice
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

import av
import av.container
import numpy as np
from av.audio.stream import AudioStream
from av.packet import Packet
from av.video.stream import VideoStream
from numpy.typing import NDArray

from ..errors import DamagedMedia, MediaError
from ..geometry.canvas import Canvas
from .containers import demuxer_for
from .fields import LOOKS, Each, Fields, First, order_told, times_of_fields
from .planes import plane_view
from .spherical import SphereTag, sphere_tag

if TYPE_CHECKING:
    from .decode import Picture

BT709, LIMITED = 1, 1  # as H.273 and FFmpeg number them
LONGEST_SIDE = 8192
SHORTEST_SIDE = 16
FEWEST_FRAMES = 2
TALLEST_INTERLACED = 1088  # lines; none of more are recorded so
DECODERS = {
    "h264", "hevc", "vp8", "vp9", "av1", "libdav1d", "libvpx", "libvpx-vp9", "mpeg4",
    "prores", "mjpeg", "dnxhd", "ffv1", "rawvideo", "mpeg2video", "png", "v210",
}  # fmt: skip


@dataclass(frozen=True)
class Probe:
    """What a file holds. Sizes are of the upright picture (rotation flag applied)."""

    width: int
    height: int
    pixel_aspect: float
    rotation: int  # degrees clockwise the stored picture is turned to stand upright: 0 90 180 270
    pixel_format: str
    bit_depth: int
    codec: str
    container: str
    frame_count: int
    rate: float  # mean frames a second
    variable_rate: bool
    duration: float  # seconds, first frame shown to last frame gone
    colour: dict[str, int]
    sound: dict[str, Any] | None
    camera: str = ""  # as the file tells it
    sphere: SphereTag | None = None  # what the file says of being one
    interlaced: bool = False  # its pictures are of two fields each, taken one after the other
    each: Each = "pair"  # what becomes a frame, then
    first_field: First = "file"  # and which comes first; in doubt each picture's own flag says so

    @property
    def fields(self) -> Fields | None:
        """How fields become frames; None where pictures are taken as they are."""
        as_they_are = not self.interlaced or self.each == "whole"
        return None if as_they_are else Fields(self.each, self.first_field)

    @property
    def canvas(self) -> Canvas:
        return Canvas(self.width, self.height, self.pixel_aspect)

    def to_json(self) -> dict[str, Any]:
        return asdict(self)

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> Probe:
        sphere = data.get("sphere")
        return cls(**{**data, "sphere": sphere and SphereTag.from_json(sphere)})


class Layout(Protocol):
    """How a file's pictures become those that the rest of the house works on."""

    def laid_out(self, picture: Picture) -> Picture:
        """A decoded picture, laid out."""
        ...


@dataclass(frozen=True)
class Scan:
    """A probe with the presentation time of every frame.

    ``pts`` int64 ``(n,)`` ascending, in units of ``time_base`` seconds. ``keys`` are the numbers of
    those frames that are coded whole, without others; none where the file does not say. Where there
    is a ``layout``, pictures are laid out by it when they are decoded, and the probe has that size.
    """

    probe: Probe
    pts: NDArray[np.int64]
    time_base: Fraction
    keys: tuple[int, ...] = ()
    layout: Layout | None = None
    file_size: tuple[int, int] | None = None  # upright, before that; None: the probe's

    @property
    def stored_size(self) -> tuple[int, int]:
        """Width and height of the file's pictures as they are stored, not upright."""
        width, height = self.file_size or (self.probe.width, self.probe.height)
        return (height, width) if self.probe.rotation in (90, 270) else (width, height)

    def keys_within(self, first: int, last: int) -> list[int]:
        """Those of frames ``first`` to ``last`` that are coded whole: in them the codec has kept
        most of what there is."""
        return [key for key in self.keys if first <= key <= last]

    @property
    def per_picture(self) -> int:
        """Frames that a picture of the file becomes; :attr:`pts` count parts of its own time base
        as small."""
        fields = self.probe.fields
        return 1 if fields is None else fields.count

    @property
    def times(self) -> NDArray[np.float64]:
        """``(n,)`` seconds since the first frame."""
        return (self.pts - self.pts[0]) * float(self.time_base)


def open_input(path: Path) -> av.container.InputContainer:
    """Open a local, single-file container; never anything it refers to."""
    demuxer = demuxer_for(path)
    try:
        return av.open(
            f"file:{path.resolve()}",
            format=demuxer,
            options={"protocol_whitelist": "file", "enable_drefs": "0", "use_absolute_path": "0"},
        )
    except (av.error.FFmpegError, ValueError) as error:
        raise DamagedMedia(
            f"the file cannot be opened ({_words(error)}).", file=path, remedy="Copy it again."
        ) from error


def picture_stream(container: av.container.InputContainer, path: Path) -> VideoStream:
    """The stream that holds the footage (cover pictures are passed over)."""
    for stream in container.streams.video:
        attached = stream.disposition & av.stream.Disposition.attached_pic
        if not attached and stream.codec_context is not None:
            return stream
    held = "only sound" if container.streams.audio else "no pictures"
    raise MediaError(f"the file holds {held}.", file=path, remedy="Choose a file with a picture.")


def scan(path: str | Path, fields: Fields | None = None) -> Scan:
    """Check and describe a file, reading packet times but decoding only a first frame, or a few
    where they may be interlaced. ``fields`` say how such become frames, whatever is recognised.

    Raises MediaError (or DamagedMedia) naming the file, the reason and what to do.
    """
    path = Path(path)
    if not path.is_file():
        raise MediaError("there is no such file.", file=path, remedy="Check the name.")
    with open_input(path) as container:
        stream = picture_stream(container, path)
        context = stream.codec_context
        if context.name not in DECODERS:
            raise MediaError(
                f"its picture is coded as {context.name}, which is not read here.",
                file=path,
                remedy="Convert it to H.264 first.",
            )
        if max(context.width, context.height) > LONGEST_SIDE:
            raise MediaError(
                f"its picture is {context.width} x {context.height}; the longest side may be "
                f"{LONGEST_SIDE}.",
                file=path,
                remedy="Scale it down first.",
            )
        pts, keys = _packet_times(container, stream, path)
        sound = _sound(container)
    with open_input(path) as container:
        stream = picture_stream(container, path)
        try:
            decoded = container.decode(stream)
            first = next(decoded, None)
        except (av.error.FFmpegError, ValueError) as error:
            raise _undecodable(path, error) from error
        if first is None:
            raise _undecodable(path, None)
        told = _first_field(first, decoded)
        found = replace(_describe(path, container, stream, first, pts, sound), keys=keys)
        return found if told is None and fields is None else _in_fields(found, told, fields)


def _first_field(first: av.VideoFrame, others: Iterator[av.VideoFrame]) -> First | None:
    """Which field of interlaced pictures comes first; None where they are whole."""
    if first.interlaced_frame:
        return "file"
    if first.height > TALLEST_INTERLACED or first.format.is_rgb:
        return None
    deep = first.format.components[0].bits > 8
    lumas = []
    try:
        for frame in chain((first,), islice(others, LOOKS - 1)):
            if frame.interlaced_frame:
                return "file"
            if (frame.width, frame.height) == (first.width, first.height):
                luma = plane_view(frame.planes[0], deep)
                lumas.append((luma >> (first.format.components[0].bits - 8)).astype(np.uint8))
    except (av.error.FFmpegError, ValueError):
        return None  # what is damaged is said when it is decoded
    return order_told(lumas)


def _in_fields(found: Scan, told: First | None, fields: Fields | None) -> Scan:
    """The scan of interlaced pictures, whose frames are as ``fields`` say."""
    asked = fields or Fields()
    first = asked.first if asked.first != "file" else told or "upper"
    probe = replace(found.probe, interlaced=True, each=asked.each, first_field=first)
    if asked.count == 1:
        return replace(found, probe=probe)
    count, rate = asked.count * probe.frame_count, asked.count * probe.rate
    return replace(
        found, probe=replace(probe, frame_count=count, rate=rate),
        pts=times_of_fields(found.pts), time_base=found.time_base / asked.count,
        keys=tuple(asked.count * key for key in found.keys),
    )  # fmt: skip


def _packet_times(
    container: av.container.InputContainer, stream: VideoStream, path: Path
) -> tuple[NDArray[np.int64], tuple[int, ...]]:
    """When each picture is shown, and the numbers of those that need no other."""
    times: list[int] = []
    whole: set[int] = set()
    start: int | None = None  # when the first picture is shown that needs no other
    codec = stream.codec_context.name
    try:
        for packet in container.demux(stream):
            if packet.size and not packet.is_discard and _is_shown(codec, packet):
                stamp = packet.pts if packet.pts is not None else packet.dts
                if stamp is None:
                    continue
                if start is None and packet.is_keyframe:
                    start = stamp
                # What comes before it can be decoded is of a part that was cut off.
                if start is not None and stamp >= start:
                    times.append(stamp)
                    if packet.is_keyframe:
                        whole.add(stamp)
    except av.error.FFmpegError as error:
        raise _undecodable(path, error) from error
    pts = np.unique(np.array(times, np.int64))
    if len(pts) < FEWEST_FRAMES:
        count = "one frame" if len(pts) else "no frames"
        raise MediaError(
            f"it holds {count}; camera motion needs at least {FEWEST_FRAMES}.",
            file=path,
            remedy="Choose a longer recording.",
        )
    return pts, tuple(np.searchsorted(pts, sorted(whole)).tolist())


def _is_shown(codec: str, packet: Packet[VideoStream]) -> bool:
    """False for a packet that only prepares later pictures: VP8 has such (RFC 6386, 9.1)."""
    return codec != "vp8" or bool(bytes(packet)[0] & 0x10)


def _describe(
    path: Path,
    container: av.container.InputContainer,
    stream: VideoStream,
    first: av.VideoFrame,
    pts: NDArray[np.int64],
    sound: dict[str, Any] | None,
) -> Scan:
    rotation = round(-first.rotation / 90.0) * 90 % 360
    width, height = first.width, first.height
    if min(width, height) < SHORTEST_SIDE:
        raise MediaError(
            f"its picture is {width} x {height}; the shortest side may be {SHORTEST_SIDE}.",
            file=path,
            remedy="Choose another recording.",
        )
    ratio = stream.sample_aspect_ratio or Fraction(1)
    aspect = float(ratio) if ratio > 0 else 1.0
    if rotation in (90, 270):
        width, height, aspect = height, width, 1.0 / aspect
    assert stream.time_base is not None
    steps = np.diff(pts) * float(stream.time_base)
    typical = float(np.median(steps))
    duration = float(steps.sum()) + typical
    probe = Probe(
        width=width,
        height=height,
        pixel_aspect=aspect,
        rotation=rotation,
        pixel_format=first.format.name,
        bit_depth=first.format.components[0].bits,
        codec=stream.codec_context.codec.name,
        container=container.format.name,
        frame_count=len(pts),
        rate=len(pts) / duration if duration > 0 else 0.0,
        # A time base coarser than the rate makes steps differ by a tick; that is not variable.
        variable_rate=bool(np.ptp(steps) > max(0.25 * typical, 2.5 * float(stream.time_base))),
        duration=duration,
        colour=_colour(first),
        sound=sound,
        camera=_camera(container.metadata),
        sphere=sphere_tag(path, demuxer_for(path)),
    )
    return Scan(probe, pts, stream.time_base)


def _camera(metadata: dict[str, str]) -> str:
    """Maker and model, as cameras write them into their files; empty if they did not."""
    told = {key.lower(): value.strip() for key, value in metadata.items()}

    def first_of(*names: str) -> str:
        return next((told[name][:60] for name in names if told.get(name)), "")

    make = first_of("com.apple.quicktime.make", "com.android.manufacturer", "make")
    model = first_of("com.apple.quicktime.model", "com.android.model", "model")
    # Some makers repeat themselves in the model's name.
    return model if model.lower().startswith(make.lower()) else f"{make} {model}".strip()


def _colour(first: av.VideoFrame) -> dict[str, int]:
    """Colour tags of the planes worked on (ITU-T H.273 numbers)."""
    tags = {
        "primaries": int(first.color_primaries),
        "transfer": int(first.color_trc),
        "matrix": int(first.colorspace),
        "range": int(first.color_range),
    }
    if first.format.is_rgb:  # converted on decoding, see decode.working_frame
        tags |= {"matrix": BT709, "range": LIMITED}
    return tags


def sound_stream(container: av.container.InputContainer) -> AudioStream | None:
    """The first stream of sound that can be read; phones add ones of kinds that nobody knows."""
    return next((s for s in container.streams.audio if s.codec_context is not None), None)


def _sound(container: av.container.InputContainer) -> dict[str, Any] | None:
    stream = sound_stream(container)
    if stream is None:
        return None
    context = stream.codec_context
    return {
        "codec": context.codec.canonical_name,
        "rate": context.sample_rate,
        "channels": context.layout.nb_channels,
    }


def _undecodable(path: Path, error: Exception | None) -> DamagedMedia:
    why = f" ({_words(error)})" if error else ""
    return DamagedMedia(f"its pictures cannot be decoded{why}.", file=path, remedy="Copy it again.")


def _words(error: Exception) -> str:
    return str(getattr(error, "strerror", None) or error).strip() or type(error).__name__
