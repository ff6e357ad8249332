"""What every stage of the chain, projection and motion promises, for any that there can be."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.chain import WarpChain
from keen_horizon.core.geometry.displacement import DisplacementGrid
from keen_horizon.core.geometry.distortion import Distortion
from keen_horizon.core.geometry.keyframes import Key, keyed
from keen_horizon.core.geometry.lens import Lens, scale_to_cover
from keen_horizon.core.geometry.motion import cumulative_pose
from keen_horizon.core.geometry.pinhole import Pinhole
from keen_horizon.core.geometry.projection import Camera, Equirectangular, LensProjection
from keen_horizon.core.geometry.reshape import (
    Reshape,
    Swell,
    is_convex,
    mildest_pinch,
    square_up_homographies,
)
from keen_horizon.core.geometry.rolling_shutter import RollingShutterWarp
from keen_horizon.core.geometry.rotation import Rotations
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.geometry.stage import RayStage
from keen_horizon.core.geometry.turn_and_slide import Slides, TurnsAndSlides
from keen_horizon.core.geometry.view import View

CANVAS = Canvas(1280, 720)
FRAMES = 3
many = settings(max_examples=60, deadline=None)
seeds = st.integers(0, 2**32 - 1)


def numbers(low: float, high: float, *shape: int):
    """Arrays of numbers in a range."""
    return seeds.map(lambda seed: np.random.default_rng(seed).uniform(low, high, shape))


@st.composite
def similarities(draw, n: int = FRAMES) -> Similarities:
    size, turn = draw(numbers(-0.3, 0.3, n)), draw(numbers(-1, 1, n))
    moved = draw(numbers(-300, 300, n, 2))
    return Similarities(np.exp(size + 1j * turn), moved[:, 0] + 1j * moved[:, 1])


@st.composite
def rotations(draw, n: int = FRAMES) -> Rotations:
    turns = Rotation.from_rotvec(draw(numbers(-0.15, 0.15, n, 3))).as_matrix()
    return Rotations(turns, Pinhole(draw(st.floats(600, 3000))))


@st.composite
def travels(
    draw, turned: float = 0.15, slid: float = 80.0, focal: float | None = None
) -> TurnsAndSlides:
    turns = Rotation.from_rotvec(draw(numbers(-turned, turned, FRAMES, 3))).as_matrix()
    size, moved = draw(numbers(-slid, slid, FRAMES)) / 800, draw(numbers(-slid, slid, FRAMES, 2))
    slides = Slides(np.exp(size) + 0j, moved[:, 0] + 1j * moved[:, 1])
    camera = Pinhole(draw(st.floats(600, 3000)) if focal is None else focal)
    return TurnsAndSlides(Rotations(turns, camera), slides)


@st.composite
def grids(draw) -> DisplacementGrid:
    # Neighbouring nodes differ by less than a tenth of what lies between them.
    nodes = draw(numbers(-3, 3, FRAMES, 11, 17)) + 1j * draw(numbers(-3, 3, FRAMES, 11, 17))
    return DisplacementGrid(CANVAS, nodes.astype(np.complex64))


@st.composite
def rolling_shutters(draw) -> RollingShutterWarp:
    k = draw(st.integers(2, 9))
    turn = np.linspace(-1, 1, k) * draw(numbers(-0.01, 0.01, FRAMES, 1))
    shift = np.linspace(-1, 1, k) * (draw(numbers(-12, 12, FRAMES, 1)) + 4j)
    return RollingShutterWarp(CANVAS, np.exp(1j * turn), shift)


@st.composite
def reshapes(draw) -> Reshape:
    corners = CANVAS.corners * 0.7
    quads = corners + draw(numbers(-90, 90, FRAMES, 4)) + 1j * draw(numbers(-90, 90, FRAMES, 4))
    assume(all(is_convex(quad) for quad in quads))
    pulls = draw(numbers(-0.3, 0.3, FRAMES, 4))
    rim = draw(st.floats(0.3, 1.0))
    swell = Swell(
        draw(numbers(-300, 300, FRAMES)) + 1j * draw(numbers(-150, 150, FRAMES)),
        draw(numbers(60, 300, FRAMES)), draw(numbers(mildest_pinch(rim), 3.0, FRAMES)), rim,
        draw(st.booleans()),
    )  # fmt: skip
    parts = [square_up_homographies(quads), pulls, swell]
    chosen = draw(st.integers(1, 7))
    return Reshape(CANVAS, *(p if chosen >> k & 1 else None for k, p in enumerate(parts)))


@st.composite
def lenses(draw) -> Lens:
    model = draw(st.sampled_from(["brown", "fisheye", "division"]))
    k = {"brown": (0.3, 0.08), "fisheye": (0.05, 0.01), "division": (0.2, 0.0)}[model]
    bend = [draw(st.floats(-most, most)) for most in k]
    tangential = (draw(st.floats(-0.003, 0.003)), 0.001) if model == "brown" else (0.0, 0.0)
    distortion = Distortion(model, (*bend, 0.0, 0.0), tangential)
    centre = complex(draw(st.floats(-30, 30)), draw(st.floats(-30, 30)))
    return scale_to_cover(Lens(CANVAS, distortion, draw(st.floats(700, 2000)), centre))


def inner_points(share: float, count: int = 9) -> np.ndarray:
    """``(n, m)`` points of the middle of the picture, the same in all frames."""
    hu, hv = CANVAS.half
    x, y = np.meshgrid(np.linspace(-hu, hu, count), np.linspace(-hv, hv, count))
    return np.tile(share * (x + 1j * y).ravel(), (FRAMES, 1))


stages = st.one_of(
    similarities(), rotations(), travels(), grids(), rolling_shutters(), reshapes(), lenses()
)


def through(stage, points):
    """Points to the source's side and back, as points on both."""
    given_ = stage.to_rays(points) if stage.takes_rays else points
    there = stage.to_source(given_)
    back = stage.to_output(there)
    return there, stage.to_plane(back) if isinstance(stage, RayStage) else back


