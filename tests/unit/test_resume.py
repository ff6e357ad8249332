"""Work that was broken off goes on where it stood, and ends as if nothing had happened."""

from dataclasses import replace
from pathlib import Path

import av
import numpy as np
import pytest

from keen_horizon.core import pipeline
from keen_horizon.core.errors import DamagedMedia
from keen_horizon.core.geometry.chain import WarpChain
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.geometry.view import View
from keen_horizon.core.media import segments
from keen_horizon.core.media.decode import frames
from keen_horizon.core.media.probe import Scan, scan
from keen_horizon.core.pipeline.measure_tracks import flat
from keen_horizon.core.pipeline.render_clip import Drawing


class BrokenOffError(Exception):
    pass


def breaking_off(at: int):
    def progress(done: int, total: int) -> None:
        if done == at:
            raise BrokenOffError

    return progress


def begin_and_count(seen: list[int]):
    return lambda done, total: seen.append(done)


@pytest.fixture
def short_stretches(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(segments, "LENGTH", 11)
    monkeypatch.setattr(segments, "LONGEST", 11)


def same_measure(one, two) -> bool:
    return (one.records == two.records).all() and all(
        (getattr(one, name) == getattr(two, name)).all()
        for name in ("offsets", "started", "followed", "change", "sharpness", "times")
    )


@pytest.mark.usefixtures("short_stretches")
def test_a_measure_goes_on_and_is_the_same(make_clip, tmp_path):
    path = make_clip("go-on.mp4", count=40)
    found = scan(path)
    whole = pipeline.measure(path, found, 3, 39, tmp_path / "whole")
    for at in (15, 30):
        with pytest.raises(BrokenOffError):
            pipeline.measure(path, found, 3, 39, tmp_path / "parts", breaking_off(at))
    seen: list[int] = []
    parts = pipeline.measure(path, found, 3, 39, tmp_path / "parts", begin_and_count(seen))
    assert seen == list(range(23, 38))  # two stretches of 11 were done
    assert same_measure(whole, parts)
    assert sorted(p.name for p in (tmp_path / "parts").iterdir()) == ["frames.npz", "marks.dat"]


@pytest.mark.usefixtures("short_stretches")
@pytest.mark.parametrize("name", ["marks.dat", "frames.npz"])
def test_a_measure_whose_marks_were_lost_says_so(make_clip, tmp_path, name):
    path = make_clip("begin-again.mp4", count=30)
    found, folder = scan(path), tmp_path / "parts"
    with pytest.raises(BrokenOffError):
        pipeline.measure(path, found, 0, 29, folder, breaking_off(25))
    (folder / "parts" / "part-11" / name).write_bytes(b"short")
    with pytest.raises(DamagedMedia, match="finished part of the measure has been damaged"):
        pipeline.measure(path, found, 0, 29, folder)


@pytest.mark.usefixtures("short_stretches")
def test_parts_that_are_made_in_any_order_are_the_same(make_clip, tmp_path):
    path = make_clip("any-order.mp4", count=40)
    found = scan(path)
    whole = pipeline.measure(path, found, 3, 39, tmp_path / "whole")

    def handed(planned, progress):
        for part in (planned[2], planned[0], planned[1], planned[3]):
            yield part, part.path

    following = flat(path, found, 3, 39)
    following.go(tmp_path / "room", pipeline.silent, handed)
    assert same_measure(whole, following.joined(tmp_path / "room", tmp_path / "parts"))


def packets(path: Path, kind: str) -> list[tuple[int, bytes]]:
    with av.open(str(path)) as container:
        stream = getattr(container.streams, kind)[0]
        return [(p.dts, bytes(p)) for p in container.demux(stream) if p.size]


def lumas(path: Path) -> np.ndarray:
    found: Scan = scan(path)
    last = found.probe.frame_count - 1
    return np.array([p.planes[0].astype(float) for p in frames(path, found, 0, last)])


@pytest.mark.usefixtures("short_stretches")
@pytest.mark.parametrize(
    "options",
    [
        {"name": "seg.mp4"},
        {"name": "seg-vfr.mp4", "variable": True},
        {"name": "seg-deep.mkv", "pixel_format": "yuv420p10le", "sound": None},
        {"name": "seg-pcm.mov", "sound": "pcm_s16le"},
    ],
    ids=lambda o: o["name"],
)
def test_a_render_goes_on_and_is_one_film(make_clip, tmp_path, options):
    path = make_clip(count=40, **options)
    found = scan(path)
    # Left shaking, so that every frame is unlike its neighbours.
    canvas = found.probe.canvas
    drawing = Drawing(WarpChain(canvas, View(canvas), (Similarities.none(37),), 37))
    room = tmp_path / "room"
    room.mkdir()
    once, parts = tmp_path / "once.mp4", tmp_path / "parts.mp4"
    pipeline.render(path, found, drawing, 2, once)
    with pytest.raises(BrokenOffError):
        pipeline.render(path, found, drawing, 2, parts, progress=breaking_off(27), room=room)
    assert not parts.exists()
    assert len(list(room.glob("*.part"))) == 0
    kept = {p.name: p.stat().st_mtime_ns for p in room.iterdir()}
    assert len(kept) == 2
    seen: list[int] = []
    counting = begin_and_count(seen)
    said = pipeline.render(path, found, drawing, 2, parts, progress=counting, room=room)
    assert seen[0] == 23
    assert {name: (room / name).stat().st_mtime_ns for name in kept} == kept
    assert (said.frame_count, said.width) == (37, 320)
    after, expected = scan(parts), scan(once)
    assert np.allclose(after.times, expected.times, atol=1e-9)
    assert after.probe.duration == pytest.approx(expected.probe.duration)
    assert after.probe.colour == expected.probe.colour
    assert after.probe.bit_depth == expected.probe.bit_depth
    times = [time for time, _ in packets(parts, "video")]
    assert (np.diff(times) > 0).all()
    expected_pictures = lumas(once)
    places = [np.abs(expected_pictures - p).mean(axis=(1, 2)).argmin() for p in lumas(parts)]
    assert places == list(range(37))
    if found.probe.sound:
        assert packets(parts, "audio") == packets(once, "audio")


def test_segments_begin_where_the_file_can_be_entered_if_that_is_near(make_clip, tmp_path):
    found = replace(scan(make_clip("keys.mp4", count=4)), keys=(0, 120, 240, 270, 400, 530, 1200))
    pieces = segments.plan(tmp_path, found, 0, 1499)
    assert [s.first for s in pieces] == [0, 270, 530, 780, 1030, 1280]
    assert [s.last + 1 for s in pieces] == [*(s.first for s in pieces[1:]), 1500]
    assert [s.first for s in segments.plan(tmp_path, found, 100, 300)] == [100]


@pytest.mark.usefixtures("short_stretches")
def test_a_damaged_segment_is_not_joined_unsaid(make_clip, tmp_path):
    path = make_clip("hurt.mp4", count=24, sound=None)
    found = scan(path)
    pieces = segments.plan(tmp_path, found, 0, 23)
    assert [(s.first, s.last) for s in pieces] == [(0, 10), (11, 21), (22, 23)]
    other = make_clip("other.mp4", count=5, sound=None).read_bytes()
    for piece in pieces:
        piece.path.write_bytes(other)
    with pytest.raises(DamagedMedia, match="has been damaged"):
        segments.join(pieces, tmp_path / "out.mp4", found, sound_from=path)
    assert not (tmp_path / "out.mp4").exists()
    assert not list(tmp_path.glob("*.part"))
