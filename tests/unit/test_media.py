"""Reading and writing files: what is kept exactly, and what is refused."""

import errno
import hashlib
import json
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest

from keen_horizon.cli.commands import main
from keen_horizon.core.errors import DamagedMedia, KeenError, MediaError, NoRoom, disk_errors
from keen_horizon.core.media import decode
from keen_horizon.core.media.containers import demuxer_for
from keen_horizon.core.media.damage import damage_words
from keen_horizon.core.media.decode import (
    frame_at,
    frames,
    frames_at,
    natural_site,
    turned_site,
    working_format,
)
from keen_horizon.core.media.encode import Encoding, Mp4Writer
from keen_horizon.core.media.probe import Probe, Scan, scan
from keen_horizon.core.media.proxy import Proxy, damaged_in, poster_of
from keen_horizon.core.media.segments import Segment, plan
from tests.conftest import texture
from tools.films import coded, scratched


def quiet(done: int, total: int) -> None:
    pass


def test_probe_reads_what_was_written(make_clip):
    found = scan(make_clip("plain.mp4", count=20)).probe
    assert (found.width, found.height, found.frame_count) == (320, 240, 20)
    assert found.rate == pytest.approx(30)
    assert not found.variable_rate
    assert found.bit_depth == 8
    assert found.sound["codec"] == "aac"
    assert Probe.from_json(found.to_json()) == found


def test_some_frames_are_read_without_entering_the_file_for_each(make_clip, monkeypatch):
    path = make_clip("some.mp4", count=40)
    found = replace(scan(path), keys=(0,))
    entered = []
    opened = decode._opened_at

    def counted(path, scan, first):
        entered.append(first)
        return opened(path, scan, first)

    monkeypatch.setattr(decode, "_opened_at", counted)
    seen = list(frames_at(path, found, [30, 4, 12, 4], luma_only=True))
    assert [picture.index for picture in seen] == [4, 12, 30]
    assert entered == [4]
    for picture in seen:
        assert (picture.planes[0] == frame_at(path, found, picture.index).planes[0]).all()
    # Where one that is coded whole lies between, that is nearer.
    entered.clear()
    assert [p.index for p in frames_at(path, replace(found, keys=(0, 20)), [4, 12, 30])]
    assert entered == [4, 30]
    # Where that is not known, each is gone to: to read on might take minutes.
    entered.clear()
    assert [p.index for p in frames_at(path, replace(found, keys=()), [4, 12, 30])]
    assert entered == [4, 12, 30]


@pytest.mark.parametrize("name", ["v.mp4", "v.mov", "v.mkv"])
def test_variable_frame_times_are_exact(make_clip, name):
    found = scan(make_clip(name, variable=True, count=12))
    steps = np.cumsum([0] + [(1000 + 500 * (i % 3)) / 30000 for i in range(11)])
    assert found.probe.variable_rate
    assert np.allclose(found.times, steps, atol=6e-4)  # Matroska counts milliseconds


