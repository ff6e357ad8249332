"""Work on a film in segments: what is broken off goes on from the last whole one, and several
workers can share in it.

A segment of a film that is encoded is an MP4 of its own, written by :class:`.encode.Mp4Writer`,
that begins with a keyframe; :func:`join` copies their packets into one file, bit for bit.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import takewhile
from pathlib import Path

from av.packet import Packet
from av.video.stream import VideoStream

from ..errors import DamagedMedia, disk_errors
from ..progress import Progress
from .mp4 import Mp4File
from .probe import Scan, open_input, picture_stream
from .spherical import SphereTag

LENGTH = 250  # frames: as far apart as keyframes lie in any case, so cutting there costs nothing


LONGEST = 375  # frames, where that lets a segment begin where the source can be entered


@dataclass(frozen=True)
class Segment:
    """Frames ``first`` to ``last`` (of the recording, both included) in a file or folder of their
    own."""

    path: Path
    first: int
    last: int


Handed = Callable[[list[Segment], Progress], Iterator[tuple[Segment, Path]]]
"""Gives those of some segments that are to be made here, each with where it is to be written; ends
once all are there, or are made by others."""


def plan(
    room: Path, scan: Scan, first: int, last: int, name: str = "pictures-{}.mp4"
) -> list[Segment]:
    """The segments of a range, with the files in ``room`` that they have or will have. They begin
    where the file can be entered, if that is not too far off."""
    keys, found = list(scan.keys), []
    while first <= last:
        after = first + LENGTH
        near = bisect_left(keys, after)
        if near < len(keys) and keys[near] <= first + LONGEST:
            after = keys[near]
        found.append(Segment(room / name.format(first), first, min(after - 1, last)))
        first = after
    return found


def missing(segments: list[Segment], progress: Progress) -> Iterator[tuple[Segment, Path]]:
    """Whatever is not there, in order: :data:`Handed` where nobody else is at it."""
    for segment in segments:
        if not segment.path.exists():
            yield segment, segment.path


def join(
    segments: list[Segment], target: Path, scan: Scan, *, sound_from: Path,
    encode_sound: bool = False, sphere: SphereTag | None = None,
) -> str:  # fmt: skip
    """Write the pictures of ``segments`` and their sound into ``target``; ``sphere`` is what it is
    to say of being one.

    Returns the sentence about the sound. The sources are ours, so damage is not expected; it
    raises DamagedMedia all the same.
    """
    first, last = segments[0].first, segments[-1].last
    delay = _held_back(segments[0])
    with open_input(segments[0].path) as container, Mp4File(target, scan, first, last) as out:
        pictures = out.target.add_stream_from_template(picture_stream(container, target))
        pictures.time_base = scan.time_base
        out.sphere, out.size = sphere, (pictures.width, pictures.height)
        out.add_sound(sound_from, always_encode=encode_sound)
        start = int(scan.pts[first])
        for index, packet in enumerate(_packets(segments, scan), first):
            # Decoding times are presentation times, later by what the decoder holds back; before
            # the first they go on backwards.
            if index - delay >= first:
                packet.dts = int(scan.pts[index - delay]) - start
            else:
                packet.dts = start - int(scan.pts[min(last, 2 * first + delay - index)])
            packet.stream = pictures
            with disk_errors(target):
                out.target.mux(packet)
                out.sound_until(int(scan.pts[index]))
        out.finish()
    return out.sound_note


def _held_back(segment: Segment) -> int:
    """How many pictures a decoder holds back to sort them: as many as decode before time zero."""
    with open_input(segment.path) as container:
        stream = picture_stream(container, segment.path)
        times = (packet.dts for packet in container.demux(stream) if packet.dts is not None)
        return sum(1 for _ in takewhile(lambda time: time < 0, times))


def _packets(segments: list[Segment], scan: Scan) -> Iterator[Packet[VideoStream]]:
    """The packets of all segments in decoding order, with presentation times of the whole."""
    zero = int(scan.pts[segments[0].first])
    for segment in segments:
        expected = segment.last - segment.first + 1
        with open_input(segment.path) as container:
            stream = picture_stream(container, segment.path)
            assert stream.time_base is not None
            to_source = stream.time_base / scan.time_base
            count = 0
            for packet in container.demux(stream):
                if packet.pts is None or not packet.size:
                    continue
                packet.pts = round(packet.pts * to_source) + int(scan.pts[segment.first]) - zero
                packet.duration = round((packet.duration or 0) * to_source)
                packet.time_base = scan.time_base
                count += 1
                if count > expected:
                    break
                yield packet
        if count != expected:
            raise DamagedMedia(
                "a finished part of the film has been damaged.", file=segment.path,
                remedy="Try again.",
            )  # fmt: skip
