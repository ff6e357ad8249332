"""The angle of view that a clip's own motion tells, against cameras that are known."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.interpolate import CubicSpline
from scipy.ndimage import gaussian_filter1d
from scipy.spatial.transform import Rotation

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.distortion import Distortion
from keen_horizon.core.geometry.rotation import Rotations
from keen_horizon.core.motion.angle_of_view import angle_of_view
from keen_horizon.core.motion.camera_motion import AngleOfView
from keen_horizon.core.motion.pairwise import pairwise_motion
from keen_horizon.core.pipeline import Estimates, measure_report, motion_for, solve
from keen_horizon.core.stored import load, save
from keen_horizon.core.tracking.correspondences import correspondences
from keen_horizon.core.tracking.tracks import Tracks
from keen_horizon.core.treatment import Treatment, with_settings

CANVAS = Canvas(1280, 720)
STRAIGHT, BARREL = Distortion(), Distortion("brown", (-0.15, 0.0, 0.0, 0.0))


def filmed(
    seed: int, degrees: float = 60.0, *, turn: float = 3.0, walk: float = 0.0,
    lens: Distortion = STRAIGHT, n: int = 120, canvas: Canvas = CANVAS,
) -> Tracks:  # fmt: skip
    """Tracks of a room 3 to 8 m deep, seen by a camera of so many degrees across whose hand turns
    it by ``turn`` degrees rms and moves it by ``walk`` metres rms; places are sure to 0.12 px."""
    rng = np.random.default_rng(seed)
    focal = canvas.half[0] / np.tan(np.radians(degrees) / 2)

    def swaying(frames: float, rms: float) -> np.ndarray:
        path = gaussian_filter1d(rng.standard_normal((n, 3)), frames, axis=0)
        return rms * (path - path.mean(axis=0)) / path.std(axis=0)

    turns = Rotation.from_rotvec(np.radians(0.8 * swaying(6, turn) + 0.25 * swaying(2, turn)))
    where = swaying(4, walk)
    deep = np.where(rng.random(700) < 0.6, 6.0, rng.uniform(3, 8, 700))
    points = np.stack([rng.uniform(-9, 9, 700), rng.uniform(-5, 5, 700), deep], axis=-1)
    places = np.full((n, 700, 2), np.nan)
    for t in range(n):
        seen = turns[t].inv().apply(points - where[t])
        before = seen[:, 2] > 0.3
        away = np.where(before, seen[:, 0] + 1j * seen[:, 1], 0) / np.where(before, seen[:, 2], 1)
        plane = focal * lens.distort(away)
        plane = plane + 0.12 * (rng.standard_normal(700) + 1j * rng.standard_normal(700))
        inside = (np.abs(plane.real) < canvas.half[0]) & (np.abs(plane.imag) < canvas.half[1])
        shown = before & inside
        places[t, shown] = canvas.to_pixels(plane[shown])
    return Tracks.from_places(places, np.arange(n) / 30)


def told(tracks: Tracks, canvas: Canvas = CANVAS) -> AngleOfView:
    return angle_of_view(tracks, canvas, pairwise_motion(tracks, canvas, "similarity"))


@pytest.mark.parametrize("degrees", [35.0, 60.0, 95.0])
def test_a_camera_that_turns_tells_its_angle(degrees):
    angle = told(filmed(1, degrees))
    assert angle.across == pytest.approx(degrees, rel=0.005)
    assert abs(angle.across - degrees) < 2 * angle.error
    assert angle.k == ()
    assert f"tells {angle.across:.1f}°" in angle.words


@pytest.mark.parametrize("seed", [0, 1, 2, 3])
def test_travel_does_not_lead_it_astray(seed):
    angle = told(filmed(seed, walk=0.03))
    assert angle.across == pytest.approx(60, rel=0.03)
    assert abs(angle.across - 60) < 2 * angle.error


def test_a_lens_that_bends_is_told_from_one_that_does_not():
    angle = told(filmed(2, lens=BARREL))
    assert "its lens bends straight lines (k1 -0.1" in angle.words
    assert angle.k[0] == pytest.approx(-0.15, abs=0.01)
    # What the recorded picture takes in is more than the straight one would.
    rim = BARREL.undistort(np.array([np.tan(np.pi / 6) + 0j]))
    assert angle.across == pytest.approx(2 * np.degrees(np.arctan(rim[0].real)), rel=0.005)


def test_two_coefficients_are_told_where_one_is_not_enough():
    angle = told(filmed(9, 78.0, lens=Distortion("brown", (-0.3, 0.22, 0.0, 0.0))))
    assert angle.k == pytest.approx((-0.3, 0.22), abs=0.03)


def test_a_fisheye_is_not_taken_for_what_it_is_not():
    angle = told(filmed(10, 95.0, lens=Distortion("fisheye")))
    true = 2 * np.degrees(np.tan(np.radians(47.5)))  # its radius is the angle itself
    assert not angle.told or abs(angle.across - true) < 2 * angle.error


@pytest.mark.parametrize(("turn", "walk"), [(0.01, 0.0), (0.02, 0.1)])
def test_a_camera_that_does_not_turn_tells_nothing(turn, walk):
    angle = told(filmed(3, turn=turn, walk=walk))
    assert not angle.told
    assert "cannot be told from this clip: " in angle.words


def test_a_camera_that_is_carried_about_is_not_sure_of_what_misleads_it(walk):
    """A walk along the quay: its turns go together with its slides."""
    angle = told(walk.tracks, walk.canvas)
    rays = walk.take.truth.camera.rays[walk.canvas.height // 2]
    true = np.degrees(np.arccos(rays[0] @ rays[-1]))
    assert not angle.told
    assert abs(angle.across - true) < 2 * angle.error


def test_other_shapes_and_sizes_tell_it_as_well():
    canvas = Canvas(640, 480)
    assert told(filmed(4, 50.0, canvas=canvas), canvas).across == pytest.approx(50, rel=0.01)


def test_rotation_goes_by_what_the_clip_tells_and_says_so():
    tracks = filmed(5)
    turning = with_settings(Treatment(), ["motion.model=rotation"])
    estimates = Estimates(tracks, CANVAS)
    motion = motion_for(estimates, turning)
    assert isinstance(motion.steps, Rotations)
    focal = CANVAS.half[0] / np.tan(np.radians(30))
    assert float(motion.steps.camera.focal) == pytest.approx(focal, rel=0.01)
    assert motion.angle == estimates.angle()
    assert solve(motion, CANVAS, turning).report["angle_told"] == motion.angle.words
    # Who knows better is believed, and a model that needs no angle asks for none.
    given = motion_for(estimates, with_settings(turning, ["motion.angle_of_view=40"]))
    assert float(given.steps.camera.focal) > 1.4 * focal
    assert given.angle is None
    plain = with_settings(Treatment(), ["motion.model=similarity"])
    assert motion_for(estimates, plain).angle is None


def test_where_nothing_is_told_rotation_says_what_stands_in():
    estimates = Estimates(filmed(3, turn=0.01), CANVAS)
    motion = motion_for(estimates, with_settings(Treatment(), ["motion.model=rotation"]))
    assert motion.model == "similarity"
    told_so = f"{estimates.angle().words} Until it is given, shift, roll and scale stand in"
    assert any(note.startswith(told_so) for note in motion.notes)
    deciding = motion_for(estimates, with_settings(Treatment(), ["motion.model=decide"]))
    assert "rotation" not in deciding.choice.left
    assert deciding.notes == ()


def rolled(tracks: Tracks) -> Tracks:
    """As recorded by rows 22 of 33 ms apart: shifted along a path through the frames' shifts."""
    ids, rows = tracks.records["id"], tracks.records
    motion = pairwise_motion(tracks, CANVAS, "similarity")
    path = CubicSpline(np.arange(len(tracks)), np.cumsum(motion.steps.b))
    frame = np.repeat(np.arange(len(tracks)), np.diff(tracks.offsets))
    late = 0.66 * (rows["y"] / CANVAS.height - 0.5)
    moved = path(frame + late) - path(frame)
    places = np.full((len(tracks), ids.max() + 1, 2), np.nan)
    places[frame, ids] = np.stack([rows["x"] + moved.real, rows["y"] + moved.imag], axis=-1)
    return Tracks.from_places(places, tracks.times)