@pytest.mark.parametrize(("turn", "rotation"), [(90, 270), (-90, 90), (180, 180)])
def test_a_rotation_flag_turns_the_picture_upright(make_clip, turn, rotation):
    plain = make_clip("upright.mp4", shake=0)
    turned = make_clip(f"turned{turn}.mp4", shake=0, turn=turn)
    found = scan(turned)
    assert found.probe.rotation == rotation
    expected = np.rot90(next(frames(plain, scan(plain), 0, 1)).planes[0], turn // 90)
    picture = next(frames(turned, found, 0, 1))
    assert picture.planes[0].shape == (found.probe.height, found.probe.width)
    assert np.abs(picture.planes[0].astype(int) - expected).mean() < 1
    assert (found.probe.width < found.probe.height) == (turn != 180)


def test_pixel_aspect_turns_with_the_picture(make_clip):
    upright = scan(make_clip("sar.mp4", aspect=Fraction(4, 3))).probe
    turned = scan(make_clip("sarturn.mp4", aspect=Fraction(4, 3), turn=90)).probe
    assert upright.pixel_aspect == pytest.approx(4 / 3)
    assert turned.pixel_aspect == pytest.approx(3 / 4)


def test_decoding_a_range_gives_exactly_those_frames(make_clip):
    path = make_clip("range.mp4", count=40)
    found = scan(path)
    whole = [p.planes[0].copy() for p in frames(path, found, 0, 39)]
    part = list(frames(path, found, 17, 31))
    assert [p.index for p in part] == list(range(17, 32))
    assert all((p.planes[0] == whole[p.index]).all() for p in part)


def test_chroma_siting_follows_the_turn():
    left = natural_site("yuv420p", (2, 2))
    assert left == (0.0, 0.5)
    assert turned_site(left, (2, 2), 90) == (0.5, 0.0)
    assert turned_site(left, (2, 2), 180) == (1.0, 0.5)
    assert turned_site(left, (2, 2), 270) == (0.5, 1.0)
    assert natural_site("yuvj420p", (2, 2)) == (0.5, 0.5)
    assert natural_site("yuv444p", (1, 1)) == (0.0, 0.0)


def test_working_formats_keep_depth_and_chroma():
    assert working_format("yuv420p10le") == "yuv420p10le"
    assert working_format("yuv422p12le") == "yuv422p10le"
    assert working_format("nv12") == "yuv420p"
    assert working_format("rgb24") == "yuv444p"
    assert working_format("gray") == "yuv420p"


def test_pictures_that_are_never_shown_are_no_frames(make_clip, tmp_path):
    """VP8 sends pictures that only later ones are made from."""
    path = tmp_path / "hidden.webm"
    with (
        av.open(str(make_clip("vp8.webm", codec="libvpx", sound=None, count=20))) as source,
        av.open(str(path), "w") as out,
    ):
        stream = out.add_stream_from_template(source.streams.video[0])
        for index, packet in enumerate(p for p in source.demux(video=0) if p.size):
            stamp, content = packet.pts, bytearray(bytes(packet))
            if index % 6 == 5:
                content[0] &= ~0x10  # not to be shown
                hidden = av.Packet(bytes(content))
                hidden.pts = hidden.dts = stamp - 5
                hidden.time_base, hidden.stream = packet.time_base, stream
                out.mux(hidden)
            packet.stream = stream
            out.mux(packet)
    with av.open(str(path)) as container:
        assert sum(1 for p in container.demux(video=0) if p.size) == 23
    found = scan(path)
    assert found.probe.frame_count == 20
    assert [p.index for p in frames(path, found, 0, 19)] == list(range(20))


def test_colours_given_as_red_green_blue_stay_as_they_were(make_clip, tmp_path):
    path = make_clip("rgb.mkv", codec="ffv1", pixel_format="bgr0", shake=0, sound=None)
    copy(path, tmp_path / "out.mp4", 0, 23)
    before, after = (
        next(av.open(str(p)).decode(video=0)).to_ndarray(format="rgb24").astype(float)
        for p in (path, tmp_path / "out.mp4")
    )
    assert np.abs(before - after).mean(axis=(0, 1)).max() < 4
    assert np.abs((before - after).mean(axis=(0, 1))).max() < 0.6


def test_sound_of_an_unknown_kind_is_passed_over(make_clip, tmp_path):
    content = make_clip("apac.mov").read_bytes()
    path = tmp_path / "unknown.mov"
    path.write_bytes(content.replace(b"mp4a", b"qzzx").replace(b"esds", b"xxxx"))
    found = scan(path)
    assert found.probe.sound is None
    assert found.probe.frame_count == 24
    assert "no sound that can be read" in copy(path, tmp_path / "out.mp4", 0, 23).sound_note


# --- what is refused ------------------------------------------------------------------------------


def refusal(path: Path) -> str:
    with pytest.raises(MediaError) as refused:
        scan(path)
    assert path.name in str(refused.value)
    return str(refused.value)


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        ("empty.mp4", b"", "is empty"),
        ("text.mp4", b"hello, this is no video at all", "not a video"),
        ("list.mp4", b"#EXTM3U\n#EXTINF:5,\nhttp://127.0.0.1:9/a.ts\n", "list of other files"),
        ("cat.mp4", b"ffconcat version 1.0\nfile /etc/passwd\n", "list of other files"),
        ("dash.mp4", b"<?xml version='1.0'?><MPD/>", "list of other files"),
        ("picture.mp4", b"\x89PNG\r\n\x1a\n" + bytes(40), "not a video"),
    ],
)
def test_what_is_not_footage_is_refused(tmp_path, name, content, words):
    path = tmp_path / name
    path.write_bytes(content)
    assert words in refusal(path)


def test_a_missing_file_is_named(tmp_path):
    assert "no such file" in refusal(tmp_path / "nowhere.mp4")