@many
@given(stages)
def test_the_way_back_undoes_the_way_there(stage):
    points = inner_points(0.6)
    _, back = through(stage, points)
    assert np.abs(back - points).max() < 0.02  # scene units: pixels


@many
@given(stages, st.integers(0, FRAMES - 1))
def test_a_frame_of_a_stage_does_what_the_stage_does_at_that_frame(stage, frame):
    points = inner_points(0.5)
    whole = through(stage, points)[0][frame]
    alone = through(stage[frame : frame + 1], points[:1])[0][0]
    np.testing.assert_allclose(alone, whole, atol=1e-9)


@many
@given(st.one_of(similarities(), rotations(), travels(), grids(), rolling_shutters()))
def test_weakened_to_nothing_it_moves_nothing_and_to_all_it_is_itself(stage):
    points = inner_points(0.6)
    nothing = stage.toward_identity(np.zeros(FRAMES))
    there, _ = through(nothing, points)
    at = nothing.to_plane(there) if stage.gives_rays else there
    assert np.abs(at - points).max() < 1e-6
    same = stage.toward_identity(np.ones(FRAMES))
    np.testing.assert_allclose(through(same, points)[0], through(stage, points)[0], atol=1e-6)


groups = st.one_of(similarities(), rotations())
motions = st.one_of(groups, travels())


@many
@given(motions)
def test_motions_are_groups(motion):
    points = inner_points(0.5)
    none = motion.after(motion.inverse())
    assert np.abs(none.apply(points) - points).max() < 1e-6
    assert np.abs(motion.undo(motion.apply(points)) - points).max() < 1e-6
    again = motion.exp(motion.log())
    np.testing.assert_allclose(again.apply(points), motion.apply(points), atol=1e-6)
    assert motion.log().shape == (FRAMES, motion.dimensions)


@many
@given(motions)
def test_matrices_are_the_same_map(motion):
    points = inner_points(0.5)
    column = np.stack([points.real, points.imag, np.ones_like(points.real)], axis=1)
    u, v, w = (motion.matrices @ column).swapaxes(0, 1)
    np.testing.assert_allclose(u / w + 1j * v / w, motion.apply(points), atol=1e-6)