def test_rows_read_one_after_the_other_do_not_lead_it_astray():
    angle = told(rolled(filmed(11)))
    assert angle.across == pytest.approx(60, rel=0.02)
    assert abs(angle.across - 60) < 2 * angle.error


def test_it_is_stored_as_it_was_found(tmp_path):
    for angle in (AngleOfView(61.5, 0.4, (-0.1, 0.02)), AngleOfView(why="why not")):
        save(angle, tmp_path / "angle.npz")
        again = load(tmp_path / "angle.npz", AngleOfView)
        assert again.words == angle.words
        assert (again.across, again.error, again.told) == (angle.across, angle.error, angle.told)
        assert tuple(map(float, again.k)) == angle.k


def test_what_is_set_aside_does_not_tell():
    """A crowd that moves otherwise over half of the picture, set aside, changes nothing."""
    tracks = filmed(12)
    alone = told(tracks)
    crowd = filmed(13, 30.0)
    both = [np.full((len(t), 700, 2), np.nan) for t in (tracks, crowd)]
    for places, each in zip(both, (tracks, crowd), strict=True):
        frame = np.repeat(np.arange(len(each)), np.diff(each.offsets))
        places[frame, each.records["id"]] = np.stack([each.records["x"], each.records["y"]], -1)
    mixed = Tracks.from_places(np.concatenate(both, axis=1), tracks.times)
    crowding = mixed.records["id"] >= 700
    motion = pairwise_motion(mixed, CANVAS, "similarity", crowding)
    again = angle_of_view(mixed, CANVAS, motion)
    assert again.across == pytest.approx(alone.across, rel=0.002)


