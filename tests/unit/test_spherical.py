"""What files say of being spheres: read, written, and read back by a parser of the tests' own."""

from __future__ import annotations

import struct
from pathlib import Path

import av
import numpy as np
import pytest

from keen_horizon.core.media.decode import frames
from keen_horizon.core.media.encode import Encoding, Mp4Writer
from keen_horizon.core.media.probe import scan
from keen_horizon.core.media.sphere_boxes import write_sphere_tag
from keen_horizon.core.media.spherical import SphereTag, ambisonic_box, sphere_tag


@pytest.fixture
def mp4(make_clip):
    """Write a small film, its index before its pictures or behind them."""

    def make(index_first: bool = True, sound: str | None = "aac") -> Path:
        path = make_clip("plain.mp4", width=128, height=64, count=5, sound=sound)
        if not index_first:
            return path
        out = path.with_name("fast.mp4")
        with (
            av.open(str(path)) as source,
            av.open(str(out), "w", options={"movflags": "+faststart"}) as target,
        ):
            streams = {s.index: target.add_stream_from_template(s) for s in source.streams}
            for packet in source.demux():
                if packet.dts is not None:
                    packet.stream = streams[packet.stream.index]
                    target.mux(packet)
        return out

    return make


# --- a parser by the letter of the RFC, that shares nothing with the product's --------------------


def at(data: bytes, *way: bytes) -> bytes:
    """The body of the first box down a way of kinds, by searching for each of them in turn."""
    for kind in way:
        place = data.index(kind)
        (length,) = struct.unpack(">I", data[place - 4 : place])
        data = data[place + 4 : place - 4 + length]
    return data


def as_the_rfc_has_it(path: Path) -> dict[str, object]:
    data = path.read_bytes()
    entry = at(data, b"moov", b"stsd")
    sv3d = at(entry, b"sv3d")
    text = at(data, b"uuid")
    assert text[:16].hex() == "ffcc8263f8554a938814587a02521fdd"
    return {
        "stereo": at(entry, b"st3d")[4],
        "pose": struct.unpack(">iii", at(sv3d, b"proj", b"prhd")[4:16]),
        "bounds": struct.unpack(">IIII", at(sv3d, b"proj", b"equi")[4:20]),
        "source": at(sv3d, b"svhd")[4:],
        "xml": text[16:].decode(),
    }


@pytest.mark.parametrize("faststart", [True, False])
def test_both_versions_are_written_and_nothing_else_changes(tmp_path: Path, mp4, faststart: bool):
    source, out = mp4(faststart), tmp_path / "out.mp4"
    write_sphere_tag(source, out, SphereTag(stereo="top-bottom"), (128, 64))
    said = as_the_rfc_has_it(out)
    assert said["stereo"] == 1
    assert said["pose"] == (0, 0, 0)
    assert said["bounds"] == (0, 0, 0, 0)
    assert "<GSpherical:StereoMode>top-bottom</GSpherical:StereoMode>" in said["xml"]
    assert "<GSpherical:ProjectionType>equirectangular</GSpherical:ProjectionType>" in said["xml"]
    before, after = (
        [p.planes[0].tobytes() for p in frames(path, scan(path), 0, 4)] for path in (source, out)
    )
    assert before == after
    assert scan(out).probe.sound == scan(source).probe.sound


def test_what_was_written_is_read(tmp_path: Path, mp4):
    source, out = mp4(), tmp_path / "out.mp4"
    tag = SphereTag(stereo="left-right", bounds=(0.25, 0.125, 0.0, 0.0), pose=(30.0, -2.5, 0.0))
    write_sphere_tag(source, out, tag, (128, 40))
    found = sphere_tag(out, "mov")
    assert found is not None
    assert (found.stereo, found.pose, found.said_by) == (tag.stereo, tag.pose, "its boxes")
    assert found.bounds == pytest.approx(tag.bounds)
    assert SphereTag.from_json(found.to_json()) == found
    assert sphere_tag(source, "mov") is None


def test_what_a_film_said_before_is_replaced(tmp_path: Path, mp4):
    source, once, twice = mp4(), tmp_path / "once.mp4", tmp_path / "twice.mp4"
    write_sphere_tag(source, once, SphereTag(stereo="top-bottom"), (128, 64))
    write_sphere_tag(once, twice, SphereTag(), (128, 64))
    assert (
        twice.read_bytes().count(b"sv3d") == twice.read_bytes().count(b"rdf:SphericalVideo ") == 1
    )
    assert scan(twice).probe.sphere == SphereTag(said_by="its boxes")


def test_version_1_alone_is_understood(tmp_path: Path, mp4):
    source, out = mp4(), tmp_path / "out.mp4"
    write_sphere_tag(source, out, SphereTag(bounds=(0.25, 0.25, 0, 0)), (128, 32))
    data = out.read_bytes().replace(b"sv3d", b"free").replace(b"st3d", b"free")
    out.write_bytes(data)
    found = sphere_tag(out, "mov")
    assert found is not None
    assert (found.said_by, found.stereo) == ("its XML", "mono")
    assert found.bounds == (0.25, 0.25, 0.0, 0.0)