@pytest.mark.parametrize("name", ["whole.mp4", "whole.mkv"])
@pytest.mark.parametrize("share", [0.2, 0.6, 0.97])
def test_a_truncated_file_is_refused(make_clip, tmp_path, name, share):
    content = make_clip(name, count=30).read_bytes()
    path = tmp_path / f"cut-{name}"
    path.write_bytes(content[: int(len(content) * share)])
    assert "missing" in refusal(path)


def test_damage_inside_is_found_while_decoding(make_clip, tmp_path):
    path = make_clip("damaged.mp4", count=30)
    content = bytearray(path.read_bytes())
    middle = content.index(b"mdat") + 2000
    content[middle : middle + 4000] = bytes(4000)
    broken = tmp_path / "broken.mp4"
    broken.write_bytes(content)
    try:
        found = scan(broken)
        seen = sum(1 for _ in frames(broken, found, 0, found.probe.frame_count - 1))
    except DamagedMedia as error:
        assert "broken.mp4" in str(error)
    else:  # the decoder may conceal the damage, but no frame may be lost unsaid
        assert seen == 30


def test_references_to_other_files_are_refused(make_clip, tmp_path):
    content = bytearray(make_clip("own.mov").read_bytes())
    at = content.index(b"url \x00\x00\x00\x01")
    content[at + 4 : at + 8] = bytes(4)  # no longer "the data is in this file"
    path = tmp_path / "elsewhere.mov"
    path.write_bytes(content)
    assert "other files" in refusal(path)


def test_sound_alone_is_refused(tmp_path):
    path = tmp_path / "sound.mp4"
    with av.open(str(path), "w") as out:
        audio = out.add_stream("aac", rate=48000)
        heard = av.AudioFrame.from_ndarray(np.zeros((1, 4096), np.int16), "s16", layout="mono")
        heard.sample_rate, heard.pts = 48000, 0
        resampler = av.AudioResampler("fltp", "stereo", 48000, frame_size=1024)
        for piece in resampler.resample(heard):
            out.mux(audio.encode(piece))
        out.mux(audio.encode(None))
    assert "only sound" in refusal(path)


def test_one_frame_is_too_few_and_two_are_enough(make_clip):
    assert "one frame" in refusal(make_clip("one.mp4", count=1, sound=None))
    assert scan(make_clip("two.mp4", count=2, sound=None)).probe.frame_count == 2


def test_the_demuxer_is_named_by_content_not_by_name(make_clip, tmp_path):
    path = tmp_path / "odd.webm"
    path.write_bytes(make_clip("named.mp4").read_bytes())
    assert demuxer_for(path) == "mov"


# --- writing --------------------------------------------------------------------------------------


def copy(path: Path, target: Path, first: int, last: int, **options) -> Mp4Writer:
    found = scan(path)
    with Mp4Writer(
        target, found, found.probe.width, found.probe.height,
        working_format(found.probe.pixel_format), Encoding(crf=14, preset="ultrafast"),
        first, last, sound_from=path, pixel_aspect=found.probe.pixel_aspect, **options,
    ) as writer:  # fmt: skip
        for picture in frames(path, found, first, last):
            blank = writer.blank()
            for out, plane in zip(blank.planes, picture.planes, strict=True):
                out[:] = plane
            writer.write(blank, picture.pts)
        writer.finish()
    return writer


def sound_packets(path: Path) -> list[tuple[float, str]]:
    with av.open(str(path)) as container:
        return [
            (float(p.pts * p.time_base), hashlib.sha1(bytes(p)).hexdigest())
            for p in container.demux(audio=0)
            if p.size and p.pts is not None
        ]


def test_frame_times_and_sound_are_kept(make_clip, tmp_path):
    path = make_clip("keep.mp4", variable=True, count=30)
    target = tmp_path / "out.mp4"
    writer = copy(path, target, 0, 29)
    assert np.allclose(scan(target).times, scan(path).times, atol=1e-6)
    before, after = sound_packets(path), sound_packets(target)
    assert [h for _, h in after] == [h for _, h in before if _ >= 0]
    assert "bit for bit" in writer.sound_note


