"""Points followed and held, against where they truly are."""

from dataclasses import replace

import cv2
import numpy as np
import pytest

from keen_horizon.core import stored
from keen_horizon.core.errors import BadSetting
from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.motion.camera_motion import PointTrack
from keen_horizon.core.motion.held_point import HeldPoint, Placing
from keen_horizon.core.motion.point_tracker import follow_point
from keen_horizon.core.pipeline import solve
from keen_horizon.core.treatment import Treatment, parse

from ..conftest import texture
from ..motions import mesh_of, motion_of, steady_of

N = 60
CANVAS = Canvas(480, 270)


class Scene:
    """A textured plane seen by a camera that turns, nears and shakes: similarities known."""

    def __init__(self) -> None:
        rng = np.random.default_rng(4)
        t = np.arange(N)
        a = (1 + 0.15 * t / N) * np.exp(1j * np.radians(10) * t / N)
        b = np.cumsum(1.5 * (rng.standard_normal(N) + 1j * rng.standard_normal(N)))
        self.pose = Similarities(a, b - b[0])
        self.wide = cv2.cvtColor(texture(900, 700), cv2.COLOR_BGR2GRAY)
        steps = self.pose[slice(1, None)].after(self.pose[slice(0, -1)].inverse())
        one = Similarities(np.concatenate([[1], steps.a]), np.concatenate([[0], steps.b]))
        self.motion = motion_of(np.zeros(N, complex), steps=one, first=100)

    def picture(self, t: int) -> np.ndarray:
        a, b = self.pose.a[t], self.pose.b[t]
        m = np.array([[a.real, -a.imag, b.real], [a.imag, a.real, b.imag], [0, 0, 1.0]])
        to_wide = np.array([[1, 0, 449.5], [0, 1, 349.5], [0, 0, 1.0]])
        back = to_wide @ np.linalg.inv(m) @ CANVAS.scene_matrix
        return cv2.warpAffine(
            self.wide, back[:2], (480, 270), flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP
        )

    def luma(self, first: int, last: int):
        return (self.picture(t - 100) for t in range(first, last + 1))

    def place(self, z: complex, t: int) -> complex:
        return complex(self.pose.a[t] * z + self.pose.b[t])

    def shares(self, z: complex) -> tuple[float, float]:
        at = (CANVAS.to_pixels(np.array([z]))[0] + 0.5) / [480, 270]
        return float(at[0]), float(at[1])


@pytest.fixture(scope="module")
def scene() -> Scene:
    return Scene()


def held(scene: Scene, z: complex, **more) -> HeldPoint:
    return HeldPoint(frame=130, at=scene.shares(scene.place(z, 30)), pattern=0.15, **more)


@pytest.fixture(scope="module")
def track(scene) -> PointTrack:
    return follow_point(scene.luma, CANVAS, scene.motion, held(scene, 20 + 10j))


def test_a_point_is_followed_both_ways_to_a_fraction_of_a_pixel(scene, track):
    true = np.array([scene.place(20 + 10j, t) for t in range(N)])
    assert track.known.all()
    off = np.abs(track.places - true)
    assert np.sqrt((off**2).mean()) < 0.15
    assert track.likeness.min() > 0.8


def test_following_stops_where_the_point_is_covered_and_goes_on_by_hand(scene):
    def covered(first, last):
        for t in range(first, last + 1):
            picture = scene.picture(t - 100).copy()
            if 140 <= t <= 145:
                picture[:] = 90
            yield picture

    point = held(scene, 20 + 10j)
    lost = follow_point(covered, CANVAS, scene.motion, point)
    assert lost.known[:40].all()
    assert not lost.known[40:].any()
    again = Placing(frame=146, at=scene.shares(scene.place(20 + 10j, 46)))
    found = follow_point(
        covered, CANVAS, scene.motion, point.model_copy(update={"again": (again,)})
    )
    assert found.known[46:].all()
    assert not found.known[40:46].any()


def test_plain_places_and_frames_outside_are_refused_with_a_sentence(scene):
    def plain(first, last):
        return (np.full((270, 480), 80, np.uint8) for _ in range(first, last + 1))

    with pytest.raises(BadSetting, match="nothing to hold on to"):
        follow_point(plain, CANVAS, scene.motion, held(scene, 0))
    early = HeldPoint(frame=5, at=(0.5, 0.5))
    with pytest.raises(BadSetting, match="outside the clip"):
        follow_point(scene.luma, CANVAS, scene.motion, early)


def test_a_track_is_read_as_it_was_written(track, tmp_path):
    stored.save(track, tmp_path / "t.npz")
    same = stored.load(tmp_path / "t.npz", PointTrack)
    assert np.array_equal(same.places, track.places)


