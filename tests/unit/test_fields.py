"""Interlaced footage: recognised by flags or by combs, made whole by pairs or by fields."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
import pytest

from keen_horizon.cli.commands import main
from keen_horizon.core.errors import BadSetting
from keen_horizon.core.media.decode import frame_at, frames
from keen_horizon.core.media.fields import Fields, order_told
from keen_horizon.core.media.probe import Scan, scan
from tests.conftest import texture
from tools.films import coded

FLAGGED = {"crf": "12", "flags": "+ilme+ildct"}
PLAIN = {"crf": "12"}
COUNT = 30


@dataclass(frozen=True)
class Take:
    """Pictures of every moment a field is taken, ``way`` ``(2 n, 2)`` px; whole ones of every other
    moment; and woven of two."""

    moments: list[np.ndarray]
    way: np.ndarray

    @property
    def whole(self) -> list[np.ndarray]:
        return self.moments[::2]

    def woven(self, first: str) -> list[np.ndarray]:
        pictures = []
        for one, after in zip(self.moments[::2], self.moments[1::2], strict=True):
            picture = after.copy()
            part = slice(0, None, 2) if first == "upper" else slice(1, None, 2)
            picture[part] = one[part]
            pictures.append(picture)
        return pictures


@pytest.fixture(scope="module")
def take() -> Take:
    wide = cv2.GaussianBlur(texture(760, 420), (0, 0), 1.2)
    speed = cv2.GaussianBlur(np.random.default_rng(5).normal(0, 5, (2 * COUNT, 2)), (1, 0), 3)
    way = np.cumsum(speed - speed.mean(axis=0), axis=0) + [150, 60]
    flags = cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP
    shifts = [np.array([[1, 0, x], [0, 1, y]]) for x, y in way]
    return Take([cv2.warpAffine(wide, m, (360, 288), flags=flags) for m in shifts], way)


def combs(luma: np.ndarray) -> float:
    luma = luma.astype(float)
    return float(np.abs(luma[2:-2:2] - (luma[1:-3:2] + luma[3:-1:2]) / 2).mean())


def error_of(path: Path, true: np.ndarray, *options: str) -> float:
    """Of the measured steps across, px rms."""
    told = path.with_suffix(".json")
    order = ["measure", str(path), "--model", "shift", "--json", str(told), *options]
    assert main(order) == 0
    steps = [f["previous_to_this"] for f in json.loads(told.read_text())["frames"]]
    assert len(steps) == len(true) + 1
    return float(np.sqrt(np.mean((np.array(steps)[1:, 0, 2] + true) ** 2)))


def test_interlaced_pictures_are_made_whole(tmp_path: Path, take: Take):
    """No combs are left, and motion is measured as well as from whole pictures."""
    # The lower field comes first, as the file says.
    fielded = coded(tmp_path / "fields.ts", "mpegts", "libx264", take.woven("lower"), FLAGGED)
    plain = coded(tmp_path / "whole.ts", "mpegts", "libx264", take.whole, PLAIN)
    found = scan(fielded)
    assert (found.probe.interlaced, found.probe.first_field) == (True, "file")
    assert not scan(plain).probe.interlaced
    true = np.diff(take.way[::2], axis=0)[:, 0]
    assert error_of(fielded, true) < max(1.5 * error_of(plain, true), 0.06)
    picture = list(frames(fielded, found, 12, 14))[1].planes[0]
    raw = cv2.cvtColor(take.woven("lower")[13], cv2.COLOR_BGR2GRAY)
    assert combs(picture) < 0.5 * combs(raw)


@pytest.mark.parametrize("first", ["upper", "lower"])
def test_fields_that_no_flag_tells_of_are_seen(tmp_path: Path, take: Take, first):
    path = coded(tmp_path / "unsaid.ts", "mpegts", "mpeg2video", take.woven(first), {"b": "8M"})
    found = scan(path)
    assert (found.probe.interlaced, found.probe.first_field) == (True, first)
    raw = cv2.cvtColor(take.woven(first)[13], cv2.COLOR_BGR2GRAY)
    assert combs(frame_at(path, found, 13).planes[0]) < 0.5 * combs(raw)


@pytest.mark.parametrize("path", ["still", "panning", "lines"])
def test_whole_pictures_are_not_taken_for_fields(take: Take, path):
    lumas = [cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY) for picture in take.whole[:9]]
    if path == "still":
        lumas = [lumas[0]] * 9
    if path == "lines":  # one dark, one light, all over
        stripes = np.tile(np.array([[40], [210]], np.uint8), (144, 360))
        noise = np.random.default_rng(3)
        lumas = [stripes + noise.integers(0, 9, stripes.shape, np.uint8) for _ in range(9)]
    assert order_told(lumas) is None


def numbers(path: Path, found: Scan, first: int, last: int) -> list[int]:
    return [picture.index for picture in frames(path, found, first, last)]


def test_each_field_can_be_a_frame(tmp_path: Path, take: Take):
    path = coded(tmp_path / "fields.mp4", "mp4", "libx264", take.woven("upper"),
                 FLAGGED | {"x264-params": "tff=1", "g": "8"})  # fmt: skip
    found = scan(path, Fields("field", "upper"))
    assert found.probe.frame_count == len(found.pts) == 2 * COUNT
    assert found.probe.rate == pytest.approx(50)
    np.testing.assert_allclose(found.times, np.arange(2 * COUNT) / 50, atol=1e-4)
    everything = list(frames(path, found, 0, 2 * COUNT - 1))
    for first, last in ((0, 3), (21, 24), (50, 59)):  # entered anywhere, it is the same
        part = list(frames(path, found, first, last))
        assert [picture.index for picture in part] == list(range(first, last + 1))
        for one in part[1:]:  # the first has nothing before it
            np.testing.assert_array_equal(one.planes[0], everything[one.index].planes[0])
    assert found.keys[0] == 0
    assert all(key % 2 == 0 for key in found.keys)
    true = np.diff(take.way, axis=0)[:, 0]
    assert error_of(path, true, "--fields", "field", "--first-field", "upper") < 0.2
    # By the wrong order it goes back and forth.
    assert error_of(path, true, "--fields", "field", "--first-field", "lower") > 1
    out = tmp_path / "out.mp4"
    order = ["correct", str(path), str(out), "--fields", "field", "--set", "motion.model=shift"]
    assert main(order) == 0
    assert scan(out).probe.frame_count == 2 * COUNT


def test_pictures_can_be_left_as_they_are(tmp_path: Path, take: Take):
    path = coded(tmp_path / "left.ts", "mpegts", "libx264", take.woven("upper"), FLAGGED)
    found = scan(path, Fields("whole"))
    assert found.probe.interlaced
    assert numbers(path, found, 0, COUNT - 1) == list(range(COUNT))
    raw = cv2.cvtColor(take.woven("upper")[13], cv2.COLOR_BGR2GRAY)
    assert combs(frame_at(path, found, 13).planes[0]) > 0.8 * combs(raw)


@pytest.mark.parametrize("told", [None, [], {"each": "third"}, {"first": 3}, {"each": ["pair"]}])
def test_fields_that_there_are_not_are_refused(told):
    with pytest.raises(BadSetting, match="fields"):
        Fields.from_json(told)
