"""What kind of file is this, before any decoder sees it?

Uploaded media is hostile. Only single-file containers that carry their own pictures are let in,
recognised by their first bytes, and the demuxer is then named rather than guessed, so that a
playlist or a script dressed as a video is never interpreted. QuickTime can also point to other
files (data references, reference movies); those are found here and refused.

Layouts: ISO/IEC 14496-12 (boxes), RFC 8794 (EBML), ISO/IEC 13818-1 (transport streams, with the
four bytes of time that cameras put before each packet or without), RIFF (AVI), SMPTE ST 377-1
(MXF).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from ..errors import DamagedMedia, MediaError

_BOX_STARTS = {b"ftyp", b"moov", b"mdat", b"wide", b"free", b"skip", b"pnot"}
_NESTED = {b"moov", b"trak", b"mdia", b"minf", b"dinf"}
_EBML = b"\x1a\x45\xdf\xa3"
_SEGMENT = b"\x18\x53\x80\x67"
MOST_BOXES = 100_000  # side by side; more is no film
_REMEDY = "Use an MP4, MOV, MKV, WebM, MTS, AVI or MXF file that holds its own pictures."
_SYNC, _PACKET, _PACKETS = 0x47, 188, 5  # of transport streams: so many in a row are no chance
_STAMPED = 4  # bytes of time before each packet, where there are any
_PARTITION = bytes.fromhex("060e2b34020501010d0102")  # that an MXF file begins with


def demuxer_for(path: Path) -> str:
    """Name of the demuxer that may read ``path``: ``mov``, ``matroska``, ``mpegts``, ``avi`` or
    ``mxf``.

    Raises MediaError for anything that is not one of the containers let in, or that refers to
    other files; DamagedMedia for a file that ends before it should.
    """
    size = path.stat().st_size
    if size == 0:
        raise DamagedMedia("the file is empty.", file=path, remedy="Copy it again.")
    with path.open("rb") as stream:
        head = stream.read(16)
        if head[4:8] in _BOX_STARTS:
            _check_boxes(stream, size, path)
            return "mov"
        if head.startswith(_EBML):
            _check_segment(stream, size, path)
            return "matroska"
        if head.startswith(b"RIFF") and head[8:12] == b"AVI ":
            _check_riff(stream, size, path)
            return "avi"
        if head.startswith(_PARTITION):
            return "mxf"
        if _is_transport(stream):
            return "mpegts"
        text = head.lstrip().lower()
        if text.startswith((b"#extm3u", b"<?xml", b"<mpd", b"ffconcat", b"http", b"file:")):
            raise MediaError(
                "this is a list of other files or addresses, not footage.",
                file=path,
                remedy=_REMEDY,
            )
    raise MediaError("this is not a video file that can be read here.", file=path, remedy=_REMEDY)


def _is_transport(stream: BinaryIO) -> bool:
    """Whether packets of a transport stream follow each other from the start."""
    for before in (0, _STAMPED):
        stream.seek(0)
        step = _PACKET + before
        head = stream.read(_PACKETS * step)
        if len(head) == _PACKETS * step and set(head[before::step]) == {_SYNC}:
            return True
    return False


def _check_riff(stream: BinaryIO, size: int, path: Path) -> None:
    """What an AVI file says of its length must be there."""
    stream.seek(4)
    if struct.unpack("<I", stream.read(4))[0] + 8 > size + 1:
        raise _cut_short(path)


def boxes(stream: BinaryIO, start: int, end: int) -> Iterator[tuple[bytes, int, int]]:
    """Boxes between two offsets as ``(kind, body start, box end)``; the end may pass ``end``."""
    at = start
    for _ in range(MOST_BOXES):
        if at + 8 > end:
            return
        stream.seek(at)
        header = stream.read(16)
        if len(header) < 8:
            return
        length, kind = struct.unpack(">I4s", header[:8])
        body = at + 8
        if length == 1 and len(header) == 16:
            length, body = struct.unpack(">Q", header[8:])[0], at + 16
        elif length == 0:
            length = end - at
        if length < body - at:
            return
        yield kind, body, at + length
        at += length


def _check_boxes(stream: BinaryIO, size: int, path: Path) -> None:
    kinds = set()
    for kind, body, end in boxes(stream, 0, size):
        kinds.add(kind)
        if end > size:
            raise _cut_short(path)
        if kind == b"moov":
            _refuse_references(stream, body, end, path)
    if b"moov" not in kinds:
        raise _cut_short(path)


def _refuse_references(stream: BinaryIO, start: int, end: int, path: Path) -> None:
    for kind, body, stop in boxes(stream, start, end):
        outside = kind == b"rmra"
        if kind == b"dref":
            for _entry, at, _stop in boxes(stream, body + 8, stop):
                stream.seek(at)
                flags = stream.read(4)
                # Flag 1: the samples are in this same file.
                outside |= len(flags) < 4 or not flags[3] & 1
        if outside:
            raise MediaError(
                "the file's pictures or sound lie in other files, which are never followed.",
                file=path,
                remedy="Export it as one self-contained file.",
            )
        if kind in _NESTED:
            _refuse_references(stream, body, min(stop, end), path)


def _check_segment(stream: BinaryIO, size: int, path: Path) -> None:
    """A Matroska segment of stated size must be all there."""
    stream.seek(4)
    header_size, _ = ebml_number(stream)
    if header_size is None:
        raise DamagedMedia("the file's header cannot be read.", file=path, remedy="Copy it again.")
    stream.seek(header_size, 1)
    if stream.read(4) != _SEGMENT:
        raise _cut_short(path)
    segment_size, unknown = ebml_number(stream)
    if segment_size is None or (not unknown and stream.tell() + segment_size > size):
        raise _cut_short(path)


def ebml_number(stream: BinaryIO) -> tuple[int | None, bool]:
    """A variable-length number, and whether it is the 'size unknown' value."""
    first = stream.read(1)
    if not first or first[0] == 0:
        return None, False
    length = 9 - first[0].bit_length()
    raw = bytes([first[0] & (0xFF >> length)]) + stream.read(length - 1)
    if len(raw) < length:
        return None, False
    value = int.from_bytes(raw, "big")
    return value, value == (1 << (7 * length)) - 1


def _cut_short(path: Path) -> DamagedMedia:
    return DamagedMedia(
        "the file ends before it should; part of it is missing.",
        file=path,
        remedy="Copy it again from the camera.",
    )