@pytest.mark.parametrize(
    ("old", "new"),
    [
        (b"<GSpherical:Spherical>true", b"<GSpherical:Spherical>nope"),
        (b"<?xml version=", b"<!DOCTYPE x   "),
        (b"</rdf:SphericalVideo>", b"</rdf:SphericalVidoe>"),
    ],
)
def test_xml_that_says_nothing_or_cannot_be_trusted_is_passed_over(
    tmp_path: Path, mp4, old: bytes, new: bytes
):
    source, out = mp4(), tmp_path / "out.mp4"
    write_sphere_tag(source, out, SphereTag(), (128, 64))
    data = out.read_bytes().replace(b"sv3d", b"free")
    assert old in data
    out.write_bytes(data.replace(old, new))
    assert sphere_tag(out, "mov") is None


def test_bounds_that_leave_nothing_are_none(tmp_path: Path, mp4):
    source, out = mp4(), tmp_path / "out.mp4"
    write_sphere_tag(source, out, SphereTag(bounds=(0.6, 0.5, 0, 0)), (128, 64))
    found = sphere_tag(out, "mov")
    assert found is not None
    assert found.bounds == (0, 0, 0, 0)


def element(name: int, body: bytes) -> bytes:
    head = name.to_bytes((name.bit_length() + 7) // 8, "big")
    return head + (len(body) | 1 << 28).to_bytes(4, "big") + body


def matroska(path: Path, projection: bytes, stereo: int | None) -> Path:
    video = element(0xB0, b"\x80") + (b"" if stereo is None else element(0x53B8, bytes([stereo])))
    video += element(0x7670, projection)
    tracks = element(0x1654AE6B, element(0xAE, element(0xD7, b"\x01") + element(0xE0, video)))
    segment = element(0x1549A966, b"") + tracks
    path.write_bytes(element(0x1A45DFA3, element(0x4282, b"webm")) + element(0x18538067, segment))
    return path


def test_matroska_says_it_by_an_element(tmp_path: Path):
    pose = element(0x7673, struct.pack(">f", 12.5)) + element(0x7675, struct.pack(">d", -3.0))
    bounds = b"\0" * 4 + struct.pack(">4I", 2**30, 2**31, 0, 0)
    equi = element(0x7671, b"\x01") + element(0x7672, bounds) + pose
    found = sphere_tag(matroska(tmp_path / "a.mkv", equi, 3), "matroska")
    assert found == SphereTag(
        stereo="top-bottom", bounds=(0.25, 0.5, 0.0, 0.0), pose=(12.5, 0.0, -3.0),
        said_by="its projection element",
    )  # fmt: skip
    flat = element(0x7671, b"\x00")
    assert sphere_tag(matroska(tmp_path / "b.mkv", flat, None), "matroska") is None
    cube = sphere_tag(matroska(tmp_path / "c.mkv", element(0x7671, b"\x02"), 1), "matroska")
    assert cube is not None
    assert cube.projection == "cube map"


@pytest.mark.parametrize("seed", range(40))
def test_a_damaged_file_says_something_or_nothing_but_breaks_nothing(
    tmp_path: Path, mp4, seed: int
):
    rng = np.random.default_rng(seed)
    source, out = mp4(sound=None), tmp_path / "out.mp4"
    write_sphere_tag(source, out, SphereTag(), (128, 64))
    equi = element(0x7671, b"\x01")
    for path, demuxer in ((out, "mov"), (matroska(tmp_path / "a.mkv", equi, 3), "matroska")):
        data = bytearray(path.read_bytes())
        for place in rng.integers(0, len(data), 12):
            data[place] = rng.integers(0, 256)
        path.write_bytes(data[: rng.integers(16, len(data))])
        found = sphere_tag(path, demuxer)
        assert found is None or sum(found.bounds[:2]) < 1


def test_sound_all_around_stays_sound_all_around(tmp_path: Path, mp4):
    source, told, out = mp4(), tmp_path / "told.mp4", tmp_path / "out.mp4"
    assert ambisonic_box(source, "mov") == b""
    # First order, channels in their usual order and scale: the box as the Spatial Audio RFC has it.
    box = struct.pack(">BBIBBI4I", 0, 0, 1, 0, 0, 4, 0, 1, 2, 3)
    write_sphere_tag(source, told, SphereTag(), (128, 64), box)
    assert ambisonic_box(told, "mov") == box
    assert at(told.read_bytes(), b"moov", b"mp4a", b"SA3D") == box
    write_sphere_tag(told, out, SphereTag(), (128, 64), box)
    assert out.read_bytes().count(b"SA3D") == 1
    found = scan(out)
    assert found.probe.sound == scan(source).probe.sound
    # An export that copies the sound says so, too.
    film = tmp_path / "film.mp4"
    with Mp4Writer(
        film, found, 128, 64, "yuv420p", Encoding(), 0, 4, sound_from=told, sphere=SphereTag()
    ) as writer:
        for picture in frames(out, found, 0, 4):
            blank = writer.blank()
            for plane, shown in zip(blank.planes, picture.planes, strict=True):
                plane[:] = shown
            writer.write(blank, picture.pts)
        writer.finish()
    assert ambisonic_box(film, "mov") == box
