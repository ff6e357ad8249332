"""What a file says of being a sphere: the open spherical video RFC and Matroska's projection.

Version 1 of the RFC is XML in a ``uuid`` box of the track; version 2 are boxes in the track's
sample description (``st3d``, ``sv3d``); Matroska has a ``Projection`` element. All of them are read
by walking boxes and elements: nothing is decoded, and what is malformed counts as not said.

Layouts: *Spherical Video RFC*, V1 and V2; ISO/IEC 14496-12; RFC 9559 (Matroska).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any, BinaryIO, Literal
from xml.etree.ElementTree import ParseError

from defusedxml.ElementTree import fromstring

from .containers import boxes, ebml_number

Stereo = Literal["mono", "top-bottom", "left-right"]
SPHERICAL_UUID = bytes.fromhex("ffcc8263f8554a938814587a02521fdd")
GSPHERICAL = "http://ns.google.com/videos/1.0/spherical/"
SAMPLE_ENTRY = 78  # bytes of a visual sample entry before its boxes
SOUND_ENTRIES = {0: 28, 1: 44, 2: 64}  # and of a sound's, by its version
PICTURES, SOUND = b"vide", b"soun"  # what tracks hold
AMBISONIC = b"SA3D"  # the box that says which channel is what of a field of sound
LONGEST = 1 << 16  # bytes of what is read whole
DEEPEST = 10  # boxes or elements inside each other
# Which eye comes first does not matter here: both get one correction.
STEREO_BY_BOX: dict[int, Stereo] = {
    0: "mono", 1: "top-bottom", 2: "left-right", 4: "left-right",
}  # fmt: skip
STEREO_BY_NAME: dict[str, Stereo] = {mode: mode for mode in STEREO_BY_BOX.values()}
STEREO_BY_ELEMENT: dict[int, Stereo] = {
    0: "mono", 1: "left-right", 2: "top-bottom", 3: "top-bottom", 11: "left-right",
}  # fmt: skip
_NESTED = {b"moov", b"trak", b"mdia", b"minf", b"stbl", b"sv3d", b"proj"}
# Matroska's elements that lead to what is said, and those that say it.
_SEGMENT, _TRACKS, _ENTRY, _VIDEO = 0x18538067, 0x1654AE6B, 0xAE, 0xE0
_STEREO, _PROJECTION, _TYPE, _PRIVATE = 0x53B8, 0x7670, 0x7671, 0x7672
_POSE = (0x7673, 0x7674, 0x7675)
_INSIDE = {_SEGMENT, _TRACKS, _ENTRY, _VIDEO, _PROJECTION}
_CLUSTER = 0x1F43B675
EQUIRECTANGULAR = 1  # of Matroska's projection types


@dataclass(frozen=True)
class SphereTag:
    """What a file says of its sphere.

    ``projection`` is ``equirectangular``, or what else it says; ``stereo`` how the eyes lie in the
    picture. ``bounds`` are shares of the whole sphere that are cut off above, below, to the left
    and to the right; ``pose`` degrees of yaw, pitch and roll that a player is to turn it by.
    ``said_by`` names what it was read from.
    """

    projection: str = "equirectangular"
    stereo: Stereo = "mono"
    bounds: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 0.0)
    pose: tuple[float, float, float] = (0.0, 0.0, 0.0)
    said_by: str = ""

    def to_json(self) -> dict[str, Any]:
        return asdict(self)

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> SphereTag:
        known: dict[str, Any] = {k: tuple(v) if isinstance(v, list) else v for k, v in data.items()}
        return cls(**known)


def sphere_tag(path: Path, demuxer: str) -> SphereTag | None:
    """What a file says that ``demuxer`` reads, of those with a way to say it; None for nothing.
    Version 2 is believed before version 1."""
    if demuxer not in ("mov", "matroska"):
        return None
    with path.open("rb") as stream:
        size = path.stat().st_size
        if demuxer == "matroska":
            return _by_elements(stream, size)
        return _by_boxes(stream, size)


def ambisonic_box(path: Path, demuxer: str) -> bytes:
    """The body of the box by which a film says that its sound is a field all around (*Spatial Audio
    RFC*); empty for one that does not, or whose box cannot be one."""
    if demuxer == "matroska":
        return b""
    with path.open("rb") as stream:
        for kind, body, end in _walk(stream, 0, path.stat().st_size, sound=True):
            if kind == AMBISONIC and end - body <= LONGEST:
                stream.seek(body)
                return stream.read(end - body)
    return b""


def sound_entry(entry: bytes) -> int:
    """Bytes of a sound's sample ``entry`` before its boxes."""
    return SOUND_ENTRIES.get(int.from_bytes(entry[8:10], "big"), len(entry))


# --- boxes ----------------------------------------------------------------------------------------


def _by_boxes(stream: BinaryIO, size: int) -> SphereTag | None:
    found: dict[bytes, bytes] = {}
    for kind, body, end in _walk(stream, 0, size):
        if end - body <= LONGEST and kind not in found:
            stream.seek(body)
            content = stream.read(end - body)
            if kind != b"uuid" or content.startswith(SPHERICAL_UUID):
                found[kind] = content
    if found.keys() & {b"prhd", b"equi", b"cbmp", b"mshp"}:
        mode = found.get(b"st3d", b"")[4:5]
        return _by_version_2(found, STEREO_BY_BOX.get(mode[0] if mode else 0, "mono"))
    return _by_xml(found[b"uuid"][16:]) if b"uuid" in found else None