def treated(**settings) -> Treatment:
    return parse(
        {"motion": {"aim": "hold", **settings}, "frame": {"zoom_ceiling": 4.0, "edge": "fill"}}
    )


def outcome(scene, solution, z: complex) -> np.ndarray:
    """Where a point of the plane comes out in the steadied plane, each frame."""
    true = np.array([scene.place(z, t) for t in range(N)])
    steady = steady_of(solution.chain)
    return (true - steady.b) / steady.a


def test_one_point_stands_still_and_two_hold_roll_and_size(scene, track):
    other = follow_point(scene.luma, CANVAS, scene.motion, held(scene, -60 - 30j))
    points = [held(scene, 20 + 10j).model_dump(), held(scene, -60 - 30j).model_dump()]
    one = solve(replace(scene.motion, held=(track,)), CANVAS, treated(hold=points[:1], calm=0.0))
    assert np.abs(outcome(scene, one, 20 + 10j) - outcome(scene, one, 20 + 10j)[30]).max() < 0.5
    assert one.report["hold"]["strays"] < 0.2
    two = solve(replace(scene.motion, held=(track, other)), CANVAS, treated(hold=points))
    far = outcome(scene, two, 80 - 60j)
    assert np.abs(far - far[30]).max() < 1.0


def test_the_place_can_be_chosen_and_a_loose_hold_is_gentler(scene, track):
    points = [held(scene, 20 + 10j).model_dump()]
    motion = replace(scene.motion, held=(track,))
    centred = solve(motion, CANVAS, treated(hold=points, hold_at=[0.5, 0.5]))
    assert np.abs(outcome(scene, centred, 20 + 10j)).max() < 1.0
    loose = solve(motion, CANVAS, treated(hold=points, tightness=0.0))
    assert loose.report["hold"]["strays"] > centred.report["hold"]["strays"]
    assert loose.report["zoom"] <= centred.report["zoom"] + 1e-6


def test_the_zoom_ceiling_comes_first(scene, track):
    points = [held(scene, 20 + 10j).model_dump()]
    tight = parse({"motion": {"aim": "hold", "hold": points}, "frame": {"zoom_ceiling": 1.02}})
    report = solve(replace(scene.motion, held=(track,)), CANVAS, tight).report
    assert report["zoom"] <= 1.02 + 1e-6


def test_four_points_hold_perspective_without_folding(scene, track):
    places = (20 + 10j, -60 - 30j, -50 + 40j, 60 - 40j)
    tracks = tuple(follow_point(scene.luma, CANVAS, scene.motion, held(scene, z)) for z in places)
    points = [held(scene, z).model_dump() for z in places]
    solution = solve(replace(scene.motion, held=tracks), CANVAS, treated(hold=points))
    assert mesh_of(solution.chain) is not None
    assert mesh_of(solution.chain).strain().max() <= 0.04 + 1e-6


def test_without_a_point_the_camera_is_followed_and_that_is_said(scene):
    solution = solve(scene.motion, CANVAS, treated())
    assert any("Place a point" in note for note in solution.notes)
    nothing = PointTrack.nothing(N, "There is nothing.")
    report = solve(replace(scene.motion, held=(nothing,)), CANVAS, treated()).report
    assert report["hold"] is None


def test_where_a_point_is_not_known_the_path_of_follow_goes_on(scene, track):
    gone = replace(track, places=track.places.copy())
    gone.places[:3] = gone.places[40:] = np.nan
    points = [held(scene, 20 + 10j).model_dump()]
    report = solve(replace(scene.motion, held=(gone,)), CANVAS, treated(hold=points, calm=60.0))
    assert report.report["hold"]["lost"] == [[100, 102], [140, 159]]
    assert any("not known in frames 100 to 102, 140 to 159;" in note for note in report.notes)
    gone.places[:3] = track.places[:3]
    gone.places[40:] = track.places[40:]
    gone.places[7] = np.nan
    once = solve(replace(scene.motion, held=(gone,)), CANVAS, treated(hold=points, calm=60.0))
    assert any("not known in frame 107;" in note for note in once.notes)
    gone.places[1:12:2] = np.nan
    often = solve(replace(scene.motion, held=(gone,)), CANVAS, treated(hold=points, calm=60.0))
    assert any("frames 101, 103, 105 and elsewhere;" in note for note in often.notes)
    follow = solve(
        scene.motion, CANVAS, parse({"motion": {"calm": 60.0}, "frame": {"zoom_ceiling": 4.0}})
    )
    steps = [np.diff(steady_of(s.chain).b[41:]) for s in (report, follow)]
    assert np.abs(steps[0] - steps[1]).max() < 2.0
