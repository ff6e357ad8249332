"""Writing into a finished MP4 that its picture is a sphere: by both versions of the open spherical
video RFC, so that old players and new ones know it.

Version 1 is an XML text in a ``uuid`` box at the end of the picture's track; version 2 are ``st3d``
and ``sv3d`` boxes at the end of its sample entry. What lies behind the index in the file moves by
what the index grew, and its chunk offsets with it.

Layouts: *Spherical Video RFC*, V1 and V2; ISO/IEC 14496-12.
"""

from __future__ import annotations

import io
import shutil
import struct
from pathlib import Path

import numpy as np

from .containers import boxes
from .spherical import (
    AMBISONIC,
    GSPHERICAL,
    PICTURES,
    SAMPLE_ENTRY,
    SOUND,
    SPHERICAL_UUID,
    STEREO_BY_BOX,
    SphereTag,
    sound_entry,
)

SOURCE = "Keen Horizon"
ROOM = 1 << 16  # bytes that an index may grow by
_TO_ENTRY = (b"mdia", b"minf", b"stbl", b"stsd")
_XML = (
    '<?xml version="1.0"?><rdf:SphericalVideo '
    'xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#" '
    'xmlns:GSpherical="{space}"><GSpherical:Spherical>true</GSpherical:Spherical>'
    "<GSpherical:Stitched>true</GSpherical:Stitched>"
    "<GSpherical:StitchingSoftware>{source}</GSpherical:StitchingSoftware>"
    "<GSpherical:ProjectionType>equirectangular</GSpherical:ProjectionType>{more}"
    "</rdf:SphericalVideo>"
)


def write_sphere_tag(
    source: Path, target: Path, tag: SphereTag, size: tuple[int, int], sound: bytes = b""
) -> None:
    """Copy an MP4 to ``target``, saying in its picture's track what ``tag`` says of a picture of
    ``size``, in place of what it said before; and of its sound what :func:`.ambisonic_box` has of
    another file, if anything. Memory does not grow with the file, but for its
    index. Raises ValueError for a file without an index."""
    with source.open("rb") as stream, target.open("wb") as out:
        layout = list(boxes(stream, 0, source.stat().st_size))
        index = next((k for k, (kind, _, _) in enumerate(layout) if kind == b"moov"), None)
        if index is None:
            raise ValueError("the film has no index")
        _, body, end = layout[index]
        stream.seek(body)
        old = stream.read(end - body)
        # Offsets get the width that they will need before it is known how far they move.
        new = _moved(_tagged_index(old, tag, size, sound), 0, 0)
        start = body - 8 if end - body + 8 < 2**32 else body - 16
        grown = 8 + len(new) - (end - start)
        stream.seek(0)
        _copy(stream, out, start)
        out.write(_box(b"moov", _moved(new, start, grown)))
        stream.seek(end)
        shutil.copyfileobj(stream, out)


def tag_film(path: Path, tag: SphereTag, size: tuple[int, int], sound: bytes = b"") -> None:
    """As :func:`write_sphere_tag`, in place."""
    plain = path.replace(path.with_suffix(".plain"))
    try:
        write_sphere_tag(plain, path, tag, size, sound)
    finally:
        plain.unlink(missing_ok=True)


def _copy(stream: io.BufferedReader, out: io.BufferedWriter, count: int) -> None:
    while count > 0 and (piece := stream.read(min(count, 1 << 20))):
        out.write(piece)
        count -= len(piece)


def _box(kind: bytes, body: bytes) -> bytes:
    return struct.pack(">I4s", 8 + len(body), kind) + body


def _parts(body: bytes, start: int = 0) -> list[tuple[bytes, bytes]]:
    """The boxes of a body, from an offset on."""
    stream = io.BytesIO(body)
    return [(kind, body[at:end]) for kind, at, end in boxes(stream, start, len(body))]


def _joined(parts: list[tuple[bytes, bytes]]) -> bytes:
    return b"".join(_box(kind, body) for kind, body in parts)