def _walk(
    stream: BinaryIO, start: int, end: int, depth: int = DEEPEST, *, sound: bool = False
) -> Iterator[tuple[bytes, int, int]]:
    """The boxes of a film that may say something of its pictures, or of its ``sound``, in the order
    of the file."""
    for kind, body, stop in boxes(stream, start, end):
        stop = min(stop, end)
        if kind in _NESTED and depth:
            yield from _walk(stream, body, stop, depth - 1, sound=sound)
        elif kind == b"stsd" and depth:
            for _entry, at, there in boxes(stream, body + 8, stop):
                start_of = SAMPLE_ENTRY
                if sound:
                    stream.seek(at)
                    start_of = sound_entry(stream.read(10))
                yield from _walk(stream, at + start_of, min(there, stop), depth - 1, sound=sound)
        elif kind in (AMBISONIC, b"uuid", b"st3d", b"prhd", b"equi", b"cbmp", b"mshp"):
            yield kind, body, stop


def _by_version_2(found: dict[bytes, bytes], stereo: Stereo) -> SphereTag:
    pose = (0.0, 0.0, 0.0)
    if len(found.get(b"prhd", b"")) >= 16:
        pose = tuple(v / 65536 for v in struct.unpack(">3i", found[b"prhd"][4:16]))
    if b"equi" not in found:
        other = "cube map" if b"cbmp" in found else "mesh"
        return SphereTag(other, stereo, pose=pose, said_by="its boxes")
    return SphereTag(stereo=stereo, bounds=_bounds(found[b"equi"]), pose=pose, said_by="its boxes")


def _bounds(equi: bytes) -> tuple[float, float, float, float]:
    """Top, bottom, left, right as the box has them, 0.32 fixed point; none if they are no
    bounds."""
    if len(equi) < 20:
        return (0.0, 0.0, 0.0, 0.0)
    top, bottom, left, right = (v / 2**32 for v in struct.unpack(">4I", equi[4:20]))
    if top + bottom >= 1 or left + right >= 1:
        return (0.0, 0.0, 0.0, 0.0)
    return top, bottom, left, right


def _by_xml(text: bytes) -> SphereTag | None:
    """Version 1. Nothing is read that declares entities of its own."""
    try:
        tree = fromstring(text.rstrip(b"\0"), forbid_dtd=True)
    except (ParseError, ValueError, LookupError):  # what is forbidden is a ValueError, too
        return None
    said = {
        element.tag.removeprefix(f"{{{GSPHERICAL}}}"): (element.text or "").strip()
        for element in tree.iter()
        if isinstance(element.tag, str) and element.tag.startswith(f"{{{GSPHERICAL}}}")
    }
    if said.get("Spherical", "").lower() not in ("true", "1"):
        return None
    stereo = STEREO_BY_NAME.get(said.get("StereoMode", "").lower(), "mono")
    projection = said.get("ProjectionType", "equirectangular").lower()
    return SphereTag(projection, stereo, _cropped(said), said_by="its XML")


def _cropped(said: dict[str, str]) -> tuple[float, float, float, float]:
    names = (
        "FullPanoWidthPixels", "FullPanoHeightPixels", "CroppedAreaImageWidthPixels",
        "CroppedAreaImageHeightPixels", "CroppedAreaLeftPixels", "CroppedAreaTopPixels",
    )  # fmt: skip
    try:
        wide, high, width, height, left, top = (int(said[name]) for name in names)
    except (KeyError, ValueError):
        return (0.0, 0.0, 0.0, 0.0)
    right, bottom = wide - left - width, high - top - height
    if min(wide, high, width, height) <= 0 or min(left, top, right, bottom) < 0:
        return (0.0, 0.0, 0.0, 0.0)
    return top / high, bottom / high, left / wide, right / wide


# --- elements -------------------------------------------------------------------------------------


def _by_elements(stream: BinaryIO, size: int) -> SphereTag | None:
    said: dict[int, bytes] = {}
    for name, content in _elements(stream, 0, size):
        said.setdefault(name, content)
    kind = int.from_bytes(said.get(_TYPE, b""), "big")
    if not kind:
        return None
    stereo = STEREO_BY_ELEMENT.get(int.from_bytes(said.get(_STEREO, b""), "big"), "mono")
    yaw, pitch, roll = (_real(said.get(name, b"")) for name in _POSE)
    if kind != EQUIRECTANGULAR:
        other = "cube map" if kind == 2 else "mesh"
        return SphereTag(other, stereo, pose=(yaw, pitch, roll), said_by="its projection element")
    bounds = _bounds(said.get(_PRIVATE, b""))
    return SphereTag("equirectangular", stereo, bounds, (yaw, pitch, roll),
                     "its projection element")  # fmt: skip


def _elements(
    stream: BinaryIO, start: int, end: int, depth: int = DEEPEST
) -> Iterator[tuple[int, bytes]]:
    """What elements say, before the pictures begin."""
    at = start
    while at < end and depth:
        stream.seek(at)
        name = _element_id(stream)
        length, unknown = ebml_number(stream)
        if name is None or length is None or name == _CLUSTER:
            return
        body = stream.tell()
        stop = end if unknown else min(body + length, end)
        if name in _INSIDE:
            yield from _elements(stream, body, stop, depth - 1)
            if name == _SEGMENT:
                return
        elif name in (_STEREO, _TYPE, _PRIVATE, *_POSE) and stop - body <= LONGEST:
            yield name, stream.read(stop - body)
        at = stop if stop > at else end


def _element_id(stream: BinaryIO) -> int | None:
    first = stream.read(1)
    if not first or first[0] < 0x10:
        return None
    rest = stream.read(8 - first[0].bit_length())
    return int.from_bytes(first + rest, "big")


def _real(value: bytes) -> float:
    """A number as elements have it, 0 for none."""
    if len(value) not in (4, 8):
        return 0.0
    (found,) = struct.unpack(">f" if len(value) == 4 else ">d", value)
    return float(found) if abs(found) <= 360 else 0.0