def test_a_range_begins_at_zero_with_its_own_sound(make_clip, tmp_path):
    path = make_clip("middle.mp4", count=40)
    target = tmp_path / "out.mp4"
    copy(path, target, 10, 29)
    found = scan(target)
    assert found.probe.frame_count == 20
    assert np.allclose(found.times, scan(path).times[10:30] - scan(path).times[10], atol=1e-6)
    offset = scan(path).times[10]
    source = {h: t for t, h in sound_packets(path)}
    heard = sound_packets(target)
    assert len(heard) > 20
    # In sync: every packet stands where it stood, measured from the first picture.
    assert all(abs(source[h] - offset - t) < 2e-3 for t, h in heard)


def test_sound_that_mp4_cannot_hold_is_encoded_and_that_is_said(make_clip, tmp_path):
    writer = copy(make_clip("pcm.mov", sound="pcm_s16le"), tmp_path / "out.mp4", 0, 23)
    assert "re-encoded from pcm_s16le to AAC" in writer.sound_note
    assert scan(tmp_path / "out.mp4").probe.sound["codec"] == "aac"
    uncompressed = make_clip("pcm.mov", sound="pcm_s16le")
    writer = copy(uncompressed, tmp_path / "out.mov", 0, 23)
    assert "copied bit for bit (pcm_s16le)" in writer.sound_note
    assert sound_packets(tmp_path / "out.mov") == sound_packets(uncompressed)
    writer = copy(make_clip("mute.mp4", sound=None), tmp_path / "mute-out.mp4", 0, 23)
    assert "no sound" in writer.sound_note


def test_ten_bits_colour_tags_and_aspect_are_kept(make_clip, tmp_path):
    path = make_clip("deep.mp4", pixel_format="yuv420p10le", aspect=Fraction(16, 11))
    target = tmp_path / "out.mp4"
    copy(path, target, 0, 23)
    before, after = scan(path).probe, scan(target).probe
    assert after.bit_depth == 10
    assert after.pixel_aspect == pytest.approx(16 / 11)
    assert after.colour == before.colour


def test_a_range_that_is_the_only_tag_is_kept(tmp_path):
    path, target = tmp_path / "full.mp4", tmp_path / "out.mp4"
    with av.open(str(path), "w") as out:
        video = out.add_stream("libx264", rate=30)
        video.width, video.height, video.pix_fmt = 64, 48, "yuv420p"
        video.codec_context.color_range = 2
        for index in range(4):
            frame = av.VideoFrame(64, 48, "yuv420p")
            frame.pts, frame.color_range = index, 2
            out.mux(video.encode(frame))
        out.mux(video.encode(None))
    copy(path, target, 0, 3)
    assert scan(path).probe.colour == {"primaries": 2, "transfer": 2, "matrix": 2, "range": 2}
    assert scan(target).probe.colour == scan(path).probe.colour


def test_what_cannot_be_read_is_not_told_as_what_cannot_be_written(tmp_path):
    written = tmp_path / "vault"
    with pytest.raises(FileNotFoundError), disk_errors(written, about="walk.mp4"):
        (tmp_path / "elsewhere" / "missing.npz").read_bytes()
    with pytest.raises(KeenError, match=r"walk\.mp4: cannot be written") as caught:
        with disk_errors(written, about="walk.mp4"):
            (written / "gone" / "x").write_bytes(b"")
    assert "removed" not in caught.value.message


def test_nothing_is_left_of_a_file_that_was_not_finished(make_clip, tmp_path):
    path, target = make_clip("half.mp4"), tmp_path / "out.mp4"
    found = scan(path)
    with (
        pytest.raises(RuntimeError, match="stop"),
        Mp4Writer(
            target, found, 320, 240, "yuv420p", Encoding(preset="ultrafast"), 0, 23
        ) as writer,
    ):
        for stamp in found.pts:
            writer.write(writer.blank(), int(stamp))
        assert writer.part.exists()
        raise RuntimeError("stop")
    assert list(tmp_path.iterdir()) == []


def test_a_full_disk_is_said_plainly(tmp_path):
    with pytest.raises(NoRoom, match=r"film\.mp4: the disk is full"):
        with disk_errors(tmp_path / "film.mp4"):
            raise OSError(errno.ENOSPC, "No space left on device")
    with pytest.raises(KeenError, match="cannot be written"):
        with disk_errors(tmp_path / "film.mp4"):
            raise PermissionError(errno.EACCES, "Permission denied")