def _tagged_index(body: bytes, tag: SphereTag, size: tuple[int, int], sound: bytes) -> bytes:
    """An index that says so of its first track with pictures, and of its first one with sound."""
    parts, told = [], {SOUND: bool(not sound), PICTURES: False}
    for kind, own in _parts(body):
        what = _handler(own) if kind == b"trak" else b""
        if what in told and not told[what]:
            told[what] = True
            if what == PICTURES:
                kept = [part for part in _parts(own) if not _says(*part)]
                own = _in_entry(_joined(kept), _TO_ENTRY, _version_2(tag)) + _version_1(tag, size)
            else:
                own = _in_entry(own, _TO_ENTRY, _box(AMBISONIC, sound))
        parts.append((kind, own))
    return _joined(parts)


def _handler(track: bytes) -> bytes:
    """What a track holds."""
    media = dict(_parts(track)).get(b"mdia", b"")
    return dict(_parts(media)).get(b"hdlr", b"")[8:12]


def _in_entry(body: bytes, way: tuple[bytes, ...], said: bytes) -> bytes:
    """A body with what is ``said`` at the end of the sample entry that lies down the ``way``."""
    if way:
        head, *rest = way
        return _joined([
            (kind, _in_entry(own, tuple(rest), said) if kind == head else own)
            for kind, own in _parts(body)
        ])  # fmt: skip
    # The sample description itself: version, flags, count, and then its entries.
    sounds = said[4:8] == AMBISONIC
    entries = []
    for kind, own in _parts(body, 8):
        start = sound_entry(own) if sounds else SAMPLE_ENTRY
        kept = [part for part in _parts(own, start) if not _says(*part)]
        entries.append((kind, own[:start] + _joined(kept) + said))
    return body[:8] + _joined(entries)


def _says(kind: bytes, body: bytes) -> bool:
    """Whether a box says already that there is a sphere, or how it sounds."""
    return kind in (b"st3d", b"sv3d", AMBISONIC) or (
        kind == b"uuid" and body.startswith(SPHERICAL_UUID)
    )


def _version_1(tag: SphereTag, size: tuple[int, int]) -> bytes:
    more = "" if tag.stereo == "mono" else _element("StereoMode", tag.stereo)
    if any(tag.bounds):
        top, bottom, left, right = tag.bounds
        wide, high = (round(n / (1 - a - b)) for n, (a, b) in
                      zip(size, ((left, right), (top, bottom)), strict=True))  # fmt: skip
        more += "".join(
            _element(name, str(value))
            for name, value in (
                ("CroppedAreaImageWidthPixels", size[0]), ("CroppedAreaImageHeightPixels", size[1]),
                ("FullPanoWidthPixels", wide), ("FullPanoHeightPixels", high),
                ("CroppedAreaLeftPixels", min(round(left * wide), wide - size[0])),
                ("CroppedAreaTopPixels", min(round(top * high), high - size[1])),
            )
        )  # fmt: skip
    text = _XML.format(space=GSPHERICAL, source=SOURCE, more=more)
    return _box(b"uuid", SPHERICAL_UUID + text.encode())


def _element(name: str, value: str) -> str:
    return f"<GSpherical:{name}>{value}</GSpherical:{name}>"


def _version_2(tag: SphereTag) -> bytes:
    mode = next(number for number, name in STEREO_BY_BOX.items() if name == tag.stereo)
    plain = b"\0" * 4  # version and flags
    bounds = struct.pack(">4I", *(min(round(share * 2**32), 2**32 - 1) for share in tag.bounds))
    pose = struct.pack(">3i", *(round(degrees * 65536) for degrees in tag.pose))
    projection = _box(b"prhd", plain + pose) + _box(b"equi", plain + bounds)
    described = _box(b"svhd", plain + SOURCE.encode() + b"\0") + _box(b"proj", projection)
    return _box(b"st3d", plain + bytes([mode])) + _box(b"sv3d", described)


def _moved(index: bytes, from_: int, by: int) -> bytes:
    """An index whose chunk offsets beyond ``from_`` are moved."""
    parts = []
    for kind, body in _parts(index):
        if kind in (b"trak", b"mdia", b"minf", b"stbl"):
            body = _moved(body, from_, by)
        elif kind in (b"stco", b"co64"):
            wide = ">u8" if kind == b"co64" else ">u4"
            offsets = np.frombuffer(body, wide, offset=8).astype(np.int64)
            offsets = np.where(offsets > from_, offsets + by, offsets)
            if len(offsets) and offsets.max() >= 2**32 - ROOM:
                kind, wide = b"co64", ">u8"
            body = body[:8] + offsets.astype(wide).tobytes()
        parts.append((kind, body))
    return _joined(parts)
