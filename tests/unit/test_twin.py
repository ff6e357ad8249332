"""Two fisheyes in one picture, and parts of spheres, as pictures that go all around."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace
from pathlib import Path

import av
import cv2
import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from keen_horizon.cli.commands import main
from keen_horizon.core.errors import BadSetting
from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.projection import Camera, Equirectangular
from keen_horizon.core.geometry.twin import FisheyeLens, Twin, TwinLight
from keen_horizon.core.media import decode
from keen_horizon.core.media.decode import Picture, frame_at, frames
from keen_horizon.core.media.part_of_sphere import PartLayout
from keen_horizon.core.media.probe import Scan, scan
from keen_horizon.core.media.sphere_boxes import write_sphere_tag
from keen_horizon.core.media.spherical import SphereTag
from keen_horizon.core.motion.twin_fit import fit_twin
from keen_horizon.core.motion.twin_light import TwinLightFit, fit_twin_light
from keen_horizon.core.picture.round_pictures import looks_like_twin
from keen_horizon.core.picture.sphere_warp import SphereSampler, warp_sphere
from keen_horizon.core.picture.twin_warp import TwinLayout, TwinSampler
from keen_horizon.core.picture.working_space import space_of
from keen_horizon.core.pipeline.clip_kind import ClipKind, clip_kind
from keen_horizon.core.pipeline.sphere_source import first_eye, whole_probe, whole_scan
from keen_horizon.core.pipeline.sphere_tracks import measure_sphere
from keen_horizon.core.tracking.tracks import places_of
from keen_horizon.simulated.camera import AllAround, BackToBack
from keen_horizon.simulated.record import record
from keen_horizon.simulated.sphere import harbour_sphere, twin_fisheye
from keen_horizon.simulated.take import Take
from keen_horizon.store.scans import keep_scan, kept_scan

SIDE = 512


@dataclass(frozen=True)
class Recorded:
    path: Path
    take: Take
    scan: Scan
    kind: ClipKind

    @property
    def twin(self) -> Twin:
        assert self.kind.twin is not None
        return self.kind.twin


@pytest.fixture(scope="module")
def boat(tmp_path_factory: pytest.TempPathFactory) -> Recorded:
    """A second from the rolling boat, by two fisheyes."""
    take, path = twin_fisheye(1.0, SIDE), tmp_path_factory.mktemp("twin") / "twin.mp4"
    record(take, path)
    found = scan(path)
    return Recorded(path, take, found, clip_kind(path, found, 0, 29))


def straight(boat: Recorded, frame: int, turn: np.ndarray, canvas: Canvas) -> np.ndarray:
    """Luma all around from between the lenses; ``turn`` takes its rays to the camera's."""
    truth = boat.take.truth
    seen = replace(
        truth, camera=AllAround(canvas.width, canvas.height), rotation=turn.T @ truth.rotation
    )
    picture = boat.take.scene.draw(seen, frame)
    return cv2.cvtColor(picture, cv2.COLOR_BGR2YUV)[..., 0]