@many
@given(travels(0.002, 0.5, 1100.0), travels(0.03, 20.0, 1100.0), travels(0.01, 1.0, 1100.0))
def test_what_the_order_of_turns_and_slides_changes_is_of_second_order(calm, correction, further):
    # Two frames, each corrected by some degrees and a few dozen pixels.
    points = inner_points(0.4)
    later = further.after(correction)
    step = later.after(calm).after(correction.inverse())
    shown = later.undo(step.apply(correction.apply(points)))
    assert np.abs(shown - calm.apply(points)).max() < 0.5  # of steps by thirty


@many
@given(groups)
def test_a_pose_leads_every_frame_back_to_the_first(motion):
    pose = cumulative_pose(motion)
    points = inner_points(0.3)
    place = motion.still(np.arange(FRAMES) < 1).apply(points)  # of frame t, seen from t - 1
    for t in range(1, FRAMES):
        there = np.tile(place[t], (FRAMES, 1))
        before = pose.apply(points)[t - 1]
        np.testing.assert_allclose(pose.apply(there)[t], before, atol=1e-5)


@many
@given(motions, st.integers(0, 5))
def test_jacobian_and_transport_are_first_order(motion, which):
    which %= motion.dimensions
    small = np.zeros((FRAMES, motion.dimensions))
    small[:, which] = 1e-5
    nudge = motion.exp(small)
    points = inner_points(0.5)[0]
    moved = (nudge.apply(points)[0] - points) / 1e-5
    told = motion.identity(1).jacobian(points)[:, :, which]
    np.testing.assert_allclose(moved, told[:, 0] + 1j * told[:, 1], rtol=1e-3, atol=2e-2)
    told = np.einsum("nij,nj->ni", motion.transport(), small)
    first = motion.after(nudge)
    if isinstance(motion, Similarities):
        np.testing.assert_allclose(first.log(), told + motion.log(), atol=1e-7)
    elif isinstance(motion, TurnsAndSlides):
        slid = told[:, 3:] + motion.slides.log()
        np.testing.assert_allclose(first.slides.log(), slid, atol=1e-7)
        turned = motion.turns.exp(told[:, :3]).after(motion.turns)
        np.testing.assert_allclose(first.turns.turns, turned.turns, atol=1e-7)
    else:
        second = motion.exp(told).after(motion).apply(points)
        np.testing.assert_allclose(first.apply(points), second, atol=1e-5)


# --- projections and cameras ----------------------------------------------------------------------


@st.composite
def cameras(draw) -> Camera:
    aspect = draw(st.sampled_from([1.0, 1.333, 0.9]))
    canvas = Canvas(draw(st.integers(64, 4000)), draw(st.integers(64, 2200)), aspect)
    focal = canvas.radius * draw(st.floats(1.7, 4))  # no model folds inside such a picture
    lens = draw(lenses()).distortion
    return Camera(
        canvas,
        draw(
            st.sampled_from(
                [Pinhole(focal), LensProjection(lens, focal, 3 - 2j), Equirectangular.of(canvas)]
            )
        ),
    )


@many
@given(cameras(), numbers(0.05, 0.95, 40, 2))
def test_every_pixel_has_a_ray_that_is_seen_there(camera, shares):
    size = np.array([camera.canvas.width - 1, camera.canvas.height - 1])
    pixels = shares * size
    if isinstance(camera.projection, Equirectangular):
        # Beyond the poles there is nothing; such a picture is half as high as it is wide.
        most = np.pi / 2 * camera.projection.unit * 0.999
        pixels = pixels[np.abs(camera.canvas.to_scene(pixels).imag) < most]
    rays = camera.to_rays(pixels)
    seen = np.isfinite(rays).all(axis=-1)
    assert camera.sees(rays[seen]).all()
    back = camera.to_pixels(rays[seen])
    np.testing.assert_allclose(back, pixels[seen], atol=0.01)
    # The length of a ray says nothing.
    np.testing.assert_allclose(camera.to_pixels(3 * rays[seen]), back, atol=1e-6)