def test_the_clip_can_decide_on_rotation():
    tracks = filmed(6)
    roomy = ["motion.model=decide", "motion.calm=80", "frame.zoom_ceiling=1.5"]
    motion = motion_for(Estimates(tracks, CANVAS), with_settings(Treatment(), roomy))
    assert motion.model == "rotation"
    assert motion.choice.left["rotation"] < 0.6 * motion.choice.left["similarity"]


def test_a_measure_writes_it_down():
    tracks = filmed(7)
    motion = pairwise_motion(tracks, CANVAS, "similarity")
    angle = angle_of_view(tracks, CANVAS, motion)
    written = measure_report(motion, CANVAS, None, angle)["angle_of_view"]
    assert written["across"] == round(angle.across, 2)
    assert written["standard_error"] == round(angle.error, 2)
    nothing = measure_report(motion, CANVAS, None, AngleOfView(why="why not"))["angle_of_view"]
    assert nothing["across"] is None
    assert "why not" in nothing["words"]


def test_pairs_may_lie_further_apart():
    tracks = filmed(8, n=12)

    def places(frame: int, gap: int, which: str) -> dict[int, complex]:
        pairs = correspondences(tracks, CANVAS, np.array([frame]), gap=gap)
        seen = pairs.valid
        return dict(zip(pairs.mark[seen].tolist(), getattr(pairs, which)[seen], strict=True))

    far, near = places(8, 4, "before"), places(5, 1, "before")  # both are of frame 4
    assert len(far.keys() & near.keys()) > 50
    assert all(far[mark] == near[mark] for mark in far.keys() & near.keys())
    later, next_to = places(8, 4, "after"), places(8, 1, "after")
    assert all(later[mark] == next_to[mark] for mark in later.keys() & next_to.keys())