def moved(one: np.ndarray, other: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Where things are in a picture, and by how many pixels they are elsewhere in another."""
    corners = cv2.goodFeaturesToTrack(one, 800, 0.01, 5)
    there, ok, _ = cv2.calcOpticalFlowPyrLK(one, other, corners, None, winSize=(15, 15))
    back, ok_too, _ = cv2.calcOpticalFlowPyrLK(other, one, there, None, winSize=(15, 15))
    good = (ok[:, 0] == 1) & (ok_too[:, 0] == 1)
    good &= np.linalg.norm(back - corners, axis=-1)[:, 0] < 0.3
    return corners[good, 0], np.linalg.norm(there - corners, axis=-1)[good, 0]


def angles_from_axis(places: np.ndarray, canvas: Canvas) -> np.ndarray:
    rays = Camera(canvas, Equirectangular.of(canvas)).to_rays(places.astype(float))
    return np.degrees(np.arccos(np.clip(rays[:, 2], -1, 1)))


# --- lenses ---------------------------------------------------------------------------------------


def test_a_lens_takes_rays_to_pixels_and_back():
    turn = Rotation.from_euler("yx", [170, 3], degrees=True).as_matrix()
    lens = FisheyeLens((300.0, 180.0), 110.0, -0.03, turn, 1.75)
    rng = np.random.default_rng(1)
    own = rng.normal(size=(300, 3))
    own /= np.linalg.norm(own, axis=1, keepdims=True)
    own = own[own[:, 2] > np.cos(1.75)]
    rays = own @ turn
    np.testing.assert_allclose(lens.to_rays(lens.to_pixels(rays)), rays, atol=1e-8)


def test_lenses_share_the_sphere_and_fade_into_each_other():
    lens = FisheyeLens((99.5, 99.5), 55.0, 0.0, np.eye(3), np.radians(97))
    other = replace(lens, centre=(299.5, 99.5), turn=np.diag([-1.0, 1.0, -1.0]))
    twin = Twin(Canvas(400, 200), (lens, other), np.zeros(3))
    rays = np.array([[0, 0, 1.0], [1, 0, 0], [0, 1, 0], [0, 0, -1.0]])
    np.testing.assert_allclose(twin.share(rays), [1, 0.5, 0.5, 0], atol=1e-9)
    # What is ahead lies in the middle of the first, what is behind in that of the second.
    np.testing.assert_allclose(twin.to_pixels(rays[:1], 0), [[99.5, 99.5]], atol=1e-6)
    np.testing.assert_allclose(twin.to_pixels(rays[3:], 1), [[299.5, 99.5]], atol=1e-6)
    near = twin.with_gap(np.array([0.02, 0, 0]))
    off = near.to_pixels(rays[1:2], 0) - twin.to_pixels(rays[1:2], 0)
    assert off[0, 0] == pytest.approx(0.01 * 55, rel=1e-6)
    np.testing.assert_allclose(near.to_pixels(rays[:1], 0), twin.to_pixels(rays[:1], 0))


def test_what_is_known_of_lenses_can_be_kept():
    lens = FisheyeLens((99.5, 98.0), 55.0, 0.01, np.eye(3), 1.7)
    twin = Twin(Canvas(400, 200), (lens, replace(lens, centre=(300.0, 99.0))), np.arange(5) / 100)
    again = Twin.from_json(json.loads(json.dumps(twin.to_json())))
    rays = np.random.default_rng(2).normal(size=(20, 3))
    for which in (0, 1):
        np.testing.assert_allclose(again.to_pixels(rays, which), twin.to_pixels(rays, which))
    assert again.canvas == twin.canvas


# --- finding them ---------------------------------------------------------------------------------


def test_two_fisheyes_are_recognised_and_fit_where_they_meet(boat: Recorded):
    assert (boat.kind.kind, boat.kind.may_differ) == ("sphere", True)
    assert "two fisheyes, side by side" in boat.kind.words
    camera = boat.take.truth.camera
    assert isinstance(camera, BackToBack)
    for k, (lens, true) in enumerate(zip(boat.twin.lenses, camera.lenses, strict=True)):
        x, y = true.centre
        assert np.hypot(lens.centre[0] - x - SIDE * k, lens.centre[1] - y) < 0.004 * SIDE
        assert lens.radius(np.pi / 2) == pytest.approx(
            true.focal * (np.pi / 2 + true.bend * (np.pi / 2) ** 3), rel=0.005
        )
    layout, whole = TwinLayout(boat.twin, space_of(boat.scan.probe)), boat.twin.whole
    picture = layout.laid_out(frame_at(boat.path, boat.scan, 20))
    assert picture.planes[0].shape == (whole.height, whole.width)
    assert picture.planes[1].shape == (whole.height // 2, whole.width // 2)
    truth = straight(boat, 20, np.eye(3), whole)
    shown = np.clip((picture.planes[0].astype(float) - 16) * 255 / 219, 0, 255).astype(np.uint8)
    at, off = moved(truth, shown)
    upper = at[:, 1] < 0.7 * whole.height  # the deck is nearer than the lenses are good for
    seam = np.abs(angles_from_axis(at, whole) - 90) < 8
    assert (seam & upper).sum() > 20
    assert np.median(off[seam & upper]) < 1.0
    assert np.median(off[upper]) < 1.5


def test_what_is_near_lies_further_back_in_both(boat: Recorded):
    gap = np.degrees(boat.twin.gap_at(np.radians([90.0, 0.0, 180.0])))
    deck = 2 * np.degrees(np.arctan(0.013 / 1.35))
    assert 0.3 * deck < gap[0] < 1.3 * deck  # straight down
    assert (np.abs(gap[1:]) < 0.2).all()


# --- their light ----------------------------------------------------------------------------------


def dimmed(boat: Recorded, luma: np.ndarray, stops: tuple[float, float], rim: float) -> np.ndarray:
    """Luma of eight bits as lenses record it that lose ``rim`` stops there, and ``stops`` each."""
    space, camera = space_of(boat.scan.probe), boat.take.truth.camera
    assert isinstance(camera, BackToBack)
    out = []
    for which, lens in enumerate(camera.lenses):
        half = luma[:, SIDE * which : SIDE * (which + 1)].astype(float)
        angle = np.arccos(np.clip(lens.rays[..., 2], -1, 1)) / (np.pi / 2)
        lost = stops[which] + rim * (0.4 * angle**2 + 0.6 * angle**4)
        value = np.clip(space.grey_value(half), 0, None)
        light = space.light(value) * 2.0**-lost
        # By a table of light, back to code values.
        table = space.light(np.linspace(0, 1, 4096))
        out.append(16 + 219 * np.interp(light, table, np.linspace(0, 1, 4096)))
    return np.clip(np.rint(np.hstack(out)), 0, 255).astype(np.uint8)


PAIRS = [(0, 8), (6, 14), (12, 20), (18, 26)]


def light_found(boat: Recorded, stops: tuple[float, float], rim: float) -> TwinLightFit:
    wanted = sorted({frame for pair in PAIRS for frame in pair})
    seen = decode.frames_at(boat.path, boat.scan, wanted, luma_only=True)
    lumas = {p.index: dimmed(boat, p.planes[0], stops, rim) for p in seen}
    fit = fit_twin([lumas[a] for a, _ in PAIRS], [lumas[b] for _, b in PAIRS])
    assert fit.twin is not None
    return fit_twin_light(fit.twin, lumas, PAIRS, fit.moves, space_of(boat.scan.probe))


@pytest.mark.parametrize(
    ("stops", "rim"), [((0.0, 0.4), 0.0), ((0.3, 0.0), 0.9), ((0.0, 0.0), 1.2)]
)
def test_what_lenses_see_alike_tells_how_their_light_differs(
    boat: Recorded, stops: tuple[float, float], rim: float
):
    found = light_found(boat, stops, rim)
    assert found.light is not None
    apart = stops[1] - stops[0]
    if apart:
        assert found.light.apart == pytest.approx(apart, abs=0.05)
        assert abs(found.apart - apart) < 3 * found.apart_doubt + 0.02
        assert ("first" if apart > 0 else "second") in found.words
    assert found.rim == pytest.approx(rim, abs=2 * found.rim_doubt)
    assert found.light.falls.any() == (rim > 0)


def test_where_light_does_not_differ_nothing_is_evened_out(boat: Recorded):
    assert boat.twin.light is None
    told = light_found(boat, (0.0, 0.0), 0.0)
    assert (told.light, told.words) == (None, "")
    assert fit_twin_light(boat.twin, {}, [], [], space_of(boat.scan.probe)).light is None


def test_light_that_differs_is_evened_out(boat: Recorded):
    space = space_of(boat.scan.probe)
    picture = frame_at(boat.path, boat.scan, 12)
    dark = dimmed(boat, picture.planes[0], (0.0, 0.5), 0.8)
    light = TwinLight(np.array([0.32, 0.48]), np.array([0, 24]), np.array([0.4, 0.6]))
    twin = replace(boat.twin, light=light)
    recorded = replace(picture, planes=(dark, *picture.planes[1:]))
    layout = TwinLayout(twin, space)
    shown, truth = (
        one.planes[0].astype(float)
        for one in (layout.laid_out(recorded),
                    TwinLayout(boat.twin, space).laid_out(picture))
    )  # fmt: skip
    plain = TwinLayout(boat.twin, space).laid_out(recorded).planes[0].astype(float)
    assert np.abs(plain - truth).mean() > 15
    assert np.abs(shown - truth).mean() < 2
    alone = layout.laid_out(replace(recorded, planes=(dark, dark, dark)))
    assert np.abs(alone.planes[0].astype(float) - shown).max() <= 1  # of luma alone, too
    again = Twin.from_json(json.loads(json.dumps(twin.to_json())))
    np.testing.assert_allclose(again.light.apart, light.apart)


def test_other_pictures_are_no_twins(make_clip, tmp_path: Path):
    flat = make_clip("flat.mp4", width=320, height=160, count=6)
    assert clip_kind(flat, scan(flat), 0, 5).twin is None
    rng = np.random.default_rng(1)
    discs = np.zeros((320, 640), np.uint8)
    for k in (0, 1):
        cv2.circle(discs, (160 + 320 * k, 160), 150, 255, -1)
    noise = rng.integers(60, 255, (4, *discs.shape)).astype(np.uint8)
    portholes = [np.where(discs > 0, cv2.GaussianBlur(one, (0, 0), 2), 0) for one in noise]
    assert looks_like_twin(portholes)
    told = fit_twin(portholes)
    assert told.twin is None
    assert "do not show the same" in told.words
    assert "not two round ones" in fit_twin([np.full((160, 320), 90, np.uint8)]).words


def test_what_kind_of_clip_it_is_is_told_by_what_can_be_seen_at_once(make_clip, monkeypatch):
    """No frame is decoded on the way to those that are looked at, if the file says where they can
    be entered."""
    path = make_clip("two to one long.mp4", width=320, height=160, count=60)
    found = replace(scan(path), keys=(0, 25, 50))
    asked: list[int] = []
    read = decode.frames

    def noted(path, scan, first, last, **options):
        asked.append(first)
        return read(path, scan, first, last, **options)

    monkeypatch.setattr(decode, "frames", noted)
    assert clip_kind(path, found, 0, 59).kind == "flat"
    assert asked
    assert set(asked) <= set(found.keys)


def test_whoever_helps_to_take_a_file_in_knows_what_it_is_taken_for(boat: Recorded, tmp_path: Path):
    assert kept_scan(tmp_path) is None
    keep_scan(boat.scan, tmp_path, "sphere", boat.twin)
    told = kept_scan(tmp_path)
    assert told is not None
    shown, kind = told
    own = whole_scan(boat.scan, boat.twin)
    assert (kind, shown.probe, shown.keys) == ("sphere", own.probe, own.keys)
    assert (shown.pts == own.pts).all()
    a, b = (frame_at(boat.path, one, 3).planes[0] for one in (shown, own))
    assert (a == b).all()
    keep_scan(boat.scan, tmp_path, "flat", None)
    told = kept_scan(tmp_path)
    assert told is not None
    assert (told[0].probe, told[0].layout, told[1]) == (boat.scan.probe, None, "flat")
    (tmp_path / "timing.npz").unlink()  # it has gone to where it stays
    assert kept_scan(tmp_path) is None


def test_one_above_the_other_is_found_too(boat: Recorded):
    lumas = [frame_at(boat.path, boat.scan, k, luma_only=True).planes[0] for k in (0, 9, 18, 27)]
    above = [np.vstack([luma[:, :SIDE], luma[:, SIDE:]]) for luma in lumas]
    found = fit_twin(above)
    assert found.twin is not None
    assert found.twin.canvas == Canvas(SIDE, 2 * SIDE)
    beside, mine = fit_twin(lumas).twin, found.twin
    assert beside is not None
    for one, other in zip(beside.lenses, mine.lenses, strict=True):
        assert one.focal == pytest.approx(other.focal, rel=1e-3)


# --- drawing --------------------------------------------------------------------------------------


def test_pictures_are_sampled_once_and_as_if_they_had_been_laid_out(boat: Recorded):
    """Through a turn, straight from the file or by way of a picture all around: the same."""
    picture = frame_at(boat.path, boat.scan, 5)
    whole = boat.twin.whole
    camera = Camera(whole, Equirectangular.of(whole))
    turn = Rotation.from_euler("yxz", [40, 10, -5], degrees=True).as_matrix()
    out = [np.zeros((whole.height, whole.width), np.uint8)]
    out += [np.zeros((whole.height // 2, whole.width // 2), np.uint8) for _ in "uv"]
    TwinSampler(camera, boat.twin, space_of(boat.scan.probe)).warp(
        picture, turn, (out[0], out[1], out[2])
    )
    twice = [np.zeros_like(plane) for plane in out]
    laid_out = TwinLayout(boat.twin, space_of(boat.scan.probe)).laid_out(picture)
    warp_sphere(laid_out, SphereSampler(camera, whole), turn, tuple(twice))
    for once, other in zip(out, twice, strict=True):
        assert np.abs(once.astype(int) - other).mean() < 1.5
    # What was sampled once is sharper.
    assert (
        cv2.Laplacian(out[0], cv2.CV_64F).std() > 1.02 * cv2.Laplacian(twice[0], cv2.CV_64F).std()
    )


# --- a whole film ---------------------------------------------------------------------------------


def test_a_film_of_lenses_of_unlike_light_shows_no_step_where_they_meet(tmp_path: Path, capsys):
    """A lens that is darker by half a stop: how much brighter the sky is ahead than behind."""
    steps = []
    for darker in (0.0, 0.5):
        path, out = tmp_path / f"{darker}.mp4", tmp_path / "out.mp4"
        record(twin_fisheye(1.0, SIDE, darker=darker), path)
        order = ["--set", "motion.on=false", "--quality", "fine"]
        assert main(["correct", str(path), str(out), *order]) == 0
        assert ("brighter by 0.5" in capsys.readouterr().err) == (darker > 0)
        luma = frame_at(out, scan(out), 15).planes[0].astype(float)
        rows, columns = luma.shape
        sky = luma[rows // 4 : rows // 3]
        ahead = sky[:, columns // 4 + 30 : columns // 4 + 60]
        behind = sky[:, columns // 4 - 60 : columns // 4 - 30]
        steps.append(float(np.median(ahead) - np.median(behind)))
    assert abs(steps[1] - steps[0]) < 3  # half a stop is over twenty codes


def test_where_a_file_holds_no_light_of_its_lenses_none_is_evened_out(boat: Recorded):
    kept = boat.twin.to_json()
    del kept["light"]  # as it was kept before it was looked for
    assert Twin.from_json(kept).light is None


def test_two_fisheyes_come_out_as_a_steady_sphere(boat: Recorded, tmp_path: Path, capsys):
    out, told = tmp_path / "out.mp4", tmp_path / "told.json"
    order = ["--set", "motion.aim=lock_off", "--set", "motion.level=off", "--report", str(told)]
    assert main(["correct", str(boat.path), str(out), *order]) == 0
    assert "two fisheyes" in capsys.readouterr().err
    found = scan(out)
    assert found.probe.sphere is not None
    assert (found.probe.width, found.probe.height) == (
        boat.twin.whole.width, boat.twin.whole.height,
    )  # fmt: skip
    steady = np.array([frame["steady"] for frame in json.loads(told.read_text())["frames"]])
    world = boat.take.truth.rotation.swapaxes(1, 2) @ steady
    off = Rotation.from_matrix(world @ Rotation.from_matrix(world).mean().as_matrix().T)
    assert np.degrees(off.magnitude()).max() < 0.3


def test_two_fisheyes_can_be_worked_on_flat(boat: Recorded, tmp_path: Path):
    told = tmp_path / "told.json"
    assert main(["measure", str(boat.path), "--flat", "--json", str(told)]) == 0
    assert "projection" not in json.loads(told.read_text())


# --- parts of spheres -----------------------------------------------------------------------------


@pytest.fixture(scope="module")
def band(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Take]:
    """The middle of the harbour, without zenith and nadir, cut out of a whole sphere."""
    folder = tmp_path_factory.mktemp("band")
    take, whole = harbour_sphere(0.8, (1024, 512)), folder / "whole.mp4"
    record(take, whole, sound=False)
    cut, path = folder / "cut.mp4", folder / "band.mp4"
    with av.open(str(cut), "w") as out:
        video = out.add_stream("libx264", rate=30, options={"crf": "14"})
        video.width, video.height, video.pix_fmt = 1024, 256, "yuv420p"
        for picture in frames(whole, scan(whole), 0, len(take.truth) - 1):
            frame = av.VideoFrame(1024, 256, "yuv420p")
            for plane, data in zip(frame.planes, picture.planes, strict=True):
                rows = data[data.shape[0] // 4 : data.shape[0] * 3 // 4]
                view = np.frombuffer(memoryview(plane), np.uint8).reshape(plane.height, -1)
                view[:, : rows.shape[1]] = rows  # type: ignore[index]
            out.mux(video.encode(frame))
        out.mux(video.encode(None))
    write_sphere_tag(cut, path, SphereTag(bounds=(0.25, 0.25, 0.0, 0.0)), (1024, 256))
    return path, take


def test_a_part_of_a_sphere_is_a_sphere_with_something_missing(band, tmp_path: Path):
    path, take = band
    found = scan(path)
    told = clip_kind(path, found, 0, 10)
    assert (told.kind, told.may_differ) == ("sphere", True)
    assert "a part of a sphere" in told.words
    around = whole_scan(found)
    assert (around.probe.width, around.probe.height) == (1024, 512)
    assert around.probe.sphere is not None
    assert not any(around.probe.sphere.bounds)
    picture = frame_at(path, around, 3)
    assert picture.planes[0].shape == (512, 1024)
    assert (picture.planes[0][:120] == 16).all()
    assert (picture.planes[1][:60] == 128).all()
    assert picture.planes[0][130:380].std() > 10
    tracks = measure_sphere(path, around, 0, len(take.truth) - 1, tmp_path / "tracks")
    rows = places_of(tracks.records)[:, 1]
    assert len(rows) > 500
    assert rows.min() > 128 + 8  # the edge of the black is no mark
    assert rows.max() < 384 - 8


def test_a_part_of_a_sphere_is_steadied(band, tmp_path: Path):
    path, take = band
    told, out = tmp_path / "told.json", tmp_path / "out.mp4"
    order = ["--set", "motion.aim=lock_off", "--set", "motion.level=off", "--report", str(told)]
    assert main(["correct", str(path), str(out), *order]) == 0
    assert (scan(out).probe.width, scan(out).probe.height) == (1024, 512)
    steady = np.array([frame["steady"] for frame in json.loads(told.read_text())["frames"]])
    world = take.truth.rotation.swapaxes(1, 2) @ steady
    off = Rotation.from_matrix(world @ Rotation.from_matrix(world).mean().as_matrix().T)
    assert np.degrees(off.magnitude()).max() < 0.2


def test_parts_are_padded_on_every_side_in_every_plane():
    rng = np.random.default_rng(3)
    luma = rng.integers(20, 200, (100, 300)).astype(np.uint8)
    chroma = np.full((50, 150), 90, np.uint8)
    picture = Picture(0, 0, (luma, chroma, chroma.copy()), (2, 2), (0.0, 0.5), "yuv420p")
    layout = PartLayout.of(300, 100, (0.25, 0.25, 0.1, 0.15))
    whole = layout.laid_out(picture)
    assert whole.planes[0].shape == (200, 400)
    np.testing.assert_array_equal(whole.planes[0][50:150, 40:340], luma)
    assert whole.planes[1].shape == (100, 200)
    assert (whole.planes[0][:50] == 16).all()
    alone = layout.laid_out(replace(picture, planes=(luma, luma, luma)))
    assert alone.planes[1] is alone.planes[0]
    assert layout.rows_and_columns(Canvas(400, 200)) == (slice(50, 150), slice(40, 340))


def test_two_eyes_of_a_part_are_refused_in_words(make_clip):
    found = scan(make_clip("usual.mp4", count=4))
    part = SphereTag(stereo="top-bottom", bounds=(0.2, 0.2, 0, 0))
    with pytest.raises(BadSetting, match="for two eyes"):
        first_eye(whole_probe(replace(found.probe, sphere=part)))