def copied(path: Path, found: Scan, room: Path) -> list[Segment]:
    """A proxy of a file, ``proxy.mp4``, and the parts that it was made in."""
    proxy, parts = Proxy(found), plan(room, found, 0, found.probe.frame_count - 1, "part-{}")
    for part in parts:
        part.path.mkdir()
        pictures = frames(path, found, part.first, part.last)
        passed_on = [p.index for p in proxy.on_the_way(pictures, part, part.path)]
        assert passed_on == list(range(part.first, part.last + 1))
    proxy.join(parts, path, room / "proxy.mp4")
    return parts


def pictures_of(path: Path) -> np.ndarray:
    """Lumas of all frames ``(n, h, w)``."""
    found = scan(path)
    count = found.probe.frame_count
    return np.stack([p.planes[0].astype(int) for p in frames(path, found, 0, count - 1)])


def test_a_proxy_in_parts_has_every_frame_once(make_clip, tmp_path):
    path = make_clip("long.mp4", count=260, width=64, height=48)
    parts = copied(path, scan(path), tmp_path)
    assert [(part.first, part.last) for part in parts] == [(0, 249), (250, 259)]
    shown, source = pictures_of(tmp_path / "proxy.mp4"), pictures_of(path)
    assert shown.shape == source.shape
    assert np.abs(shown - source).mean(axis=(1, 2)).max() < 3
    assert poster_of(parts) == parts[0].path / "poster.jpg"
    (parts[1].path / "pictures.mp4").write_bytes((parts[0].path / "pictures.mp4").read_bytes())
    with pytest.raises(DamagedMedia, match="part of the film has been damaged"):
        Proxy(scan(path)).join(parts, path, tmp_path / "again.mp4")


@pytest.mark.parametrize(
    ("options", "size"),
    [
        ({"name": "p1.mp4"}, (320, 240)),
        ({"name": "p2.mp4", "width": 1440, "height": 1080, "count": 4}, (720, 540)),
        ({"name": "p3.mp4", "aspect": Fraction(4, 3)}, (426, 240)),
        ({"name": "p4.mp4", "turn": 90}, (240, 320)),
        ({"name": "p5.mp4", "pixel_format": "yuv420p10le"}, (320, 240)),
        ({"name": "p6.mkv", "variable": True}, (320, 240)),
    ],
)
def test_the_proxy_has_the_same_frames_and_square_pixels(make_clip, tmp_path, options, size):
    path = make_clip(**options)
    found = scan(path)
    parts = copied(path, found, tmp_path)
    proxy = scan(tmp_path / "proxy.mp4")
    assert (proxy.probe.width, proxy.probe.height) == size
    assert proxy.probe.pixel_aspect == 1
    assert np.allclose(proxy.times, found.times, atol=1e-3)
    assert poster_of(parts).stat().st_size > 500
    with av.open(str(tmp_path / "proxy.mp4")) as container:
        keys = [i for i, p in enumerate(
            p for p in container.demux(video=0) if p.size
        ) if p.is_keyframe]  # fmt: skip
    assert np.diff(keys).max(initial=0) <= 15


# --- what changes, or is damaged, on the way ------------------------------------------------------


def of_two_sizes(path: Path, sizes: tuple[tuple[int, int], tuple[int, int]], at: int) -> Path:
    """A film whose pictures have another size from frame ``at`` on."""
    rng = np.random.default_rng(1)
    with av.open(str(path), "w") as out:
        stream = out.add_stream("mjpeg", rate=30)
        stream.width, stream.height, stream.pix_fmt = *sizes[0], "yuvj420p"
        for k in range(2 * at):
            width, height = sizes[k >= at]
            coder = av.CodecContext.create("mjpeg", "w")
            coder.width, coder.height, coder.pix_fmt = width, height, "yuvj420p"
            coder.time_base = Fraction(1, 30)
            picture = rng.integers(0, 255, (height, width, 3)).astype(np.uint8)
            frame = av.VideoFrame.from_ndarray(picture, "bgr24").reformat(format="yuvj420p")
            frame.pts, frame.time_base = k, Fraction(1, 30)
            for packet in [*coder.encode(frame), *coder.encode(None)]:
                packet.stream, packet.pts, packet.dts = stream, k, k
                packet.time_base = Fraction(1, 30)
                out.mux(packet)
    return path


