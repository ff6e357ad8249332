"""Finish from frame to frame: detail for blurred frames, grain, and how sharp edges are."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest

from keen_horizon.cli.commands import main
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.media.decode import Picture, frames
from keen_horizon.core.media.probe import scan
from keen_horizon.core.picture.even_sharpness import lend_detail
from keen_horizon.core.picture.noise import noise_by_level
from keen_horizon.core.picture.painter import Painter
from keen_horizon.core.picture.warp import Sampler
from keen_horizon.core.picture.working_space import working_space
from keen_horizon.core.pipeline import solve
from keen_horizon.core.pipeline.exact_loop import exact_loop
from keen_horizon.core.pipeline.render_clip import Drawing
from keen_horizon.core.quality.edges import sharpness
from keen_horizon.core.stations.finish import FINISH
from keen_horizon.core.stations.finish.grain import Grain
from keen_horizon.core.treatment import Treatment
from keen_horizon.simulated.brindle_quay import quay_walk
from keen_horizon.simulated.record import record
from keen_horizon.simulated.take import Take
from tests.motions import CANVAS, chain_of, shaky

SPACE = working_space({}, 8, 720)
PLAIN = Painter(SPACE)
STILL = Sampler(np.eye(3))
SMEARED = (6, 12, 18)


def scene(seed: int = 0) -> np.ndarray:
    """A picture full of edges, ``(360, 640)``."""
    rng = np.random.default_rng(seed)
    blocks = rng.integers(60, 200, (45, 80)).astype(np.uint8)
    return cv2.resize(blocks, (640, 360), interpolation=cv2.INTER_NEAREST)


def picture(luma: np.ndarray) -> Picture:
    grey = np.full((180, 320), 128, np.uint8)
    return Picture(0, 0, (luma, grey, grey), (2, 2), (0.0, 0.5), "yuv420p")


def smeared(luma: np.ndarray) -> np.ndarray:
    kernel = np.zeros((7, 7), np.float32)
    kernel[3] = 1 / 7
    return np.asarray(cv2.filter2D(luma, -1, kernel))


def detail(luma: np.ndarray) -> float:
    return float(cv2.Laplacian(luma.astype(np.float32), cv2.CV_32F).var())


def drawn(luma: np.ndarray) -> tuple[np.ndarray, ...]:
    return tuple(plane.copy() for plane in picture(luma).planes)


def test_a_blurred_frame_takes_the_detail_of_a_sharp_one():
    sharp = cv2.GaussianBlur(scene(), (0, 0), 0.8)
    planes = drawn(smeared(sharp))
    share = lend_detail(planes, [(picture(sharp), STILL)], PLAIN, 1.0)
    assert share > 0.2
    assert detail(planes[0]) > 0.6 * detail(sharp)
    before = np.abs(smeared(sharp).astype(int) - sharp).mean()
    assert np.abs(planes[0].astype(int) - sharp).mean() < 0.8 * before


def test_what_does_not_agree_is_left_alone():
    """Another thing where the frame has its own: a subject that has moved on."""
    sharp = cv2.GaussianBlur(scene(), (0, 0), 0.8)
    blurred = smeared(sharp)
    blurred[100:260, 200:440] = 20
    planes = drawn(blurred)
    lend_detail(planes, [(picture(sharp), STILL)], PLAIN, 1.0)
    assert np.abs(planes[0][130:230, 240:400].astype(int) - 20).max() <= 2


def test_a_neighbour_that_is_no_sharper_lends_nothing():
    sharp = cv2.GaussianBlur(scene(), (0, 0), 0.8)
    planes = drawn(sharp)
    assert lend_detail(planes, [(picture(smeared(sharp)), STILL)], PLAIN, 1.0) < 0.05
    assert np.percentile(np.abs(planes[0].astype(int) - sharp), 99) <= 2


def test_grain_is_what_interpolation_took():
    rng = np.random.default_rng(1)
    base = np.tile(np.linspace(30, 220, 640), (360, 1))
    recorded = np.clip(np.rint(base + rng.normal(0, 4, base.shape)), 0, 255).astype(np.uint8)
    shift = np.array([[1.0, 0, 0.5], [0, 1, 0.5]])
    smooth = cv2.warpAffine(recorded, shift, (640, 360), flags=cv2.INTER_LINEAR)
    assert noise_by_level(smooth, SPACE).max() < 0.7 * noise_by_level(recorded, SPACE).min()
    stage = Grain(np.ones(2))
    first, again, other = smooth.copy(), smooth.copy(), smooth.copy()
    for luma, seed in ((first, 5), (again, 5), (other, 6)):
        stage.apply(luma, recorded, SPACE, 0, seed)
    told = noise_by_level(first, SPACE)
    assert told == pytest.approx(noise_by_level(recorded, SPACE), rel=0.12)
    assert (first == again).all()  # a segment drawn again is the same
    assert (first != other).any()
    clean = smooth.copy()
    Grain(np.zeros(2)).apply(clean, recorded, SPACE, 0, 5)
    assert (clean == smooth).all()


def test_a_picture_of_no_noise_and_one_of_nothing_are_left_alone():
    plain = np.full((360, 640), 120, np.uint8)
    luma = plain.copy()
    Grain(np.ones(1)).apply(luma, plain, SPACE, 0, 1)
    assert (luma == plain).all()
    assert noise_by_level(np.zeros((8, 8), np.uint8), SPACE).max() == 0


def test_sharpness_falls_as_edges_blur_and_needs_some():
    edges = scene().astype(np.float32) / 255
    told = [sharpness(cv2.GaussianBlur(edges, (0, 0), s)) for s in (0.8, 1.2, 1.8)]
    assert told[0] is not None
    assert told[0] > told[1] > told[2]
    assert sharpness(np.full((360, 640), 0.5, np.float32)) is None
    assert sharpness(np.zeros((8, 8), np.float32)) is None


class Smeared(Take):
    """A walk some of whose frames are blurred by motion."""

    def frame(self, frame: int) -> np.ndarray:
        seen = super().frame(frame)
        kernel = np.zeros((15, 15), np.float32)
        cv2.line(kernel, (1, 5), (13, 9), 1, 1, cv2.LINE_AA)
        return cv2.filter2D(seen, -1, kernel / kernel.sum()) if frame in SMEARED else seen


@pytest.fixture(scope="module")
def walk(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("walk") / "walk.mp4"
    take = replace(quay_walk(0.9), noise=1.0)
    record(Smeared(**vars(take)), path, sound=False)
    return path


def test_an_export_is_evenly_sharp(walk: Path, tmp_path: Path):
    lumas, reports = [], []
    for k, even in enumerate(("0", "100")):
        out, told = tmp_path / f"{k}.mp4", tmp_path / f"{k}.json"
        order = ["correct", str(walk), str(out), "--quality", "fine", "--report", str(told)]
        for setting in ("finish.on=true", "finish.put_back=0", f"finish.even={even}"):
            order += ["--set", setting]
        assert main(order) == 0
        lumas.append([p.planes[0] for p in frames(out, scan(out), 0, 26)])
        reports.append(json.loads(told.read_text()))
    assert reports[0]["evened_share"] is None
    assert reports[1]["evened_share"] == pytest.approx(len(SMEARED) / 27, abs=0.01)
    assert reports[1]["blurred_frames"] == list(SMEARED)
    for k in SMEARED:
        left = [detail(cv2.GaussianBlur(one[k], (0, 0), 1.0)) for one in lumas]
        near = detail(cv2.GaussianBlur(lumas[1][k + 2], (0, 0), 1.0))
        assert left[0] < 0.35 * near
        assert left[1] > 0.6 * near
    apart = [np.abs(a.astype(int) - b).mean() for a, b in zip(*lumas, strict=True)]
    assert 2 * apart[3] < apart[6]  # others are what they were, but for the encoder
    # What its edges tell of the file stands in the report.
    assert reports[0]["sharpness_after"] == pytest.approx(reports[0]["sharpness_before"], rel=0.25)
    assert reports[0]["fringe_before_sure"] > 0


def test_finish_says_how_many_frames_take_detail():
    solved = shaky(40)
    blurred = np.zeros(40, bool)
    blurred[[3, 9]] = True
    motion = replace(solved, timeline=replace(solved.timeline, blurred=blurred))
    treatment = Treatment().changed(FINISH, on=True, even=100.0)
    told = solve(motion, CANVAS, treatment).told(treatment)
    assert told["evened_share"] == pytest.approx(0.05)
    said = FINISH.details(treatment.of(FINISH), told)["even"]
    assert "5.0 %" in said
    assert "No frame" in FINISH.details(treatment.of(FINISH), told | {"evened_share": 0.0})["even"]


def test_an_exact_loop_is_the_stretch_recorded_and_treated(walk: Path, tmp_path: Path):
    found = scan(walk)
    canvas = found.probe.canvas
    shift = Similarities(np.ones(27, complex), np.full(27, 12 + 0j))
    targets = tmp_path / "recorded.mp4", tmp_path / "treated.mp4"
    seen: list[tuple[int, int]] = []
    exact_loop(
        walk, found, Drawing(chain_of(shift, canvas=canvas)), 0, (4, 8), targets,
        lambda done, total: seen.append((done, total)),
    )  # fmt: skip
    plain, moved = ([p.planes[0] for p in frames(t, scan(t), 0, 4)] for t in targets)
    own = [p.planes[0] for p in frames(walk, found, 4, 8)]
    assert len(plain) == len(moved) == 5
    assert np.abs(plain[2].astype(int) - own[2]).mean() < 2
    assert np.abs(moved[2][:, :-40].astype(int) - own[2][:, 12:-28]).mean() < 2
    assert seen[-1] == (10, 10)
    assert [done for done, _ in seen] == sorted(done for done, _ in seen)