def test_a_picture_all_around_goes_on_at_its_other_side():
    camera = Camera(Canvas(720, 360), Equirectangular.of(Canvas(720, 360)))
    assert camera.wraps
    left, right = camera.to_rays(np.array([[-0.5, 179.5], [719.5, 179.5]]))
    np.testing.assert_allclose(left, right, atol=1e-9)  # both look straight back
    np.testing.assert_allclose(left, [0, 0, -1], atol=1e-9)
    behind = camera.to_rays(np.array([[0.0, 179.5], [719.0, 179.5]]))
    turn = np.degrees(np.arccos(np.clip((behind[0] * behind[1]).sum(), -1, 1)))
    assert turn == pytest.approx(0.5)  # neighbours: a pixel is half a degree
    up, down = camera.to_rays(np.array([[100.0, -0.5], [600.0, 359.5]]))
    np.testing.assert_allclose([up, down], [[0, -1, 0], [0, 1, 0]], atol=1e-9)
    assert camera.sees(np.array([[0.3, -0.2, -1.0]])).all()


def test_what_a_lens_cannot_see_is_not_seen():
    fisheye = Camera(CANVAS, LensProjection(Distortion("fisheye"), 400.0))
    assert fisheye.sees(np.array([0.0, 0.0, 1.0]))
    assert not fisheye.sees(np.array([0.0, 0.0, -1.0]))
    straight = Camera(CANVAS, Pinhole(900.0))
    assert not straight.sees(np.array([[0.0, 0.0, -1.0], [5.0, 0.0, 1.0]])).any()


# --- the whole chain ------------------------------------------------------------------------------


@many
@given(similarities(), rotations(), st.one_of(grids(), rolling_shutters()), st.integers(0, 7))
def test_a_chain_is_its_stages_one_after_the_other(similarity, turn, last, chosen):
    parts = [part for k, part in enumerate((similarity, turn, last)) if chosen >> k & 1]
    chain = WarpChain(CANVAS, View(CANVAS, zoom=1.2), tuple(parts), FRAMES)
    points = inner_points(0.4)
    expected = points
    for stage in parts:
        if stage.takes_rays:
            expected = stage.to_plane(stage.to_source(stage.to_rays(expected)))
        else:
            expected = stage.to_source(expected)
    np.testing.assert_allclose(chain.to_source(points), expected, atol=1e-5)
    back = chain.to_output(chain.to_source(points))
    assert np.abs(back - points).max() < 0.05
    assert chain[1:].to_source(points[1:])[0] == pytest.approx(expected[1], abs=1e-5)


# --- keyed values ---------------------------------------------------------------------------------

keys = st.lists(
    st.builds(Key, st.integers(-50, 500), st.floats(-100, 100), st.booleans()),
    min_size=1, max_size=8, unique_by=lambda key: key.frame,
)  # fmt: skip


@many
@given(keys)
def test_keyed_values_pass_their_keys_and_never_overshoot(found):
    frames = np.arange(-60, 520)
    values = keyed(found, frames, 7.0)
    told = [key.value for key in found]
    assert values.min() >= min(told) - 1e-9
    assert values.max() <= max(told) + 1e-9
    for key in found:
        assert values[frames == key.frame] == pytest.approx(key.value)
    shuffled = keyed(found[::-1], frames, 7.0)
    np.testing.assert_array_equal(values, shuffled)


@many
@given(keys, st.integers(-60, 520))
def test_between_neighbours_keyed_values_lie_between_them(found, frame):
    found = sorted(found, key=lambda key: key.frame)
    (value,) = keyed(found, np.array([frame]), 7.0)
    before = [key.value for key in found if key.frame <= frame][-1:]
    after = [key.value for key in found if key.frame >= frame][:1]
    near = before + after
    assert min(near) - 1e-9 <= value <= max(near) + 1e-9
