"""Spheres: measured against what the camera truly did, steadied, levelled, and looked out of."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace
from itertools import islice
from pathlib import Path
from typing import Any

import av
import cv2
import numpy as np
import pytest
import scipy
from scipy.spatial.transform import Rotation

from keen_horizon.cli.commands import main
from keen_horizon.core.errors import Cancelled
from keen_horizon.core.geometry.bend import bend_of, bend_of_halves, bent
from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.keyframes import Key
from keen_horizon.core.geometry.looks import flat_camera, look_matrix
from keen_horizon.core.geometry.projection import Camera, Equirectangular
from keen_horizon.core.media import segments
from keen_horizon.core.media.decode import Picture, frames
from keen_horizon.core.media.probe import Scan, scan
from keen_horizon.core.media.sphere_boxes import write_sphere_tag
from keen_horizon.core.media.spherical import SphereTag
from keen_horizon.core.motion.camera_motion import Evidence, Timeline
from keen_horizon.core.motion.held_point import HeldPoint
from keen_horizon.core.motion.horizon_marks import HorizonMark, drawn_vertical
from keen_horizon.core.motion.sphere_turns import SphereMotion, poses_of, sphere_motion
from keen_horizon.core.motion.stitch_wobble import StitchWobble
from keen_horizon.core.motion.uprights import Edges, levelled, vertical
from keen_horizon.core.path.sphere_path import cut_off, followed_path
from keen_horizon.core.picture.around import goes_around
from keen_horizon.core.picture.sphere_warp import AROUND, SphereSampler, warp_sphere
from keen_horizon.core.pipeline.clip_kind import clip_kind
from keen_horizon.core.pipeline.first_treatment import first_sphere_treatment
from keen_horizon.core.pipeline.sphere_solution import solve_sphere
from keen_horizon.core.pipeline.sphere_source import eyes_words, first_eye
from keen_horizon.core.pipeline.sphere_tracks import (
    EdgesOnTheWay,
    around,
    find_edges,
    follow_on_sphere,
    measure_sphere,
)
from keen_horizon.core.stations.motion import MOTION
from keen_horizon.core.stations.view import VIEW
from keen_horizon.core.stations.view.keyed_looks import looks_of, view_values
from keen_horizon.core.stations.view.settings import ViewSettings
from keen_horizon.core.tracking.sphere_features import SphereTracker
from keen_horizon.core.tracking.tracks import Tracks, places_of
from keen_horizon.core.treatment import Treatment, parse, with_settings
from keen_horizon.simulated.record import record
from keen_horizon.simulated.sphere import harbour_sphere
from keen_horizon.simulated.take import Take

SIZE = (1024, 512)


@dataclass(frozen=True)
class Sphere:
    path: Path
    take: Take
    scan: Scan
    tracks: Tracks
    motion: SphereMotion


@pytest.fixture(scope="module")
def harbour(tmp_path_factory: pytest.TempPathFactory) -> Sphere:
    """A second and a half from the rolling boat, and its measure."""
    folder = tmp_path_factory.mktemp("harbour")
    take, path = harbour_sphere(1.5, SIZE), folder / "harbour.mp4"
    record(take, path)
    found = scan(path)
    tracks = measure_sphere(path, found, 0, len(take.truth) - 1, folder / "tracks")
    return Sphere(path, take, found, tracks, sphere_motion(tracks, first_eye(found.probe)))


def degrees(turns: np.ndarray) -> np.ndarray:
    return np.degrees(Rotation.from_matrix(turns).magnitude())


def rms(values: np.ndarray) -> float:
    return float(np.sqrt(np.mean(np.square(values))))


# --- measuring ------------------------------------------------------------------------------------


def test_turns_are_found_with_travel_and_somebody_below(harbour: Sphere):
    true = harbour.take.truth.rotation
    steps = true[1:] @ true[:-1].swapaxes(1, 2)
    off = degrees(harbour.motion.turns[1:] @ steps.swapaxes(1, 2))
    assert rms(degrees(steps)) > 0.25
    assert rms(off) < 0.05  # of a picture of half the size that it is made for
    whole = poses_of(harbour.motion.turns) @ (true @ true[0].T).swapaxes(1, 2)
    assert degrees(whole).max() < 0.15
    assert (harbour.motion.evidence.confidence > 0.9).all()


def test_what_is_below_does_not_steer(harbour: Sphere):
    rows = places_of(harbour.tracks.records)[:, 1]
    latitude = (rows + 0.5) / SIZE[1] * 180 - 90
    assert not harbour.motion.evidence.steering[latitude > 55].any()
    assert (latitude > 60).any()  # there was something to be led astray by
    boat = sphere_motion(harbour.tracks, Canvas(*SIZE), nadir=0.0)
    assert boat.evidence.steering[latitude > 55].sum() < (latitude > 55).sum()


def test_tracks_go_on_over_the_seam_and_all_around(harbour: Sphere):
    x = places_of(harbour.tracks.records)[:, 0]
    ids = harbour.tracks.records["id"]
    left, right = set(ids[x < SIZE[0] * 0.05]), set(ids[x > SIZE[0] * 0.95])
    assert left & right
    quarters = np.histogram(x, 4, (0, SIZE[0]))[0]
    assert quarters.min() > 0.1 * len(x)


@pytest.mark.parametrize("axis", [0, 1, 2])
def test_a_sphere_that_spins_about_any_axis_is_followed(axis: int):
    rng = np.random.default_rng(axis)
    small = rng.uniform(20, 235, (64, 128)).astype(np.float32)
    small[:3] = small[-3:] = 120
    picture = cv2.resize(
        np.hstack([small, small, small]), (1536, 256), interpolation=cv2.INTER_CUBIC
    )
    luma = np.clip(picture[:, 512:1024], 0, 255).astype(np.uint8)
    canvas = Canvas(512, 256)
    sampler = SphereSampler(Camera(canvas, Equirectangular.of(canvas)), canvas)
    chroma = np.full((128, 256), 128, np.uint8)
    still = Picture(0, 0, (luma, chroma, chroma), (2, 2), (0.0, 0.5), "yuv420p")
    tracker, told = SphereTracker(canvas), []
    step = Rotation.from_rotvec(np.radians(4.0) * np.eye(3)[axis])
    for k in range(6):
        out = tuple(np.empty_like(plane) for plane in still.planes)
        warp_sphere(still, sampler, (step**k).as_matrix().T, out)
        told.append(tracker.step(out[0]))
    places = np.full((6, int(told[-1].ids.max()) + 1, 2), np.nan)
    for k, one in enumerate(told):
        places[k, one.ids] = one.points
    motion = sphere_motion(Tracks.from_places(places, np.arange(6) / 30), canvas, nadir=0)
    off = degrees(motion.turns[1:] @ step.as_matrix().T)
    assert off.max() < 0.15


def test_a_measure_that_was_broken_off_goes_on_as_it_would_have(
    tmp_path: Path, harbour: Sphere, monkeypatch: pytest.MonkeyPatch
):
    for bound in ("LENGTH", "LONGEST"):
        monkeypatch.setattr(segments, bound, 5)
    seen: list[int] = []

    def progress(done: int, total: int) -> None:
        seen.append(done)
        if len(seen) == 8:
            raise Cancelled("cancelled.")

    whole = measure_sphere(harbour.path, harbour.scan, 0, 11, tmp_path / "whole")
    with pytest.raises(Cancelled):
        measure_sphere(harbour.path, harbour.scan, 0, 11, tmp_path / "parts", progress)
    parts = measure_sphere(harbour.path, harbour.scan, 0, 11, tmp_path / "parts", progress)
    assert seen == [*range(1, 9), *range(6, 13)]
    np.testing.assert_array_equal(whole.records, parts.records)


def test_edges_that_a_power_cut_left_broken_are_looked_for_again(harbour: Sphere, tmp_path: Path):
    last = len(harbour.motion) - 1
    seen = EdgesOnTheWay(harbour.scan, last + 1)
    following = around(harbour.path, harbour.scan, 0, last, edges=seen)
    following.go(tmp_path, lambda done, total: None)
    parts = following.parts(tmp_path)
    broken = parts[0].path / f"edges-{seen.wanted[1]}.npz"
    broken.write_bytes(broken.read_bytes()[:100])
    seen.gather(parts)
    assert sorted(seen.found) == [at for at in seen.wanted if at != seen.wanted[1]]
    found = dict(find_edges(harbour.path, harbour.scan, 0, seen))
    assert sorted(found) == seen.wanted
    assert len(found[seen.wanted[1]].normals) > 0


# --- steadying ------------------------------------------------------------------------------------


def shaky(n: int = 200) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """A camera that pans through half a turn and shakes; its poses, the pan alone, and times."""
    t = np.arange(n) / 30
    pan = np.stack([5 * np.sin(0.5 * t), 180 * t / t[-1], 3 * np.sin(0.8 * t)], axis=1)
    shake = np.stack([np.sin(25 * t), np.sin(20 * t + 1), 2 * np.sin(31 * t)], axis=1)
    meant = Rotation.from_euler("xyz", pan, degrees=True).as_matrix()
    return Rotation.from_euler("xyz", shake, degrees=True).as_matrix() @ meant, meant, t


def motion_of(poses: np.ndarray, times: np.ndarray) -> SphereMotion:
    """That of a camera whose poses are known."""
    n = len(times)
    turns = np.concatenate([np.eye(3)[None], poses[1:] @ poses[:-1].swapaxes(1, 2)])
    return SphereMotion(
        turns, np.zeros((n, 3)), np.full(n, 1e-4), Timeline(times, np.zeros(0, np.intp)),
        Evidence(np.full(n, 90), np.ones(n), np.zeros(n)),
    )  # fmt: skip


def test_following_keeps_the_move_and_loses_the_shake():
    poses, meant, times = shaky()
    path = followed_path(poses, times, np.full(3, cut_off(40)), np.ones(len(times)))
    before, after = (rms(degrees(one @ meant.swapaxes(1, 2))) for one in (poses, path))
    assert before > 1.5
    assert after < 0.1 * before


def test_each_axis_has_its_own_calm():
    poses, meant, times = shaky()
    path = followed_path(poses, times, np.array([np.inf, np.inf, 0.5]), np.ones(len(times)))
    left = Rotation.from_matrix(path @ meant.swapaxes(1, 2)).as_rotvec(degrees=True)
    assert np.abs(left[:, 2]).max() < 0.5
    assert rms(left[:, 0]) > 0.6
    assert rms(left[:, 1]) > 0.6


def test_without_calm_nothing_is_done_and_doubtful_frames_do_not_steer():
    poses, meant, times = shaky()
    same = followed_path(poses, times, np.full(3, cut_off(0)), np.ones(len(times)))
    np.testing.assert_array_equal(same, poses)
    wrong, trust = meant.copy(), np.ones(len(times))
    wrong[100:103] = Rotation.from_euler("x", 20, degrees=True).as_matrix() @ wrong[100:103]
    trust[100:103] = 0.0
    path = followed_path(wrong, times, np.full(3, 1.0), trust)
    assert degrees(path @ meant.swapaxes(1, 2)).max() < 0.3


def test_lock_off_stands_still_in_the_world(harbour: Sphere):
    treatment = with_settings(Treatment(), ["motion.aim=lock_off", "motion.level=off"])
    solution = solve_sphere(harbour.motion, Canvas(*SIZE), treatment)
    # A ray of the output, in the world: the same in every frame.
    world = harbour.take.truth.rotation.swapaxes(1, 2) @ solution.corrections
    assert degrees(world @ world[0].T).max() < 0.15
    assert solution.report["shake_before"] > 0.1


def test_a_heading_that_is_fixed_stays_while_the_rest_follows():
    poses, _, times = shaky(120)
    motion = motion_of(poses, times)
    ahead = {}
    for heading in ("recorded", "fixed"):
        treatment = with_settings(Treatment(), ["motion.level=off", f"motion.heading={heading}"])
        solution = solve_sphere(motion, Canvas(*SIZE), treatment)
        steadied = solution.corrections.swapaxes(1, 2) @ motion.poses
        way = steadied @ steadied[0].T @ np.array([0, 0, 1.0])
        ahead[heading] = np.degrees(np.abs(np.arctan2(way[:, 0], way[:, 2]))).max()
    assert ahead["recorded"] > 60
    assert ahead["fixed"] < 0.01


def test_a_heading_goes_where_the_camera_travels(harbour: Sphere):
    truth = harbour.take.truth
    way = np.gradient(truth.position, axis=0).mean(axis=0)
    treatment = with_settings(Treatment(), ["motion.heading=travel", "motion.level=off"])
    solution = solve_sphere(harbour.motion, Canvas(*SIZE), treatment)
    ways = np.einsum("nij,j->ni", truth.rotation, way)
    shown = np.einsum("nji,nj->ni", solution.corrections, ways)
    off = np.degrees(np.arctan2(shown[:, 0], shown[:, 2]))
    assert np.abs(off).max() < 35  # of a picture of half the size, and a second and a half
    assert rms(off) < 20
    assert "travels is told to about" in " ".join(solution.notes)


def test_who_stands_still_has_no_way_to_look():
    poses, _, times = shaky(60)
    motion = motion_of(poses, times)
    treatment = with_settings(Treatment(), ["motion.heading=travel", "motion.level=off"])
    solution = solve_sphere(motion, Canvas(*SIZE), treatment)
    recorded = with_settings(treatment, ["motion.heading=recorded"])
    same = solve_sphere(motion, Canvas(*SIZE), recorded)
    np.testing.assert_allclose(solution.corrections, same.corrections)
    assert "could not be told" in " ".join(solution.notes)


def test_a_cut_begins_a_path_of_its_own(harbour: Sphere):
    two = replace(harbour.motion, timeline=Timeline(harbour.motion.timeline.times, np.array([20])))
    turns = two.turns.copy()
    turns[20] = np.eye(3)
    treatment = with_settings(Treatment(), ["motion.aim=lock_off", "motion.level=off"])
    solution = solve_sphere(replace(two, turns=turns), Canvas(*SIZE), treatment)
    np.testing.assert_allclose(solution.corrections[[0, 20]], [np.eye(3)] * 2)


def test_off_leaves_a_sphere_as_it_is(harbour: Sphere):
    treatment = with_settings(Treatment(), ["motion.on=false"])
    solution = solve_sphere(harbour.motion, Canvas(*SIZE), treatment)
    np.testing.assert_array_equal(solution.corrections, np.tile(np.eye(3), (45, 1, 1)))


def test_a_point_of_a_sphere_is_followed_and_held(harbour: Sphere):
    """A corner of the shed, which the boat drifts past."""
    truth = harbour.take.truth
    corner = np.array([-7.4, -5.4, 24.0])
    ways = [(corner - p) @ r.T for p, r in zip(truth.position, truth.rotation, strict=True)]
    true = np.array(ways) / np.linalg.norm(ways, axis=1, keepdims=True)
    at = Camera(Canvas(*SIZE), Equirectangular.of(Canvas(*SIZE))).to_pixels(true[:1])[0]
    point = HeldPoint(frame=0, at=((at[0] + 0.5) / SIZE[0], (at[1] + 0.5) / SIZE[1]), pattern=0.06)
    steps: list[float] = []
    held, why = follow_on_sphere(
        harbour.path, harbour.scan, harbour.motion, point,
        lambda done, total: steps.append(done / total),
    )  # fmt: skip
    assert steps == sorted(steps)  # once, however many passes it takes
    assert steps[-1] == 1
    assert why == ""
    assert np.degrees(np.arccos(np.clip((held * true).sum(axis=1), -1, 1))).max() < 0.4
    treatment = Treatment().changed(MOTION, aim="hold", hold=(point,))
    solution = solve_sphere(harbour.motion, Canvas(*SIZE), treatment, held=held)
    shown = np.einsum("nji,nj->ni", solution.corrections, true)
    assert np.degrees(np.arccos(np.clip(shown @ shown[0], -1, 1))).max() < 0.4


def test_what_is_held_stays_over_the_seam_and_where_it_is_lost():
    poses, _, times = shaky(90)
    n = len(times)
    motion = motion_of(poses, times)
    around = np.radians(150 + np.arange(n))  # a thing that walks past behind the camera
    thing = np.stack([np.sin(around), 0.1 + 0 * around, np.cos(around)], axis=1)
    thing /= np.linalg.norm(thing, axis=1, keepdims=True)
    held = np.einsum("nij,nj->ni", motion.poses, thing)
    held[40:44] = np.nan
    treatment = with_settings(Treatment(), ["motion.aim=hold", "motion.level=off"])
    solution = solve_sphere(motion, Canvas(*SIZE), treatment, held=held)
    shown = np.einsum("nji,nj->ni", solution.corrections, held)
    off = np.degrees(np.arccos(np.clip(shown @ shown[0], -1, 1)))
    assert np.nanmax(off) < 0.01
    assert "4 of 90 frames" in " ".join(solution.notes)
    none = solve_sphere(motion, Canvas(*SIZE), treatment)
    assert "Place a point" in " ".join(none.notes)


# --- level ----------------------------------------------------------------------------------------


def test_levelled_poses_have_down_below_and_turn_as_little_as_that_takes():
    poses, _, _ = shaky(50)
    down = np.array([0.2, 0.97, -0.1])
    level = levelled(poses, down / np.linalg.norm(down))
    np.testing.assert_allclose(level @ down / np.linalg.norm(down), [[0, 1, 0]] * 50, atol=1e-9)
    np.testing.assert_allclose(np.linalg.det(level), 1)


def horizon(down: np.ndarray, frame: int, ways: tuple[float, float]) -> HorizonMark:
    """A line along the horizon of a frame that is ``down`` there, at two azimuths, degrees."""
    right = np.cross(down, [0, 0, 1.0])
    right /= np.linalg.norm(right)
    ahead = np.cross(right, down)
    camera = Camera(Canvas(*SIZE), Equirectangular.of(Canvas(*SIZE)))
    rays = [np.sin(w) * right + np.cos(w) * ahead for w in np.radians(ways)]
    places = (camera.to_pixels(np.array(rays)) + 0.5) / SIZE
    return HorizonMark(frame=frame, ends=tuple((float(x), float(y)) for x, y in places))


def test_the_horizon_as_it_is_drawn_is_made_level_with_drift_taken_out_between():
    poses, _, times = shaky(90)
    motion = motion_of(poses, times)
    n = len(motion)
    # What was measured drifts away from the truth.
    drift = Rotation.from_rotvec(np.linspace(0, np.radians(4), n)[:, None] * [[1.0, 0, 0]])
    downs = np.einsum("nij,nj->ni", motion.poses, drift.apply([0, 1.0, 0]))
    marks = tuple(horizon(downs[at], at, (-40, 60)) for at in (0, n - 1))
    treatment = Treatment().changed(MOTION, level="horizon", horizon=marks)
    solution = solve_sphere(motion, Canvas(*SIZE), treatment)
    level = np.einsum("nji,nj->ni", solution.corrections, downs)
    assert np.degrees(np.arccos(np.clip(level[:, 1], -1, 1))).max() < 0.6
    assert np.degrees(np.arccos(np.clip(level[[0, -1], 1], -1, 1))).max() < 1e-3
    assert solution.vertical is not None
    assert "drawn in 2 frames" in solution.vertical.words
    one = Treatment().changed(MOTION, level="horizon", horizon=marks[:1])
    level = np.einsum("nji,nj->ni", solve_sphere(motion, Canvas(*SIZE), one).corrections, downs)
    assert np.degrees(np.arccos(np.clip(level[-1, 1], -1, 1))) > 3


def test_a_short_line_tells_less_of_the_horizon_and_a_dot_nothing():
    down = np.array([0, 1.0, 0])
    wide, narrow, dot = (
        drawn_vertical([horizon(down, 0, (-far, far))], Canvas(*SIZE), down)
        for far in (45.0, 6.0, 0.5)
    )
    assert wide.doubt < narrow.doubt / 3
    assert dot.down is None
    assert "too close together" in dot.words


def test_a_horizon_and_uprights_that_disagree_are_less_sure():
    poses, _, times = shaky(60)
    motion = motion_of(poses, times)
    rng = np.random.default_rng(3)
    ways = np.cross(rng.normal(size=(60, 3)), [0, 1.0, 0])
    normals = ways / np.linalg.norm(ways, axis=1, keepdims=True)
    edges = [(0, Edges(normals @ motion.poses[0].T, np.full(60, 50.0)))]
    leaning = np.array([np.sin(0.06), np.cos(0.06), 0])
    told = []
    for down in ([0, 1.0, 0], leaning):
        mark = horizon(motion.poses[30] @ np.asarray(down), 30, (-45, 45))
        treatment = Treatment().changed(MOTION, level="both", horizon=(mark,))
        told.append(solve_sphere(motion, Canvas(*SIZE), treatment, edges).vertical)
    agreeing, otherwise = told
    assert otherwise.doubt > 3 * agreeing.doubt
    assert "Uprights tell otherwise by 3.4°" in otherwise.words


def test_without_a_line_no_horizon_is_told_and_it_says_so(harbour: Sphere):
    treatment = with_settings(Treatment(), ["motion.level=horizon"])
    solution = solve_sphere(harbour.motion, Canvas(*SIZE), treatment)
    assert "No horizon is drawn yet" in " ".join(solution.notes)
    assert solution.report["level"]["found"] is False


def test_a_view_keeps_what_it_follows_in_its_middle_without_its_tremor():
    poses, _, times = shaky(90)
    motion = motion_of(poses, times)
    n = len(motion)
    around = np.radians(150 + np.arange(n) + 0.4 * (-1.0) ** np.arange(n))
    thing = np.stack([np.sin(around), 0.1 + 0 * around, np.cos(around)], axis=1)
    thing /= np.linalg.norm(thing, axis=1, keepdims=True)
    seen = np.einsum("nij,nj->ni", motion.poses, thing)
    seen[50:53] = np.nan
    point = HeldPoint(frame=0, at=(0.9, 0.55))
    treatment = with_settings(Treatment(), ["motion.aim=lock_off", "motion.level=off"])
    treatment = treatment.changed(VIEW, on=True, follow=point)
    solution = solve_sphere(motion, Canvas(*SIZE), treatment, seen=seen)
    whole = solution.corrections @ solution.looks
    off = np.degrees(np.arccos(np.clip(np.einsum("ni,ni->n", whole[:, :, 2], seen), -1, 1)))
    assert np.nanmax(off[10:-10]) < 0.8
    steps = degrees(solution.looks[1:] @ solution.looks[:-1].swapaxes(1, 2))
    assert steps[10:-10].max() < 1.2  # the thing itself turns by 0.2 and by 1.8 in turn
    assert "3 of 90 frames" in " ".join(solution.notes)
    lost = solve_sphere(motion, Canvas(*SIZE), treatment, seen=np.full((n, 3), np.nan))
    assert "could not be followed" in " ".join(lost.notes)


def test_a_first_treatment_is_level_only_if_uprights_tell(harbour: Sphere):
    edges = EdgesOnTheWay(harbour.scan, len(harbour.motion))
    found = find_edges(harbour.path, harbour.scan, 0, edges)
    assert len(found) == 10
    first = first_sphere_treatment(
        lambda one: solve_sphere(harbour.motion, Canvas(*SIZE), one, found)
    )
    assert first.of(MOTION).level == "uprights"
    plain = first_sphere_treatment(lambda one: solve_sphere(harbour.motion, Canvas(*SIZE), one))
    assert plain.of(MOTION).level == "off"
    # No view is offered that the sphere has too few pixels for, and no more calm than helps.
    assert first.of(VIEW).width == 640
    report = solve_sphere(harbour.motion, Canvas(*SIZE), first, found).report
    assert report["shake_after"] < 0.2 * report["shake_before"]


def test_a_clip_is_taken_for_what_its_file_or_its_pictures_say(
    harbour: Sphere, make_clip, tmp_path
):
    last = len(harbour.motion) - 1
    assert clip_kind(harbour.path, harbour.scan, 0, last).kind == "sphere"
    untagged = replace(harbour.scan, probe=replace(harbour.scan.probe, sphere=None))
    told = clip_kind(harbour.path, untagged, 0, last)
    assert (told.kind, told.may_differ) == ("sphere", True)
    assert "By its edges it is taken for a sphere" in told.words
    cube = replace(harbour.scan.probe, sphere=SphereTag("cube map"))
    told = clip_kind(harbour.path, replace(harbour.scan, probe=cube), 0, last)
    assert (told.kind, told.may_differ) == ("flat", False)
    assert "cube map" in told.words
    other = make_clip("two to one.mp4", width=320, height=160, count=4)
    told = clip_kind(other, scan(other), 0, 3)
    assert (told.kind, told.may_differ) == ("flat", True)
    usual = make_clip("usual.mp4", count=4)
    assert clip_kind(usual, scan(usual), 0, 3).words == ""


def test_a_camera_that_hung_upside_down_is_put_upright(harbour: Sphere):
    treatment = with_settings(Treatment(), ["motion.upside_down=true", "motion.level=off"])
    solution = solve_sphere(harbour.motion, Canvas(*SIZE), treatment)
    np.testing.assert_allclose(solution.corrections[:, 1, 1], -1, atol=0.1)


@pytest.mark.parametrize("kind", ["none", "anyhow"])
def test_edges_that_are_no_uprights_tell_nothing(kind: str):
    rng = np.random.default_rng(4)
    ways = rng.normal(size=(300, 3))
    normals = ways / np.linalg.norm(ways, axis=1, keepdims=True)
    told = vertical([] if kind == "none" else [Edges(normals, np.full(300, 40.0))])
    assert told.down is None
    assert "uprights" in told.words


# --- pictures -------------------------------------------------------------------------------------


def smooth_picture(width: int, height: int) -> Picture:
    """A smooth function on the sphere."""
    rays = Camera(Canvas(width, height), Equirectangular.of(Canvas(width, height))).to_rays(
        np.stack(np.meshgrid(np.arange(float(width)), np.arange(float(height))), axis=-1)
    )
    luma = (128 + 60 * np.sin(6 * rays[..., 0]) + 50 * rays[..., 1] * rays[..., 2]).astype(np.uint8)
    chroma = cv2.resize(luma, (width // 2, height // 2), interpolation=cv2.INTER_AREA)
    return Picture(0, 0, (luma, chroma, chroma), (2, 2), (0.0, 0.5), "yuv420p")


def rays_of_tracks(n: int, marks: int, seed: int) -> tuple[np.ndarray, np.ndarray]:
    """Unit rays ``(n, marks, 3)`` of far things, as a shaking camera sees them; and turns."""
    rng = np.random.default_rng(seed)
    world = rng.normal(size=(marks, 3)) * [1, 0.5, 1]
    world /= np.linalg.norm(world, axis=1, keepdims=True)
    shake = np.cumsum(rng.normal(size=(n, 3)), axis=0) * 0.004
    turns = Rotation.from_rotvec(shake).as_matrix()
    return np.einsum("nij,mj->nmi", turns, world), turns


def test_marks_that_err_together_with_those_around_them_make_a_turn_less_sure():
    n, canvas, rng = 50, Canvas(2048, 1024), np.random.default_rng(12)
    rays, turns = rays_of_tracks(n, 600, 3)
    # Marks of one side of the sphere move alike, each frame otherwise: waves, leaves in the wind.
    azimuth = np.arctan2(rays[0, :, 0], rays[0, :, 2]) / (2 * np.pi) % 1
    side = rng.normal(size=(n, 8, 3))[:, (azimuth * 8).astype(int)]
    seen = rays + np.radians(0.08) * side + np.radians(0.02) * rng.normal(size=rays.shape)
    places = canvas.to_pixels(Equirectangular.of(canvas).to_plane(seen))
    motion = sphere_motion(Tracks.from_places(places, np.arange(n) / 30), canvas, nadir=20)
    steps = turns[1:] @ turns[:-1].swapaxes(1, 2)
    off = Rotation.from_matrix(motion.turns[1:] @ steps.swapaxes(1, 2)).as_rotvec()
    worst = np.sqrt((off**2).mean(axis=0)).max()
    assert 0.5 < rms(motion.doubt[1:]) / worst < 2


@pytest.mark.parametrize("size", [0.0, 0.0015])
def test_what_stitching_bends_is_told_from_turns_and_from_chance(size: float):
    n, canvas = 60, Canvas(2048, 1024)
    rays, turns = rays_of_tracks(n, 600, 3)
    rng = np.random.default_rng(4)
    true = size * rng.normal(size=(n, 10))
    seen = np.stack([bent(rays[k], bend_of(true[k])) for k in range(n)])
    seen += np.radians(0.02) * rng.normal(size=seen.shape)
    places = canvas.to_pixels(Equirectangular.of(canvas).to_plane(seen))
    motion = sphere_motion(Tracks.from_places(places, np.arange(n) / 30), canvas, nadir=20)
    wobble = motion.wobble
    assert wobble is not None
    steps = turns[1:] @ turns[:-1].swapaxes(1, 2)
    assert rms(degrees(motion.turns[1:] @ steps.swapaxes(1, 2))) < (0.2 if size else 0.02)
    if not size:
        assert not wobble.bends.any()
        assert wobble.size < np.radians(0.02)
        return
    there = rng.normal(size=(50, 3))
    there /= np.linalg.norm(there, axis=1, keepdims=True)
    before = np.stack([bent(there, bend_of(one)) - there for one in true])
    taken = np.stack([bent(there, one) - there for one in wobble.bends])
    assert wobble.size == pytest.approx(rms(before) * np.sqrt(3), rel=0.35)
    # Turns take a part of what bends, for marks are not spread evenly; the rest is told.
    assert np.corrcoef(before.ravel(), taken.ravel())[0, 1] > 0.6
    assert rms(before - taken) < 0.85 * rms(before)


def late_tracks(late: float, n: int = 90, far: bool = True) -> tuple[Tracks, np.ndarray]:
    """Tracks through a sphere whose half behind was exposed ``late`` seconds later, and how fast
    the camera turned, rotation vectors of a second."""
    rng = np.random.default_rng(7)
    world = rng.normal(size=(600, 3)) * [1, 0.5, 1]
    world /= np.linalg.norm(world, axis=1, keepdims=True)
    if not far:
        world *= rng.uniform(3, 30, (600, 1))
    times = np.arange(-2, n + 2) / 30
    shake = scipy.ndimage.gaussian_filter1d(rng.normal(size=(n + 4, 3)), 2, axis=0) * 0.08
    way = scipy.interpolate.CubicSpline(times, shake)
    place = scipy.interpolate.CubicSpline(times, 0.02 * np.cumsum(rng.normal(size=(n + 4, 3)), 0))

    def at(moment: np.ndarray) -> np.ndarray:
        turns = Rotation.from_rotvec(way(moment)).as_matrix()
        away = world - place(moment)[:, None] * (0 if far else 1)
        seen = away @ turns.swapaxes(1, 2)
        return np.asarray(seen / np.linalg.norm(seen, axis=-1, keepdims=True))

    moments = times[2:-2]
    ahead, behind = at(moments - late / 2), at(moments + late / 2)
    share = (np.clip(-ahead[..., 2:] / 0.1, -1, 1) + 1) / 2
    seen = ahead * (1 - share) + behind * share
    seen += np.radians(0.02) * rng.normal(size=seen.shape)
    canvas = Canvas(2048, 1024)
    places = canvas.to_pixels(Equirectangular.of(canvas).to_plane(seen))
    return Tracks.from_places(places, moments), way(moments, 1)


@pytest.mark.parametrize(("late", "far"), [(0.03, True), (-0.012, True), (0.02, False)])
def test_by_how_much_later_the_half_behind_was_exposed_is_told(late: float, far: bool):
    tracks, pace = late_tracks(late, far=far)
    wobble = sphere_motion(tracks, Canvas(2048, 1024), nadir=20).wobble
    assert wobble is not None
    assert wobble.late == pytest.approx(late, abs=2 * wobble.late_doubt)
    assert wobble.late_doubt < 0.1 * abs(late)
    true = bend_of_halves(0.5 * late * pace)[5:-5]
    there = late_rays()
    left, all_of_it = (
        rms(np.concatenate([bent(there, one) - there for one in some]))
        for some in (true - wobble.bends[5:-5], true)
    )
    assert left < 0.5 * all_of_it


def late_rays() -> np.ndarray:
    rays = np.random.default_rng(9).normal(size=(200, 3))
    return np.asarray(rays / np.linalg.norm(rays, axis=1, keepdims=True))


@pytest.mark.parametrize("far", [True, False])
def test_halves_that_were_exposed_at_once_are_not_told_apart(far: bool):
    wobble = sphere_motion(late_tracks(0.0, far=far)[0], Canvas(2048, 1024), nadir=20).wobble
    assert wobble is not None
    assert wobble.late == 0
    assert not wobble.bends.any()


def test_a_bend_that_is_told_is_taken_out_of_the_picture(harbour: Sphere):
    canvas, rng = Canvas(512, 256), np.random.default_rng(8)
    bend = bend_of(0.03 * rng.normal(size=10)) + bend_of_halves(np.full((1, 3), 0.0015))[0]
    camera = Camera(canvas, Equirectangular.of(canvas))
    turned = SphereSampler(camera, canvas).turned(np.eye(3), bend)
    at = turned.luma()[70:200:20, 30:480:30].astype(float) - [AROUND, 0]
    rays = camera.to_rays(np.stack(np.meshgrid(np.arange(30.0, 480, 30), np.arange(70.0, 200, 20)),
                                   axis=-1))  # fmt: skip
    np.testing.assert_allclose(at, camera.to_pixels(bent(rays, bend)), atol=0.05)
    # It is left where nobody wants it taken out.
    wobble = StitchWobble(np.tile(bend, (len(harbour.motion), 1, 1, 1)), 0.01, 0.001)
    motion = replace(harbour.motion, wobble=wobble)
    taken = solve_sphere(motion, Canvas(*SIZE), Treatment())
    np.testing.assert_array_equal(taken.bends[3], bend)
    assert taken.report["stitching"]["taken_out"]
    left = with_settings(Treatment(), ["motion.stitch=false"])
    assert not solve_sphere(motion, Canvas(*SIZE), left).bends.any()


def test_turned_there_and_back_a_picture_is_what_it_was():
    picture = smooth_picture(512, 256)
    canvas = Canvas(512, 256)
    sampler = SphereSampler(Camera(canvas, Equirectangular.of(canvas)), canvas)
    turn = Rotation.from_rotvec([0.7, -1.9, 0.4]).as_matrix()
    there = tuple(np.empty_like(plane) for plane in picture.planes)
    warp_sphere(picture, sampler, turn, there)
    back = tuple(np.empty_like(plane) for plane in picture.planes)
    warp_sphere(replace(picture, planes=there), sampler, turn.T, back)
    for one, other in zip(back, picture.planes, strict=True):
        off = np.abs(one.astype(int) - other)
        assert off.max() <= 6
        assert rms(off) < 1.0


@pytest.mark.parametrize(
    ("projection", "angle"), [("rectilinear", 100), ("stereographic", 300), ("cylindrical", 360)]
)
def test_every_view_samples_where_it_looks(projection: str, angle: float):
    source = Canvas(1024, 512)
    camera = flat_camera(Canvas(640, 360), projection, angle)
    turn = Rotation.from_rotvec([0.3, 2.8, -0.5]).as_matrix()
    at = SphereSampler(camera, source).positions(turn) - np.float32([AROUND, 0])
    y, x = np.mgrid[:360:7, :640:7]
    rays = camera.to_rays(np.stack([x, y], axis=-1).astype(float)) @ turn.T
    true = Camera(source, Equirectangular.of(source)).to_pixels(rays)
    off = at[y, x] - true
    off[..., 0] -= 1024 * np.rint(off[..., 0] / 1024)
    level = np.hypot(rays[..., 0], rays[..., 2]) / np.linalg.norm(rays, axis=-1)
    enlarged = SphereSampler(camera, source).enlargement
    miss = np.hypot(off[..., 0] * level, off[..., 1]) * enlarged
    assert np.percentile(miss, 99) < 0.15


def test_a_view_turns_the_short_way_over_the_seam():
    keys = {"yaw": [Key(0, 170), Key(30, -160)], "roll": [Key(0, 0), Key(30, 10)]}
    values = view_values(ViewSettings(), keys, np.arange(31), 30.0)
    assert np.ptp(values["yaw"]) == pytest.approx(30)
    steps = degrees(looks_of(values)[1:] @ looks_of(values)[:-1].swapaxes(1, 2))
    assert steps.max() < 3
    np.testing.assert_allclose(
        look_matrix(0, np.radians(30), 0) @ [0, 0, 1], [0, -0.5, 0.866], atol=1e-3
    )


def keys_at(
    yaw: tuple[float, float], pitch: tuple[float, float], last: int
) -> dict[str, list[Key]]:
    return {"yaw": [Key(0, yaw[0]), Key(last, yaw[1])],
            "pitch": [Key(0, pitch[0]), Key(last, pitch[1])]}  # fmt: skip


def test_between_keys_a_view_turns_along_a_great_circle_and_stays_level():
    values = view_values(ViewSettings(), keys_at((-40, 50), (10, 55), 60), np.arange(61), 30.0)
    ahead = looks_of(values)[:, :, 2]
    axis = np.cross(ahead[0], ahead[-1])
    assert np.abs(ahead @ axis).max() < 1e-9
    way = np.degrees(np.arccos(np.clip(np.sum(ahead[1:] * ahead[:-1], axis=1), -1, 1)))
    assert way.sum() == pytest.approx(np.degrees(np.arccos(ahead[0] @ ahead[-1])), abs=1e-6)
    assert looks_of(values)[:, 1, 0] == pytest.approx(0, abs=1e-12)  # its right side is level
    ends = [[values[name][at] for name in ("yaw", "pitch")] for at in (0, -1)]
    np.testing.assert_allclose(ends, [[-40, 10], [50, 55]], atol=1e-9)


def test_a_view_does_not_go_over_a_pole_where_left_and_right_change_places():
    values = view_values(ViewSettings(), keys_at((0, 170), (60, 60), 60), np.arange(61), 30.0)
    assert values["pitch"] == pytest.approx(60)
    assert np.abs(np.diff(values["yaw"])).max() < 5


def test_pitch_stays_where_yaw_alone_has_keys():
    keys = {"yaw": [Key(0, 0.0), Key(60, 90.0)]}
    values = view_values(ViewSettings(pitch=40.0), keys, np.arange(61), 30.0)
    assert values["pitch"] == pytest.approx(40)
    keys = keys_at((0, 90), (0, 30), 60) | {"pitch": [Key(10, 0.0), Key(40, 30.0)]}
    values = view_values(ViewSettings(), keys, np.arange(61), 30.0)
    assert values["pitch"][[10, 40]] == pytest.approx([0, 30])
    assert values["yaw"][30] == pytest.approx(45)


@pytest.mark.parametrize("joint", [True, False])
def test_a_view_gets_going_sooner_rather_than_turn_faster_than_asked(joint: bool):
    keys = keys_at((0, 90), (0, 0), 60)  # 45 degrees a second in the mean, 67 at the most
    if not joint:
        del keys["pitch"]
    for fastest, most in ((100, 67.5), (60, 60), (50, 50), (20, 50)):
        values = view_values(ViewSettings(fastest=fastest), keys, np.arange(61), 30.0)
        pace = np.diff(values["yaw"]) * 30
        assert pace.max() == pytest.approx(most, abs=0.1)
        assert values["yaw"][[0, 30, 60]] == pytest.approx([0, 45, 90])
        assert pace[0] < 0.5 * most  # from rest


def keyed_view(last: int, fastest: float) -> dict[str, Any]:
    """The report of the harbour with a view that turns by 60 degrees in so many frames."""
    keys = {f"view.{name}": [{"frame": key.frame, "value": key.value} for key in own]
            for name, own in keys_at((0, 60), (0, 0), last).items()}  # fmt: skip
    return {"view": {"on": True, "fastest": fastest}, "keys": keys}


def test_a_view_whose_keys_are_too_close_together_for_its_pace_says_so(harbour: Sphere):
    canvas = Canvas(*SIZE)
    for last, fastest, told in ((40, 60, False), (40, 30, True), (10, 60, True)):
        treatment = parse(keyed_view(last, fastest))
        report = solve_sphere(harbour.motion, canvas, treatment).report
        said = [note for note in report["warnings"]["view"] if "turns by up to" in note]
        assert bool(said) == told
        assert (report["view_pace"] > fastest * 1.01) == told
        if told:
            assert f"frame {report['view_pace_frame']}: faster than {fastest:g}°" in said[0]
            assert "Keys further apart help" in said[0]


def test_straight_keys_are_straight_on_a_great_circle_too():
    keys = {name: [Key(k.frame, k.value, False) for k in own]
            for name, own in keys_at((-40, 50), (10, 55), 60).items()}  # fmt: skip
    ahead = looks_of(view_values(ViewSettings(), keys, np.arange(61), 30.0))[:, :, 2]
    steps = np.arccos(np.clip((ahead[1:] * ahead[:-1]).sum(axis=1), -1, 1))
    assert steps == pytest.approx(steps[0], rel=1e-5)


def test_keys_that_look_the_same_way_keep_looking_there():
    values = view_values(ViewSettings(), keys_at((30, 30), (20, 20), 60), np.arange(61), 30.0)
    assert (values["yaw"], values["pitch"]) == (pytest.approx(30), pytest.approx(20))


def test_pictures_show_whether_they_go_around(harbour: Sphere):
    lumas = [p.planes[0] for p in islice(frames(harbour.path, harbour.scan, 0, 9), 3)]
    assert goes_around(lumas)
    assert not goes_around([luma[:, 100:-100] for luma in lumas])
    assert not goes_around([np.zeros((64, 128), np.uint8)])
    assert not goes_around([])


# --- the command line -----------------------------------------------------------------------------


def test_a_sphere_is_measured_as_rotations(tmp_path: Path, harbour: Sphere):
    out = tmp_path / "out.json"
    assert main(["measure", str(harbour.path), "--json", str(out), "--range", "0:12"]) == 0
    told = json.loads(out.read_text())
    assert told["projection"] == "equirectangular"
    turns = np.array([frame["previous_to_this"] for frame in told["frames"]])
    assert turns.shape == (13, 3, 3)
    true = harbour.take.truth.rotation[:13]
    off = degrees(turns[1:] @ (true[1:] @ true[:-1].swapaxes(1, 2)).swapaxes(1, 2))
    assert rms(off) < 0.06


def test_a_sphere_comes_out_steady_level_and_still_a_sphere(tmp_path: Path, harbour: Sphere):
    out, told = tmp_path / "out.mp4", tmp_path / "told.json"
    assert main(["correct", str(harbour.path), str(out), "--report", str(told)]) == 0
    report = json.loads(told.read_text())
    found = scan(out)
    assert (found.probe.width, found.probe.height) == SIZE
    assert found.probe.sphere is not None
    assert found.probe.sphere.projection == "equirectangular"
    assert found.probe.sound is not None
    steady = np.array([frame["steady"] for frame in report["frames"]])
    down = harbour.take.truth.rotation @ np.array([0, 1.0, 0])
    level = np.einsum("nji,nj->ni", steady, down)  # the world's down in the output
    assert rms(np.degrees(np.arccos(level[:, 1]))) < 0.5
    assert report["level"]["found"]
    # Measured again from what was written.
    assert report["shake_measured_again"] < 0.3 * report["shake_before"]


def test_a_flat_view_is_what_a_flat_camera_would_have_seen(tmp_path: Path, harbour: Sphere):
    out, told = tmp_path / "out.mp4", tmp_path / "told.json"
    order = ["--set", "motion.on=false", "--set", "view.angle=100", "--set", "view.yaw=15",
             "--set", "view.width=640", "--set", "view.height=360"]  # fmt: skip
    order += ["--range", "0:3", "--quality", "fine", "--report", str(told)]
    assert main(["correct", str(harbour.path), str(out), *order]) == 0
    found = scan(out)
    assert (found.probe.width, found.probe.height, found.probe.sphere) == (640, 360, None)
    assert json.loads(told.read_text())["pixels_per_output_pixel"] < 1
    shown = next(frames(out, found, 0, 3)).planes[0].astype(float)
    seen = next(frames(harbour.path, harbour.scan, 0, 3)).planes[0]
    camera = flat_camera(Canvas(640, 360), "rectilinear", 100)
    y, x = np.mgrid[:360, :640].astype(float)
    rays = camera.to_rays(np.stack([x, y], axis=-1)) @ look_matrix(np.radians(15), 0, 0).T
    at = Camera(Canvas(*SIZE), Equirectangular.of(Canvas(*SIZE))).to_pixels(rays)
    direct = cv2.remap(seen, at.astype(np.float32), None, cv2.INTER_CUBIC).astype(float)
    assert rms(shown - direct) < 3


def test_a_view_is_as_sharp_as_the_sphere_was_if_finish_is_asked(tmp_path: Path, harbour: Sphere):
    order = ["--set", "motion.on=false", "--set", "view.width=640", "--set", "view.height=360"]
    films = []
    for name, more in (("plain", []), ("sharp", ["--set", "finish.on=true"])):
        films.append(tmp_path / f"{name}.mp4")
        told = tmp_path / f"{name}.json"
        made = [str(harbour.path), str(films[-1]), *order, *more, "--report", str(told)]
        assert main(["correct", *made, "--quality", "fine"]) == 0
    report = json.loads(told.read_text())
    assert report["sharpening"]["magnification"] == pytest.approx(1.97, abs=0.02)
    plain, sharp = (
        next(iter(frames(film, scan(film), 0, 0))).planes[0].astype(float) for film in films
    )
    assert cv2.Laplacian(sharp, cv2.CV_64F).std() > 1.3 * cv2.Laplacian(plain, cv2.CV_64F).std()
    assert abs(sharp.mean() - plain.mean()) < 0.5


def test_two_eyes_get_one_correction(tmp_path: Path, capsys, harbour: Sphere):
    both, out = tmp_path / "both.mp4", tmp_path / "out.mp4"
    with av.open(str(both), "w") as target:
        video = target.add_stream("libx264", rate=30, options={"crf": "12"})
        video.width, video.height, video.pix_fmt = 512, 512, "yuv420p"
        for picture in frames(harbour.path, harbour.scan, 0, 5):
            luma = cv2.resize(picture.planes[0], (512, 256), interpolation=cv2.INTER_AREA)
            bgr = cv2.cvtColor(np.vstack([luma, luma]), cv2.COLOR_GRAY2BGR)
            target.mux(video.encode(av.VideoFrame.from_ndarray(bgr, "bgr24")))
        target.mux(video.encode(None))
    tagged = tmp_path / "tagged.mp4"
    tag = SphereTag(stereo="top-bottom", pose=(20.0, -3.0, 0.0))
    write_sphere_tag(both, tagged, tag, (512, 512))
    order = ["--set", "motion.aim=lock_off", "--set", "motion.level=off", "--quality", "fine"]
    assert main(["correct", str(tagged), str(out), *order]) == 0
    found = scan(out)
    assert found.probe.sphere is not None
    assert found.probe.sphere.stereo == "top-bottom"
    assert "look alike" not in capsys.readouterr().err
    assert found.probe.sphere.pose == (20.0, -3.0, 0.0)  # nothing told which way is up
    last = list(frames(out, found, 0, 5))[-1].planes[0].astype(int)
    assert np.abs(last[:256] - last[256:]).mean() < 1.5


def test_two_eyes_that_do_not_look_alike_are_pointed_out(tmp_path: Path, make_clip):
    odd = tmp_path / "odd.mp4"
    write_sphere_tag(
        make_clip(width=320, height=320), odd, SphereTag(stereo="top-bottom"), (320, 320)
    )
    assert "do not look alike" in eyes_words(odd, scan(odd), 0)


def refused(capsys: pytest.CaptureFixture[str], *order: str) -> str:
    assert main(list(order)) == 1
    return capsys.readouterr().err


def test_what_is_no_sphere_is_said(tmp_path: Path, capsys, make_clip, harbour: Sphere):
    flat = make_clip("flat.mp4", width=320, height=160, count=6)
    out = str(tmp_path / "out.mp4")
    assert main(["correct", str(flat), out, "--set", "motion.model=shift"]) == 0
    assert "taken for a flat clip. --sphere says otherwise" in capsys.readouterr().err
    said = refused(capsys, "correct", str(flat), out, "--set", "view.on=true")
    assert "this is a flat clip" in said
    wrong = tmp_path / "wrong.mp4"
    write_sphere_tag(make_clip("plain.mp4", count=6), wrong, SphereTag(), (320, 240))
    assert "does not go all around" in refused(capsys, "measure", str(wrong), "--json", out)
    assert main(["measure", str(wrong), "--json", str(tmp_path / "m.json"), "--flat"]) == 0
    assert "no cost" in refused(capsys, "cost", str(harbour.path), "--json", out)
    assert "flat clips" in refused(capsys, "measure", str(harbour.path), "--json", out, "--closer")
    asked = "measure", str(harbour.path), "--json", out, "--model", "shift"
    assert "only turns" in refused(capsys, *asked)


def test_a_rectilinear_view_of_half_the_world_is_refused(tmp_path: Path, capsys, harbour: Sphere):
    out = str(tmp_path / "out.mp4")
    said = refused(capsys, "correct", str(harbour.path), out, "--set", "view.angle=180")
    assert "120° at the most" in said


def test_a_black_sphere_is_left_as_it_is(tmp_path: Path, capsys, make_clip):
    black, tagged = (
        make_clip("black.mp4", width=320, height=160, count=6, blank=True),
        tmp_path / "t.mp4",
    )
    write_sphere_tag(black, tagged, SphereTag(), (320, 160))
    out, told = tmp_path / "out.mp4", tmp_path / "told.json"
    assert main(["correct", str(tagged), str(out), "--report", str(told)]) == 0
    report = json.loads(told.read_text())
    np.testing.assert_array_equal(report["frames"][3]["steady"], np.eye(3))
    assert "left as it is" in " ".join(report["notes"])


def test_settings_of_motion_serve_the_kinds_of_clip_that_they_say():
    assert "level" in MOTION.serving("sphere")
    assert "level" not in MOTION.serving("flat")
    assert "calm" in MOTION.serving("flat")