@pytest.mark.parametrize("other", [(640, 360), (160, 96)])
def test_a_size_that_changes_on_the_way_is_refused_at_its_frame(tmp_path: Path, other):
    path = of_two_sizes(tmp_path / "two.mkv", ((320, 180), other), 6)
    found = scan(path)
    assert len(list(frames(path, found, 0, 5))) == 6
    with pytest.raises(MediaError, match=f"frame 6 on its picture has another size, {other[0]}"):
        list(frames(path, found, 0, 11))
    with pytest.raises(MediaError, match="the 6 frames before can be used"):
        list(frames(path, found, 4, 11, luma_only=True))
    with pytest.raises(MediaError):
        list(frames(path, found, 8, 11))


def test_frames_that_the_decoder_bridged_are_counted_and_told(tmp_path: Path, make_clip, capsys):
    whole = make_clip("whole.mp4", count=40, sound=None).read_bytes()
    path = tmp_path / "broken.mp4"
    path.write_bytes(scratched(whole))
    found = scan(path)
    damaged = damaged_in(copied(path, found, tmp_path))
    assert damaged
    assert damaged == [p.index for p in frames(path, found, 0, 39) if p.corrupt]
    words = damage_words(damaged)
    assert "damaged" in words
    assert damage_words(damaged, damaged[-1] + 1) == ""
    out, told = tmp_path / "out.mp4", tmp_path / "told.json"
    order = ["--set", "motion.model=shift", "--report", str(told)]
    assert main(["correct", str(path), str(out), *order]) == 0
    report = json.loads(told.read_text())
    assert report["damaged_frames"] == damaged
    assert words in report["notes"]
    assert words in capsys.readouterr().err


# --- other containers, and fields -----------------------------------------------------------------


@pytest.fixture(scope="module")
def moving() -> list[np.ndarray]:
    wide = texture(400, 240)
    return [np.ascontiguousarray(wide[:144, k : k + 176]) for k in range(60)]


def with_times(path: Path) -> Path:
    """A transport stream as cameras write it: four bytes of time before each packet."""
    packets = path.read_bytes()
    out = path.with_suffix(".m2ts")
    out.write_bytes(b"".join(
        k.to_bytes(4, "big") + packets[at : at + 188]
        for k, at in enumerate(range(0, len(packets), 188))
    ))  # fmt: skip
    return out


@pytest.mark.parametrize(
    ("name", "container", "codec", "demuxer"),
    [
        ("a.ts", "mpegts", "libx264", "mpegts"),
        ("b.ts", "mpegts", "mpeg2video", "mpegts"),
        ("stamped.ts", "mpegts", "libx264", "mpegts"),
        ("c.avi", "avi", "mpeg4", "avi"),
        ("e.mxf", "mxf", "mpeg2video", "mxf"),
        ("f.3gp", "3gp", "libx264", "mov"),
    ],
)
def test_other_containers_are_read_like_the_first(
    tmp_path: Path, moving, name, container, codec, demuxer
):
    options = {"bf": "2", "g": "12"} if codec == "libx264" else {"g": "12", "b": "4M"}
    path = coded(tmp_path / name, container, codec, moving, options)
    if name.startswith("stamped"):
        path = with_times(path)
    assert demuxer_for(path) == demuxer
    found = scan(path)
    assert found.probe.frame_count >= 59
    assert not found.probe.interlaced
    assert (found.probe.width, found.probe.height) == (176, 144)
    all_of_it = list(frames(path, found, 0, found.probe.frame_count - 1))
    for first, last in ((7, 9), (31, 36), (50, 58)):
        part = list(frames(path, found, first, last))
        assert [p.index for p in part] == list(range(first, last + 1))
        for one in part:
            np.testing.assert_array_equal(one.planes[0], all_of_it[one.index].planes[0])


def test_a_file_that_is_cut_short_or_only_looks_like_one_is_refused(tmp_path: Path, moving):
    short = coded(tmp_path / "short.avi", "avi", "mpeg4", moving)
    short.write_bytes(short.read_bytes()[:-20_000])
    with pytest.raises(DamagedMedia, match="ends before"):
        scan(short)
    noise = tmp_path / "noise.ts"
    noise.write_bytes(b"G" + bytes(187) + b"X" * 5000)
    with pytest.raises(MediaError, match="not a video file"):
        scan(noise)
    empty = tmp_path / "empty.ts"
    empty.write_bytes((b"G" + bytes(187)) * 40)
    with pytest.raises(MediaError):
        scan(empty)
    hollow = tmp_path / "hollow.mxf"
    hollow.write_bytes(bytes.fromhex("060e2b34020501010d01020101020400") + bytes(4000))
    with pytest.raises(MediaError):
        scan(hollow)
